"""The edited recording as samples: read from its file as it is asked for, in any order, in no more memory than is asked for."""

from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from types import TracebackType

import numpy as np

from ispettore.core.audio.crossing import crossed
from ispettore.core.audio.facts import FileFacts
from ispettore.core.audio.reading import BLOCK_FRAMES, Block, Source
from ispettore.core.audio.writing import Samples, open_spans
from ispettore.core.edit import filling
from ispettore.core.edit.edits import FADE_S, Edits
from ispettore.core.edit.timeline import Segment, Timeline
from ispettore.core.text import shown_name

HELD_S = 60
"""So much of what was put in is held ready, as no part of it can be made by itself."""


@dataclass(frozen=True)
class Edited:
    """A file with edits over it. `path` seeks exactly, and where it is a lossless copy of what came in, `facts` are still those
    of that."""

    path: Path
    edits: Edits
    facts: FileFacts
    takes: Mapping[str, Path] = field(default_factory=dict)
    """The prepared sound of each retake: at this rate, with as many channels."""


Takes = Callable[[str], Samples]
"""The samples of a retake's prepared sound, by its hash."""
Sound = Path | Edited
"""What is measured, treated and heard: a file as it is, or with edits over it."""


def over(path: Path, edits: Edits | None, facts: FileFacts | None, takes: Mapping[str, Path]) -> Sound:
    """A file with edits over it, where there are any."""
    return path if edits is None or facts is None else Edited(path, edits, facts, takes)


def path_of(sound: Sound) -> Path:
    """The file underneath."""
    return sound.path if isinstance(sound, Edited) else sound


def named(sound: Sound, name: str | None) -> str:
    return name or shown_name(path_of(sound))


class EditedSamples:
    """Samples of the edited recording by first frame and frames, (frames, channels), float32: fewer at the end.

    `samples` are those of the file, `takes` gives those of a retake. At a join both sides go on under one another for `FADE_S`,
    as far as the file has what goes on; their gains are such that the power stays, however alike they are (of two equals the sum
    of the gains is 1, of two strangers the sum of their squares).
    """

    def __init__(self, samples: Samples, line: Timeline, takes: Takes) -> None:
        self._samples, self._edits, self._line, self._takes = samples, line.edits, line, takes
        self._half = round(FADE_S * line.edits.sample_rate_hz / 2)
        self._filled: dict[Segment, Block] = {}
        self._material: list[Block] = []

    def __call__(self, start: int, frames: int) -> Block:
        """Raises what reading the file raises."""
        line, start = self._line, max(start, 0)
        end = min(start + frames, line.frames)
        found: list[Block] = []
        at = start
        if at >= end or not line.segments:
            return self._samples(0, 1)[:0]
        place = line.place(at)
        while at < end:
            segment = line.segments[place]
            last = min(end, segment.at + segment.frames)
            piece = self._read(segment, at - segment.at, last - at)
            before, after = self._overlap(place), self._overlap(place + 1)
            if before and at < segment.at + before:
                piece = self._laid(piece, at - segment.at, place, before)
            if after and last > segment.at + segment.frames - after:
                piece = self._laid(piece, at - segment.at - segment.frames, place + 1, after)
            found.append(piece)
            at, place = last, place + 1
        return np.concatenate(found) if len(found) > 1 else found[0]

    def _overlap(self, place: int) -> int:
        """Over how many frames to both sides of the join before a segment its neighbours are laid over one another."""
        if not 0 < place < len(self._line.segments):
            return 0
        before, after = self._line.segments[place - 1], self._line.segments[place]
        room = [self._half, before.frames // 2, after.frames // 2]
        if not before.made:
            room.append(self._edits.frames - before.start - before.frames)
        if not after.made:
            room.append(after.start)
        return max(min(room), 0)

    def _laid(self, piece: Block, first: int, place: int, half: int) -> Block:
        """A piece whose first frame is `first` frames behind the join before a segment, with that join laid over it."""
        join = self._join(place, half)
        start, end = max(first, -half), min(first + len(piece), half)
        piece = piece.copy()
        piece[start - first : end - first] = join[start + half : end + half]
        return piece

    def _join(self, place: int, half: int) -> Block:
        """Both sides of a join, from `half` frames before it to as many behind it."""
        before, after = self._line.segments[place - 1], self._line.segments[place]
        out = self._read(before, before.frames - half, 2 * half)
        into = self._read(after, -half, 2 * half)
        return crossed(out, into)

    def _read(self, segment: Segment, first: int, frames: int) -> Block:
        """Frames of a segment, which may begin before it and end behind it."""
        put = segment.put
        if put is None:
            return padded(self._samples, segment.start + first, frames)
        if put.take:
            return padded(self._takes(put.take), put.start + first, frames)
        return self._room(segment)[first + self._half : first + self._half + frames]

    def _room(self, segment: Segment) -> Block:
        """What was put in, with what is laid over its neighbours at both ends; the same each time."""
        if segment in self._filled:
            return self._filled[segment]
        rate = self._edits.sample_rate_hz
        if not self._material:
            self._material = [self._samples(start, end - start) for start, end in self._edits.tone]
        filled = filling.fill(
            self._material,
            segment.frames + 2 * self._half,
            sample_rate_hz=rate,
            seed=(segment.start ^ segment.frames) & 0x7FFF_FFFF,
        )
        while self._filled and sum(map(len, self._filled.values())) + len(filled) > HELD_S * rate:
            self._filled.pop(next(iter(self._filled)))
        self._filled[segment] = filled
        return filled


def padded(samples: Samples, start: int, frames: int) -> Block:
    """So many samples from `start` on: silence before the first and behind the last."""
    before = min(max(-start, 0), frames)
    found = samples(max(start, 0), frames - before)
    after = frames - before - len(found)
    if before == after == 0:
        return found
    return np.pad(found, ((before, after), (0, 0)))


class EditedSource:
    """The edited recording read forwards, like `Source`."""

    broken_off: str | None = None

    def __init__(self, sound: Edited, *, name: str | None = None) -> None:
        self.path, self.name = sound.path, named(sound, name)
        self._sound, self._spans = sound, open_samples(sound)
        self._samples = self._spans.__enter__()
        self.sample_rate_hz, self.channels = sound.edits.sample_rate_hz, sound.facts.channels
        self.claimed_frames = sound.edits.length
        self.frames_read = 0

    def __enter__(self) -> "EditedSource":
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._spans.__exit__(kind, error, trace)

    @property
    def bit_depth(self) -> int | None:
        return self._sound.facts.bit_depth

    @property
    def facts(self) -> FileFacts:
        """Those of the file, as long as the edited recording."""
        frames = self.claimed_frames
        return self._sound.facts.model_copy(update={"frames": frames, "duration_s": frames / self.sample_rate_hz})

    def blocks(self, frames: int = BLOCK_FRAMES) -> Iterator[Block]:
        """Yield it as arrays of shape (at most `frames`, channels), float32, full scale 1.0."""
        while self.frames_read < self.claimed_frames:
            block = self._samples(self.frames_read, frames)
            self.frames_read += len(block)
            yield block


def open_sound(sound: Sound, *, name: str | None = None) -> Source | EditedSource:
    """A sound to be read forwards. Raises what `Source` raises."""
    return EditedSource(sound, name=name) if isinstance(sound, Edited) else Source(sound, name=name)


@contextmanager
def open_samples(sound: Sound) -> Iterator[Samples]:
    """A sound that seeks exactly, from which many spans are read."""
    with ExitStack() as opened:
        samples = opened.enter_context(open_spans(path_of(sound)))
        if not isinstance(sound, Edited):
            yield samples
            return

        @cache
        def takes(sha256: str) -> Samples:
            return opened.enter_context(open_spans(sound.takes[sha256]))

        yield EditedSamples(samples, Timeline(sound.edits), takes)


def read_sound(sound: Sound, start: int, frames: int) -> Block:
    """Up to `frames` samples from `start` of a sound that seeks exactly: shape (frames, channels)."""
    with open_samples(sound) as samples:
        return samples(start, frames)
