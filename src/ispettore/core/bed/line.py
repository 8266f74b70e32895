"""What plays under the voice as samples: each part of it a stretch of a file, brought to the voice's rate and channels, faded and
placed; and all of them together.

Everything here is a function of (first frame, frames) that gives the same samples however it is asked.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import soxr

from ispettore.core.audio.reading import Block
from ispettore.core.audio.writing import Samples
from ispettore.core.edit.reading import padded

CHUNK_S = 0.5
REACH = 4_096
"""More frames of what comes in than the converter looks at to either side (soxr, very high quality)."""


def stretch(samples: Samples, first: int, last: int) -> Samples:
    """Frames `first` up to, not including, `last`."""
    return lambda start, frames: padded(samples, first + start, max(min(frames, last - first - start), 0))


def as_channels(samples: Samples, channels: int) -> Samples:
    """As many channels: fewer are the mean of all, more than one are the one, and of two and more the first two are kept."""

    def read(start: int, frames: int) -> Block:
        block = samples(start, frames)
        if block.shape[1] == channels:
            return block
        if channels == 1 or block.shape[1] == 1:
            return np.repeat(block.mean(axis=1, keepdims=True), channels, axis=1).astype(np.float32)
        return np.pad(block[:, :channels], ((0, 0), (0, max(channels - block.shape[1], 0))))

    return read


def at_rate(samples: Samples, was_hz: int, rate_hz: int) -> Samples:
    """The same sound at another sample rate; silence before the first sample, and behind the last.

    It is converted in pieces that begin where a sample of one rate falls on a sample of the other, each with more of the sound to
    both sides than the converter looks at: they fit without a seam.
    """
    if was_hz == rate_hz:
        return samples
    shared = math.gcd(was_hz, rate_hz)
    coarse = max(round(CHUNK_S * shared), 1)
    size, came = rate_hz // shared * coarse, was_hz // shared * coarse
    reach = math.ceil(REACH / came) * coarse
    before, around = rate_hz // shared * reach, was_hz // shared * reach
    held: tuple[int, Block] | None = None

    def read(start: int, frames: int) -> Block:
        nonlocal held
        found, at = [], start
        while at < start + frames:
            number, inside = divmod(at, size)
            if held is None or held[0] != number:
                piece = padded(samples, number * came - around, came + 2 * around)
                turned = soxr.resample(np.ascontiguousarray(piece), was_hz, rate_hz, quality="VHQ").reshape(-1, piece.shape[1])
                held = number, np.asarray(turned[before : before + size], dtype=np.float32)
            found.append(held[1][inside : inside + start + frames - at])
            at += len(found[-1])
        return np.concatenate(found) if found else samples(0, 0)

    return read


@dataclass(frozen=True)
class Part:
    """A sound from frame `at` of the line on, `frames` long, by a gain (a factor), with fades of so many frames inside it: quarters
    of a sine, so that two that cross keep their power."""

    samples: Samples
    at: int
    frames: int
    gain: float
    fade_in: int = 0
    fade_out: int = 0

    def read(self, start: int, frames: int) -> Block:
        """Frames of it by its own time, all inside of it."""
        block = self.samples(start, frames).astype(np.float64) * self.gain
        at = np.arange(start, start + len(block))
        if self.fade_in and start < self.fade_in:
            block *= np.sin(np.pi / 2 * np.clip((at + 0.5) / self.fade_in, 0, 1))[:, None]
        if self.fade_out and start + frames > self.frames - self.fade_out:
            block *= np.sin(np.pi / 2 * np.clip((self.frames - at - 0.5) / self.fade_out, 0, 1))[:, None]
        return block.astype(np.float32)


def together(parts: Sequence[Part], start: int, frames: int, *, channels: int) -> Block:
    """What all parts sound like together, shape (frames, channels)."""
    found = np.zeros((frames, channels), dtype=np.float32)
    for part in parts:
        first, last = max(start, part.at), min(start + frames, part.at + part.frames)
        if first < last:
            block = part.read(first - part.at, last - first)
            found[first - start : first - start + len(block)] += block
    return found
