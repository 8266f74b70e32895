"""Touch: how much a treatment alters the voice and the room, from the gain it really applied and from both sounds.

A constant gain is no touch. What the voice undergoes and what the room undergoes are told apart, each from 0 to 100, and put on one
scale of what is heard. Each of these alone is 50: a gain that wanders by 2 dB (standard deviation over speech), 6 dB of limiting on
few syllables (99th percentile of the depth), a voice whose third-octaves are changed by 3 dB (root mean square, at equal loudness);
and a room that comes and goes with the words by 6 dB. A room that is as much quieter under the words as between them is hardly
heard to be: 96 dB of that would be 50.

    voice:  v = √((wander / 2 dB)² + (depth₉₉ / 6 dB)² + (spectrum / 3 dB)²)
    room:   r = √((swing / 6 dB)² + (pauses / 96 dB)²)
    touch = 100 · x / (1 + x) with x = √(v² + r²); the voice's part with v alone, the room's with r alone

How fast the gain moves and how far the loudness range changed are shown beside it.
"""

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.measure import voice_tone
from ispettore.core.measure.grid import widened
from ispettore.core.measure.inspection import Inspection

WANDER_DB, DEPTH_DB, SPECTRUM_DB = 2.0, 6.0, 3.0
SWING_DB, PAUSES_DB = 6.0, 96.0
BESIDE_CELLS, MIDDLE_CELLS = 40, 60  # 200 ms from the words; and 300, from where on a pause is its middle
ROOM_ABOVE_DB = 6.0  # what stands higher over a pause's room tone is the end of a word, or its echo
LEAVE_THE_SOUND = ("channels", "sample-rate", "gain", "reference-level", "final-level", "true-peak-limiter", "head-and-tail")
"""Steps after which voice and pauses sound as before but for the gain that moved; nothing else has to be compared."""
HIGHEST_HZ = 8_000.0
"""Up to here the voice's spectrum is compared: above, an encoder's own band ends."""


class Touch(BaseModel):
    """All over the cells in which someone speaks. Depths are positive dB of gain reduction, speed dB per 10 ms (95th percentile).

    `pauses_moved_db` is how far the noise floor moved against the voice, `room_swing_db` how much further the room falls in the
    pauses than beside and under the words, `spectral_change_db` how far the voice's third-octaves moved at equal loudness (root
    mean square), `loudness_range_change_lu` after less before; None where it could not be told. `voice` and `room` are the two
    parts of `touch`; None in what was kept before they were told apart.
    """

    model_config = ConfigDict(frozen=True)

    touch: float = 0.0
    voice: float | None = None
    room: float | None = None
    room_swing_db: float | None = None
    gain_wander_db: float = 0.0
    gain_speed_db: float = 0.0
    depth_p99_db: float = 0.0
    depth_max_db: float = 0.0
    share_over_half_db: float = 0.0
    pauses_moved_db: float | None = None
    spectral_change_db: float | None = None
    loudness_range_change_lu: float | None = None


def of(
    reduction_db: NDArray[np.floating],
    speech: NDArray[np.bool_],
    before: Inspection | None = None,
    after: Inspection | None = None,
    *,
    swing_db: float | None = None,
) -> Touch:
    """Touch of a run from its gain per cell in dB and the mask of speech cells, both shape (cells,), and both inspections and the
    swing of the room if known.

    >>> of(np.zeros(4), np.ones(4, dtype=bool)).touch
    0.0
    """
    count = min(reduction_db.size, speech.size)
    gain = np.asarray(reduction_db[:count], dtype=np.float64)[speech[:count]]
    known = before is not None and after is not None
    pauses = _pauses(before, after) if known else None
    spectrum = _spectrum(before, after) if known else None
    loudness_range = _change(before, after, "loudness_range_lu") if known else None
    wander = depth = 0.0
    if swing_db is not None and pauses is not None:  # the room comes back no further than it fell, against what dynamics left of it
        swing_db = min(swing_db, max(-pauses - (float(gain.mean()) if gain.size else 0.0), 0.0))
    moved = Touch(
        pauses_moved_db=pauses, room_swing_db=swing_db, spectral_change_db=spectrum, loudness_range_change_lu=loudness_range
    )
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
    return _summed(moved)


def both(first: Touch, second: Touch) -> Touch:
    """What two treatments after one another come to, as far as it can be told from each alone: deviations add as squares."""
    wander = float(np.hypot(first.gain_wander_db, second.gain_wander_db))
    depth = first.depth_p99_db + second.depth_p99_db
    spectrum = float(np.hypot(first.spectral_change_db or 0.0, second.spectral_change_db or 0.0))
    swing_db = (first.room_swing_db or 0.0) + (second.room_swing_db or 0.0)
    pauses = (first.pauses_moved_db or 0.0) + (second.pauses_moved_db or 0.0)
    told = Touch(
        gain_wander_db=wander,
        depth_p99_db=depth,
        depth_max_db=first.depth_max_db + second.depth_max_db,
        pauses_moved_db=pauses,
        room_swing_db=swing_db,
        spectral_change_db=spectrum,
    )
    return _summed(told)


def _summed(moved: Touch) -> Touch:
    """With both parts and their sum."""
    spectrum, swing_db, pauses = moved.spectral_change_db or 0.0, moved.room_swing_db or 0.0, moved.pauses_moved_db or 0.0
    voice = float(np.linalg.norm((moved.gain_wander_db / WANDER_DB, moved.depth_p99_db / DEPTH_DB, spectrum / SPECTRUM_DB)))
    room = float(np.linalg.norm((swing_db / SWING_DB, pauses / PAUSES_DB)))
    return moved.model_copy(update={"touch": _scale(float(np.hypot(voice, room))), "voice": _scale(voice), "room": _scale(room)})


def _scale(x: float) -> float:
    return float(100 * x / (1 + x))


def swing(
    before: NDArray[np.floating], after: NDArray[np.floating], speech: NDArray[np.bool_], room: NDArray[np.bool_]
) -> float | None:
    """How much further the room falls in the middle of pauses than in the 200 ms beside words, in dB (0 or above).

    `before` and `after` are mean squares of cells, `speech` and `room` their masks, all of shape (cells,). Beside words only cells
    count that hold no more than room tone. None where there is too little of either.
    """
    count = min(before.size, after.size, speech.size)
    was, now = before[:count].astype(np.float64), after[:count].astype(np.float64)
    spoken = speech[:count]
    middle = room[:count] & ~widened(spoken, MIDDLE_CELLS)
    if middle.sum() < MIDDLE_CELLS or not was[middle].any():
        return None
    usual = float(np.median(was[middle]))
    beside = ~spoken & widened(spoken, BESIDE_CELLS) & (was > 0) & (was < usual * 10 ** (ROOM_ABOVE_DB / 10))
    if beside.sum() < BESIDE_CELLS:
        return None
    beside_db, middle_db = (10 * np.log10(max(now[mask].sum() / was[mask].sum(), 1e-12)) for mask in (beside, middle))
    return max(0.0, float(beside_db - middle_db))


def _change(before: Inspection | None, after: Inspection | None, quantity: str) -> float | None:
    one, other = (each.value(quantity) if each else None for each in (before, after))
    return other - one if one is not None and other is not None else None


def _pauses(before: Inspection | None, after: Inspection | None) -> float | None:
    """How far the noise floor moved against the voice; by its loudness where an offset is part of its level."""
    voice = "integrated_loudness_lufs" if any(map(_leans, (before, after))) else "active_speech_level_dbfs"
    noise, spoken = (_change(before, after, quantity) for quantity in ("noise_floor_dbfs", voice))
    return noise - spoken if noise is not None and spoken is not None else None


def _leans(inspection: Inspection | None) -> bool:
    """Whether more than a hundredth of the voice's power is an offset."""
    offset, voice = (inspection.value(name) if inspection else None for name in ("dc_offset_percent", "active_speech_level_dbfs"))
    return offset is not None and voice is not None and (offset / 100) ** 2 > 0.01 * 10 ** (voice / 10)


def _spectrum(before: Inspection | None, after: Inspection | None) -> float | None:
    one, other = (each.spectrum if each else None for each in (before, after))
    if one is None or other is None or one.speech_dbfs is None or other.speech_dbfs is None:
        return None
    pairs = [
        (was, now) for hz, was, now in zip(one.centres_hz, one.speech_dbfs, other.speech_dbfs, strict=False) if hz <= HIGHEST_HZ
    ]
    return voice_tone.apart([was for was, _ in pairs], [now for _, now in pairs])
