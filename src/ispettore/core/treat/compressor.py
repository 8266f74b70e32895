"""Compressor: feed-forward, log-domain, with a smooth branching detector (Giannoulis, Massberg and Reiss, JAES 60(6), 2012).

A detector that follows the waveform lets go between the cycles of the voice and falls far short of its static curve. This one
holds the level over about a pitch period (a centred window of 10 ms) and looks ahead by the attack, so that the gain is there
when the sound is.
"""

from typing import ClassVar, Literal

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.kernels import kernel
from ispettore.core.measure.grid import CELL_S
from ispettore.core.treat.control import TickedProcessor, ballistics, resting
from ispettore.core.treat.step import Context, Settings, about

HOLD_MS = 5.0  # to each side
RESTS_FROM_DB, RESTS_OVER_DB = 8.0, 6.0  # so far under the threshold it begins to rest, and over so many decibels more it does
FLOOR = 1e-8


class Compressor(Settings):
    """Reduce what stands above the threshold by the ratio. Channels are linked."""

    title: ClassVar[str] = "Compressor"
    anywhere: ClassVar[bool] = True
    purpose: ClassVar[str] = "Lower what is loud, so that the words come closer together."
    sentence: ClassVar[str] = "Compress above {threshold_dbfs} at {ratio}"
    further: ClassVar[str] = (
        "Knee {knee_db}, attack {attack_ms}, release {release_ms}, following {detection}, look-ahead {look_ahead_ms}, "
        "make-up gain {make_up_db}, share {wet}"
    )
    threshold_dbfs: float = Field(
        ge=-80, le=0, description="Threshold", json_schema_extra=about("What is louder is lowered.", unit="dBFS")
    )
    ratio: float = Field(
        2.0,
        ge=1,
        le=20,
        description="Ratio",
        json_schema_extra=about("How strongly: at 2 : 1, 2 dB above the threshold become 1 dB.", unit=": 1"),
    )
    knee_db: float = Field(
        6.0, ge=0, le=24, description="Knee", json_schema_extra=about("How gradually it sets in around the threshold.", unit="dB")
    )
    attack_ms: float = Field(
        5.0, ge=0.5, le=200, description="Attack", json_schema_extra=about("How fast it takes hold of a loud sound.", unit="ms")
    )
    release_ms: float = Field(
        120.0, ge=10, le=3_000, description="Release", json_schema_extra=about("How fast it lets go again.", unit="ms")
    )
    detection: Literal["peak", "rms"] = Field(
        "peak",
        description="Follows",
        json_schema_extra=about("Whether it follows peaks or the RMS level.", words={"peak": "peaks", "rms": "RMS level"}),
    )
    look_ahead_ms: float | None = Field(
        None,
        ge=0,
        le=50,
        description="Look-ahead",
        json_schema_extra=about("How long before a loud sound it acts.", unit="ms", absent="chosen by itself"),
    )
    make_up_db: float = Field(
        0.0,
        ge=-24,
        le=24,
        description="Make-up gain",
        json_schema_extra=about("Gain afterwards, to make up for what was lowered.", unit="dB"),
    )
    wet: float = Field(
        1.0,
        ge=0,
        le=1,
        description="Share of the compressed signal",
        json_schema_extra=about("How much of the compressed sound is mixed in; 1 is all of it."),
    )

    def meets_level(self) -> bool:
        return True

    def start(self, context: Context) -> "CompressorProcessor":
        return CompressorProcessor(context, self)


class CompressorProcessor(TickedProcessor):
    """Latency: half the hold and the look-ahead, compensated."""

    def __init__(self, context: Context, settings: Compressor, *, rest_db: float = 0.0) -> None:
        """`rest_db`, 0 or below, is the gain that it goes to where the sound is far below the threshold."""
        ahead_ms = settings.attack_ms if settings.look_ahead_ms is None else settings.look_ahead_ms
        super().__init__(context, hold_ms=HOLD_MS, ahead_ms=ahead_ms, squares=settings.detection == "rms")
        self._settings = settings
        tick_ms = 1000 * self._tick / context.sample_rate_hz
        self._attack, self._release = (float(np.exp(-tick_ms / ms)) for ms in (settings.attack_ms, settings.release_ms))
        self._rest_db = rest_db
        self._smoothed, self._asleep = rest_db, rest_db < 0

    def factors(self, levels: NDArray[np.float64]) -> NDArray[np.float64]:
        level = (10 if self._squares else 20) * np.log10(np.maximum(levels, FLOOR**2 if self._squares else FLOOR))
        target = static_curve(level, self._settings)
        if self._rest_db:
            rest = np.clip((self._settings.threshold_dbfs - RESTS_FROM_DB - level) / RESTS_OVER_DB, 0, 1)
            gain_db, self._smoothed, self._asleep = resting(
                target, rest, self._rest_db, self._attack, self._release, self._smoothed, self._asleep
            )
        else:
            gain_db, self._smoothed = ballistics(target, self._attack, self._release, self._smoothed)
        wet = self._settings.wet
        return np.asarray(1 - wet + wet * 10 ** ((gain_db + self._settings.make_up_db) / 20))

    def moved(self, factors: NDArray[np.float64]) -> NDArray[np.float64]:
        """Without the make-up, which is no touch."""
        wet = self._settings.wet
        return (1 - wet) + (factors - (1 - wet)) / 10 ** (self._settings.make_up_db / 20)


def static_curve(level_db: NDArray[np.float64], settings: Compressor) -> NDArray[np.float64]:
    """Gain in dB (0 or below) for levels in dBFS: eq. 4 of the paper, with a quadratic knee.

    >>> static_curve(np.array([-40.0, -10.0]), Compressor(threshold_dbfs=-20, ratio=2, knee_db=0)).tolist()
    [0.0, -5.0]
    """
    return _curve(np.ascontiguousarray(level_db), settings.threshold_dbfs, 1 / settings.ratio - 1, settings.knee_db)


def surrogate(peak: NDArray[np.floating], settings: Compressor) -> NDArray[np.float64]:
    """What the compressor would do (peak detection): gain in dB per cell from the largest |sample| of each, shape (cells,).

    The same curve and ballistics on the coarse grid; no audio is touched. Good for deciding, never for proving.
    """
    ahead_ms = settings.attack_ms if settings.look_ahead_ms is None else settings.look_ahead_ms
    held = scipy.ndimage.maximum_filter1d(peak.astype(np.float64), 3, mode="nearest")
    shift = round(ahead_ms / 1000 / CELL_S)
    held = np.concatenate((held[shift:], np.full(min(shift, held.size), held[-1] if held.size else 0.0)))[: held.size]
    target = static_curve(20 * np.log10(np.maximum(held, FLOOR)), settings)
    attack, release = (float(np.exp(-1000 * CELL_S / ms)) for ms in (settings.attack_ms, settings.release_ms))
    gain_db, _ = ballistics(target, attack, release, 0.0)
    return np.asarray(gain_db)


@kernel
def _curve(level: NDArray[np.float64], threshold: float, slope: float, knee: float) -> NDArray[np.float64]:
    out = np.empty(level.size)
    for n in range(level.size):
        over = level[n] - threshold
        if 2 * over >= knee:
            out[n] = slope * over
        elif 2 * over > -knee:
            out[n] = slope * (over + knee / 2) ** 2 / (2 * knee)
        else:
            out[n] = 0.0
    return out
