"""The fundamental of a voice: where the pitch of its voiced sounds lies, from the sound below 400 Hz.

Short stretches of speech are compared with themselves, delayed (normalised autocorrelation); the delay at which they are most alike
is a period, where they are alike enough to be voiced. The median over the recording is the voice's usual pitch.
"""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.measure.meters import Measured

LOWEST_HZ, HIGHEST_HZ = 60.0, 350.0
STRETCH_S = 0.08
ALIKE = 0.6
MOST = 600
"""Stretches looked at, spread over all speech; more would not move the median."""
FEWEST = 10


def of(measured: Measured) -> float | None:
    """The usual fundamental in Hz; None where too little is voiced."""
    low = measured.meters.low_rate
    cells = round(STRETCH_S * CELLS_PER_SECOND)
    starts = np.concatenate(
        [np.arange(first, last - cells, cells // 2) for first, last in measured.passages.speech] or [np.zeros(0, dtype=np.int64)]
    )
    chosen = starts[:: max(1, starts.size // MOST)]
    found = [pitch(low.within(int(start), int(start) + cells).mean(axis=0), rate_hz=low.rate_hz) for start in chosen]
    voiced = [hz for hz in found if hz is not None]
    return float(np.median(voiced)) if len(voiced) >= FEWEST else None


def pitch(wave: NDArray[np.floating], *, rate_hz: float) -> float | None:
    """The pitch of a short stretch in Hz, shape (samples,); None where it is not voiced."""
    wave = wave.astype(np.float64) - wave.mean()
    least, most = int(rate_hz / HIGHEST_HZ), int(np.ceil(rate_hz / LOWEST_HZ))
    if wave.size < 2 * most or not wave.any():
        return None
    energy = np.concatenate(([0.0], np.cumsum(wave**2)))
    lags = np.arange(least - 1, most + 2)
    alike = np.array(
        [wave[:-lag] @ wave[lag:] / max(np.sqrt((energy[-1 - lag]) * (energy[-1] - energy[lag])), 1e-20) for lag in lags.tolist()]
    )
    peaks = np.flatnonzero((alike[1:-1] >= alike[:-2]) & (alike[1:-1] > alike[2:])) + 1
    if not peaks.size or alike[peaks].max() < ALIKE:
        return None
    # The shortest of the delays that are nearly as good as the best: twice a period is a period too.
    best = int(peaks[alike[peaks] > 0.92 * alike[peaks].max()][0])
    before, at, after = alike[best - 1 : best + 2]
    bent = before - 2 * at + after
    part = 0.5 * (before - after) / bent if bent < 0 else 0.0
    return float(rate_hz / (lags[best] + part))
