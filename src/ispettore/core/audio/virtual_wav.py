"""A WAV file that is never written: any part of it is made from samples when it is asked for.

16-bit PCM, so that every browser plays it and goes to any place in it, whatever the sound is stored as. Marks stand behind the
samples.
"""

import struct
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager

import numpy as np

from ispettore.core.audio import cues
from ispettore.core.audio.cues import Mark
from ispettore.core.audio.writing import Samples

HEAD = 44
BYTES = 2
BLOCK = 1 << 18
LARGEST = 0xFFFF_FFFF


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
        tail = cues.content(marks, sample_rate_hz=sample_rate_hz, frames=frames) if marks else b""
        pad = bytes(self._body % 2)
        self._tail = pad + tail
        whole = HEAD + self._body + len(self._tail)
        self._head = pcm_head(self._body, channels=channels, sample_rate_hz=sample_rate_hz, behind=len(self._tail))
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


def pcm_head(body: int, *, channels: int, sample_rate_hz: int, behind: int = 0) -> bytes:
    """What a WAV file with so many bytes of 16-bit samples, and so many behind them, begins with."""
    frame = channels * BYTES
    head = struct.pack("<4sI4s", b"RIFF", min(HEAD + body + behind - 8, LARGEST), b"WAVE")
    head += struct.pack("<4sIHHIIHH", b"fmt ", 16, 1, channels, sample_rate_hz, sample_rate_hz * frame, frame, 8 * BYTES)
    return head + struct.pack("<4sI", b"data", min(body, LARGEST))
