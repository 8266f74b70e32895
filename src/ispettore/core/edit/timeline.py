"""Where every moment of a file went in the edited recording, and where every moment of that came from."""

from bisect import bisect_right
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import pairwise

from ispettore.core.edit.edits import Edits, Put


@dataclass(frozen=True, slots=True)
class Segment:
    """A stretch of the edited recording, `frames` long from `at` on: of the file from `start` on, or of what was `put` in before
    that frame of it."""

    at: int
    frames: int
    start: int
    put: Put | None = None

    @property
    def made(self) -> bool:
        """Whether it was put in."""
        return self.put is not None


class Timeline:
    """The segments of an edited recording, and the way from a frame of the file to one of the recording and back, in the logarithm
    of their number."""

    def __init__(self, edits: Edits) -> None:
        self.edits = edits
        self.frames = edits.length
        self.segments = tuple(_segments(edits))
        self._at = [one.at for one in self.segments]
        kept = [one for one in self.segments if not one.made]
        self._kept, self._starts = kept, [one.start for one in kept]

    def place(self, frame: int) -> int:
        """Which segment a frame of the recording is in: the last one for what lies behind its end."""
        return max(bisect_right(self._at, frame) - 1, 0)

    def to_file(self, frame: int) -> int:
        """The frame of the file that is heard at a frame of the recording; inside of what was put in, the one before which that
        stands."""
        if not self.segments:
            return self.edits.frames
        segment = self.segments[self.place(frame)]
        return segment.start if segment.made else segment.start + min(max(frame - segment.at, 0), segment.frames)

    def to_recording(self, frame: int) -> int:
        """Where a frame of the file is heard; where it was left out, the join there."""
        at = bisect_right(self._starts, frame) - 1
        if at < 0:
            return self._kept[0].at if self._kept else 0
        segment = self._kept[at]
        return segment.at + min(frame - segment.start, segment.frames)

    def hears(self, frame: int) -> bool:
        """Whether a frame of the file is heard at all."""
        at = bisect_right(self._starts, frame) - 1
        return at >= 0 and frame - self._kept[at].start < self._kept[at].frames

    def from_file(self, start_s: float, end_s: float) -> tuple[float, float] | None:
        """Where a stretch of the file is heard, in seconds; None where nothing of it is."""
        rate = self.edits.sample_rate_hz
        first, last = round(start_s * rate), round(end_s * rate)
        found = self.to_recording(first), self.to_recording(last)
        if found[0] == found[1] and not (first == last and self.hears(first)):
            return None
        return tuple(_near(frame / rate, was) for frame, was in zip(found, (start_s, end_s), strict=True))  # type: ignore[return-value]

    def into_file(self, start_s: float, end_s: float) -> tuple[float, float]:
        """The stretch of the file that is heard in one of the recording, in seconds."""
        rate = self.edits.sample_rate_hz
        return tuple(_near(self.to_file(round(at * rate)) / rate, at) for at in (start_s, end_s))  # type: ignore[return-value]

    @property
    def joins(self) -> tuple[int, ...]:
        """The frames of the recording at which two segments meet, or something was left out at its very start or end."""
        inner = [after.at for _, after in pairwise(self.segments)]
        cut = [0] if self.edits.edits and self.edits.edits[0].start == 0 and not self.edits.edits[0].put else []
        last = self.edits.edits[-1] if self.edits.edits else None
        end = [self.frames] if last is not None and last.end == self.edits.frames and not last.put else []
        return (*cut, *inner, *end)


def _near(seconds: float, was: float) -> float:
    """What did not move is said as it was said, and not as its nearest frame."""
    return was if abs(seconds - was) < 1e-4 else seconds


def _segments(edits: Edits) -> Iterator[Segment]:
    at = heard = 0
    for start, end, put in _stops(edits):
        if start > heard:
            yield Segment(at, start - heard, heard)
            at += start - heard
        for one in put:
            yield Segment(at, one.frames, end, one)
            at += one.frames
        heard = end


def _stops(edits: Edits) -> Iterable[tuple[int, int, tuple[Put, ...]]]:
    yield from ((edit.start, edit.end, edit.put) for edit in edits.edits)
    yield edits.frames, edits.frames, ()
