"""How a judged limit is told: its reading, its bounds and how far apart they are, the same on screen, in print and in a terminal.

The page has the same in `frontend/src/lib/format.ts`; both pass the cases in `tests/figures.json`.
"""

from ispettore.core.figures import clock, exact, number
from ispettore.core.spec.verdict import LimitVerdict, Position

MOST_DECIMALS = 3
COARSE = ("Hz", "kbit/s")
"""Units in which how far inside a reading lies says nothing."""


def reading(limit: LimitVerdict, *, more: int = 0) -> str:
    """The reading without its unit, with `more` decimals than usual but no more than two; lengths of files as a clock."""
    if limit.reading is None:
        return "–" if limit.position == "unmeasured" else "silence"
    if isinstance(limit.reading, str):
        return limit.reading
    if limit.about.clock:
        return clock(limit.reading)
    return number(limit.reading, max(limit.decimals, min(limit.decimals + more, 2)) if limit.decimals else 0)


def unit(limit: LimitVerdict) -> str:
    """What stands behind the reading."""
    return "" if limit.about.clock or limit.reading is None else limit.unit


def bounds(limit: LimitVerdict) -> str:
    """What is allowed: "−23 to −18 dBFS", "at most −3 dBFS", "mp3 or wav"."""
    if limit.one_of:
        return " or ".join(limit.one_of)
    write = clock if limit.about.clock else exact
    low, high = (None if bound is None else write(bound) for bound in (limit.low, limit.high))
    tail = "" if limit.about.clock or not limit.unit else f" {limit.unit}"
    if low is not None and high is not None:
        return f"{low}{tail}" if low == high else f"{low} to {high}{tail}"
    return f"at least {low}{tail}" if low is not None else f"at most {high}{tail}"


def distance(limit: LimitVerdict) -> str:
    """How far the reading is from the nearer bound and on which side of it: "0.8 dB inside", "4.3 dB too high".

    With as many decimals as it takes to be more than nothing where the limit is missed.
    """
    if limit.margin is None:
        return limit.note or ""
    inside = limit.margin >= 0
    side = "inside" if inside else limit.about.sides[limit.position == "over"]
    if limit.about.clock:
        return f"{clock(abs(limit.margin))} {side}"
    if inside and (not limit.difference_unit or limit.difference_unit in COARSE):
        return ""
    return f"{apart(limit)} {limit.difference_unit} {side}".replace("  ", " ")


def asked(limit: LimitVerdict) -> str:
    """What is allowed, and whether it is only advice: "at most 2.5 dB, advice"."""
    return bounds(limit) + (", advice" if limit.severity == "advice" else "")


def tone(limit: LimitVerdict) -> Position:
    """How a limit is coloured: as it stands, but advice that is not met only warns."""
    return "near" if limit.severity == "advice" and limit.position in ("over", "under") else limit.position


def apart(limit: LimitVerdict) -> str:
    """The distance as a figure alone."""
    far = abs(limit.margin or 0.0)
    decimals = limit.decimals
    while limit.margin and limit.margin < 0 and decimals < MOST_DECIMALS and float(number(far, decimals).replace(",", "")) == 0:
        decimals += 1
    return number(far, decimals)
