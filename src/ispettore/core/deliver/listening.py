"""What of a file was listened to: stretches with the speed they were played at, how much of the whole they are, and notes."""

import csv
import io
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from ispettore.core.figures import clock, exact, number
from ispettore.core.text import as_cell

SLOWEST, FASTEST = 0.5, 3.0
GAP_S = 0.25
"""Stretches that lie so near to one another are one: a player reports in pieces."""
THROUGH = 0.995
"""From this share on a file counts as listened through: the last breath of its tail is nobody's loss."""
NoteKind = Literal["misread", "noise", "retake", "other"]
NOTE_KINDS: dict[NoteKind, str] = {"misread": "Misread", "noise": "Noise", "retake": "Needs a retake", "other": "Note"}


class Heard(BaseModel):
    """One stretch, in seconds of the file, and how many times its own speed it was played at."""

    model_config = ConfigDict(frozen=True)

    start_s: float = Field(ge=0)
    end_s: float = Field(ge=0)
    speed: float = Field(1.0, ge=SLOWEST, le=FASTEST)


class Note(BaseModel):
    """Something that was noted while listening, and when it was ticked off, if it was."""

    model_config = ConfigDict(frozen=True)

    at_s: float
    kind: NoteKind
    text: str
    who: str
    file: str
    done_at: datetime | None = None

    @property
    def told(self) -> str:
        """As a marker says it."""
        return f"{NOTE_KINDS[self.kind]}: {self.text}" if self.text else NOTE_KINDS[self.kind]


def merged(spans: Iterable[Heard]) -> list[Heard]:
    """The same stretches, in order, those of one speed that touch or overlap joined; what is empty is left out.

    >>> [(one.start_s, one.end_s) for one in merged([Heard(start_s=1, end_s=2), Heard(start_s=0, end_s=1.1)])]
    [(0.0, 2.0)]
    """
    found: list[Heard] = []
    for span in sorted(spans, key=lambda one: (one.speed, one.start_s)):
        if span.end_s <= span.start_s:
            continue
        last = found[-1] if found else None
        if last is not None and last.speed == span.speed and span.start_s <= last.end_s + GAP_S:
            found[-1] = last.model_copy(update={"end_s": max(last.end_s, span.end_s)})
        else:
            found.append(span)
    return sorted(found, key=lambda one: one.start_s)


def covered(spans: Iterable[Heard]) -> list[tuple[float, float]]:
    """What was heard at any speed, as stretches in order that do not touch."""
    return [(one.start_s, one.end_s) for one in merged(span.model_copy(update={"speed": 1.0}) for span in spans)]


def share(spans: Iterable[Heard], *, duration_s: float) -> float:
    """How much of a file was heard, from 0 to 1."""
    heard = sum(min(end, duration_s) - min(start, duration_s) for start, end in covered(spans))
    return min(1.0, heard / duration_s) if duration_s > 0 else 0.0


def said(spans: Sequence[Heard], *, duration_s: float, who: str) -> str:
    """How much of a file somebody heard, and at which speed, in words.

    >>> said([Heard(start_s=0, end_s=60, speed=1.5)], duration_s=60, who="A. Reed")
    'heard completely by A. Reed at up to 1.5 times its speed'
    >>> said([Heard(start_s=0, end_s=30)], duration_s=60, who="")
    '50 % heard'
    """
    part = share(spans, duration_s=duration_s)
    by = f" by {who}" if who else ""
    fastest = max((span.speed for span in spans), default=1.0)
    pace = f" at up to {exact(fastest)} times its speed" if fastest > 1 else ""
    if part >= THROUGH:
        return f"heard completely{by}{pace}"
    return f"{number(100 * part, 0) if part >= 0.005 else 'less than 1'} % heard{by}{pace}"


def as_csv(notes: Sequence[tuple[str, Note]]) -> str:
    """Notes as a table, each with the name of its recording: time code, seconds, kind, text, who, file, ticked off."""
    written = io.StringIO()
    table = csv.writer(written, lineterminator="\r\n")
    table.writerow(("recording", "time", "seconds", "kind", "note", "by", "file", "done"))
    for recording, note in notes:
        done = note.done_at.strftime("%Y-%m-%d %H:%M") if note.done_at else ""
        texts = (recording, clock(note.at_s, 2), f"{note.at_s:.3f}", NOTE_KINDS[note.kind], note.text, note.who, note.file, done)
        table.writerow([as_cell(text) for text in texts])
    return "\ufeff" + written.getvalue()


def as_vtt(notes: Sequence[Note], *, duration_s: float) -> str:
    """Notes as cues of WebVTT (W3C), each up to the next but no longer than five seconds."""
    ordered = sorted(notes, key=lambda note: note.at_s)
    lines = ["WEBVTT", ""]
    for place, note in enumerate(ordered):
        after = ordered[place + 1].at_s if place + 1 < len(ordered) else duration_s
        end = max(note.at_s + 0.5, min(after, note.at_s + 5.0))
        told = note.told.replace("&", "&amp;").replace("<", "&lt;").replace("-->", "→")
        lines += [f"{_stamp(note.at_s)} --> {_stamp(end)}", " ".join(told.split()), ""]
    return "\n".join(lines)


def _stamp(seconds: float) -> str:
    thousandths = round(seconds * 1_000)
    whole, part = divmod(thousandths, 1_000)
    return f"{whole // 3_600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}.{part:03d}"
