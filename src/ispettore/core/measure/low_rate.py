"""The lowest 400 Hz of the sound at a rate of about 1.4 kHz: enough for hum, rumble and bursts of breath on the microphone."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel
from ispettore.core.measure.grid import CELL_S, Seconds, Series

RATE_HZ = 1_400
PASS_HZ, STOP_HZ = 400.0, 1_000.0
STEPS = 8  # the low-pass is so many steps long
TOGETHER_S = 300.0  # so much is read at a time


def factor(sample_rate_hz: int) -> int:
    """By how much the rate is divided.

    >>> factor(44_100), factor(8_000)
    (31, 5)
    """
    return max(1, sample_rate_hz // RATE_HZ)


class LowRate:
    """Feed seconds; `samples` grows at `rate_hz`, one row a channel. The low-pass is linear in phase and its delay is taken out."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._factor = factor(sample_rate_hz)
        self.rate_hz = sample_rate_hz / self._factor
        self._taps = _taps(sample_rate_hz)
        self._before = self._taps.size // 2
        # The frames from which the next sample is worked out, before the sound that is fed next; at first, silence.
        self._rest = np.zeros((channels, self._before), dtype=np.float32)
        self.samples = Series(channels)

    def feed(self, sound: Seconds) -> None:
        """Take in seconds."""
        rest = self._rest.shape[1]
        if rest <= sound.past:
            self._advance(sound.samples, sound.past - rest, sound.distinct)
        else:
            self._advance(np.concatenate((self._rest, sound.fresh), axis=1), 0, sound.distinct)

    def _advance(self, samples: NDArray[np.float32], first: int, distinct: int) -> None:
        count = max(0, (samples.shape[1] - first - self._taps.size) // self._factor + 1)
        found = _decimate(samples[:distinct], first, self._taps, self._factor, count)
        self.samples.append(np.repeat(found, len(samples) // distinct, axis=0))
        self._rest = samples[:, first + count * self._factor :].copy()

    def finish(self) -> None:
        """Give out what the low-pass still holds."""
        silence = np.zeros((len(self._rest), self._before), dtype=np.float32)
        self._advance(np.concatenate((self._rest, silence), axis=1), 0, len(silence))

    def stretches(self, first_cells: NDArray[np.int64], cells: int) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
        """So many cells from each of these on, in order of time: the mean of the channels, shape (stretches, samples), and how many
        of those samples there are. Which falls one sample longer and which shorter depends on where it lies; as many are read for
        all."""
        first = np.round(first_cells * CELL_S * self.rate_hz).astype(np.int64)
        there = np.minimum(np.round((first_cells + cells) * CELL_S * self.rate_hz).astype(np.int64), len(self.samples)) - first
        size = int(there.max(initial=0))
        found = np.zeros((first.size, size), dtype=np.float32)
        done = 0
        while done < first.size:
            near = int(np.searchsorted(first, first[done] + round(TOGETHER_S * self.rate_hz), side="right"))
            start = int(first[done])
            part = self.samples.part(start, int(first[near - 1]) + size).mean(axis=0)
            part = np.pad(part, (0, max(int(first[near - 1]) + size - start - part.size, 0)))
            found[done:near] = np.lib.stride_tricks.sliding_window_view(part, size)[first[done:near] - start]
            done = near
        return found, there

    def within(self, first_cell: int, last_cell: int) -> NDArray[np.float32]:
        """The samples within these cells, shape (channels, samples)."""
        return self.samples.part(round(first_cell * CELL_S * self.rate_hz), round(last_cell * CELL_S * self.rate_hz))


@lru_cache(maxsize=16)
def _taps(sample_rate_hz: int) -> NDArray[np.float32]:
    """A low-pass by Kaiser's window, its corner midway, that lets a constant through as it is."""
    middle, half = (PASS_HZ + STOP_HZ) / 2, STEPS * factor(sample_rate_hz) / 2
    taps = np.sinc(2 * middle / sample_rate_hz * np.arange(-half, half + 1)) * np.kaiser(round(2 * half) + 1, 5.6)
    return np.asarray(taps / taps.sum(), dtype=np.float32)


@kernel
def _decimate(x: NDArray[np.float32], first: int, taps: NDArray[np.float32], step: int, count: int) -> NDArray[np.float32]:
    """So many samples, each `step` frames after the one before, from the frames under the filter from `first` on."""
    out = np.empty((x.shape[0], count), dtype=np.float32)
    for c in range(x.shape[0]):
        for n in range(count):
            under = x[c, first + n * step : first + n * step + taps.size]
            s = np.float32(0.0)
            for k in range(taps.size):
                s += taps[k] * under[k]
            out[c, n] = s
    return out
