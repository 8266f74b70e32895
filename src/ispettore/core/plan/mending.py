"""Mending: what a limit on clipping, dead silence or an offset asks for. Each has one step, taken where it asks.

An offset is also taken out, limit or none, where a plan is to move the level and would leave one worth a warning: it counts as
level, takes headroom from the peaks, and every gain that moves makes a noise of it.
"""

from ispettore.core.figures import number, with_unit
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.offset import WORTH_SAYING_PERCENT
from ispettore.core.plan.bounds import Obstacle
from ispettore.core.plan.window import gain_window
from ispettore.core.spec.quantities import QUANTITIES, Mover, moved_by
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, Role, Verdict, judge
from ispettore.core.treat.room_tone import SHORTEST_S
from ispettore.core.treat.treatment import Step

MENDING: tuple[Mover, ...] = ("repair", "filling", "offset")
"""In the order of their steps."""

OFFSET_HZ = 20.0
(OFFSET,) = moved_by("offset")

SHAPED: frozenset[Mover] = frozenset({"gain", "evening", "cleaning", "limiter"})
"""What a limit is moved by where a plan has to move the level for it."""


def needed(inspection: Inspection, specification: Specification, *, role: Role) -> tuple[tuple[Step, ...], tuple[Obstacle, ...]]:
    """The steps that missed limits ask for, with one for an offset that would stay, and what stands in their way."""
    verdict = judge(inspection, specification, role=role)
    missed = {mover: limit for limit in verdict.missed for mover in limit.about.moved_by if isinstance(limit.reading, float | int)}
    steps = tuple(_step(mover, missed[mover]) for mover in MENDING if mover in missed)
    offset = inspection.value(OFFSET) or 0.0
    if "offset" not in missed and _would_stay(offset, inspection, specification, verdict):
        steps = (*steps, _centred(offset, "which counts as level and takes headroom from the peaks: "))
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
    return _centred(size)


def _centred(percent: float, cost: str = "") -> Step:
    about = QUANTITIES[OFFSET]
    off = f"The waveform is {number(abs(percent), about.decimals)} % off centre"
    said = f"{off}, {cost}" if cost else f"{off}; "
    return Step(
        kind="rumble-filter",
        settings={"corner_hz": OFFSET_HZ, "slope_db_per_octave": 12, "phase": "linear"},
        reason=f"{said}removing everything below {number(OFFSET_HZ, 0)} Hz also removes the offset.",
    )


def _would_stay(percent: float, inspection: Inspection, specification: Specification, verdict: Verdict) -> bool:
    """Whether a plan has to move the level of a voice, and would leave an offset worth a warning by the gain that the level asks
    for."""
    if not inspection.speech or not any(limit.about.moved_by & SHAPED for limit in verdict.missed):
        return False
    window = gain_window(inspection, specification)
    gain_db = min(0.0, window.high_db or 0.0)
    if window.low_db is not None:
        gain_db = max(gain_db, window.low_db)
    return abs(percent) * 10 ** (gain_db / 20) > WORTH_SAYING_PERCENT
