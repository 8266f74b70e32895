"""Head and tail: the lengths that limits ask for, and what that adds to the file."""

from collections.abc import Mapping
from typing import Any

from ispettore.core.figures import number
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan.bounds import Obstacle
from ispettore.core.plan.window import Learned, Readings, expected
from ispettore.core.spec.quantities import QUANTITIES, moved_by
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.treat.treatment import Step

ENDS = moved_by("ends")


def asked(settings: Mapping[str, Any]) -> dict[str, float]:
    """The lengths that a step's settings ask for, in seconds, by quantity."""
    return {name: float(settings[name]) for name in ENDS if settings.get(name) is not None}


def proposed(inspection: Inspection, specification: Specification, learned: Learned) -> tuple[Step | None, list[Obstacle]]:
    """Head and tail where they are outside their limits, of themselves or once treated: moved just inside, no further."""
    wanted: dict[str, float] = {}
    reasons, fill = [], False
    for name in ENDS:
        reading = learned.ends_read_s.get(name, inspection.value(name))
        length = _length(specification.limit(name), reading)
        if reading is None or length is None:
            continue
        wanted[name] = max(round(length - learned.ends_s.get(name, 0.0), 3), 0.0)
        fill |= wanted[name] > reading
        reasons.append(f"{QUANTITIES[name].title} is {number(reading, 2)} s and becomes {number(length, 2)} s")
    if not wanted:
        return None, []
    reason = " and ".join(reasons) + (", filled with the recording's own room tone." if fill else ".")
    can_fill = any(span.length_s >= 0.12 for span in inspection.room_tone)
    if fill and not can_fill:
        advice = (
            "The opening or closing silence is too short and there is no room tone to extend it: record half a second of the "
            "empty room."
        )
        name = next(iter(wanted))
        return None, [Obstacle(limits=(name, name), shortfall_db=0.0, advice=advice)]
    return Step(kind="head-and-tail", settings=wanted, reason=reason), []


def left_outside(after: Inspection, specification: Specification, ends: Step | None) -> dict[str, float]:
    """The lengths in seconds, by quantity, of ends that no step brought to a length and that lie outside their limits."""
    done = asked(ends.settings) if ends is not None else {}
    read = {name: reading for name in ENDS if name not in done and (reading := after.value(name)) is not None}
    return {name: reading for name, reading in read.items() if _length(specification.limit(name), reading) is not None}


def _length(limit: Limit | None, reading: float | None) -> float | None:
    """The nearest length well inside the limit, or None where the reading is inside already by more than two cells, or where there
    is no limit or no reading."""
    if limit is None or reading is None:
        return None
    reserve = 0.02
    low = limit.low if limit.low is not None else 0.0
    high = limit.high if limit.high is not None else low + 4.0
    if low + (reserve if limit.low is not None else 0) <= reading <= high - reserve:
        return None
    inset = min(0.25, (high - low) / 4)
    return low + inset if reading < low + reserve else high - inset


def added(inspection: Inspection, ends: Step | None) -> float:
    if ends is None:
        return 0.0
    return sum(float(length) - (inspection.value(name) or 0.0) for name, length in ends.settings.items())


def readings(inspection: Inspection, specification: Specification, learned: Learned) -> Readings:
    """What a file will read if nothing but its ends is treated."""
    ends, _ = proposed(inspection, specification, learned)
    return expected(inspection, specification, learned, longer_s=added(inspection, ends))
