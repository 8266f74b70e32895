"""`true_peak_dbtp`: the largest value of the waveform between the samples (ITU-R BS.1770-5, Annex 2, done finer).

The standard's example interpolates four times with 48 taps; a 4× grid alone may miss 0.55 dB near 0.45 of the sample rate. Here the
wave is interpolated sixteen times with 48 taps for each phase (Kaiser window, 0.01 dB ripple to 0.45 of the rate). Between two
samples the wave leaves the straight line by at most a constant times the largest second difference around (the constant is the
filter's, see `bow`); only where that could beat what was already seen is anything interpolated; there first on a grid of two, then
of four, then of sixteen: a band-limited wave of largest value S is at least S·cos(pi·d) within d samples of where it is largest
(Bernstein), so nothing that could matter is skipped.

The true peak of each 5 ms cell is kept too: exact in every cell whose samples exceed −12 dBFS, elsewhere at least the sample peak,
so that other ceilings can be judged later without measuring again.
"""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel
from ispettore.core.measure import decibels
from ispettore.core.measure.cells import MS_PER_CELL, Milliseconds
from ispettore.core.measure.grid import Seconds, Series
from ispettore.core.measure.reading import Reading

PHASES = 16
HALF_TAPS = 24
TAPS = 2 * HALF_TAPS
BETA = 8.0
KEPT_ABOVE = 10 ** (-12 / 20)


@lru_cache(maxsize=8)
def interpolator(beta: float = BETA) -> NDArray[np.float32]:
    """Coefficients between samples: shape (15, 48); row p−1 gives the value p/16 after the 24th of 48 samples.

    `beta` shapes the Kaiser window: smaller reaches nearer to half the sample rate, larger ripples less.
    """
    phase = np.arange(1, PHASES)[:, None] / PHASES
    offset = np.arange(TAPS)[None, :] - (HALF_TAPS - 1)
    distance = offset - phase
    window = np.i0(beta * np.sqrt(np.maximum(1 - (distance / HALF_TAPS) ** 2, 0))) / np.i0(beta)
    taps = np.sinc(distance) * window
    return np.ascontiguousarray(taps / taps.sum(axis=1, keepdims=True), dtype=np.float32)


def bound(beta: float = BETA) -> float:
    """How far an interpolated value can exceed the largest |sample| of its 48: the largest sum of |coefficients|."""
    return float(np.abs(interpolator(beta)).sum(axis=1).max())


@lru_cache(maxsize=8)
def bow(beta: float = BETA) -> tuple[float, float]:
    """How far an interpolated value can leave the straight line between its neighbours.

    At most the first figure times the largest second difference under the 48 taps, plus the second figure times the larger of both
    samples: the filter less the line, summed twice, is a filter on second differences; what the first moment leaves is the rest.
    """
    taps = interpolator(beta).astype(np.float64)
    part = np.arange(1, PHASES) / PHASES
    less_line = taps.copy()
    less_line[:, HALF_TAPS - 1] -= 1 - part
    less_line[:, HALF_TAPS] -= part
    moment = less_line @ np.arange(TAPS)
    less_line[:, HALF_TAPS - 1] += moment
    less_line[:, HALF_TAPS] -= moment
    on_differences = np.cumsum(np.cumsum(less_line, axis=1), axis=1)
    return float(np.abs(on_differences).sum(axis=1).max()) * 1.0001, 2 * float(np.abs(moment).max()) + 1e-5


class TruePeak:
    """Feed seconds with their milliseconds, then `result()`; `cells` grows by the largest true peak of the channels in each cell.

    The last cell fed waits for the samples after it.
    """

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._rate = sample_rate_hz
        self._reach = -(-(TAPS + 2) * 1_000 // (2 * sample_rate_hz))  # milliseconds that the taps touch on either side
        self._samples = np.zeros((channels, 0), dtype=np.float32)
        self._edges = np.zeros(0, dtype=np.int64)
        self._largest = np.zeros((channels, 0), dtype=np.float32)
        self._bend = np.zeros((channels, 0), dtype=np.float32)
        self._distinct = 1
        self._waiting = 0  # milliseconds at the end of those kept that were not looked at yet
        self._seen = 0
        self.cells = Series()
        self._peak = np.zeros(channels)
        self._at = np.zeros(channels)

    def feed(self, sound: Seconds, milliseconds: Milliseconds) -> None:
        """Take in seconds and what `Cells` returned for them."""
        self._samples, self._distinct = sound.samples, sound.distinct
        self._edges = np.concatenate((self._edges, milliseconds.edges[:-1] + self._seen))
        self._largest = np.concatenate((self._largest, milliseconds.largest), axis=1)
        self._bend = np.concatenate((self._bend, milliseconds.bend), axis=1)
        self._seen += sound.frames
        self._waiting += milliseconds.largest.shape[1]
        self._look((self._waiting - 1) // MS_PER_CELL * MS_PER_CELL)

    def _look(self, count: int) -> None:
        """Look at the first so many of the waiting milliseconds, whole cells, and drop what is no longer needed."""
        first = self._edges.size - self._waiting
        offset = self._seen - self._samples.shape[1]
        edges = np.append(self._edges, self._seen) - offset
        bounds = (*bow(), KEPT_ABOVE)
        n = self._distinct
        found = _interpolate(
            self._samples[:n], edges, self._largest[:n], self._bend[:n], first, first + count, self._reach,
            interpolator(), bounds, self._peak[:n], self._at[:n], offset,
        )  # fmt: skip
        self._peak[n:], self._at[n:] = self._peak[0], self._at[0]
        self.cells.append(found.max(axis=0)[None, :])
        self._waiting -= count
        keep = min(self._waiting + self._reach + 1, self._edges.size)
        if keep < self._edges.size:
            self._edges = self._edges[-keep:].copy()
            self._largest, self._bend = self._largest[:, -keep:].copy(), self._bend[:, -keep:].copy()

    def result(self) -> Reading:
        """The reading in dBTP. Within 24 samples of the file's ends only the samples count: what came before is not in the file."""
        if self._waiting:
            self._look(self._waiting)
        peak, at = self._peak, self._at
        worst = int(np.argmax(peak))
        value = decibels.of_amplitude(float(peak[worst]))
        at_s = float(at[worst]) / self._rate
        return Reading(
            quantity="true_peak_dbtp",
            value=value,
            unit="dBTP",
            method="BS.1770-5 Annex 2 with 16 × oversampling",
            channel=worst + 1,
            start_s=at_s,
            end_s=at_s,
            note=None if value is not None else "silence: every sample is zero",
            silence=value is None,
            per_channel=tuple(decibels.of_amplitude(float(p)) for p in peak),
        )


@kernel
def _interpolate(
    x: NDArray[np.float32],
    edges: NDArray[np.int64],
    largest: NDArray[np.float32],
    bend: NDArray[np.float32],
    first: int,
    last: int,
    reach: int,
    taps: NDArray[np.float32],
    bounds: tuple[float, float, float],
    peak: NDArray[np.float64],
    at: NDArray[np.float64],
    offset: int,
) -> NDArray[np.float32]:
    """The true peak of each cell, shape (channels, cells), from the milliseconds `first` to `last` of x (channels, frames).

    `peak` (amplitude) and `at` (frame) are raised for each channel.
    """
    width = taps.shape[1]
    half = width // 2
    per_bend, per_sample, kept_above = bounds
    milliseconds = largest.shape[1]
    cells = (last - first + MS_PER_CELL - 1) // MS_PER_CELL
    out = np.empty((x.shape[0], cells), dtype=np.float32)
    for c in range(x.shape[0]):
        row = x[c]
        for j in range(cells):
            start = first + j * MS_PER_CELL
            end = min(start + MS_PER_CELL, last)
            sampled = np.float32(0.0)
            loudest = np.float32(0.0)
            for m in range(start, end):
                sampled = max(sampled, largest[c, m])
                for other in range(x.shape[0]):
                    loudest = max(loudest, largest[other, m])
            if sampled > peak[c]:
                for i in range(edges[start], edges[end]):
                    if abs(row[i]) == sampled:
                        at[c] = offset + i
                        break
                peak[c] = sampled
            # A quiet cell matters only where it could hold the file's largest value.
            best = np.float64(sampled)
            if loudest <= kept_above:
                best = max(best, peak[c])
            for m in range(start, end):
                sharpest = np.float32(0.0)
                for n in range(max(m - reach, 0), min(m + reach + 1, milliseconds)):
                    sharpest = max(sharpest, bend[c, n])
                near = max(largest[c, m], largest[c, min(m + 1, milliseconds - 1)])
                leave = per_bend * sharpest
                if near * (1.0 + per_sample) + leave <= best:
                    continue
                for i in range(max(edges[m], half - 1), min(edges[m + 1], row.size - half)):
                    near = max(abs(row[i]), abs(row[i + 1]))
                    if near * (1.0 + per_sample) + leave <= best:
                        continue
                    under = row[i - half + 1 : i + half + 1]
                    s = np.float32(0.0)
                    for k in range(width):
                        s += taps[7, k] * under[k]
                    # The largest wave near a sample is at least cos(pi/4) of itself on a grid of two, cos(pi/8) on one of four.
                    near = max(near, abs(s))
                    if near <= 0.69 * best:
                        continue
                    s = np.float32(0.0)
                    z = np.float32(0.0)
                    for k in range(width):
                        s += taps[3, k] * under[k]
                        z += taps[11, k] * under[k]
                    near = max(near, abs(s), abs(z))
                    if near <= 0.905 * best:
                        continue
                    for p in range(taps.shape[0]):
                        s = np.float32(0.0)
                        for k in range(width):
                            s += taps[p, k] * under[k]
                        v = abs(s)
                        if v > best:
                            best = np.float64(v)
                            if best > peak[c]:
                                peak[c] = best
                                at[c] = offset + i + (p + 1) / (taps.shape[0] + 1)
            out[c, j] = max(np.float64(sampled), best) if loudest > kept_above else sampled
    return out
