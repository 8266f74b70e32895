"""Mending: what a limit on clipping, dead silence or an offset asks for. Each has one step, taken where and only where it asks."""

from ispettore.core.figures import number, with_unit
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan.bounds import Obstacle
from ispettore.core.spec.quantities import Mover
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, Role, judge
from ispettore.core.treat.room_tone import SHORTEST_S
from ispettore.core.treat.treatment import Step

MENDING: tuple[Mover, ...] = ("repair", "filling", "offset")
"""In the order of their steps."""

OFFSET_HZ = 20.0


def needed(inspection: Inspection, specification: Specification, *, role: Role) -> tuple[tuple[Step, ...], tuple[Obstacle, ...]]:
    """The steps that missed limits ask for, and what stands in their way."""
    missed = {
        mover: limit
        for limit in judge(inspection, specification, role=role).missed
        for mover in limit.about.moved_by
        if isinstance(limit.reading, float | int)
    }
    steps = tuple(_step(mover, missed[mover]) for mover in MENDING if mover in missed)
    filling = missed.get("filling")
    if filling is None or any(span.length_s >= SHORTEST_S for span in inspection.room_tone):
        return steps, ()
    size = with_unit(_size(filling), "s")
    advice = (
        f"{size} of dead silence would have to be filled, but there is no room tone to fill it with: go back to the "
        "recording before it was gated, or record half a minute of the empty room."
    )
    return steps, (Obstacle(limits=(filling.quantity, filling.quantity), shortfall_db=0.0, advice=advice),)


def _size(limit: LimitVerdict) -> float:
    return float(limit.reading) if isinstance(limit.reading, float | int) else 0.0


def _step(mover: Mover, limit: LimitVerdict) -> Step:
    size = _size(limit)
    if mover == "repair":
        told = f"{number(size, 0)} peaks were clipped; they are rebuilt from the sound around them."
        return Step(kind="clip-repair", reason=told)
    if mover == "filling":
        told = f"{with_unit(size, 's', limit.about.decimals)} of dead silence are filled with the recording's own room tone."
        return Step(kind="room-tone-fill", reason=told)
    off = f"The waveform is {number(abs(size), limit.about.decimals)} % off centre"
    return Step(
        kind="rumble-filter",
        settings={"corner_hz": OFFSET_HZ, "slope_db_per_octave": 12, "phase": "linear"},
        reason=f"{off}; removing everything below {number(OFFSET_HZ, 0)} Hz also removes the offset.",
    )
