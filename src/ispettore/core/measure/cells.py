"""Per cell and channel: the largest |sample|, the sum and the sum of squares. Everything about plain level comes from these."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel
from ispettore.core.measure.grid import Second, Series, borders


@dataclass(frozen=True)
class CellSeries:
    """Shapes (channels, cells): `peak` as amplitude, `mean` and `power` (mean square) per sample; `counts` has shape (cells,)."""

    peak: NDArray[np.float32]
    mean: NDArray[np.float32]
    power: NDArray[np.float32]
    counts: NDArray[np.int64]
    sample_rate_hz: int


class Cells:
    """Feed seconds; `series()` gives the cells, and the totals over all samples are kept in double precision."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._rate = sample_rate_hz
        self._edges = borders(sample_rate_hz)
        self._peak, self._mean, self._power = Series(), Series(), Series()
        self._counts: list[NDArray[np.int64]] = []
        self.frames = 0
        self.sum = np.zeros(channels)
        self.sum_of_squares = np.zeros(channels)
        self.largest = np.full(channels, -np.inf)
        self.smallest = np.full(channels, np.inf)
        self.peak = np.zeros(channels)
        self.peak_frame = np.zeros(channels, dtype=np.int64)

    def feed(self, second: Second) -> None:
        edges = self._edges if second.shape[1] == self._rate else borders(self._rate, second.shape[1])
        counts = np.diff(edges)
        peak, total, square, high, low = _cells(second, edges)
        self._peak.append(peak)
        self._mean.append(total / counts)
        self._power.append(square / counts)
        self._counts.append(counts)
        self.sum += total.sum(axis=1)
        self.sum_of_squares += square.sum(axis=1)
        self.largest = np.maximum(self.largest, high)
        self.smallest = np.minimum(self.smallest, low)
        for channel, value in enumerate(peak.max(axis=1)):
            if value > self.peak[channel]:
                self.peak[channel] = value
                self.peak_frame[channel] = self.frames + int(np.argmax(np.abs(second[channel])))
        self.frames += second.shape[1]

    def series(self) -> CellSeries:
        counts = np.concatenate(self._counts) if self._counts else np.zeros(0, dtype=np.int64)
        return CellSeries(self._peak.whole(), self._mean.whole(), self._power.whole(), counts, self._rate)


@kernel
def _cells(x: NDArray[np.float32], edges: NDArray[np.int64]):  # type: ignore[no-untyped-def]
    channels, cells = x.shape[0], edges.size - 1
    peak = np.zeros((channels, cells))
    total = np.zeros((channels, cells))
    square = np.zeros((channels, cells))
    largest = np.zeros(channels)
    smallest = np.zeros(channels)
    for c in range(channels):
        top = np.float32(-np.inf)
        bottom = np.float32(np.inf)
        for k in range(cells):
            high = np.float32(-np.inf)
            low = np.float32(np.inf)
            s = 0.0
            q = 0.0
            for i in range(edges[k], edges[k + 1]):
                v = x[c, i]
                high = max(high, v)
                low = min(low, v)
                s += np.float64(v)
                q += np.float64(v) * np.float64(v)
            peak[c, k] = max(high, -low)
            total[c, k] = s
            square[c, k] = q
            top = max(top, high)
            bottom = min(bottom, low)
        largest[c] = top
        smallest[c] = bottom
    return peak, total, square, largest, smallest
