"""Jumps of the room tone: where one room ends and another begins, as edits leave it.

Inside a pause: it falls into two steady halves of at least half a second whose levels differ by more than 6 dB, with next to
nothing between them (a breath is shorter, and not steady). From pause to pause: room tones that differ by more than 6 dB across one
stretch of speech.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.measure import decibels
from ispettore.core.measure.cells import Cells
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding
from ispettore.core.measure.speech import AFTER_SPEECH_CELLS, BEFORE_SPEECH_CELLS, Passages

JUMP_DB = 6.0
SIDE_CELLS = 100  # 500 ms
SMOOTH_CELLS = 8  # 40 ms
STEADY_DB = 6.0  # nine tenths of each side lie within this
WORTHWHILE_CELLS = 30
NEIGHBOUR_CELLS = 12_000  # pauses more than a minute apart are not compared


def read(heard: Heard) -> Read:
    """Jumps of the room tone."""
    return (), findings(heard.cells, heard.passages)


def findings(cells: Cells, passages: Passages) -> list[Finding]:
    """Each jump with its height in dB (positive: louder afterwards)."""
    found: list[Finding] = []
    before: tuple[float, int] | None = None
    for start, end in passages.pauses.tolist():
        first = start + (AFTER_SPEECH_CELLS if start > 0 else 0)
        last = end - (BEFORE_SPEECH_CELLS if end < passages.cells else 0)
        if last - first < WORTHWHILE_CELLS:
            continue
        power = cells.power.part(first, last).mean(axis=0).astype(np.float64)
        live = ~passages.dead[first:last]
        inside = _step(power, live)
        if inside is not None:
            found.append(_finding(first + inside[0], first + inside[0], inside[1]))
        room = passages.room[first:last]
        if room.sum() < WORTHWHILE_CELLS:
            continue
        level = float(decibels.levels(power[room].mean()))
        if inside is not None:
            level = float(decibels.levels(power[inside[0] :][live[inside[0] :]].mean()))
        elif before is not None and first - before[1] <= NEIGHBOUR_CELLS and abs(level - before[0]) > JUMP_DB:
            found.append(_finding(before[1], first, level - before[0]))
        before = (level, last)
    return found


def _step(power: NDArray[np.float64], live: NDArray[np.bool_]) -> tuple[int, float] | None:
    """The cell within a pause at which two steady stretches meet, and by how much they differ in dB."""
    if power.size < 2 * SIDE_CELLS or not live.all():
        return None
    level = decibels.levels(scipy.ndimage.uniform_filter1d(power, SMOOTH_CELLS, mode="nearest"))
    total = np.concatenate(([0.0], np.cumsum(level)))
    at = np.arange(SIDE_CELLS, level.size - SIDE_CELLS + 1)
    left = (total[at] - total[at - SIDE_CELLS]) / SIDE_CELLS
    right = (total[at + SIDE_CELLS] - total[at]) / SIDE_CELLS
    best = int(np.argmax(np.abs(right - left)))
    place = int(at[best])
    change = float(right[best] - left[best])
    if abs(change) <= JUMP_DB:
        return None
    guard = SMOOTH_CELLS
    sides = level[: place - guard], level[place + guard :]
    steady = all(float(np.subtract(*np.percentile(side, (95, 5)))) <= STEADY_DB for side in sides)
    return (place, change) if steady else None


def _finding(start: int, end: int, change_db: float) -> Finding:
    return Finding(
        kind="room-tone-jump", start_s=start * CELL_S, end_s=end * CELL_S, measure=change_db, unit="dB", severity="warning"
    )
