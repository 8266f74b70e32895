"""A WAV file that is never written: any part of it is made from samples when it is asked for.

16-bit PCM, so that every browser plays it and goes to any place in it, whatever the sound is stored as. Marks are cue points with
labels (Multimedia Programming Interface and Data Specifications 1.0, chapter 3), behind the samples.
"""

import struct
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass

import numpy as np

from ispettore.core.audio.writing import Samples

HEAD = 44
BYTES = 2
BLOCK = 1 << 18
LARGEST = 0xFFFF_FFFF


@dataclass(frozen=True)
class Mark:
    """A place, in seconds, and what stands there."""

    at_s: float
    text: str


class VirtualWav:
    """`opened` gives access to the samples while a part is read."""

    def __init__(
        self,
        opened: Callable[[], AbstractContextManager[Samples]],
        *,
        frames: int,
        channels: int,
        sample_rate_hz: int,
        marks: Sequence[Mark] = (),
    ) -> None:
        self._opened, self._frame = opened, channels * BYTES
        self._body = frames * self._frame
        tail = _marks(marks, sample_rate_hz, frames) if marks else b""
        pad = bytes(self._body % 2)
        self._tail = pad + tail
        whole = HEAD + self._body + len(self._tail)
        rate = sample_rate_hz * self._frame
        self._head = struct.pack("<4sI4s", b"RIFF", min(whole - 8, LARGEST), b"WAVE")
        self._head += struct.pack("<4sIHHIIHH", b"fmt ", 16, 1, channels, sample_rate_hz, rate, self._frame, 8 * BYTES)
        self._head += struct.pack("<4sI", b"data", min(self._body, LARGEST))
        self.size = whole

    def read(self, start: int = 0, end: int | None = None) -> Iterator[bytes]:
        """Its bytes from `start` up to, not including, `end`."""
        end = self.size if end is None else min(end, self.size)
        if start < HEAD:
            yield self._head[start : min(end, HEAD)]
        first, last = max(start - HEAD, 0), min(end - HEAD, self._body)
        if first < last:
            with self._opened() as samples:
                yield from self._sound(samples, first, last)
        behind = HEAD + self._body
        if end > behind:
            yield self._tail[max(start - behind, 0) : end - behind]

    def _sound(self, samples: Samples, first: int, last: int) -> Iterator[bytes]:
        at = first // self._frame
        skip = first - at * self._frame
        left = last - first
        while left > 0:
            block = samples(at, min(BLOCK, (skip + left + self._frame - 1) // self._frame))
            if not len(block):  # the file is shorter than it was said to be
                yield bytes(left)
                return
            steps = np.clip(np.round(block.astype(np.float64) * 32_768), -32_768, 32_767).astype("<i2").tobytes()
            piece = steps[skip : skip + left]
            yield piece
            left -= len(piece)
            at, skip = at + len(block), 0


def _marks(marks: Sequence[Mark], rate: int, frames: int) -> bytes:
    """The `cue ` chunk, and a label for each of its points."""
    places = [min(round(mark.at_s * rate), max(frames - 1, 0)) for mark in marks]
    points = b"".join(struct.pack("<II4sIII", name, at, b"data", 0, 0, at) for name, at in enumerate(places, start=1))
    cue = struct.pack("<I", len(marks)) + points
    labels = b"adtl"
    for name, mark in enumerate(marks, start=1):
        text = struct.pack("<I", name) + mark.text.encode() + b"\0"
        labels += struct.pack("<4sI", b"labl", len(text)) + text + bytes(len(text) % 2)
    return struct.pack("<4sI", b"cue ", len(cue)) + cue + struct.pack("<4sI", b"LIST", len(labels)) + labels
