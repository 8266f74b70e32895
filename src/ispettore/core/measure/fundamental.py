"""The fundamental of a voice: where the pitch of its voiced sounds usually lies, their median over the recording."""

import numpy as np

from ispettore.core.measure import pitch
from ispettore.core.measure.low_rate import LowRate
from ispettore.core.measure.speech import Passages

MOST = 600
"""Stretches looked at, spread over all speech; more would not move the median."""
FEWEST = 10


def usual(low: LowRate, passages: Passages) -> float | None:
    """The usual fundamental in Hz; None where too little is voiced."""
    starts = np.concatenate(
        [np.arange(first, last - pitch.STRETCH_CELLS, pitch.STRETCH_CELLS // 2) for first, last in passages.speech]
        or [np.zeros(0, dtype=np.int64)]
    )
    chosen = starts[:: max(1, starts.size // MOST)]
    if len(chosen) < FEWEST:
        return None
    waves, there = low.stretches(chosen, pitch.STRETCH_CELLS)
    found = pitch.pitches(waves[there == waves.shape[1]], rate_hz=low.rate_hz)
    voiced = found[~np.isnan(found)]
    return float(np.median(voiced)) if len(voiced) >= FEWEST else None
