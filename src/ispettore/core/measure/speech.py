"""Where someone speaks and where nobody does: speech, pauses, and the room tone inside the pauses.

A short-time level above 150 Hz stands against an estimate of the noise that follows the recording (minimum statistics after
R. Martin, IEEE Trans. Speech and Audio Processing 9(5), 2001), with hysteresis, so that the soft ends of words stay with them.
A run that rises too little, or too briefly, is not speech: a breath, a click, a rustle.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from ispettore.core.kernels import kernel
from ispettore.core.measure import decibels
from ispettore.core.measure.cells import CellSeries
from ispettore.core.measure.grid import Second, Series, borders, runs
from ispettore.core.measure.sections import high_pass

BAND_HZ = 150.0
DEAD_AMPLITUDE = 10 ** (-90 / 20)
DEAD_CELLS = 10  # 50 ms
SMOOTH_CELLS = 5  # 25 ms
NOISE_SMOOTH_CELLS = 20  # 100 ms
NOISE_WINDOW_CELLS = 2_400  # 12 s
ON_DB, OFF_DB = 5.0, 3.0
RISE_DB = 10.0  # a run must rise this far above the noise somewhere to be speech
BELOW_SPEECH_DB = 24.0  # and come within this of the level of speech
SHORTEST_SPEECH_CELLS = 20  # 100 ms
JOIN_CELLS = 30  # gaps under 150 ms belong to the speech around them
PAUSE_CELLS = 80  # 0.4 s
AFTER_SPEECH_CELLS, BEFORE_SPEECH_CELLS = 40, 12  # 200 ms for the room's decay, 60 ms before speech
ABOVE_MEDIAN_DB = 6.0


@dataclass(frozen=True)
class Passages:
    """All as cells (5 ms). `speech` and `pauses` have shape (n, 2) with exclusive ends; the masks have one entry a cell.

    `room` marks room tone: inside pauses of at least 0.4 s, guarded, without breaths and clicks. `dead` marks stretches of at
    least 50 ms without a |sample| above −90 dBFS.
    """

    speech: NDArray[np.int64]
    pauses: NDArray[np.int64]
    room: NDArray[np.bool_]
    dead: NDArray[np.bool_]
    cells: int


class VoiceBand:
    """Feed seconds; `power` grows one row: the mean square above 150 Hz of each cell, mean of the channels."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._rate = sample_rate_hz
        self._edges = borders(sample_rate_hz)
        self._section = high_pass(BAND_HZ, sample_rate_hz=sample_rate_hz)
        self._state = np.zeros((channels, 2))
        self.power = Series()

    def feed(self, second: Second) -> None:
        edges = self._edges if second.shape[1] == self._rate else borders(self._rate, second.shape[1])
        self.power.append(_band_power(second, edges, self._section, self._state)[None, :])


@kernel
def _band_power(
    x: NDArray[np.float32], edges: NDArray[np.int64], section: NDArray[np.float64], state: NDArray[np.float64]
) -> NDArray[np.float64]:
    power = np.zeros(edges.size - 1)
    b0, b1, b2, a1, a2 = section
    for c in range(x.shape[0]):
        s1, s2 = state[c]
        for k in range(edges.size - 1):
            q = 0.0
            for i in range(edges[k], edges[k + 1]):
                v = np.float64(x[c, i])
                y = b0 * v + s1
                s1 = b1 * v - a1 * y + s2
                s2 = b2 * v - a2 * y
                q += y * y
            power[k] += q / (edges[k + 1] - edges[k]) / x.shape[0]
        state[c, 0] = s1 if abs(s1) > 1e-30 else 0.0
        state[c, 1] = s2 if abs(s2) > 1e-30 else 0.0
    return power


def find(band_power: NDArray[np.floating], cells: CellSeries) -> Passages:
    """Speech, pauses and room tone from the band power of each cell, shape (cells,), and the plain cells."""
    count = band_power.size
    dead = _dead(cells.peak.max(axis=0))
    level = decibels.levels(ndimage.uniform_filter1d(band_power.astype(np.float64), SMOOTH_CELLS, mode="nearest"))
    noise = _noise(band_power, dead)
    speech = _speech(level, noise, dead)
    pauses = _between(speech, count)
    room = _room_tone(pauses, cells, dead, count)
    return Passages(speech, pauses, room, dead, count)


def _dead(peak: NDArray[np.floating]) -> NDArray[np.bool_]:
    dead = np.zeros(peak.size, dtype=bool)
    for start, end in runs(peak <= DEAD_AMPLITUDE):
        if end - start >= DEAD_CELLS:
            dead[start:end] = True
    return dead


def _noise(band_power: NDArray[np.floating], dead: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Level in dB of the noise under each cell: the lowest 100 ms within ± 6 s, dead silence left out, slowly moving."""
    smooth = ndimage.uniform_filter1d(band_power.astype(np.float64), NOISE_SMOOTH_CELLS, mode="nearest")
    level = decibels.levels(smooth)
    near_dead = ndimage.binary_dilation(dead, iterations=NOISE_SMOOTH_CELLS)
    alive = level[~near_dead]
    if alive.size == 0:
        return np.full(level.size, decibels.levels(0.0))
    gated = dead.mean() > 0.02
    # In a gated file the softest live sound is speech, not room: there the noise is whatever lies far under the voice.
    loud = float(np.percentile(level[~dead], 95)) if (~dead).any() else -60.0
    if gated:
        return np.full(level.size, loud - 40.0)
    lowest = ndimage.minimum_filter1d(np.where(near_dead, np.inf, level), NOISE_WINDOW_CELLS, mode="nearest")
    least = float(alive.min())
    followed = np.minimum(np.where(np.isfinite(lowest), lowest, least), least + 12.0)
    return np.asarray(ndimage.uniform_filter1d(followed, NOISE_WINDOW_CELLS // 4, mode="nearest"))


def _speech(level: NDArray[np.float64], noise: NDArray[np.float64], dead: NDArray[np.bool_]) -> NDArray[np.int64]:
    above = level - noise
    active = runs((above > OFF_DB) & ~dead)
    active = active[[bool((above[start:end] > ON_DB).any()) for start, end in active]] if len(active) else active
    if len(active) == 0:
        return np.zeros((0, 2), dtype=np.int64)
    in_active = np.concatenate([level[start:end] for start, end in active])
    voice = float(np.percentile(in_active, 90))
    strong = [
        (start, end)
        for start, end in active
        if above[start:end].max() > RISE_DB and level[start:end].max() > voice - BELOW_SPEECH_DB
    ]
    joined: list[list[int]] = []
    for start, end in strong:
        if joined and start - joined[-1][1] < JOIN_CELLS:
            joined[-1][1] = int(end)
        else:
            joined.append([int(start), int(end)])
    kept = [run for run in joined if run[1] - run[0] >= SHORTEST_SPEECH_CELLS]
    return np.array(kept, dtype=np.int64).reshape(-1, 2)


def _between(speech: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    edges = np.concatenate(([0], speech.ravel(), [count])).reshape(-1, 2)
    return edges[edges[:, 1] > edges[:, 0]]


def _room_tone(pauses: NDArray[np.int64], cells: CellSeries, dead: NDArray[np.bool_], count: int) -> NDArray[np.bool_]:
    room = np.zeros(count, dtype=bool)
    level = decibels.levels(ndimage.uniform_filter1d(cells.power.mean(axis=0).astype(np.float64), SMOOTH_CELLS, mode="nearest"))
    for start, end in pauses:
        if end - start < PAUSE_CELLS:
            continue
        first = start + (AFTER_SPEECH_CELLS if start > 0 else 0)
        last = end - (BEFORE_SPEECH_CELLS if end < count else 0)
        usable = ~dead[first:last]
        if not usable.any():
            continue
        median = float(np.median(level[first:last][usable]))
        room[first:last] = usable & (level[first:last] <= median + ABOVE_MEDIAN_DB)
    return room
