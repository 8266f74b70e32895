"""Which compressor, where limiting alone would be too deep: the setting of least touch that lets the limiter stay within its bound.

Every candidate is tried on the coarse grid of 5 ms cells through the same curve and ballistics as the real step (its surrogate):
dozens of settings in a fraction of a second. Thresholds stand relative to the voice, mild ratios come before strong ones.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels
from ispettore.core.measure.basis import Basis
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.limiting import compensated, level_change
from ispettore.core.plan.window import GainWindow
from ispettore.core.spec.quantities import ROOM_LEVELS
from ispettore.core.treat import compressor, limiter, touch
from ispettore.core.treat.compressor import Compressor
from ispettore.core.treat.limiter import TruePeakLimiter
from ispettore.core.treat.touch import Touch

RATIOS = (1.5, 2.0, 2.5, 3.0, 4.0, 6.0)
OVER_VOICE_DB = (10.0, 8.0, 6.0, 4.0, 2.0, 0.0, -2.0, -4.0, -6.0)


@dataclass(frozen=True)
class Evening:
    """A compressor, the window it leaves, the gain to follow it, and what it and the limiter after it are expected to take;
    `room_db` is how far the compressor alone moves the room."""

    settings: Compressor
    window: GainWindow
    gain_db: float
    compression_db: float
    limiting_db: float
    limiter_loss_db: float
    room_db: float
    touch: Touch


def search(
    basis: Basis, window: GainWindow, *, ceiling_dbtp: float, level: str, guard_db: float, bounds: Bounds, peaks: tuple[str, ...]
) -> Evening | None:
    """The candidate of least touch within the bounds, or None. `window` is the recording's, `level` the quantity to be reached."""
    speech = basis.speech
    if not speech.any():
        return None
    peak = basis.peak.max(axis=0)
    voice_db = decibels.of_power(float(basis.power.mean(axis=0)[speech].mean())) or -20.0
    found: list[Evening] = []
    for ratio in RATIOS:
        if ratio > bounds.ratio or found:
            break  # a milder ratio does: no stronger one is looked at
        for over in OVER_VOICE_DB:
            settings = Compressor(threshold_dbfs=round(min(voice_db + over, 0.0), 1), ratio=ratio)
            candidate = _tried(basis, window, settings, peak, speech, ceiling_dbtp, level, guard_db, peaks)
            if candidate is None:
                continue
            if candidate.compression_db <= bounds.compression_db and candidate.limiting_db <= bounds.limiting_db:
                found.append(candidate)
    return min(found, key=lambda each: each.touch.touch, default=None)


def _tried(
    basis: Basis,
    window: GainWindow,
    settings: Compressor,
    peak: NDArray[np.float32],
    speech: NDArray[np.bool_],
    ceiling_dbtp: float,
    level: str,
    guard_db: float,
    peaks: tuple[str, ...],
) -> Evening | None:
    reduction = compressor.surrogate(peak, settings)
    factor = 10 ** (reduction / 20)
    room = _room_change(basis, factor)
    after = window.moved(**{level: level_change(basis, factor, level), **dict.fromkeys(ROOM_LEVELS, room)})
    wide = after.without(*peaks)
    if not wide.open or wide.low_db is None:
        return None
    gain = wide.low_db + min(guard_db, ((wide.high_db if wide.high_db is not None else wide.low_db) - wide.low_db) / 2)
    before = level_change(basis, factor, level)

    def limited_by(gain_db: float) -> NDArray[np.float64]:
        return limiter.surrogate(peak * factor * 10 ** (gain_db / 20), TruePeakLimiter(ceiling_dbtp=ceiling_dbtp))

    def lost(gain_db: float) -> float:
        return min(0.0, level_change(basis, factor * 10 ** (limited_by(gain_db) / 20), level) - before)

    gain = compensated(gain, lost)
    limited, loss = limited_by(gain), lost(gain)
    return Evening(
        settings=settings,
        window=after,
        gain_db=round(gain, 2),
        compression_db=float(-np.percentile(reduction[speech], 1)),
        limiting_db=float(-np.percentile(limited[speech], 1)),
        limiter_loss_db=loss,
        room_db=room,
        touch=touch.of(reduction + limited, speech),
    )


def _room_change(basis: Basis, factor: NDArray[np.float64]) -> float:
    room = basis.room
    power = basis.power.mean(axis=0)[room]
    if not room.any() or power.sum() <= 0:
        return 0.0
    return 10 * float(np.log10(np.sum(power * factor[room] ** 2) / np.sum(power)))
