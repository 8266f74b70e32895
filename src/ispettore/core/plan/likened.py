"""The ribbon that is expected of a recording too long to be rehearsed whole.

Steps that follow from levels alone are worked out over the cells of the whole recording, as planning does: gain, spots, riding,
the compressor, the limiter. Of any other step it is known how far each level moved where it was rehearsed, in speech and so long
after it: each cell is taken to move as far as its like did there (the median). Where something was rehearsed, that is what is told.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.ribbon import Ribbon, of_cells
from ispettore.core.treat import compressor, level_riding, limiter, spot_gain
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


@dataclass(frozen=True)
class Stretch:
    """What was rehearsed from cell `first` of the recording on: what came in, then what came out of each step, and the gain in dB
    that each step moved in time, shape (cells,), empty where it moved none."""

    first: int
    sounds: Sequence[Measured]
    moved_db: Sequence[NDArray[np.floating]]


@dataclass(frozen=True)
class Levels:
    """Of each cell the largest |sample|, the mean square and the K-weighted power, and the gain that was moved in time so far, in
    dB: shape (cells,) each."""

    peak: NDArray[np.float64]
    power: NDArray[np.float64]
    k_power: NDArray[np.float64]
    moved_db: NDArray[np.float64]

    def times(self, gain_db: NDArray[np.floating], *, moved_db: NDArray[np.floating] | float = 0.0) -> "Levels":
        """Each cell raised by its own gain in dB, of which so much moves in time."""
        factor = 10 ** (np.asarray(gain_db, dtype=np.float64) / 20)
        return Levels(self.peak * factor, self.power * factor**2, self.k_power * factor**2, self.moved_db + moved_db)


def expected(
    basis: Basis, steps: Sequence[Settings], stretches: Sequence[Stretch], *, columns: int
) -> tuple[Ribbon, NDArray[np.float64]]:
    """The ribbon in at most so many columns, and the gain that moves in each cell of the recording, shape (cells,). Each stretch
    tells of all steps."""
    cells = basis.counts.size
    k_power = np.zeros(cells)
    k_power[: basis.k_power.size] = basis.k_power
    levels = Levels(
        basis.peak.max(axis=0).astype(np.float64), basis.power.mean(axis=0).astype(np.float64), k_power, np.zeros(cells)
    )
    kinds = _kinds(basis.speech)
    for number, step in enumerate(steps):
        known = _KNOWN.get(type(step))
        levels = known(levels, basis, step) if known else _likened(levels, kinds, stretches, number)
        for one in stretches:
            _set(levels, one, number)
    return of_cells(levels.power, levels.peak, columns=columns), levels.moved_db


def _gain(levels: Levels, _basis: Basis, step: Settings) -> Levels:
    assert isinstance(step, Gain)
    return levels.times(np.full(levels.peak.size, step.gain_db))


def _spots(levels: Levels, _basis: Basis, step: Settings) -> Levels:
    assert isinstance(step, SpotGain)
    return levels.times(spot_gain.drawn(step.spots, np.asarray((np.arange(levels.peak.size) + 0.5) * CELL_S, dtype=np.float64)))


def _riding(levels: Levels, basis: Basis, step: Settings) -> Levels:
    assert isinstance(step, LevelRiding)
    size = basis.k_power.size
    gain = np.zeros(levels.peak.size)
    if size:
        drawn, _ = level_riding.draw(levels.k_power[:size].astype(np.float32), basis.speech[:size], basis.room[:size], step)
        gain[:size], gain[size:] = drawn, drawn[-1]
    return levels.times(gain, moved_db=gain)


def _compressed(levels: Levels, _basis: Basis, step: Settings) -> Levels:
    assert isinstance(step, Compressor)
    gain = compressor.surrogate(levels.peak if step.detection == "peak" else np.sqrt(levels.power), step)
    mixed = [20 * np.log10(1 - step.wet + step.wet * 10 ** ((gain + made) / 20)) for made in (step.make_up_db, 0.0)]
    return levels.times(mixed[0], moved_db=mixed[1])


def _limited(levels: Levels, _basis: Basis, step: Settings) -> Levels:
    assert isinstance(step, TruePeakLimiter)
    gain = limiter.surrogate(levels.peak, step)
    after = levels.times(gain, moved_db=gain)
    return replace(after, peak=np.minimum(after.peak, decibels.to_amplitude(step.ceiling_dbtp)))


_KNOWN: dict[type[Settings], Callable[[Levels, Basis, Settings], Levels]] = {
    Gain: _gain,
    SpotGain: _spots,
    LevelRiding: _riding,
    Compressor: _compressed,
    TruePeakLimiter: _limited,
}


def _likened(levels: Levels, kinds: NDArray[np.int8], stretches: Sequence[Stretch], number: int) -> Levels:
    """After a step, as it moved cells of the same kind and level in the stretches."""
    told = [(kinds[one.first :], _of(one.sounds[number]), _of(one.sounds[number + 1]), _sized(one, number)) for one in stretches]
    high, mean = _whole(levels.peak**2), _whole(levels.power)

    def moves(row: int, own: NDArray[np.int64], moved: Sequence[NDArray[np.float64]]) -> NDArray[np.float64]:
        of = [kind[: before[row].size] for kind, before, _, _ in told]
        table = _table(np.concatenate(of), np.concatenate([before[row] for _, before, _, _ in told]), np.concatenate(moved))
        return table[kinds, own]

    if not told:
        return levels
    high_db = moves(0, high, [after[0] - before[0] for _, before, after, _ in told])
    power = 10 ** (moves(1, mean, [after[1] - before[1] for _, before, after, _ in told]) / 10)
    gain = [gain for _, _, _, gain in told]
    moved_db = moves(0, high, gain) if any(part.any() for part in gain) else 0.0
    return Levels(levels.peak * 10 ** (high_db / 20), levels.power * power, levels.k_power * power, levels.moved_db + moved_db)


def _kinds(speech: NDArray[np.bool_]) -> NDArray[np.int8]:
    """Which cells behave alike, shape (cells,): 0 is speech, the others are how long they lie after it."""
    cells = np.arange(speech.size)
    since = (cells - np.maximum.accumulate(np.where(speech, cells, -speech.size))) * CELL_S
    return np.searchsorted(SINCE_S, since).astype(np.int8)


def _whole(power: NDArray[np.float64]) -> NDArray[np.int64]:
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


def _set(levels: Levels, one: Stretch, number: int) -> None:
    """Write what was rehearsed over what was worked out: after step `number`."""
    high, mean = _of(one.sounds[number + 1])
    count = min(high.size, levels.peak.size - one.first)
    place = slice(one.first, one.first + count)
    before = levels.power[place]
    power = 10 ** (mean[:count] / 10)
    levels.k_power[place] *= power / np.maximum(before, 1e-16)
    levels.peak[place], levels.power[place] = 10 ** (high[:count] / 20), power
    levels.moved_db[place] = np.sum([_sized(one, before)[:count] for before in range(number + 1)], axis=0)


def _of(measured: Measured) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Peak and mean square of each cell in dBFS, the channels together, shape (cells,) each."""
    cells = measured.meters.cells.series()
    return decibels.levels(cells.peak.max(axis=0) ** 2), decibels.levels(cells.power.mean(axis=0))


def _sized(one: Stretch, number: int) -> NDArray[np.float64]:
    """The gain that a step moved in each cell of a stretch."""
    gain = np.zeros(len(one.sounds[number].meters.cells))
    moved = one.moved_db[number][: gain.size]
    gain[: moved.size] = moved
    return gain
