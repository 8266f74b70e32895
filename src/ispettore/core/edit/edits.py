"""Edits of a recording: stretches of its file that are left out, each with its own room tone or a retake in their
place, or nothing.

They are positions in the file, in frames, and never touch it. Whatever is cut, filled, shortened or lengthened is one of these, so
any of them can be taken back by itself, and a list of them says all there is to hear.
"""

import hashlib
import json
from collections.abc import Sequence
from typing import Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from ispettore.core.figures import clock, exact

FADE_S = 0.02
"""Over so long both sides of a join are laid over one another."""
NEAR_S = 1.5
"""A note is made a moment after what it is about was heard."""
LONGEST_ROOM_S = 60.0
MOST = 20_000
MOST_ROOM = 8
Why = Literal["", "pause", "join", "misread", "head", "tail"]
"""What an edit was for, where its figures alone don't say so: a pause, the head or the tail that was brought to a length,
another recording behind this, words that are read again."""


class _Kept(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Put(_Kept):
    """`frames` of room tone; or, where a `take` is named by the hash of its prepared sound, of that from frame `start` on."""

    frames: int = Field(ge=1)
    take: str = Field("", max_length=64)
    start: int = Field(0, ge=0)


class Edit(_Kept):
    """The frames from `start` up to, not including, `end` are left out, and what was `put` in stands there. Where `start` is
    `end` nothing is left out."""

    start: int = Field(ge=0)
    end: int = Field(ge=0)
    put: tuple[Put, ...] = Field((), max_length=MOST)
    why: Why = ""

    @model_validator(mode="after")
    def _does_something(self) -> Self:
        if self.end < self.start or (self.end == self.start and not self.put):
            raise ValueError("an edit leaves something out or puts something in")
        return self

    @property
    def room(self) -> int:
        """How many frames of room tone stand there."""
        return sum(one.frames for one in self.put if not one.take)

    @property
    def longest_room(self) -> int:
        """The most of it at one place, in frames."""
        return max((one.frames for one in self.put if not one.take), default=0)

    @property
    def taken(self) -> int:
        """How many frames of retakes stand there."""
        return sum(one.frames for one in self.put if one.take)

    @property
    def longer(self) -> int:
        """By how many frames the recording gets longer; negative where it gets shorter."""
        return self.room + self.taken - (self.end - self.start)


class Edits(_Kept):
    """Everything that is edited in a file of `frames` frames, in its order; no two edits meet. `tone` are stretches of the file
    that are room tone, from which whatever is put in is made."""

    sample_rate_hz: int = Field(ge=1)
    frames: int = Field(ge=1)
    edits: tuple[Edit, ...] = Field((), max_length=MOST)
    tone: tuple[tuple[int, int], ...] = Field((), max_length=MOST_ROOM)

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        at = -1
        for edit in self.edits:
            if edit.start <= at or edit.end > self.frames or edit.longest_room > LONGEST_ROOM_S * self.sample_rate_hz:
                raise ValueError("edits are in order, apart from one another and inside of their file")
            at = edit.end
        if any(not 0 <= start < end <= self.frames for start, end in self.tone):
            raise ValueError("room tone lies inside of the file")
        if any(edit.room for edit in self.edits) and not self.tone:
            raise ValueError("what is put in is made of room tone")
        return self

    @property
    def length(self) -> int:
        """Frames of the edited recording."""
        return self.frames + sum(edit.longer for edit in self.edits)

    @property
    def takes(self) -> tuple[str, ...]:
        """The retakes that are heard, each once."""
        return tuple(dict.fromkeys(put.take for edit in self.edits for put in edit.put if put.take))

    def seconds(self, frames: int) -> float:
        return frames / self.sample_rate_hz

    def known_as(self, sha256: str) -> str:
        """What tells the sound of a file with these edits from any other: a SHA-256, as lower-case hexadecimal."""
        told = json.dumps([sha256, self.model_dump(mode="json")], sort_keys=True, separators=(",", ":"))
        return hashlib.sha256(told.encode()).hexdigest()


def told(edit: Edit, *, sample_rate_hz: int) -> str:
    """What an edit does, in words.

    >>> told(Edit(start=0, end=48_000), sample_rate_hz=48_000)
    'Cut out 1 s'
    >>> told(Edit(start=9, end=9, put=(Put(frames=24_000),)), sample_rate_hz=48_000)
    'Room tone put in, 0.5 s'
    >>> told(Edit(start=0, end=48_000, why="pause"), sample_rate_hz=48_000)
    'Pause shortened by 1 s'
    >>> told(Edit(start=0, end=48_000, why="misread"), sample_rate_hz=48_000)
    'Misread words cut out, 1 s'
    >>> told(Edit(start=0, end=48_000, put=(Put(frames=24_000, take="ab"), Put(frames=4_800))), sample_rate_hz=48_000)
    '1 s replaced by a retake of 0.5 s'
    """
    seconds = [round(frames / sample_rate_hz, 2) for frames in (edit.end - edit.start, edit.room, abs(edit.longer), edit.taken)]
    out, room, change, taken = (exact(one) for one in seconds)
    if edit.why == "join":
        return f"Joined with {taken} s of another recording"
    if edit.taken:
        return f"{out} s replaced by a retake of {taken} s" if edit.end > edit.start else f"Retake put in, {taken} s"
    if edit.why in ("pause", "head", "tail"):
        return f"{edit.why.capitalize()} {'lengthened' if edit.longer > 0 else 'shortened'} by {change} s"
    if edit.why == "misread" and not edit.room:
        return f"Misread words cut out, {out} s"
    if not edit.room:
        return f"Cut out {out} s"
    if edit.start == edit.end:
        return f"Room tone put in, {room} s"
    if edit.longer == 0:
        return f"Replaced by room tone, {out} s"
    return f"{out} s replaced by {room} s of room tone"


def since(before: Edits | None, after: Edits | None, frame: int) -> Edit | None:
    """The edit that came since, at a moment of the file or within `NEAR_S` of it; None where there is none.

    >>> none = Edits(sample_rate_hz=100, frames=2_000)
    >>> after = none.model_copy(update={"edits": (Edit(start=500, end=700),)})
    >>> since(none, after, 810).end, since(after, after, 810), since(none, after, 900)
    (700, None, None)
    """
    if after is None:
        return None
    known, near = set(before.edits) if before is not None else set(), round(NEAR_S * after.sample_rate_hz)
    return next((one for one in after.edits if one not in known and one.start - near <= frame <= one.end + near), None)


def change(before: Edits, after: Edits) -> str:
    """What became of edits, in words with the places in the file; empty where nothing did.

    >>> none = Edits(sample_rate_hz=48_000, frames=480_000)
    >>> change(none, none.model_copy(update={"edits": (Edit(start=96_000, end=144_000),)}))
    'Cut out 1 s at 0:02.0'
    """
    rate = after.sample_rate_hz
    was, now = set(before.edits), set(after.edits)
    came, went = [one for one in after.edits if one not in was], [one for one in before.edits if one not in now]
    length = round((after.length - before.length) / rate, 2)
    if len(came) == 1:
        return f"{told(came[0], sample_rate_hz=rate)} at {clock(came[0].start / rate, 1)}"
    if not came and len(went) == 1:
        return f"Edit at {clock(went[0].start / rate, 1)} removed"
    if not came and not went:
        return ""
    said = f"{len(came)} edits made" if came else f"{len(went)} edits removed"
    return f"{said}, {summed(length)}"


def summed(longer_s: float) -> str:
    """What edits do to the length, in words.

    >>> summed(-12.4), summed(0), summed(0.5)
    ('12.4 s shorter', 'as long as before', '0.5 s longer')
    """
    if abs(longer_s) < 0.005:
        return "as long as before"
    return f"{exact(abs(round(longer_s, 2)))} s {'longer' if longer_s > 0 else 'shorter'}"


def merged(edits: Sequence[Edit]) -> tuple[Edit, ...]:
    """Edits in order, with those that meet made one."""
    found: list[Edit] = []
    for edit in sorted(edits, key=lambda one: (one.start, one.end)):
        if found and found[-1].end >= edit.start:
            last = found.pop()
            why: Why = last.why if last.why == edit.why else ""
            edit = Edit(start=last.start, end=max(last.end, edit.end), put=joined((*last.put, *edit.put)), why=why)
        found.append(edit)
    return tuple(found)


def joined(put: Sequence[Put]) -> tuple[Put, ...]:
    """What stands one behind another, with room tone beside room tone as one, and what of a take goes on as it was.

    >>> [one.frames for one in joined([Put(frames=3), Put(frames=4), Put(frames=5, take="a"), Put(frames=2, take="a", start=5)])]
    [7, 7]
    """
    found: list[Put] = []
    for one in put:
        last = found[-1] if found else None
        if last is not None and last.take == one.take and (not one.take or one.start == last.start + last.frames):
            found[-1] = last.model_copy(update={"frames": last.frames + one.frames})
        else:
            found.append(one)
    return tuple(found)
