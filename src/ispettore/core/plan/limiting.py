"""What a limiter would take, told by its surrogate on the meters' cells, and the gain that makes up for it."""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.basis import Basis
from ispettore.core.plan import foretelling
from ispettore.core.treat.limiter import TruePeakLimiter, surrogate

CLOSE_DB, MOST_TURNS = 0.005, 12
STEP_DB, ANY_CEILING_DBTP = 0.25, -1.0
Lost = Callable[[float], float]
"""What is lost of a gain in dB: 0 or below."""


@dataclass(frozen=True)
class Limited:
    """What a limiter takes from cells. As that depends on how far the gain goes over the ceiling alone, it is told at steps of a
    quarter of a decibel, each once for all plans of a recording; the line between two is true within three hundredths of one."""

    basis: Basis
    level: str | None
    """The level whose loss is asked for."""

    def depth(self, gain_db: float, ceiling_dbtp: float) -> float:
        """What a limiter would take at the 99th percentile over speech, in dB."""
        return self._told("depth", gain_db - ceiling_dbtp)

    def loss(self, gain_db: float, ceiling_dbtp: float) -> float:
        """What limiting would take from the level in dB (0 or below)."""
        return 0.0 if self.level is None else self._told(self.level, gain_db - ceiling_dbtp)

    def deepest(self, gain_db: float, ceiling_dbtp: float, depth_db: float) -> float:
        """The gain up to `gain_db` at which limiting is `depth_db` deep."""
        low, high = gain_db - max(self.depth(gain_db, ceiling_dbtp), 0.0) - 1.0, gain_db
        while high - low > 4 * CLOSE_DB:
            middle = (low + high) / 2
            low, high = (middle, high) if self.depth(middle, ceiling_dbtp) <= depth_db else (low, middle)
        return low

    def _told(self, what: str, over_db: float) -> float:
        step = math.floor(over_db / STEP_DB)
        below, above = self._at(what, step), self._at(what, step + 1)
        return below + (above - below) * (over_db / STEP_DB - step)

    def _at(self, what: str, step: int) -> float:
        known = self.basis.told
        if (what, step) not in known:
            taken = reduction(self.basis, step * STEP_DB + ANY_CEILING_DBTP, ANY_CEILING_DBTP)
            known["depth", step] = depth_of(taken, self.basis.speech)
            if self.level is not None:
                held = self.basis.times(10 ** (taken / 20))
                known[self.level, step] = min(0.0, foretelling.changes(self.basis, held, [self.level]).get(self.level, 0.0))
        return known[what, step] or 0.0


def depth_of(reduction_db: NDArray[np.floating], speech: NDArray[np.bool_]) -> float:
    """How deep a gain per cell goes at the 99th percentile over speech, in dB; both of shape (cells,).

    >>> depth_of(np.array([0.0, -3.0, -9.0]), np.array([True, True, False])) > 2.9
    True
    """
    spoken = reduction_db[speech]
    return max(0.0, float(-np.percentile(spoken, 1))) if spoken.size else 0.0


def reduction(basis: Basis, gain_db: float, ceiling_dbtp: float) -> NDArray[np.float32]:
    """The gain in dB of each cell, shape (cells,), 0 or below."""
    return surrogate(basis.highest, TruePeakLimiter(ceiling_dbtp=ceiling_dbtp), gain_db=gain_db)


def compensated(gain_db: float, lost: Lost) -> float:
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
