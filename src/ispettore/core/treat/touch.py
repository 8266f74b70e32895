"""Touch: how much a treatment alters the voice, from the gain it really applied and from what the recording reads before and after.

A constant gain is no touch. `touch` (0–100) puts what is heard on one scale. These count alike, and each alone is 50: a gain that
wanders by 2 dB (standard deviation over speech), 6 dB of limiting on few syllables (99th percentile of the depth), pauses moved by
12 dB against the voice, and a voice whose third-octaves are changed by 3 dB (root mean square, at equal loudness):

    x = √((wander / 2 dB)² + (depth₉₉ / 6 dB)² + (pauses / 12 dB)² + (spectrum / 3 dB)²),   touch = 100 · x / (1 + x)

How fast the gain moves and how far the loudness range changed are shown beside it.
"""

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.inspection import Inspection

WANDER_DB, DEPTH_DB, PAUSES_DB, SPECTRUM_DB = 2.0, 6.0, 12.0, 3.0
LEAVE_THE_SOUND = ("channels", "sample-rate", "gain", "reference-level", "final-level", "true-peak-limiter", "head-and-tail")
"""Steps after which voice and pauses sound as before but for the gain that moved; nothing else has to be compared."""
HIGHEST_HZ = 8_000.0
"""Up to here the voice's spectrum is compared: above, an encoder's own band ends."""


class Touch(BaseModel):
    """All over the cells in which someone speaks. Depths are positive dB of gain reduction, speed dB per 10 ms (95th percentile).

    `pauses_moved_db` is how far the noise floor moved against the voice, `spectral_change_db` how far the voice's third-octaves did
    at equal loudness (root mean square), `loudness_range_change_lu` after less before; None where a reading is missing.
    """

    model_config = ConfigDict(frozen=True)

    touch: float = 0.0
    gain_wander_db: float = 0.0
    gain_speed_db: float = 0.0
    depth_p99_db: float = 0.0
    depth_max_db: float = 0.0
    share_over_half_db: float = 0.0
    pauses_moved_db: float | None = None
    spectral_change_db: float | None = None
    loudness_range_change_lu: float | None = None


def of(
    reduction_db: NDArray[np.floating], speech: NDArray[np.bool_], before: Inspection | None = None, after: Inspection | None = None
) -> Touch:
    """Touch of a run from its gain per cell in dB and the mask of speech cells, both shape (cells,), and both inspections if known.

    >>> of(np.zeros(4), np.ones(4, dtype=bool)).touch
    0.0
    """
    count = min(reduction_db.size, speech.size)
    gain = np.asarray(reduction_db[:count], dtype=np.float64)[speech[:count]]
    known = before is not None and after is not None
    pauses = _pauses(before, after) if known else None
    spectrum = _spectrum(before, after) if known else None
    swing = _change(before, after, "loudness_range_lu") if known else None
    wander = depth = 0.0
    moved = Touch(pauses_moved_db=pauses, spectral_change_db=spectrum, loudness_range_change_lu=swing)
    if gain.size:
        wander, depth = float(gain.std()), max(float(-np.percentile(gain, 1)), 0.0)
        speed = np.abs(reduction_db[2:count] - reduction_db[: count - 2])[speech[2:count]] if count > 2 else np.zeros(0)
        moved = moved.model_copy(
            update={
                "gain_wander_db": wander,
                "gain_speed_db": float(np.percentile(speed, 95)) if speed.size else 0.0,
                "depth_p99_db": depth,
                "depth_max_db": max(float(-gain.min()), 0.0),
                "share_over_half_db": float((gain < -0.5).mean()),
            }
        )
    parts = (wander / WANDER_DB, depth / DEPTH_DB, (pauses or 0.0) / PAUSES_DB, (spectrum or 0.0) / SPECTRUM_DB)
    x = float(np.linalg.norm(parts))
    return moved.model_copy(update={"touch": 100 * x / (1 + x)})


def _change(before: Inspection | None, after: Inspection | None, quantity: str) -> float | None:
    one, other = (each.value(quantity) if each else None for each in (before, after))
    return other - one if one is not None and other is not None else None


def _pauses(before: Inspection | None, after: Inspection | None) -> float | None:
    noise, voice = (_change(before, after, quantity) for quantity in ("noise_floor_dbfs", "active_speech_level_dbfs"))
    return noise - voice if noise is not None and voice is not None else None


def _spectrum(before: Inspection | None, after: Inspection | None) -> float | None:
    one, other = (each.spectrum if each else None for each in (before, after))
    if one is None or other is None or one.speech_dbfs is None or other.speech_dbfs is None:
        return None
    pairs = [
        (was, now) for hz, was, now in zip(one.centres_hz, one.speech_dbfs, other.speech_dbfs, strict=False) if hz <= HIGHEST_HZ
    ]
    change = np.array([now - was for was, now in pairs])
    # Bands in which the voice has next to nothing count by what they hold.
    weight = 10 ** (np.array([was for was, _ in pairs]) / 30)
    mean = np.sum(weight * change) / weight.sum()
    return float(np.sqrt(np.sum(weight * (change - mean) ** 2) / weight.sum()))
