"""What a meter says: readings, findings and spans, as typed data."""

from collections.abc import Iterable
from typing import Literal

from pydantic import BaseModel, ConfigDict, SkipValidation

TRACK_STEP_S = 0.1
"""How far apart values of a track are (`tracks.py`)."""
Severity = Literal["note", "warning", "serious"]
FindingKind = Literal[
    "asymmetry",
    "band-limited",
    "breath",
    "broken-off",
    "click",
    "clipping",
    "clipping-suspected",
    "dc-offset",
    "dead-silence",
    "dropout",
    "hum",
    "identical-channels",
    "inter-sample-over",
    "inverted-channel",
    "level-jump",
    "long-pause",
    "mark",
    "mark-set",
    "mouth-noise",
    "noise-in-pause",
    "plosive",
    "repeated-buffer",
    "repeated-words",
    "room-echo",
    "room-tone-jump",
    "rumble",
    "sibilance",
    "silent-channel",
]
"""Every kind that a meter may emit. Each has its entry in `spec/methods.md` and its remedy in `plan/remedies.py`."""


class Span(BaseModel):
    """A stretch of time in seconds from the start of the file."""

    model_config = ConfigDict(frozen=True)

    start_s: float
    end_s: float

    @property
    def length_s(self) -> float:
        return self.end_s - self.start_s


class Pause(Span):
    """A stretch without speech, and the level of its room tone in dBFS (worst channel); None where there is too little of it."""

    level_dbfs: float | None = None


class Reading(BaseModel):
    """One measured value with its unit, its method and where it was taken.

    `value` is None where there is no honest number; `note` then says why, and `silence` is True where the reason is that nothing
    sounds. `channel` counts from 1; None means the programme as a whole.
    """

    model_config = ConfigDict(frozen=True)

    quantity: str
    value: float | None
    unit: str
    method: str
    channel: int | None = None
    start_s: float = 0.0
    end_s: float = 0.0
    note: str | None = None
    silence: bool = False
    per_channel: tuple[float | None, ...] = ()


class Finding(BaseModel):
    """A span of time with something to look at, its kind and its measure; `count` of them where several lie close together.

    `detail` names what the measure cannot, such as the base frequency of hum.
    """

    model_config = ConfigDict(frozen=True)

    kind: SkipValidation[FindingKind]  # one that was kept may be of a kind that is no more
    start_s: float
    end_s: float
    channel: int | None = None
    measure: float | None = None
    unit: str = ""
    severity: Severity = "warning"
    count: int = 1
    detail: str = ""


def merged(findings: Iterable[Finding], *, within_s: float) -> list[Finding]:
    """Findings in order of time; those of one kind and channel near to one another become one, with the largest measure.

    >>> one, two = (Finding(kind="click", start_s=t, end_s=t, measure=m) for t, m in ((1.0, 3.0), (1.1, 5.0)))
    >>> [(each.start_s, each.end_s, each.measure, each.count) for each in merged([one, two], within_s=0.2)]
    [(1.0, 1.1, 5.0, 2)]
    """
    joined: list[Finding] = []
    last: dict[tuple[str, int | None], int] = {}
    for finding in sorted(findings, key=lambda each: each.start_s):
        key = (finding.kind, finding.channel)
        before = joined[last[key]] if key in last else None
        if before is None or finding.start_s - before.end_s > within_s:
            last[key] = len(joined)
            joined.append(finding)
            continue
        measures = [each.measure for each in (before, finding) if each.measure is not None]
        joined[last[key]] = before.model_copy(
            update={
                "end_s": max(before.end_s, finding.end_s),
                "measure": max(measures, default=None),
                "count": before.count + finding.count,
            }
        )
    return joined
