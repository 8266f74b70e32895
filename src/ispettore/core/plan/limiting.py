"""What a limiter would take, told by its surrogate on the meters' cells, and the gain that makes up for it."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import loudness
from ispettore.core.measure.basis import Basis
from ispettore.core.spec.quantities import quantity
from ispettore.core.treat.limiter import TruePeakLimiter, surrogate

CLOSE_DB, MOST_TURNS = 0.005, 12


def depth(basis: Basis, gain_db: float, ceiling_dbtp: float) -> float:
    """What a limiter would take at the 99th percentile over speech, in dB."""
    if not basis.speech.any():
        return 0.0
    return float(-np.percentile(reduction(basis, gain_db, ceiling_dbtp)[basis.speech], 1))


def loss(basis: Basis, gain_db: float, ceiling_dbtp: float, level: str | None) -> float:
    """What limiting would take from a level in dB (0 or below)."""
    if level is None:
        return 0.0
    return min(0.0, level_change(basis, 10 ** (reduction(basis, gain_db, ceiling_dbtp) / 20), level))


def reduction(basis: Basis, gain_db: float, ceiling_dbtp: float) -> NDArray[np.float64]:
    """The gain in dB of each cell, shape (cells,), 0 or below."""
    return surrogate(basis.peak.max(axis=0) * 10 ** (gain_db / 20), TruePeakLimiter(ceiling_dbtp=ceiling_dbtp))


def compensated(gain_db: float, lost: Callable[[float], float]) -> float:
    """The gain after which `gain_db` is left: more of it is limited more, so this is solved, not corrected once.

    `lost` tells what is lost of a gain in dB (0 or below). Found by secants; where limiting takes all that is added, the gain
    at which the search ended.

    >>> round(compensated(6.0, lambda gain: -0.5 * max(gain - 4.0, 0.0)), 2)
    8.0
    """
    gain, missing = gain_db, -lost(gain_db)
    before: tuple[float, float] | None = None
    for _ in range(MOST_TURNS):
        if abs(missing) <= CLOSE_DB:
            break
        slope = 1.0
        if before is not None and gain != before[0]:
            slope = min(max((before[1] - missing) / (gain - before[0]), 0.1), 1.0)
        before = (gain, missing)
        gain += missing / slope
        missing = gain_db - (gain + lost(gain))
    return gain


def deepest(basis: Basis, gain_db: float, ceiling_dbtp: float, depth_db: float) -> float:
    """The gain up to `gain_db` at which limiting is `depth_db` deep."""
    low, high = gain_db - max(depth(basis, gain_db, ceiling_dbtp), 0.0) - 1.0, gain_db
    while high - low > 4 * CLOSE_DB:
        middle = (low + high) / 2
        low, high = (middle, high) if depth(basis, middle, ceiling_dbtp) <= depth_db else (low, middle)
    return low


def level_change(basis: Basis, factor: NDArray[np.float64], level: str) -> float:
    """How a level's reading changes when each cell is multiplied by its factor, in dB."""
    if quantity(level).k_weighted:
        duration = basis.inspection.facts.duration_s
        was = loudness.integrated(basis.k_power, duration_s=duration).value
        now = loudness.integrated(basis.k_power * factor[: basis.k_power.size] ** 2, duration_s=duration).value
        return now - was if was is not None and now is not None else 0.0
    power = basis.power.mean(axis=0) * basis.counts
    return 10 * float(np.log10(np.sum(power * factor**2) / np.sum(power)))
