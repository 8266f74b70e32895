"""The ribbon that is expected of a recording too long to be rehearsed whole.

Steps that follow from levels alone are worked out over the cells of the whole recording, as planning does: gain, spots, riding,
the compressor, the limiter. Of any other step it is known how far each level moved where it was rehearsed, in speech and so long
after it: each cell is taken to move as far as its like did there (the median). Where something was rehearsed, that is what is told.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.ribbon import Ribbon, of_cells
from ispettore.core.plan.shaping import Ridings
from ispettore.core.treat import compressor, limiter, spot_gain
from ispettore.core.treat.compressor import Compressor
from ispettore.core.treat.gain import Gain
from ispettore.core.treat.level_riding import LevelRiding
from ispettore.core.treat.limiter import TruePeakLimiter
from ispettore.core.treat.spot_gain import SpotGain
from ispettore.core.treat.step import Settings

LOWEST_DB = -100
SINCE_S = (0.0, 0.1, 0.2, 0.4, 0.8)
"""What closes in pauses takes its time: cells are likened to those that lie about as long after speech."""

LEAST = 20
"""A level counts once so many cells had it: a tenth of a second."""

Gains = NDArray[np.floating] | float
"""In dB, of each cell or of all."""


@dataclass(frozen=True)
class Stretch:
    """What was rehearsed from cell `first` of the recording on: peak and mean square in dBFS of what came in, then of what came out
    of each step, the channels together, shape (1 + steps, cells); the gain in dB that each step moved in time, (steps, cells)."""

    first: int
    peak_dbfs: NDArray[np.float64]
    power_dbfs: NDArray[np.float64]
    moved_db: NDArray[np.float64]

    @property
    def place(self) -> slice:
        return slice(self.first, self.first + self.peak_dbfs.shape[1])


def rehearsed(first: int, sounds: Sequence[Measured], moved_db: Sequence[NDArray[np.floating]], *, cells: int) -> Stretch:
    """A stretch of a recording of so many cells, from what was measured of it and the gain in dB that each step moved, shape
    (cells,), empty where it moved none."""
    count = min([len(sound.meters.cells) for sound in sounds] + [cells - first])
    series = [sound.meters.cells.part(0, count) for sound in sounds]
    moved = np.zeros((len(moved_db), count))
    for row, part in zip(moved, moved_db, strict=True):
        row[: part.size] = part[:count]
    return Stretch(
        first,
        np.stack([decibels.levels(part.peak.max(axis=0) ** 2) for part in series]),
        np.stack([decibels.levels(part.power.mean(axis=0)) for part in series]),
        moved,
    )


def expected(
    basis: Basis, steps: Sequence[Settings | None], stretches: Sequence[Stretch], *, columns: int
) -> tuple[Ribbon, NDArray[np.float64]]:
    """The ribbon in at most so many columns, and the gain that moves in each cell of the recording, shape (cells,). A step that is
    None leaves everything as it is; each stretch tells of all steps."""
    levels = basis.at(basis.peak.max(axis=0, keepdims=True), basis.power.mean(axis=0, keepdims=True), basis.k_power.copy())
    moved_db, kinds = np.zeros(basis.counts.size), _kinds(basis.speech)
    for number, step in enumerate(steps):
        if step is None:
            continue
        known = _KNOWN.get(type(step))
        levels, moved = known(levels, step) if known else _likened(levels, kinds, stretches, number)
        moved_db += moved
        for one in stretches:
            _set(levels, one, number)
            moved_db[one.place] = one.moved_db[: number + 1].sum(axis=0)
    return of_cells(levels.power[0], levels.peak[0], columns=columns), moved_db


def _raised(levels: Basis, gain_db: Gains, moved_db: Gains) -> tuple[Basis, Gains]:
    """Cells raised by a gain in dB, of which so much moves in time."""
    return levels.times(np.broadcast_to(10 ** (np.asarray(gain_db) / 20), levels.counts.shape)), moved_db


def _gain(levels: Basis, step: Settings) -> tuple[Basis, Gains]:
    assert isinstance(step, Gain)
    return _raised(levels, step.gain_db, 0.0)


def _spots(levels: Basis, step: Settings) -> tuple[Basis, Gains]:
    assert isinstance(step, SpotGain)
    middles = np.asarray((np.arange(levels.counts.size) + 0.5) * CELL_S, dtype=np.float64)
    return _raised(levels, spot_gain.drawn(step.spots, middles), 0.0)


def _riding(levels: Basis, step: Settings) -> tuple[Basis, Gains]:
    assert isinstance(step, LevelRiding)
    gain = Ridings(levels)(step)
    return _raised(levels, gain, gain)


def _compressed(levels: Basis, step: Settings) -> tuple[Basis, Gains]:
    assert isinstance(step, Compressor)
    gain = compressor.surrogate(levels.peak[0] if step.detection == "peak" else np.sqrt(levels.power[0]), step)
    made, moved = (
        20 * np.log10(1 - step.wet + step.wet * 10 ** ((gain + make_up_db) / 20)) for make_up_db in (step.make_up_db, 0.0)
    )
    return _raised(levels, made, moved)


def _limited(levels: Basis, step: Settings) -> tuple[Basis, Gains]:
    assert isinstance(step, TruePeakLimiter)
    gain = limiter.surrogate(levels.peak[0], step)
    after, moved = _raised(levels, gain, gain)
    held = np.minimum(after.peak, np.float32(decibels.to_amplitude(step.ceiling_dbtp)))
    return after.at(held, after.power, after.k_power), moved


_KNOWN: dict[type[Settings], Callable[[Basis, Settings], tuple[Basis, Gains]]] = {
    Gain: _gain,
    SpotGain: _spots,
    LevelRiding: _riding,
    Compressor: _compressed,
    TruePeakLimiter: _limited,
}


def _likened(levels: Basis, kinds: NDArray[np.int8], stretches: Sequence[Stretch], number: int) -> tuple[Basis, Gains]:
    """After a step, as it moved cells of the same kind and level in the stretches."""
    there = np.concatenate([kinds[one.place] for one in stretches])
    peaks = np.concatenate([one.peak_dbfs[number : number + 2] for one in stretches], axis=1)
    powers = np.concatenate([one.power_dbfs[number : number + 2] for one in stretches], axis=1)
    gains = np.concatenate([one.moved_db[number] for one in stretches])
    high, mean = (_whole(cells) for cells in (levels.peak[0] ** 2, levels.power[0]))
    peak = 10 ** (_table(there, peaks[0], peaks[1] - peaks[0])[kinds, high] / 20)
    power = 10 ** (_table(there, powers[0], powers[1] - powers[0])[kinds, mean] / 10)
    moved = _table(there, peaks[0], gains)[kinds, high] if gains.any() else 0.0
    return levels.at(
        (levels.peak * peak).astype(np.float32),
        (levels.power * power).astype(np.float32),
        (levels.k_power * power[: levels.k_power.size]).astype(np.float32),
    ), moved


def _kinds(speech: NDArray[np.bool_]) -> NDArray[np.int8]:
    """Which cells behave alike, shape (cells,): 0 is speech, the others are how long they lie after it."""
    cells = np.arange(speech.size)
    since = (cells - np.maximum.accumulate(np.where(speech, cells, -speech.size))) * CELL_S
    return np.searchsorted(SINCE_S, since).astype(np.int8)


def _whole(power: NDArray[np.floating]) -> NDArray[np.int64]:
    """Levels in whole decibels, counted from the lowest, of mean squares."""
    return np.round(decibels.levels(power, floor_db=LOWEST_DB) - LOWEST_DB).astype(np.int64).clip(0, -LOWEST_DB)


def _table(kinds: NDArray[np.int8], levels: NDArray[np.float64], moved: NDArray[np.float64]) -> NDArray[np.float64]:
    """For each kind and each whole decibel the median of the moves in dB; between those that enough cells had a straight line."""
    table = np.zeros((len(SINCE_S) + 1, -LOWEST_DB + 1))
    steps = np.round(levels - LOWEST_DB).clip(0, -LOWEST_DB)
    for kind in range(len(table)):
        own, of = steps[kinds == kind], moved[kinds == kind]
        if not own.size:
            own, of = steps, moved
        order = np.argsort(own, kind="stable")
        places, starts, counts = np.unique(own[order], return_index=True, return_counts=True)
        enough = counts >= LEAST
        if enough.any():
            medians = [
                np.median(of[order[start : start + count]]) for start, count in zip(starts[enough], counts[enough], strict=True)
            ]
            table[kind] = np.interp(np.arange(table.shape[1]), places[enough], medians)
        else:
            table[kind] = np.median(of)
    return table


def _set(levels: Basis, one: Stretch, number: int) -> None:
    """Write what came out of step `number` where that was rehearsed."""
    power = 10 ** (one.power_dbfs[number + 1] / 10)
    k_power = levels.k_power[one.place]
    k_power *= (power / np.maximum(levels.power[0, one.place], 1e-16))[: k_power.size].astype(np.float32)
    levels.power[0, one.place] = power
    levels.peak[0, one.place] = 10 ** (one.peak_dbfs[number + 1] / 20)
