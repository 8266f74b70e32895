"""Touch: how much a treatment alters the voice, from the gain it really applied.

A constant gain is no touch. `touch` (0–100) puts wander and depth on one scale of what is heard: 6 dB of limiting on few syllables
(99th percentile) counts as much as a gain that wanders by 2 dB (standard deviation) throughout, and either alone is 50:

    x = √((wander / 2 dB)² + (depth₉₉ / 6 dB)²),   touch = 100 · x / (1 + x)
"""

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

WANDER_DB, DEPTH_DB = 2.0, 6.0


class Touch(BaseModel):
    """All over the cells in which someone speaks. Depths are positive dB of gain reduction."""

    model_config = ConfigDict(frozen=True)

    touch: float = 0.0
    gain_wander_db: float = 0.0
    depth_p99_db: float = 0.0
    depth_max_db: float = 0.0
    share_over_half_db: float = 0.0


def of(reduction_db: NDArray[np.floating], speech: NDArray[np.bool_]) -> Touch:
    """Touch of a run from its gain per cell in dB (0 or below) and the mask of speech cells; both shape (cells,).

    >>> of(np.zeros(4), np.ones(4, dtype=bool)).touch
    0.0
    """
    count = min(reduction_db.size, speech.size)
    gain = np.asarray(reduction_db[:count], dtype=np.float64)[speech[:count]]
    if gain.size == 0:
        return Touch()
    wander = float(gain.std())
    depth = float(-np.percentile(gain, 1))
    x = float(np.hypot(wander / WANDER_DB, depth / DEPTH_DB))
    return Touch(
        touch=100 * x / (1 + x),
        gain_wander_db=wander,
        depth_p99_db=depth,
        depth_max_db=float(-gain.min()),
        share_over_half_db=float((gain < -0.5).mean()),
    )
