"""What riding and compression do to the cells of a recording, and what gain and limiter they leave to do."""

import functools
from collections.abc import Hashable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels, loudness
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.plan import foretelling, holding, limiting
from ispettore.core.plan.holding import EVENING_RESERVE_DB, Asked, Held
from ispettore.core.plan.window import Readings
from ispettore.core.treat import compressor, level_riding, touch
from ispettore.core.treat.compressor import Compressor
from ispettore.core.treat.level_riding import Around, LevelRiding
from ispettore.core.treat.touch import Touch

WHOLE_S, PIECE_S, PIECES = 240.0, 12.0, 9
MOST_KEPT_CELLS = 500_000
USUAL_VOICE_DB = -20.0


@dataclass(frozen=True)
class Shaping:
    """Steps that even a recording, and how far the compressor goes: at the 99th percentile over speech."""

    riding: LevelRiding | None = None
    compressor: Compressor | None = None
    compression_db: float = 0.0

    @property
    def nothing(self) -> bool:
        return self.riding is None and self.compressor is None


@dataclass(frozen=True)
class Evened:
    """A shaping with the gain and limiter to follow, what they leave, and their touch; `shaped` are the readings between, `gain_db`
    is each cell's by the shaping, shape (cells,)."""

    shaping: Shaping
    gain_db: NDArray[np.float32] = field(repr=False)
    shaped: Readings
    held: Held
    touch: Touch


class Ridings:
    """The gain of each cell by a riding, in dB, shape (cells,). Of hours only the last one or two that were drawn are kept."""

    def __init__(self, basis: Basis) -> None:
        cells = basis.k_power.size
        self._basis, self._around = basis, Around(basis.k_power, basis.speech[:cells])
        self._known: dict[LevelRiding, NDArray[np.float32]] = {}

    def __call__(self, settings: LevelRiding | None) -> NDArray[np.float32]:
        basis = self._basis
        if settings is None:
            return np.broadcast_to(np.float32(0.0), basis.counts.size)
        if settings not in self._known:
            while len(self._known) * basis.counts.size > MOST_KEPT_CELLS:
                del self._known[next(iter(self._known))]
            cells = basis.k_power.size
            drawn, _ = level_riding.drawn(self._around, basis.room[:cells], settings)
            self._known[settings] = np.pad(drawn, (0, basis.counts.size - cells), "edge") if cells else drawn
        return self._known[settings]


@dataclass(frozen=True)
class Cells:
    """The cells that are listened to: all of a recording, or pieces of it, of which `taken` is the mask. A riding is always drawn
    for the whole. All plans of a recording share them, and with them what was tried."""

    basis: Basis
    taken: NDArray[np.bool_]
    ridings: Ridings
    voice_db: float
    known: dict[LevelRiding | None, NDArray[np.float32]] = field(default_factory=dict, repr=False)
    told: dict[Shaping, dict[Hashable, float | None]] = field(default_factory=dict, repr=False)
    """What cells were found to tell after a shaping: most of what one plan tries, the next one tries again."""
    solved: list[tuple[tuple[Readings, Asked], Evened]] = field(default_factory=list, repr=False)
    """What was asked last, and what was found."""

    @property
    def pieces(self) -> "Cells":
        """Of a recording longer than four minutes nine pieces all along, and those with its highest peak and loudest moments."""
        return self if self.basis.counts.size <= WHOLE_S * CELLS_PER_SECOND else self._parts

    @functools.cached_property
    def _parts(self) -> "Cells":
        basis, cells, size = self.basis, self.basis.counts.size, round(PIECE_S * CELLS_PER_SECOND)
        taken = np.zeros(cells, dtype=bool)
        loudest = [int(np.argmax(basis.highest))]
        for window in (loudness.MOMENTARY_CELLS, loudness.SHORT_TERM_CELLS):
            means = loudness.windows(basis.k_power, cells=window, step=loudness.STEP_CELLS)
            loudest.append(int(np.argmax(means)) * loudness.STEP_CELLS + window // 2)
        for middle in [*np.linspace(size / 2, cells - size / 2, PIECES).astype(int), *loudest]:
            first = min(max(middle - size // 2, 0), cells - size)
            taken[first : first + size] = True
        return Cells(basis.part(taken), taken, self.ridings, self.voice_db)

    def ridden_db(self, riding: LevelRiding | None) -> NDArray[np.float32]:
        """Each cell's gain in dB by a riding."""
        if self.taken.all():
            return self.ridings(riding)
        if riding not in self.known:
            self.known[riding] = self.ridings(riding)[self.taken]
        return self.known[riding]

    def peak(self, riding: LevelRiding | None) -> NDArray[np.floating]:
        """The largest |sample| of each cell after riding."""
        return np.asarray(self.basis.highest * 10 ** (self.ridden_db(riding) / 20))

    def compressed(self, peak: NDArray[np.floating], settings: Compressor) -> tuple[NDArray[np.float32], float]:
        """Each cell's gain in dB by a compressor, and how deep it goes."""
        gain = compressor.surrogate(peak, settings).astype(np.float32)
        return gain, limiting.depth_of(gain, self.basis.speech)

    def shaped(self, shaping: Shaping, compressed: NDArray[np.float32] | None = None) -> "Shaped":
        """After a shaping. `compressed` is the compressor's gain where it is known."""
        gain = self.ridden_db(shaping.riding)
        if shaping.compressor is not None and compressed is None:
            compressed, depth = self.compressed(self.peak(shaping.riding), shaping.compressor)
            shaping = Shaping(shaping.riding, shaping.compressor, depth)
        if compressed is not None:
            gain = gain + compressed
        if shaping.nothing:
            return Shaped(self, shaping, gain, self.basis)
        after = self.basis.times(10 ** (gain / 20), told=self.told.setdefault(shaping, {}))
        return Shaped(self, shaping, gain, after)


@dataclass(frozen=True)
class Shaped:
    """Cells after a shaping, and each one's gain by it in dB."""

    before: Cells
    shaping: Shaping
    gain_db: NDArray[np.float32]
    basis: Basis

    def readings(self, before: Readings) -> Readings:
        if self.shaping.nothing:
            return before
        changed = foretelling.changes(self.before.basis, self.basis, before)
        return {name: value + changed.get(name, 0.0) for name, value in before.items()}

    def held(self, readings: Readings, asked: Asked) -> Evened:
        """With the gain and the limiter that belong to it."""
        after = self.readings(readings)
        inside = 0.0 if self.shaping.nothing else EVENING_RESERVE_DB
        return self._with(holding.held(self.basis, after, asked, inside_db=inside), after)

    def held_as(self, like: Held, readings: Readings, asked: Asked) -> Evened:
        """With the gain and the limiter of another."""
        after = self.readings(readings)
        return self._with(holding.as_set(self.basis, after, asked, like.gain_db, like.ceiling_dbtp), after)

    def _with(self, found: Held, after: Readings) -> Evened:
        return Evened(self.shaping, self.gain_db, after, found, touch.of(self.gain_db + found.reduction_db, self.basis.speech))


def whole(basis: Basis) -> Cells:
    """All cells of a recording."""
    voice = decibels.of_power(float(basis.power.mean(axis=0)[basis.speech].mean())) if basis.speech.any() else None
    return Cells(basis, np.ones(basis.counts.size, dtype=bool), Ridings(basis), voice or USUAL_VOICE_DB)
