"""`active_speech_level_dbfs` and `speech_activity_percent`: ITU-T P.56, method B, on the root mean square of the channels.

The magnitude is smoothed twice with a time constant of 30 ms; someone speaks while that envelope stands above a threshold or did
within the last 200 ms; the level of the active time stands 15.9 dB above the threshold that is looked for. P.56 takes thresholds
6 dB apart and interpolates. Where noise stands some 16 dB under the speech, what that gives depends on where they happen to lie; so
twelve such rows of thresholds, half a decibel from one another, are interpolated and the mean taken, which moves as the gain does.
The envelope is taken every millisecond (P.56 asks for 694 a second). What is shorter than half a second has no such level: the
envelope would still be rising.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.measure.grid import Series
from ispettore.core.measure.reading import Reading
from ispettore.core.measure.sections import through

TIME_CONSTANT_MS = 30.0
HANGOVER_MS = 200
MARGIN_DB = 15.9
LOWEST_DB, STEP_DB = -100.0, 0.5
ROWS = 12  # of thresholds 6 dB apart
SHORTEST_MS = 500
THRESHOLDS_DB = np.arange(LOWEST_DB, 6.0, STEP_DB)
METHOD = "ITU-T P.56 method B"
TOO_SHORT = "shorter than half a second, too short for a level of speech"


class ActiveSpeech:
    """Feed magnitudes, then ask for both readings; `magnitude` keeps every millisecond's."""

    def __init__(self) -> None:
        decay = np.exp(-1 / TIME_CONSTANT_MS)
        self._section = np.array([[(1 - decay) ** 2, 0.0, 0.0, -2 * decay, decay**2]])
        self._state = np.zeros((1, 1, 2))
        self._past = np.full(HANGOVER_MS, -1, dtype=np.int64)
        self._active = np.zeros(THRESHOLDS_DB.size, dtype=np.int64)
        self._total = 0
        self._waiting: list[NDArray[np.float32]] = []
        self.magnitude = Series()

    def feed(self, magnitude: NDArray[np.float32]) -> None:
        """Take in mean magnitudes of milliseconds; they are worked through a minute at a time."""
        self._waiting.append(magnitude)
        self.magnitude.append(magnitude[None, :])
        if sum(part.size for part in self._waiting) >= 60_000:
            self._work()

    def _work(self) -> None:
        if not self._waiting:
            return
        magnitude = np.concatenate(self._waiting).astype(np.float64)
        self._waiting = []
        envelope = through(magnitude[None, :], self._section, self._state)[0]
        level = 20 * np.log10(np.maximum(envelope, 1e-6))
        passed = np.minimum(np.floor((level - LOWEST_DB) / STEP_DB).astype(np.int64), THRESHOLDS_DB.size - 1)
        joined = np.concatenate((self._past, passed))
        # The highest threshold passed within the last 200 ms: each lower one is active too.
        held = scipy.ndimage.maximum_filter1d(joined, HANGOVER_MS + 1, origin=HANGOVER_MS // 2, mode="nearest")[HANGOVER_MS:]
        self._active += np.bincount(held[held >= 0], minlength=THRESHOLDS_DB.size)
        self._past = joined[-HANGOVER_MS:]
        self._total += passed.size

    def result(self, *, mean_square: float, duration_s: float) -> tuple[Reading, Reading]:
        """Level in dBFS and activity in percent; `mean_square` is that of the whole file, the mean of the channels."""
        self._work()
        short = self._total < SHORTEST_MS
        level = None if short else self._level(mean_square)
        activity = None if level is None else 100 * min(1.0, mean_square / 10 ** (level / 10))
        note = None if level is not None else TOO_SHORT if short else "silence: nothing stands out as speech"
        return (
            Reading(
                quantity="active_speech_level_dbfs",
                value=level,
                unit="dBFS",
                method=f"{METHOD}, on the root mean square of the channels",
                end_s=duration_s,
                note=note,
                silence=level is None and not short,
            ),
            Reading(
                quantity="speech_activity_percent",
                value=activity,
                unit="%",
                method=f"{METHOD}: share of the time in which the active level would give the whole energy",
                end_s=duration_s,
                note=note,
            ),
        )

    def _level(self, mean_square: float) -> float | None:
        active = np.cumsum(self._active[::-1])[::-1].astype(np.float64)
        used = active > 0
        if mean_square <= 0 or not used.any():
            return None
        levels = 10 * np.log10(mean_square * self._total / active[used])
        rows = [_crossing(levels[row::ROWS], THRESHOLDS_DB[used][row::ROWS]) for row in range(min(ROWS, levels.size))]
        return float(np.mean(rows))


def _crossing(levels: NDArray[np.float64], thresholds_db: NDArray[np.float64]) -> float:
    """The level that stands `MARGIN_DB` above its threshold, between the two thresholds around it."""
    above = levels - thresholds_db - MARGIN_DB
    below = np.flatnonzero(above <= 0)
    if not below.size:
        return float(levels[-1])
    k = int(below[0])
    if k == 0:
        return float(levels[0])
    part = above[k - 1] / (above[k - 1] - above[k])
    return float(levels[k - 1] + part * (levels[k] - levels[k - 1]))
