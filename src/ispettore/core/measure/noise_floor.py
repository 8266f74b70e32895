"""`noise_floor_dbfs`: the level between the words, from the room tone in the pauses; the worst channel is shown."""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels
from ispettore.core.measure.cells import CellSeries
from ispettore.core.measure.grid import CELL_S, runs
from ispettore.core.measure.reading import Reading
from ispettore.core.measure.speech import Passages

WINDOW_CELLS = 100  # 500 ms
ROOM_METHOD = "energy mean of the room tone in pauses of at least 0.4 s, DC removed, unweighted, worst channel"
QUIETEST_METHOD = "no pause is long enough: the quietest 500 ms of the file, DC removed, worst channel"


def measure(cells: CellSeries, passages: Passages) -> Reading:
    """The reading in dBFS. Where every pause is dead silence it has no value and `silence` is True."""
    if passages.room.any():
        return _reading(_power(cells, passages.room), passages.room, ROOM_METHOD)
    if passages.dead.any():
        return _silence("between the words there is only dead silence", passages.cells)
    span = quietest(cells, passages.dead)
    if span is None:
        return Reading(
            quantity="noise_floor_dbfs",
            value=None,
            unit="dBFS",
            method=QUIETEST_METHOD,
            note="the file is shorter than 500 ms",
        )
    mask = np.zeros(passages.cells, dtype=bool)
    mask[span[0] : span[1]] = True
    return _reading(_power(cells, mask), mask, QUIETEST_METHOD)


def quietest(cells: CellSeries, dead: NDArray[np.bool_]) -> tuple[int, int] | None:
    """First and last cell of the quietest 500 ms that touch no dead silence, or None."""
    power = cells.power.mean(axis=0).astype(np.float64)
    if power.size < WINDOW_CELLS:
        return None
    total = np.concatenate(([0.0], np.cumsum(power)))
    touched = np.concatenate(([0], np.cumsum(dead)))
    starts = np.arange(0, power.size - WINDOW_CELLS + 1, 2)
    energy = total[starts + WINDOW_CELLS] - total[starts]
    energy[touched[starts + WINDOW_CELLS] > touched[starts]] = np.inf
    best = int(np.argmin(energy))
    return (int(starts[best]), int(starts[best]) + WINDOW_CELLS) if np.isfinite(energy[best]) else None


def _power(cells: CellSeries, mask: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Mean square of each channel over the marked cells with their common mean removed: shape (channels,)."""
    counts = cells.counts[mask].astype(np.float64)
    weight = counts / counts.sum()
    power = (cells.power[:, mask] * weight).sum(axis=1, dtype=np.float64)
    mean = (cells.mean[:, mask] * weight).sum(axis=1, dtype=np.float64)
    return np.asarray(np.maximum(power - mean**2, 0.0))


def _reading(power: NDArray[np.float64], mask: NDArray[np.bool_], method: str) -> Reading:
    worst = int(np.argmax(power))
    value = decibels.of_power(float(power[worst]))
    where = np.flatnonzero(mask)
    if value is None:
        return _silence("the room tone is dead silence", mask.size)
    longest = max(runs(mask), key=lambda run: int(run[1] - run[0]))
    return Reading(
        quantity="noise_floor_dbfs",
        value=value,
        unit="dBFS",
        method=f"{method}; {where.size * CELL_S:.1f} s of it",
        channel=worst + 1,
        start_s=float(longest[0]) * CELL_S,
        end_s=float(longest[1]) * CELL_S,
        per_channel=tuple(decibels.of_power(float(p)) for p in power),
    )


def _silence(note: str, cells: int) -> Reading:
    return Reading(
        quantity="noise_floor_dbfs",
        value=None,
        unit="dBFS",
        method=ROOM_METHOD,
        end_s=cells * CELL_S,
        note=f"silence: {note}",
        silence=True,
    )
