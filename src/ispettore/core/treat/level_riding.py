"""Level riding: a slow hand on the level, so that passages of speech come closer to one short-term level.

The loudness of speech within a window around each moment is held against the target; the gain that would bring it there is bounded,
made slow, and drawn for the whole file beforehand. In pauses it stands still, and never above 0 dB, so that no room tone is raised.
"""

from typing import Any, ClassVar

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.measure.grid import CELLS_PER_SECOND, runs
from ispettore.core.measure.loudness import OFFSET_LU, gated, windows
from ispettore.core.measure.meters import Measured
from ispettore.core.treat.curve import CurveProcessor, eased
from ispettore.core.treat.step import Context, Settings

PAUSE_CELLS = 80  # 0.4 s: shorter gaps belong to the speech around them
EDGE_CELLS = 30  # 150 ms from the gain of speech to that of a pause


class LevelRiding(Settings):
    """Bring the short-term level of speech towards a target. Without a target it is the recording's own level."""

    title: ClassVar[str] = "Level riding"
    needs_whole: ClassVar[bool] = True
    target_lufs: float | None = Field(None, ge=-50, le=-5, description="Short-term level", json_schema_extra={"unit": "LUFS"})
    up_db: float = Field(4.0, ge=0, le=15, description="Up at the most", json_schema_extra={"unit": "dB"})
    down_db: float = Field(4.0, ge=0, le=15, description="Down at the most", json_schema_extra={"unit": "dB"})
    speed_s: float = Field(3.0, ge=0.4, le=20, description="Time over which it moves", json_schema_extra={"unit": "s"})

    def start(self, context: Context) -> "RidingProcessor":
        return RidingProcessor(context, self)


class RidingProcessor(CurveProcessor):
    def __init__(self, context: Context, settings: LevelRiding) -> None:
        if context.measured is None:
            raise ValueError("level riding has to know the recording")
        gain, self._target = draw(context.measured, settings)
        super().__init__(context, gain)

    def learned(self) -> dict[str, Any]:
        moved = self._gain
        return {
            "target_lufs": round(self._target, 2),
            "up_db": round(float(max(moved.max(initial=0), 0)), 2),
            "down_db": round(float(-min(moved.min(initial=0), 0)), 2),
        }


def draw(measured: Measured, settings: LevelRiding) -> tuple[NDArray[np.float64], float]:
    """The gain in dB of each cell, and the target in LUFS."""
    power = measured.k_power.astype(np.float64)
    speech = measured.speech_mask
    loud = gated(windows(measured.k_power, cells=80, step=20), relative_lu=-10)
    if not speech.any() or loud.size == 0:
        return np.zeros(power.size), settings.target_lufs if settings.target_lufs is not None else -70.0
    target = settings.target_lufs if settings.target_lufs is not None else OFFSET_LU + 10 * float(np.log10(loud.mean()))
    width = max(3, round(settings.speed_s * CELLS_PER_SECOND))
    # The level of speech alone around each moment: sums over a smooth window, of speech cells only.
    sigma = width / 2
    energy = scipy.ndimage.gaussian_filter1d(np.where(speech, power, 0.0), sigma, mode="constant", truncate=3)
    weight = scipy.ndimage.gaussian_filter1d(speech.astype(np.float64), sigma, mode="constant", truncate=3)
    level = OFFSET_LU + 10 * np.log10(np.maximum(energy, 1e-14) / np.maximum(weight, 1e-6))
    wanted = np.clip(target - level, -settings.down_db, settings.up_db)
    # Where nobody speaks for long the hand stands still: from the last speech on, until shortly before the next.
    known = np.flatnonzero(speech)
    nearest = known[np.clip(np.searchsorted(known, np.arange(power.size)) - 1, 0, known.size - 1)]
    held = wanted[nearest]
    riding = np.where(speech, wanted, held)
    gain = scipy.ndimage.gaussian_filter1d(riding, max(width / 6, 1), mode="nearest", truncate=3)
    for first, last in runs(~speech):
        if last - first >= PAUSE_CELLS or first == 0 or last == power.size:
            gain[first:last] = np.minimum(gain[first:last], 0.0)
    eased_gain = eased(gain, cells=EDGE_CELLS)
    # Easing must not lift a pause's own room tone: its edges belong to the speech beside it.
    room = measured.passages.room
    eased_gain[room] = np.minimum(eased_gain[room], 0.0)
    return eased_gain, target
