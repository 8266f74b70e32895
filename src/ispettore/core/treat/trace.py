"""The gain a dynamic step applied, kept as the lowest value in each 5 ms cell: small for any length."""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.grid import borders


class Trace:
    """Feed gains (amplitude factors) of consecutive frames in pieces of any size."""

    def __init__(self, *, sample_rate_hz: int) -> None:
        self._rate = sample_rate_hz
        self._edges = borders(sample_rate_hz)[:-1]
        self._open = np.zeros(0)
        self._cells: list[NDArray[np.float64]] = []

    def feed(self, gain: NDArray[np.float64]) -> None:
        """Add gains, shape (frames,)."""
        joined = np.concatenate((self._open, gain))
        whole = len(joined) // self._rate * self._rate
        for start in range(0, whole, self._rate):
            self._cells.append(np.minimum.reduceat(joined[start : start + self._rate], self._edges))
        self._open = joined[whole:]

    def decibels(self) -> NDArray[np.float64]:
        """Gain in dB per cell so far, shape (cells,); the last cell may be a part of one."""
        rest = [np.minimum.reduceat(self._open, self._edges[self._edges < len(self._open)])] if len(self._open) else []
        cells = [*self._cells, *rest]
        lowest = np.concatenate(cells) if cells else np.zeros(0)
        return np.asarray(20 * np.log10(np.maximum(lowest, 1e-6)))
