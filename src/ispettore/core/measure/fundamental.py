"""The fundamental of a voice: where the pitch of its voiced sounds lies, from the sound below 400 Hz.

Short stretches of speech are compared with themselves, delayed (normalised autocorrelation); the delay at which they are most alike
is a period, where they are alike enough to be voiced. The median over the recording is the voice's usual pitch.
"""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.measure.low_rate import LowRate
from ispettore.core.measure.speech import Passages

LOWEST_HZ, HIGHEST_HZ = 60.0, 350.0
STRETCH_S = 0.08
ALIKE = 0.6
MOST = 600
"""Stretches looked at, spread over all speech; more would not move the median."""
FEWEST = 10


def usual(low: LowRate, passages: Passages) -> float | None:
    """The usual fundamental in Hz; None where too little is voiced."""
    cells = round(STRETCH_S * CELLS_PER_SECOND)
    starts = np.concatenate(
        [np.arange(first, last - cells, cells // 2) for first, last in passages.speech] or [np.zeros(0, dtype=np.int64)]
    )
    chosen = starts[:: max(1, starts.size // MOST)]
    if len(chosen) < FEWEST:
        return None
    waves, there = low.stretches(chosen, cells)
    found = pitches(waves[there == waves.shape[1]], rate_hz=low.rate_hz)
    voiced = found[~np.isnan(found)]
    return float(np.median(voiced)) if len(voiced) >= FEWEST else None


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
