"""The pitch of voiced sounds, from the sound below 400 Hz, and where it moves.

Short stretches are compared with themselves, delayed (normalised autocorrelation); the delay at which they are most alike is a
period, where they are alike enough to be voiced. A voice's pitch moves even in a sound that it holds; a machine's stays.
"""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.measure.low_rate import LowRate

LOWEST_HZ, HIGHEST_HZ = 60.0, 350.0
STRETCH_S = 0.08
STRETCH_CELLS = round(STRETCH_S * CELLS_PER_SECOND)
ALIKE = 0.6
STEP_CELLS = 4  # 20 ms
VOICED_SHARE = 0.6
TOGETHER = 64  # runs that are worked out at a time
LEAPS = 0.1
MOVES = 0.02
"""Four fifths of a held sound's pitches span 5 % and more; of mains and its harmonics in noise, half a percent at most."""


def pitches(waves: NDArray[np.floating], *, rate_hz: float) -> NDArray[np.float64]:
    """The pitch of each short stretch in Hz, shape (stretches,), of waves of shape (stretches, samples); nan for those that are not
    voiced."""
    count, size = waves.shape
    least, most = int(rate_hz / HIGHEST_HZ), int(np.ceil(rate_hz / LOWEST_HZ))
    if size < 2 * most or count == 0:
        return np.full(count, np.nan)
    plain = waves.astype(np.float64) - waves.mean(axis=1, keepdims=True)
    energy = np.concatenate((np.zeros((count, 1)), np.cumsum(plain**2, axis=1)), axis=1)
    lags = np.arange(least - 1, most + 2)
    bands = np.fft.rfft(plain, 1 << (2 * size - 1).bit_length(), axis=1)
    product = np.fft.irfft(np.abs(bands) ** 2, axis=1)[:, lags]
    both = energy[:, -1 - lags] * (energy[:, -1:] - energy[:, lags])
    alike = product / np.maximum(np.sqrt(both), 1e-20)
    before, at, after = alike[:, :-2], alike[:, 1:-1], alike[:, 2:]
    peaks = np.where((at >= before) & (at > after), at, -1.0)
    highest = peaks.max(axis=1, keepdims=True)
    # The shortest of the delays that are nearly as good as the best: twice a period is a period too.
    best = np.argmax(peaks > 0.92 * highest, axis=1)
    before, at, after = (part[np.arange(count), best] for part in (before, at, after))
    bent = before - 2 * at + after
    part = np.where(bent < 0, 0.5 * (before - after) / np.where(bent < 0, bent, -1.0), 0.0)
    voiced = (highest[:, 0] >= ALIKE) & plain.any(axis=1)
    return np.where(voiced, rate_hz / (lags[1:-1][best] + part), np.nan)


def moves(low: LowRate, runs: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Whether most of each run of cells is voiced and its pitch moves, shape (runs,), of runs in order of time, shape (runs, 2)."""
    parts = [_all_move(low, runs[first : first + TOGETHER]) for first in range(0, len(runs), TOGETHER)]
    return np.concatenate([np.zeros(0, dtype=bool), *parts])


def _all_move(low: LowRate, runs: NDArray[np.int64]) -> NDArray[np.bool_]:
    starts = [np.arange(start, end - STRETCH_CELLS + 1, STEP_CELLS) for start, end in runs.tolist()]
    counts = np.array([each.size for each in starts], dtype=np.int64)
    if not counts.sum():
        return np.zeros(len(runs), dtype=bool)
    waves, there = low.stretches(np.concatenate(starts), STRETCH_CELLS)
    size = int(STRETCH_S * low.rate_hz)
    found = np.where(there >= size, pitches(waves[:, :size], rate_hz=low.rate_hz), np.nan)
    return np.array([_moves(each) for each in np.split(found, np.cumsum(counts)[:-1])])


def _moves(hz: NDArray[np.float64]) -> bool:
    voiced = np.log(hz[~np.isnan(hz)])
    if voiced.size < max(VOICED_SHARE * hz.size, 2):
        return False
    step = np.diff(voiced)
    # A leap is no movement, but another period of the same sound: chords have several.
    path = np.cumsum(np.where(np.abs(step) < LEAPS, step, 0.0))
    low, high = np.percentile(path, [10, 90])
    return bool(high - low >= MOVES)
