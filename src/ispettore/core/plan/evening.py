"""Evening: what brings loud and soft nearer to one another, where gain and a limiter alone do not do.

A slow hand on the level where passages differ, a compressor where words do, both where neither is enough. Every candidate is tried
on cells of 5 ms through the same curves as the real step (its surrogate), with the gain and the limiter that would follow it:
dozens of settings in a fraction of a second. Of those that leave nothing missing within the bounds, the one of least touch is
taken. A long recording is searched on pieces of it, and what is found there told for the whole.
"""

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.plan import foretelling
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.foretelling import RANGE
from ispettore.core.plan.holding import Asked
from ispettore.core.plan.shaping import Cells, Evened, Shaping
from ispettore.core.plan.window import Readings
from ispettore.core.treat.compressor import Compressor
from ispettore.core.treat.level_riding import LevelRiding

RATIOS = (1.5, 2.0, 2.5, 3.0, 4.0, 6.0)
LOWEST_OVER_VOICE_DB, HIGHEST_OVER_VOICE_DB = -10.0, 14.0
"""How far over the level of speech a threshold may lie."""

THRESHOLD_STEP_DB, FINE_STEP_DB, RIDING_STEP_DB = 0.75, 0.25, 0.5
RIDINGS = ((3.0, 1.0), (3.0, 0.0), (1.0, 1.0), (1.0, 0.0))
"""Speeds in seconds, and how far up for each decibel down."""

SPEEDS_S = (3.0, 1.0)
MOST_TOLD, FIRMER, NEARLY_DB = 3, 3, 0.1
STEADIEST_LU, WORTHWHILE_LU = 0.5, 1.0


def plain(cells: Cells, readings: Readings, asked: Asked) -> Evened:
    """No evening: gain, and a limiter where gain alone does not do."""
    return cells.shaped(Shaping()).held(readings, asked)


def search(cells: Cells, readings: Readings, asked: Asked, *, steadied: LevelRiding | None = None) -> Evened | None:
    """The evening of least touch that leaves nothing missing; else what leaves least. None without speech. With `steadied` only on
    top of that riding."""
    if not cells.basis.speech.any():
        return None
    tried = _Search(cells, readings, asked)
    if steadied is not None:
        return tried.told(tried.on_top([steadied]))
    best = tried.told([*tried.ridden(), *tried.compressed(None)])
    if best is None or not best.held.enough:
        largest = asked.bounds.riding_db
        some = [LevelRiding(up_db=size, down_db=size, speed_s=speed) for speed in SPEEDS_S for size in (largest / 2, largest)]
        both = tried.told(tried.on_top(some if largest else []))
        best = min((each for each in (best, both) if each is not None), key=lambda each: each.held.missing_db, default=None)
    return tried.needed(best) if best is not None and best.held.enough else best


def steadied(cells: Cells, bounds: Bounds) -> LevelRiding | None:
    """The least riding that leaves the loudness range within half a unit of the smallest; None where none is worth while."""
    basis, found = cells.basis, []
    for size in _sizes(bounds):
        after = basis.times(10 ** (cells.ridden_db(LevelRiding(up_db=size, down_db=size)) / 20))
        found.append((foretelling.changes(basis, after, [RANGE]).get(RANGE, 0.0), size))
    least = min(found, default=(0.0, 0.0))[0]
    if least > -WORTHWHILE_LU:
        return None
    size = next(size for change, size in found if change <= least + STEADIEST_LU)
    return LevelRiding(up_db=size, down_db=size)


def ridden(cells: Cells, readings: Readings, riding: LevelRiding) -> Readings:
    """What is read after riding alone."""
    return cells.shaped(Shaping(riding=riding)).readings(readings)


def ranges(cells: Cells, riding: LevelRiding) -> tuple[float, float]:
    """Loudness range before and after a riding, in LU."""
    was = cells.basis.inspection.value(RANGE) or 0.0
    return was, ridden(cells, {RANGE: was}, riding)[RANGE]


@dataclass(frozen=True)
class _Search:
    whole: Cells
    readings: Readings
    asked: Asked

    def ridden(self) -> list[Evened]:
        """For each kind of riding the smallest that leaves nothing missing, else the largest that is allowed."""
        sizes = _sizes(self.asked.bounds)
        return [self._smallest(sizes, speed, up) for speed, up in RIDINGS] if sizes else []

    def _smallest(self, sizes: list[float], speed_s: float, up: float) -> Evened:
        def tried(size: float) -> Evened:
            riding = LevelRiding(up_db=size * up, down_db=size, speed_s=speed_s)
            return self._held(Shaping(riding=riding))

        best, low, high = tried(sizes[-1]), 0, len(sizes) - 1
        while low < high and best.held.enough:
            middle = (low + high) // 2
            candidate = tried(sizes[middle])
            low, high, best = (low, middle, candidate) if candidate.held.enough else (middle + 1, high, best)
        return best

    def on_top(self, ridings: list[LevelRiding]) -> list[Evened]:
        """Each of some ridings alone, and with a compressor after it."""
        found = []
        for riding in ridings:
            alone = self._held(Shaping(riding=riding))
            found += [alone] if alone.held.enough else [alone, *self.compressed(riding)]
        return found

    def compressed(self, riding: LevelRiding | None) -> list[Evened]:
        """For each ratio the compressor with the highest threshold that leaves nothing missing, else with the lowest allowed; mild
        ratios first, up to the one from which on stronger ones touch more."""
        peak, found, least = self.whole.pieces.peak(riding), list[Evened](), math.inf
        for ratio in RATIOS:
            lowest = self._lowest(peak, ratio) if ratio <= self.asked.bounds.ratio else None
            if lowest is None:
                break
            found.append(self._highest(riding, peak, ratio, lowest))
            if found[-1].held.enough and found[-1].touch.touch > least:
                break
            least = found[-1].touch.touch if found[-1].held.enough else least
        return found

    @property
    def _top(self) -> float:
        return min(self.whole.pieces.voice_db + HIGHEST_OVER_VOICE_DB, 0.0)

    def _highest(self, riding: LevelRiding | None, peak: NDArray[np.floating], ratio: float, low: float) -> Evened:
        """The highest threshold that does: the lower it is, the less is missing."""

        def tried(threshold: float) -> Evened:
            compressor, gain, depth = self._compressor(peak, ratio, threshold)
            return self._held(Shaping(riding, compressor, depth), gain)

        best, high = tried(low), self._top
        while best.held.enough and high - low > THRESHOLD_STEP_DB:
            middle = (low + high) / 2
            candidate = tried(middle)
            low, high, best = (middle, high, candidate) if candidate.held.enough else (low, middle, best)
        return best

    def _lowest(self, peak: NDArray[np.floating], ratio: float) -> float | None:
        """The lowest threshold that compresses no more than the bound, to a quarter of a decibel."""
        bound, low, high = self.asked.bounds.compression_db, self.whole.pieces.voice_db + LOWEST_OVER_VOICE_DB, self._top
        if not bound or self._compressor(peak, ratio, high)[2] > bound:
            return None
        if self._compressor(peak, ratio, low)[2] <= bound:
            return low
        while high - low > FINE_STEP_DB:
            middle = (low + high) / 2
            low, high = (low, middle) if self._compressor(peak, ratio, middle)[2] <= bound else (middle, high)
        return high

    def _compressor(
        self, peak: NDArray[np.floating], ratio: float, threshold_dbfs: float
    ) -> tuple[Compressor, NDArray[np.float32], float]:
        settings = Compressor(threshold_dbfs=round(threshold_dbfs, 1), ratio=ratio)
        return (settings, *self.whole.pieces.compressed(peak, settings))

    def told(self, found: list[Evened]) -> Evened | None:
        """Of what was found the first that does, by touch; else what leaves least. Found on pieces it is told for the whole, a
        little firmer where that has to be."""
        good = sorted((each for each in found if each.held.enough), key=lambda each: each.touch.touch)
        rest = sorted((each for each in found if not each.held.enough), key=lambda each: each.held.missing_db)
        if self.whole.pieces is self.whole:
            return next(iter([*good, *rest]), None)
        bounds, least = self.asked.bounds, None
        firmer = [firm for each in good[:MOST_TOLD] for firm in _firmer(each.shaping, bounds)]
        for each in [*firmer, *(each.shaping for each in rest[: 1 if good else 2])]:
            made = self.whole.shaped(each).held(self.readings, self.asked)
            if made.held.enough and made.shaping.compression_db <= bounds.compression_db:
                return made
            if least is None or made.held.missing_db < least.held.missing_db:
                least = made
        return least

    def needed(self, found: Evened) -> Evened:
        """Without what the gain and the limiter that follow could do without, set as they are: as nearly as cells can tell, for a
        run will."""
        riding, compressor = found.shaping.riding, found.shaping.compressor
        one_alone = riding is None or compressor is None
        for fewer in [Shaping()] if one_alone else [Shaping(riding=riding), Shaping(compressor=compressor)]:
            less = self.whole.shaped(fewer).held_as(found.held, self.readings, self.asked)
            if less.held.missing_db <= NEARLY_DB:
                return less
        return found

    def _held(self, what: Shaping, compressed: NDArray[np.float32] | None = None) -> Evened:
        return self.whole.pieces.shaped(what, compressed).held(self.readings, self.asked)


def _sizes(bounds: Bounds) -> list[float]:
    return [float(size) for size in np.arange(RIDING_STEP_DB, bounds.riding_db + 1e-6, RIDING_STEP_DB)]


def _firmer(found: Shaping, bounds: Bounds) -> Iterator[Shaping]:
    """A shaping, and as it is with more riding or a lower threshold."""
    for more in range(FIRMER + 1):
        riding, compressor = found.riding, found.compressor
        if riding is not None:
            size = riding.down_db + more * RIDING_STEP_DB
            if size > bounds.riding_db:
                return
            riding = riding.model_copy(update={"down_db": size, "up_db": size if riding.up_db else 0.0})
        if compressor is not None:
            compressor = compressor.model_copy(update={"threshold_dbfs": round(compressor.threshold_dbfs - more, 1)})
        yield Shaping(riding, compressor)
