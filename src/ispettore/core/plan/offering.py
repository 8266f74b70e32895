"""What a step begins with when somebody adds it: settings that fit this recording and this specification, not a table's."""

import math
from collections.abc import Sequence
from typing import Any

from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import ending
from ispettore.core.plan.window import Learned, gain_window, limits
from ispettore.core.spec.specification import Specification
from ispettore.core.treat import order
from ispettore.core.treat.treatment import STEPS

USUAL_VOICE_DBFS, USUAL_CEILING_DBTP = -24.0, -1.0
BELOW_DB = 0.2
"""So far under a limit on peaks a limiter begins: other people's meters, and encoding."""


class OfferedStep(BaseModel):
    """A step that can be added. `settings` are those it begins with; `entry` is a new entry of its list, where it holds one;
    `behind` are the kinds of steps that it may follow."""

    model_config = ConfigDict(frozen=True)

    kind: str
    title: str
    purpose: str
    settings: dict[str, Any] = {}
    entry: dict[str, Any] | None = None
    behind: tuple[str, ...] = ()


class StepGroup(BaseModel):
    """Steps for one part of the work."""

    model_config = ConfigDict(frozen=True)

    title: str
    steps: tuple[OfferedStep, ...]


def steps(inspection: Inspection, specification: Specification, *, tone: Sequence[float] = ()) -> list[StepGroup]:
    """Every step in the order of work, as it would begin. `tone` is that of the recordings beside it, where there are any."""
    return [
        StepGroup(title=title, steps=tuple(_offered(kind, inspection, specification, tone) for kind in kinds))
        for title, kinds in order.GROUPS
    ]


def _offered(kind: str, inspection: Inspection, specification: Specification, tone: Sequence[float]) -> OfferedStep:
    made = STEPS[kind]
    begins = _BEGINS.get(kind)
    return OfferedStep(
        kind=kind,
        title=made.title,
        purpose=made.purpose,
        settings=begins(inspection, specification) if begins else {"voice_db": list(tone)} if kind == "tone-match" else {},
        entry=_ENTRIES.get(kind),
        behind=tuple(other for other in STEPS if not STEPS[other].adds_sound and order.place_for(kind, [other]) == 1),
    )


def ceiling(specification: Specification) -> float:
    """Where true peaks are held, in dBTP: under the lowest limit on a peak."""
    highest = [limit.high for limit in specification.limits if limit.about.is_peak and limit.high is not None]
    return min(highest) - BELOW_DB if highest else USUAL_CEILING_DBTP


def _voice(inspection: Inspection) -> float:
    """Where the voice is: its active speech level, else its RMS, in whole dBFS."""
    found = (inspection.value(name) for name in ("active_speech_level_dbfs", "rms_dbfs"))
    level = next((value for value in found if value is not None), USUAL_VOICE_DBFS)
    return float(min(0, max(-80, round(level))))


def _channels(inspection: Inspection, specification: Specification) -> dict[str, Any]:
    limit = specification.limit("channels")
    most = int(limit.high) if limit and limit.high else inspection.facts.channels
    return {"channels": min(2, most)}


def _rate(inspection: Inspection, specification: Specification) -> dict[str, Any]:
    limit, rate = specification.limit("sample_rate_hz"), inspection.facts.sample_rate_hz
    if limit is not None:
        rate = int(min(max(rate, limit.low or 0), limit.high or math.inf))
    return {"sample_rate_hz": rate}


def _gain(inspection: Inspection, specification: Specification) -> dict[str, Any]:
    """The gain nearest to none that the window allows; where it is shut, the one that reaches the level."""
    window = gain_window(inspection, specification)
    gain = max(0.0, window.low_db or -math.inf) if window.low_db is not None else 0.0
    if window.open and window.high_db is not None:
        gain = min(gain, window.high_db)
    return {"gain_db": round(min(60.0, max(-60.0, gain)), 1)}


def _final_level(_inspection: Inspection, specification: Specification) -> dict[str, Any]:
    known = STEPS["final-level"].model_fields["quantity"].annotation
    names = set(getattr(known, "__args__", ()))
    limit = next((one for one in limits(specification) if one.about.is_level and one.quantity in names), None)
    if limit is None:
        return {"ceiling_dbtp": ceiling(specification)}
    bounds = [bound for bound in (limit.low, limit.high) if bound is not None]
    return {"quantity": limit.quantity, "target_db": sum(bounds) / len(bounds), "ceiling_dbtp": ceiling(specification)}


def _ends(inspection: Inspection, specification: Specification) -> dict[str, Any]:
    step, _ = ending.proposed(inspection, specification, Learned())
    if step is not None:
        return dict(step.settings)
    return {name: round(value, 2) for name in ending.ENDS if (value := inspection.value(name)) is not None}


_BEGINS = {
    "channels": _channels,
    "sample-rate": _rate,
    "compressor": lambda inspection, _: {"threshold_dbfs": _voice(inspection), "ratio": 2.0},
    "multiband-compressor": lambda inspection, _: {"bands": [{"compressor": {"threshold_dbfs": _voice(inspection)}}] * 3},
    "gain": _gain,
    "final-level": _final_level,
    "true-peak-limiter": lambda _, specification: {"ceiling_dbtp": ceiling(specification)},
    "head-and-tail": _ends,
    "tone": lambda *_: {"bands": [_ENTRIES["tone"]]},
}
_ENTRIES: dict[str, dict[str, Any]] = {
    "tone": {"kind": "bell", "frequency_hz": 3_000.0, "gain_db": 2.0, "q": 1.0},
    "spot-gain": {"start_s": 0.0, "end_s": 1.0, "gain_db": -3.0},
    "tone-match": {"start_s": 0.0, "end_s": 1.0},
    "clip-repair": {"start_s": 0.0, "end_s": 0.5},
    "click-repair": {"start_s": 0.0, "end_s": 0.02},
    "room-tone-fill": {"start_s": 0.0, "end_s": 0.5},
    "multiband-compressor": {"compressor": {"threshold_dbfs": USUAL_VOICE_DBFS}},
}
