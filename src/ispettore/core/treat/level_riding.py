"""Level riding: a slow hand on the level, so that passages of speech come closer to one short-term level.

The loudness of speech within a window around each moment is held against the target; the gain that would bring it there is bounded,
made slow, and drawn for the whole file beforehand. In pauses it is never above 0 dB, so that no room tone is raised; a phrase's own
gain is reached in the last 70 ms before it, so that its first word is no softer than the rest. Where speech is even already,
nothing moves.
"""

import functools
from typing import Any, ClassVar

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.measure.grid import CELLS_PER_SECOND, runs, stretches
from ispettore.core.measure.loudness import OFFSET_LU, gated, lufs, windows
from ispettore.core.treat.curve import CurveProcessor, eased
from ispettore.core.treat.step import Context, Settings, about

PAUSE_CELLS = 80  # 0.4 s: shorter gaps belong to the speech around them
EDGE_CELLS = 14  # 70 ms from the gain of speech to that of a pause, which are hardly room tone
STEP_CELLS = 10  # 50 ms, in which the hand's way is worked out
EVEN_LU = 1.5  # nine tenths of speech lie within so much: even
NOTHING_DB = 1e-5


class LevelRiding(Settings):
    """Bring the short-term level of speech towards a target. Without a target it is this recording's own level."""

    title: ClassVar[str] = "Level riding"
    purpose: ClassVar[str] = "Bring loud and soft passages together, slowly."
    sentence: ClassVar[str] = "Ride the level towards {target_lufs}, up to {up_db} up and {down_db} down"
    further: ClassVar[str] = "The gain moves over {speed_s}"
    needs_whole: ClassVar[bool] = True
    target_lufs: float | None = Field(
        None,
        ge=-50,
        le=-5,
        description="Short-term level",
        json_schema_extra=about(
            "The short-term level that passages are brought towards.", unit="LUFS", absent="this recording's own level"
        ),
    )
    up_db: float = Field(
        4.0,
        ge=0,
        le=15,
        description="Largest raise",
        json_schema_extra=about("The most that a soft passage is raised.", unit="dB"),
    )
    down_db: float = Field(
        4.0,
        ge=0,
        le=15,
        description="Largest cut",
        json_schema_extra=about("The most that a loud passage is lowered.", unit="dB"),
    )
    speed_s: float = Field(
        3.0,
        ge=0.4,
        le=20,
        description="Time over which it moves",
        json_schema_extra=about("Over how long the gain moves. Slower is less noticeable.", unit="s"),
    )

    def meets_level(self) -> bool:
        return self.target_lufs is not None

    def start(self, context: Context) -> "RidingProcessor":
        return RidingProcessor(context, self)


class RidingProcessor(CurveProcessor):
    def __init__(self, context: Context, settings: LevelRiding) -> None:
        if context.measured is None:
            raise ValueError("level riding has to know the recording")
        known = context.measured
        gain, self._target = draw(known.k_power, known.speech_mask, known.passages.room, settings)
        super().__init__(context, gain)

    def learned(self) -> dict[str, Any]:
        moved = self._gain
        return {
            "target_lufs": round(self._target, 2),
            "up_db": round(float(max(moved.max(initial=0), 0)), 2),
            "down_db": round(float(-min(moved.min(initial=0), 0)), 2),
        }


def draw(
    k_power: NDArray[np.float32], speech: NDArray[np.bool_], room: NDArray[np.bool_], settings: LevelRiding
) -> tuple[NDArray[np.float32], float]:
    """The gain in dB of each cell, and the target in LUFS; from K-weighted powers and the masks of speech and room tone, all of
    shape (cells,)."""
    return drawn(Around(k_power, speech), room, settings)


class Around:
    """The level of speech around each moment, by how slowly a hand moves: once for all ridings of a recording that are tried.

    It changes slowly and is worked out in steps of 50 ms, so that hours need little memory.
    """

    def __init__(self, k_power: NDArray[np.float32], speech: NDArray[np.bool_]) -> None:
        self.k_power, self.speech = k_power, speech
        self._known: dict[int, NDArray[np.float64]] = {}

    @functools.cached_property
    def own_lufs(self) -> float | None:
        """Of the whole; None where nobody speaks, or nothing is above the gate."""
        loud = gated(windows(self.k_power, cells=80, step=20), relative_lu=-10)
        return lufs(float(loud.mean())) if self.speech.any() and loud.size else None

    @functools.cached_property
    def starts(self) -> NDArray[np.int64]:
        """The first cell of each step."""
        return np.arange(0, self.speech.size, STEP_CELLS)

    @functools.cached_property
    def spoken(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """How many cells of each step are speech, and their power together."""
        power = np.add.reduceat(np.where(self.speech, self.k_power, np.float32(0.0)), self.starts, dtype=np.float64)
        return np.add.reduceat(self.speech, self.starts, dtype=np.float64), power

    def level_lufs(self, width: int) -> NDArray[np.float64]:
        """Of speech alone around each step: sums over a smooth window of `width` cells, of speech cells only."""
        if width not in self._known:
            weight, energy = (
                scipy.ndimage.gaussian_filter1d(each, width / 2 / STEP_CELLS, mode="constant", truncate=3) for each in self.spoken
            )
            self._known[width] = OFFSET_LU + 10 * np.log10(np.maximum(energy, 1e-14) / np.maximum(weight, 1e-6))
        return self._known[width]


def drawn(around: Around, room: NDArray[np.bool_], settings: LevelRiding) -> tuple[NDArray[np.float32], float]:
    """As `draw`, from what is around each moment."""
    speech, cells = around.speech, around.speech.size
    if around.own_lufs is None:
        return np.zeros(cells, dtype=np.float32), settings.target_lufs if settings.target_lufs is not None else -70.0
    target = settings.target_lufs if settings.target_lufs is not None else around.own_lufs
    gain = _slow(_wanted(around, target, settings), max(settings.speed_s * CELLS_PER_SECOND / 6, 1))
    for first, last in runs(~speech):
        if last - first >= PAUSE_CELLS or first == 0 or last == cells:
            inner = slice(first + EDGE_CELLS // 2 if first else 0, last - EDGE_CELLS // 2 if last < cells else last)
            gain[inner] = np.minimum(gain[inner], 0.0)
    eased_gain = np.empty_like(gain)
    for start, end, before, after in stretches(cells, around=EDGE_CELLS):
        eased_gain[start:end] = eased(gain[before:after], cells=EDGE_CELLS)[start - before : end - before]
    # Easing must not lift a pause's own room tone: its edges belong to the speech beside it.
    eased_gain[room] = np.minimum(eased_gain[room], 0.0)
    return eased_gain, target


def _slow(wanted: NDArray[np.float32], cells: float) -> NDArray[np.float32]:
    """A mean over a smooth window, to three of its widths on either side."""
    reach = round(3 * cells)
    window = np.exp(-0.5 * (np.arange(-reach, reach + 1) / cells) ** 2)
    slow = np.empty_like(wanted)
    for first, last, before, after in stretches(wanted.size, around=reach):
        around = np.pad(wanted[before:after], (reach - first + before, reach - after + last), "edge")
        slow[first:last] = scipy.signal.oaconvolve(around, window / window.sum(), "valid")
    slow[np.abs(slow) < NOTHING_DB] = 0.0  # what is left of rounding must not move the samples of even speech
    return slow


def _wanted(around: Around, target: float, settings: LevelRiding) -> NDArray[np.float32]:
    """Where the hand wants to be in each cell, in dB, before it is made slow: shape (cells,)."""
    speech, starts, (spoken, power) = around.speech, around.starts, around.spoken
    width = max(3, round(settings.speed_s * CELLS_PER_SECOND))
    level = around.level_lufs(width)
    low, high = np.percentile(level[spoken > 0], (5, 95))
    if high - low <= EVEN_LU:
        own = OFFSET_LU + 10 * float(np.log10(power.sum() / spoken.sum()))
        level = np.full(starts.size, own if settings.target_lufs is not None else target)
    steps = np.clip(target - level, -settings.down_db, settings.up_db)
    wanted = np.empty(speech.size, dtype=np.float32)
    middles = starts + (STEP_CELLS - 1) / 2
    for first, last, _, _ in stretches(speech.size):
        wanted[first:last] = np.interp(np.arange(first, last), middles, steps)
    # Near a phrase's start much of what is around is the phrase before: it begins as its own middle, or a little later, wants it.
    for first, last in _phrases(speech):
        ahead = first + min(width // 2, (last - first) // 2)
        wanted[first:ahead] = wanted[ahead]
    # Where nobody speaks the hand waits where the nearest speech wants it: the last, then the next.
    for first, last in runs(~speech).tolist():
        middle = (first + last) // 2 if first and last < speech.size else (first if not first else last)
        if first:
            wanted[first:middle] = wanted[first - 1]
        if last < speech.size:
            wanted[middle:last] = wanted[last]
    return wanted


def _phrases(speech: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """Cells of speech, pauses under 0.4 s within it: first and last (exclusive)."""
    found: list[tuple[int, int]] = []
    for first, last in runs(speech).tolist():
        if found and first - found[-1][1] < PAUSE_CELLS:
            found[-1] = (found[-1][0], last)
        else:
            found.append((first, last))
    return found
