"""The gain a dynamic step applied, kept as the lowest value in each 5 ms cell: small for any length."""

import zlib

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel
from ispettore.core.measure.grid import CELLS_PER_SECOND

TOGETHER = 16
STEP_CELLS = 10
"""Cells of one packed value: 50 ms."""


def packed(reduction_db: NDArray[np.floating]) -> bytes:
    """The lowest gain in each 50 ms as hundredths of a decibel in two bytes, differences compressed."""
    if reduction_db.size == 0:
        return zlib.compress(b"")
    lowest = np.minimum.reduceat(reduction_db, np.arange(0, reduction_db.size, STEP_CELLS))
    steps = np.round(np.clip(lowest, -320, 320) * 100).astype(np.int16)
    return zlib.compress(np.diff(steps, prepend=np.int16(0)).astype("<i2").tobytes())


def unpacked(content: bytes) -> NDArray[np.float64]:
    """Gain in dB of each 50 ms.

    >>> unpacked(packed(np.array([0.0] * 10 + [-1.5] * 3))).tolist()
    [0.0, -1.5]
    """
    steps = np.frombuffer(zlib.decompress(content), dtype="<i2")
    return np.asarray(np.cumsum(steps, dtype=np.int16) / 100)


class Trace:
    """Feed gains (amplitude factors) of consecutive frames, or of ticks of so many frames each, in pieces of any size."""

    def __init__(self, *, sample_rate_hz: int) -> None:
        self._rate = sample_rate_hz
        self._frames = 0
        self._cells: list[NDArray[np.float64]] = []
        self._last = 1.0  # the cell that is not complete yet
        self._open = False
        self._at = -1

    def feed(self, gain: NDArray[np.float64]) -> None:
        """Add gains, shape (frames,)."""
        whole = len(gain) // TOGETHER * TOGETHER
        self.ticks(gain[:whole].reshape(-1, TOGETHER).min(axis=1), TOGETHER)
        self.ticks(gain[whole:], 1)

    def ticks(self, gain: NDArray[np.float64], frames: int) -> None:
        """Add the lowest gain of each tick, shape (ticks,)."""
        if gain.size == 0:
            return
        first = self._frames * CELLS_PER_SECOND // self._rate
        lowest = lowest_of_cells(gain, frames, self._frames, self._rate, first)
        self._frames += gain.size * frames
        self._add(lowest, first, first + lowest.size - 1)

    def still(self, frames: int) -> None:
        """Add so many frames in which nothing moved."""
        if frames <= 0:
            return
        first, last = (at * CELLS_PER_SECOND // self._rate for at in (self._frames, self._frames + frames - 1))
        self._frames += frames
        self._add(np.ones(last - first + 1), first, last)

    def _add(self, lowest: NDArray[np.float64], first: int, last: int) -> None:
        """The lowest gain of the cells from `first` to `last`, of which the first may go on from before and the last may go on."""
        if self._open and first == self._at:
            lowest[0] = min(lowest[0], self._last)
        elif self._open:
            self._cells.append(np.array([self._last]))
        self._cells.append(lowest[:-1])
        self._last, self._at, self._open = float(lowest[-1]), last, True

    def decibels(self) -> NDArray[np.float64]:
        """Gain in dB per cell so far, shape (cells,); the last cell may be a part of one."""
        cells = [*self._cells, np.array([self._last])] if self._open else self._cells
        lowest = np.concatenate(cells) if cells else np.zeros(0)
        return np.asarray(20 * np.log10(np.maximum(lowest, 1e-6)))


@kernel
def lowest_of_cells(gain: NDArray[np.float64], frames: int, start: int, rate: int, first: int) -> NDArray[np.float64]:
    """The lowest gain of each cell from `first` on, of ticks of so many frames that begin at frame `start`.

    A cell starts with the first frame whose time is not before it; a tick that reaches over belongs to both.
    """
    last = (start + gain.size * frames - 1) * CELLS_PER_SECOND // rate
    out = np.ones(last - first + 1)
    cell, at = 0, start
    ends = ((first + 1) * rate + CELLS_PER_SECOND - 1) // CELLS_PER_SECOND
    for n in range(gain.size):
        out[cell] = min(out[cell], gain[n])
        at += frames
        while ends < at:
            cell += 1
            ends = ((first + cell + 1) * rate + CELLS_PER_SECOND - 1) // CELLS_PER_SECOND
            out[cell] = min(out[cell], gain[n])
        if ends == at and n + 1 < gain.size:
            cell += 1
            ends = ((first + cell + 1) * rate + CELLS_PER_SECOND - 1) // CELLS_PER_SECOND
    return out
