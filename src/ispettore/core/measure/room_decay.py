"""`decay_s`: how fast the room dies away after words (the time to fall by 60 dB, from the ends of phrases).

Where a phrase ends in a pause, the level above 150 Hz, freed of the noise's power, falls along a line; its slope between 28 and 8
dB above the noise is that of the room, as the voice itself stops faster (blind estimation from free decays after R. Ratnam et al.,
"Blind estimation of reverberation time", J. Acoust. Soc. Am. 114(5), 2003). A voice that trails off falls more slowly than its
room, and never faster; so the reading is the lower quartile over the recording's pauses. How far the quicker half of them agree is
its confidence, and where they do not there is no reading. Under 0.35 s it may still be the voice's own fall, and says so.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.measure import decibels
from ispettore.core.measure.grid import CELL_S, Series
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding, Reading
from ispettore.core.measure.speech import Passages

ABOVE_NOISE_DB, RANGE_DB = 8.0, 20.0
SMOOTH_CELLS = 3
BEFORE_CELLS, AFTER_CELLS = 120, 60
SHORTEST_CELLS, SHORTEST_PAUSE_CELLS, LEAST_ROOM_CELLS = 4, 60, 10
LEAST_ENDS = 3
ECHO_S = 0.45
AGREE, AGREE_S = 0.4, 0.1  # half of the phrase ends must agree within this part of the reading, or so many seconds
OF_THE_VOICE_S = 0.35
METHOD = "slope of the quickest quarter of phrase ends between 28 and 8 dB above the noise, as the time to fall by 60 dB"


def read(heard: Heard) -> Read:
    """How long the room is heard after the words."""
    decay, findings = measure(heard.levels.filtered.voice_power, heard.passages, duration_s=heard.duration_s)
    return (decay,), findings


def measure(voice_power: Series, passages: Passages, *, duration_s: float) -> tuple[Reading, list[Finding]]:
    """The reading in seconds, with its confidence in the note; a finding where the room is heard for long."""
    times = np.array([time for pause in passages.pauses if (time := _decay(voice_power, passages, pause)) is not None])
    if times.size < LEAST_ENDS:
        note = f"only {times.size} phrases end in a pause and stand 28 dB above the noise; it takes {LEAST_ENDS}"
        return Reading(quantity="decay_s", value=None, unit="s", method=METHOD, end_s=duration_s, note=note), []
    low, value, high = np.percentile(times, (10, 25, 50))
    if high - low > max(AGREE * value, AGREE_S):
        note = (
            f"{times.size} phrase ends disagree, the quicker half between {low:.2f} and {high:.2f} s: no one room is heard in them"
        )
        return Reading(quantity="decay_s", value=None, unit="s", method=METHOD, end_s=duration_s, note=note), []
    reading = Reading(
        quantity="decay_s",
        value=float(value),
        unit="s",
        method=METHOD,
        end_s=duration_s,
        note=f"from {times.size} phrase ends, the quicker half of them between {low:.2f} and {high:.2f} s"
        + ("; the room may be quicker still, as voices fall no faster" if value < OF_THE_VOICE_S else ""),
    )
    if value <= ECHO_S:
        return reading, []
    echo = Finding(kind="room-echo", start_s=0.0, end_s=duration_s, measure=float(value), unit="s", severity="warning")
    return reading, [echo]


def _decay(voice_power: Series, passages: Passages, pause: NDArray[np.int64]) -> float | None:
    """The time to fall by 60 dB at the start of one pause, or None where it can't be seen."""
    start, end = int(pause[0]), int(pause[1])
    room = passages.room[start:end]
    if start == 0 or end - start < SHORTEST_PAUSE_CELLS or room.sum() < LEAST_ROOM_CELLS:
        return None
    first, last = max(start - BEFORE_CELLS, 0), start + AFTER_CELLS
    around = voice_power.part(first, max(end, last))[0]
    noise = decibels.middle(around[start - first : end - first][room])
    power = scipy.ndimage.uniform_filter1d(around[: last - first].astype(np.float64), SMOOTH_CELLS)
    above = 10 * np.log10(np.maximum(power - noise, noise * 1e-2 + 1e-20) / (noise + 1e-20))
    still = np.flatnonzero(above > ABOVE_NOISE_DB)
    if still.size == 0:
        return None
    lowest = int(still[-1]) + 1
    loud = np.flatnonzero(above[:lowest] >= ABOVE_NOISE_DB + RANGE_DB)
    if loud.size == 0 or lowest - int(loud[-1]) < SHORTEST_CELLS:
        return None
    level = above[loud[-1] : lowest]
    time = (np.arange(level.size) - (level.size - 1) / 2) * CELL_S
    slope = float(time @ level / (time @ time))  # least squares
    return -60.0 / slope if slope < 0 else None
