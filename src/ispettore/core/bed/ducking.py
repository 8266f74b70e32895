"""How far the voice lowers what plays under it, worked out for the whole recording before a sample of it passes: so it is down when
the word begins.

The voice counts as there where its level over 50 ms stands above a threshold, which is told against its active speech level, and
for the hold behind that; and before it, where a word sets in softly: back to where the level was `ONSET_DB` under the threshold,
for `ONSET_S` at most. In dB, the gain falls along half a cosine that ends where the voice comes, and rises along another from
where it has gone; where pauses are shorter than both together it turns round on the way.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.grid import CELLS_PER_SECOND

SMOOTHED_CELLS = 10
ONSET_DB, ONSET_S = 24.0, 0.3


@dataclass(frozen=True)
class Ducking:
    """By how much (dB, 0 or above) and when: the threshold in dB against the active speech level, the times in seconds."""

    lower_db: float
    threshold_db: float
    attack_s: float
    hold_s: float
    release_s: float


def spoken(power: NDArray[np.floating], active_dbfs: float, ducking: Ducking) -> NDArray[np.bool_]:
    """In which cells the voice is there, its hold included; `power` is its mean square in each, both of shape (cells,)."""
    if not power.size:
        return np.zeros(0, dtype=bool)
    total = np.concatenate(([0.0], np.cumsum(power, dtype=np.float64)))
    half = SMOOTHED_CELLS // 2
    at = np.arange(power.size)
    first, last = np.maximum(at - half, 0), np.minimum(at + half, power.size)
    level = (total[last] - total[first]) / (last - first)
    bound = 10 ** ((active_dbfs + ducking.threshold_db) / 10)
    there = level > bound
    return _set_in(there, level > bound / 10 ** (ONSET_DB / 10)) | (since(there) <= round(ducking.hold_s * CELLS_PER_SECOND))


def _set_in(there: NDArray[np.bool_], softly: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """The cells before those in which the voice is `there` in which it sets in: `softly` all the way, and not for long."""
    ahead = since(there[::-1])[::-1]
    missing = np.concatenate(([0], np.cumsum(~softly)))
    at = np.arange(there.size)
    whole = missing[np.minimum(at + ahead, there.size)] == missing[at]
    return np.asarray(whole & (ahead <= round(ONSET_S * CELLS_PER_SECOND)))


def gain_db(power: NDArray[np.floating], active_dbfs: float | None, ducking: Ducking) -> NDArray[np.float32]:
    """The gain of each cell in dB (0 or below), shape (cells,), by the voice's mean square in each; `active_dbfs` is its active
    speech level. Nothing is lowered where that is None: nobody speaks."""
    if active_dbfs is None or ducking.lower_db <= 0:
        return np.zeros(power.size, dtype=np.float32)
    there = spoken(power, active_dbfs, ducking)
    down = np.maximum(
        _slope(since(there[::-1])[::-1], ducking.attack_s),
        _slope(since(there), ducking.release_s),
    )
    return (-ducking.lower_db * down).astype(np.float32)


def since(there: NDArray[np.bool_]) -> NDArray[np.int64]:
    """How many cells ago the last one was that is true: 0 in it, more than there are where none came before.

    >>> since(np.array([False, True, False, False])).tolist()
    [5, 0, 1, 2]
    """
    at = np.arange(there.size)
    last = np.maximum.accumulate(np.where(there, at, -there.size - 1)) if there.size else at
    return np.minimum(at - last, there.size + 1)


def _slope(cells: NDArray[np.int64], over_s: float) -> NDArray[np.float64]:
    """Half a cosine from 1 at no distance to 0 at `over_s`."""
    part = np.clip(cells / max(over_s * CELLS_PER_SECOND, 1.0), 0.0, 1.0)
    return (1 + np.cos(np.pi * part)) / 2
