"""Plain level in time: what one look at every sample gives, in milliseconds and in cells of five of them.

Per cell and channel: the largest |sample|, the mean and the mean square. Per millisecond, for the seconds just fed: the largest
|sample|, the largest second difference (how sharply the wave bends) and the mean magnitude over the channels.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel, larger
from ispettore.core.measure.grid import CELLS_PER_SECOND, Seconds, Series, borders, counts

MS_PER_CELL = 1_000 // CELLS_PER_SECOND


@dataclass(frozen=True)
class CellSeries:
    """Shapes (channels, cells): `peak` as amplitude, `mean` and `power` (mean square) per sample; `counts` has shape (cells,)."""

    peak: NDArray[np.float32]
    mean: NDArray[np.float32]
    power: NDArray[np.float32]
    counts: NDArray[np.int64]
    sample_rate_hz: int


@dataclass(frozen=True)
class Milliseconds:
    """What was fed, in milliseconds: `edges` are sample indices, shape (n + 1,).

    Of shape (channels, n): `largest`, the largest |sample|; `high` and `low`, the highest and lowest sample; `bend`, the largest
    |x[i] − 2·x[i−1] + x[i−2]|. `magnitude`, shape (n,), is the mean over the samples of the root mean square of the channels.
    """

    edges: NDArray[np.int64]
    largest: NDArray[np.float32]
    high: NDArray[np.float32]
    low: NDArray[np.float32]
    bend: NDArray[np.float32]
    magnitude: NDArray[np.float32]

    def extremes(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The highest and the lowest sample of each second, shape (channels, seconds) each."""
        starts = np.arange(0, self.high.shape[1], 1_000)
        highest, lowest = np.maximum.reduceat(self.high, starts, axis=1), np.minimum.reduceat(self.low, starts, axis=1)
        return highest.astype(np.float64), lowest.astype(np.float64)


class Cells:
    """Feed seconds; `peak`, `mean`, `power` grow by their cells, and the totals over all samples are kept in double precision."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._rate = sample_rate_hz
        self._past = np.full((channels, 2), np.nan, dtype=np.float32)
        self.peak, self.mean, self.power = Series(channels), Series(channels), Series(channels)
        self.frames = 0
        self.sum = np.zeros(channels)
        self.sum_of_squares = np.zeros(channels)
        self.largest = np.full(channels, -np.inf)
        self.smallest = np.full(channels, np.inf)
        self.peak_amplitude = np.zeros(channels)
        self.peak_frame = np.zeros(channels, dtype=np.int64)

    def __len__(self) -> int:
        return len(self.peak)

    def feed(self, sound: Seconds) -> Milliseconds:
        """Take in seconds, and return their milliseconds."""
        edges, fresh = _edges(self._rate, sound.frames), sound.fresh
        if self.frames == 0:  # go on as the first two samples go, so that the file's start bends nothing
            step = fresh[:, 1] - fresh[:, 0] if sound.frames > 1 else np.zeros(len(fresh), dtype=np.float32)
            self._past = np.stack((fresh[:, 0] - 2 * step, fresh[:, 0] - step), axis=1)
        looked_at = _look(sound.looked_at, sound.past, self._past[: sound.distinct], edges)
        cells, totals = (sound.of_all(found, axis=1) for found in looked_at[:2])
        largest, high, low, bend = (sound.of_all(found) for found in looked_at[2:6])
        self._past = np.concatenate((self._past, fresh[:, -2:]), axis=1)[:, -2:]
        self.peak.append(cells[0])
        self.mean.append(cells[1])
        self.power.append(cells[2])
        self.sum += totals[0]
        self.sum_of_squares += totals[1]
        self.largest = np.maximum(self.largest, totals[2])
        self.smallest = np.minimum(self.smallest, totals[3])
        for channel, wave in enumerate(fresh):
            value = max(totals[2, channel], -totals[3, channel])
            if value > self.peak_amplitude[channel]:
                self.peak_amplitude[channel] = value
                self.peak_frame[channel] = self.frames + int(np.argmax(np.abs(wave)))
        self.frames += sound.frames
        return Milliseconds(edges, largest, high, low, bend, magnitude=looked_at[6])

    def part(self, first: int, last: int) -> CellSeries:
        """The cells from `first` to `last` (exclusive)."""
        first, last = max(first, 0), min(last, len(self))
        sizes = counts(self._rate, first, last, self.frames)
        peak, mean, power = (each.part(first, last) for each in (self.peak, self.mean, self.power))
        return CellSeries(peak, mean, power, sizes, self._rate)

    def series(self) -> CellSeries:
        """All cells."""
        return self.part(0, len(self))


@lru_cache(maxsize=16)
def _edges(rate: int, frames: int) -> NDArray[np.int64]:
    return borders(rate, frames, per_second=1_000)


@kernel
def _look(samples: NDArray[np.float32], before: int, past: NDArray[np.float32], edges: NDArray[np.int64]):  # type: ignore[no-untyped-def]
    channels, n = samples.shape[0], edges.size - 1
    size = (n + MS_PER_CELL - 1) // MS_PER_CELL
    two = np.float32(2.0)
    cells = np.empty((3, channels, size), dtype=np.float32)
    totals = np.empty((4, channels))
    largest = np.empty((channels, n), dtype=np.float32)
    highs = np.empty((channels, n), dtype=np.float32)
    lows = np.empty((channels, n), dtype=np.float32)
    bend = np.empty((channels, n), dtype=np.float32)
    magnitude = np.zeros(n, dtype=np.float32)
    for c in range(channels):
        x = samples[c, before:]
        total = 0.0
        squares = 0.0
        top = np.float32(-np.inf)
        bottom = np.float32(np.inf)
        for j in range(size):
            peak = np.float32(0.0)
            cell_sum = 0.0
            cell_square = 0.0
            end = min((j + 1) * MS_PER_CELL, n)
            for k in range(j * MS_PER_CELL, end):
                part = x[edges[k] : edges[k + 1]]
                high = np.float32(-np.inf)
                deep = np.float32(-np.inf)
                s = np.float32(0.0)
                q = np.float32(0.0)
                m = np.float32(0.0)
                for i in range(part.size):
                    v = part[i]
                    high = larger(high, v)
                    deep = larger(deep, -v)
                    s += v
                    q += v * v
                    m += abs(v)
                top = max(top, high)
                bottom = min(bottom, -deep)
                highs[c, k], lows[c, k] = high, -deep
                largest[c, k] = max(high, deep)
                peak = max(peak, largest[c, k])
                cell_sum += np.float64(s)
                cell_square += np.float64(q)
                if channels == 1:
                    magnitude[k] = m / np.float32(part.size)
                sharpest = np.float32(0.0)
                if k > 0:
                    near = x[edges[k] - 2 : edges[k + 1]]
                    for i in range(near.size - 2):
                        sharpest = larger(sharpest, abs(near[i + 2] - two * near[i + 1] + near[i]))
                else:
                    a, b = past[c, 0], past[c, 1]
                    for i in range(part.size):
                        sharpest = max(sharpest, abs(part[i] - two * b + a))
                        a, b = b, part[i]
                bend[c, k] = sharpest
            frames = edges[end] - edges[j * MS_PER_CELL]
            cells[0, c, j] = peak
            cells[1, c, j] = cell_sum / frames
            cells[2, c, j] = cell_square / frames
            total += cell_sum
            squares += cell_square
        totals[0, c] = total
        totals[1, c] = squares
        totals[2, c] = top
        totals[3, c] = bottom
    if channels > 1:
        mixed = np.zeros(samples.shape[1] - before, dtype=np.float32)
        for c in range(channels):
            row = samples[c, before:]
            for i in range(row.size):
                mixed[i] += row[i] * row[i]
        for k in range(n):
            part = mixed[edges[k] : edges[k + 1]]
            m = np.float32(0.0)
            for i in range(part.size):
                m += np.sqrt(part[i])
            magnitude[k] = m / np.float32(part.size * np.sqrt(np.float64(channels)))
    return cells, totals, largest, highs, lows, bend, magnitude
