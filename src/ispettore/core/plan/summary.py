"""Where a recording stands and what to do next, in one or two plain sentences."""

from collections.abc import Sequence
from typing import Literal

from ispettore.core.plan.bounds import Obstacle
from ispettore.core.spec import standing
from ispettore.core.spec.verdict import LimitVerdict, Verdict

Stage = Literal["planning", "certified", "written"]
NAMED = 3
"""So many missed limits are named; the rest are counted."""
_COUNTS = {1: "One", 2: "Two", 3: "Three", 4: "Four", 5: "Five", 6: "Six", 7: "Seven", 8: "Eight", 9: "Nine"}


def told(
    verdict: Verdict,
    specification: str,
    *,
    stage: Stage | None = None,
    file: str = "",
    plans: Sequence[str] = (),
    obstacles: Sequence[Obstacle] = (),
) -> str:
    """The sentences. `verdict` is of the recording; `stage` says what was done about it, `file` what was written. `plans` are those
    that conform, gentlest first, by their names; with none, `obstacles` say why.

    >>> met = Verdict(specification="a", version=1, role="recording", passes=True, limits=())
    >>> told(met, "Audiobook, retail")
    'Every limit on the recording is met. Conform it to get the delivered file and its certificate.'
    >>> told(met, "Audiobook, retail", stage="certified", file="May.mp3")
    '“May.mp3” meets Audiobook, retail and is certified. Nothing is left to do.'
    """
    if stage == "certified":
        return f"“{file}” meets {specification} and is certified. Nothing is left to do."
    if stage == "written":
        return f"“{file}” meets {specification}. It is a master: choose the required format to have it certified."
    missed = verdict.missed
    if not missed:
        return "Every limit on the recording is met. Conform it to get the delivered file and its certificate."
    count = _COUNTS.get(len(missed), str(len(missed)))
    named = [_stands(limit) for limit in missed[:NAMED]]
    more = [f"{len(missed) - NAMED} more"] if len(missed) > NAMED else []
    said = f"{count} limit{'s are' if len(missed) > 1 else ' is'} not met: {_joined(named + more)}."
    return f"{said} {_next(len(missed), stage, plans, obstacles)}".rstrip()


def _next(missed: int, stage: Stage | None, plans: Sequence[str], obstacles: Sequence[Obstacle]) -> str:
    them = {1: "it", 2: "both"}.get(missed, "all of them")
    if plans:
        return f"The {plans[0]} plan fixes {them}."
    if obstacles:
        return f"No plan fixes {them}: {_within(obstacles[0].advice)}"
    return "Plans are being made." if stage == "planning" else ""


def _stands(limit: LimitVerdict) -> str:
    title = _within(limit.title)
    if limit.position == "unmeasured":
        return f"{title} could not be measured"
    if not isinstance(limit.reading, float | int):
        return f"{title} is {standing.reading(limit)}"
    return f"{title} is {standing.distance(limit)}"


def _within(text: str) -> str:
    """As it stands in the middle of a sentence: "peak", but "RMS level"."""
    return text[:1].lower() + text[1:] if text[1:2].islower() else text


def _joined(parts: Sequence[str]) -> str:
    return f"{', '.join(parts[:-1])} and {parts[-1]}" if len(parts) > 1 else parts[0]
