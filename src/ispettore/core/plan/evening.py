"""Evening: what brings loud and soft nearer to one another, where gain and a limiter alone do not do.

A slow hand on the level where passages differ, a compressor where words do, both where neither is enough. Every candidate is tried
on cells of 5 ms through the same curves as the real step (its surrogate), with the gain and the limiter that would follow it:
dozens of settings in a fraction of a second. Of those that leave nothing missing within the bounds, the one of least touch is
taken.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels, loudness
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.plan import foretelling, holding, limiting
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.foretelling import RANGE
from ispettore.core.plan.holding import EVENING_RESERVE_DB, Asked, Held, held
from ispettore.core.plan.window import Readings
from ispettore.core.treat import compressor, level_riding, touch
from ispettore.core.treat.compressor import Compressor
from ispettore.core.treat.level_riding import LevelRiding
from ispettore.core.treat.touch import Touch

RATIOS = (1.5, 2.0, 2.5, 3.0, 4.0, 6.0)
OVER_VOICE_DB = (10.0, 8.0, 6.0, 4.0, 2.0, 0.0, -2.0, -4.0, -6.0, -8.0, -10.0)
THRESHOLD_STEP_DB = 0.25
SPEEDS_S = (3.0, 1.0)
RIDING_STEP_DB = 0.5
WHOLE_S, PIECE_S, PIECES = 240.0, 12.0, 9
"""Longer recordings are searched on so many pieces of so many seconds, and on those that hold what is loudest; what is found is
then told for the whole."""

MOST_TOLD, FIRMER, NEARLY_DB = 3, 3, 0.1
STEADIEST_LU, WORTHWHILE_LU = 0.5, 1.0


@dataclass(frozen=True)
class Shaping:
    """Steps that even a recording, each cell's gain by them in dB, and how far they go: `compression_db` at the 99th percentile
    over speech."""

    riding: LevelRiding | None = None
    compressor: Compressor | None = None
    compression_db: float = 0.0


@dataclass(frozen=True)
class Evened:
    """A shaping with the gain and limiter to follow, what they leave, and their touch; `shaped` are the readings between."""

    shaping: Shaping
    gain_db: NDArray[np.float64] = field(repr=False)
    shaped: Readings
    held: Held
    touch: Touch


@dataclass(frozen=True)
class _Heard:
    """The cells a search listens to: all, or pieces of them; `cells` is their mask."""

    basis: Basis
    cells: NDArray[np.bool_]
    voice_db: float


def plain(basis: Basis, readings: Readings, asked: Asked) -> Evened:
    """No evening: gain, and a limiter where gain alone does not do."""
    return _shaped(_all(basis), Shaping(), np.zeros(basis.counts.size)).held(readings, asked)


def search(basis: Basis, readings: Readings, asked: Asked, *, steadied: LevelRiding | None = None) -> Evened | None:
    """The evening of least touch that leaves nothing missing; else what leaves least. None without speech. With `steadied` only on
    top of that riding."""
    if not basis.speech.any():
        return None
    whole, pieces = _all(basis), _pieces(basis)
    ridings = _Ridings(basis)
    if steadied is not None:
        return _told(whole, _on_top(pieces, ridings, [steadied], readings, asked), ridings, readings, asked)
    singles = [*_ridden(pieces, ridings, readings, asked), *_compressed(pieces, None, ridings, readings, asked)]
    best = _told(whole, singles, ridings, readings, asked)
    if best is not None and best.held.enough:
        return _needed(whole, best, ridings, readings, asked)
    largest = asked.bounds.riding_db
    some = [LevelRiding(up_db=size, down_db=size, speed_s=speed) for speed in SPEEDS_S for size in (largest / 2, largest) if size]
    both = _told(whole, _on_top(pieces, ridings, some, readings, asked), ridings, readings, asked)
    best = min((each for each in (best, both) if each is not None), key=lambda each: each.held.missing_db, default=None)
    return _needed(whole, best, ridings, readings, asked) if best is not None and best.held.enough else best


def steadied(basis: Basis, bounds: Bounds) -> LevelRiding | None:
    """The least riding that leaves the loudness range within half a unit of the smallest; None where none is worth while."""
    ridings, sizes = _Ridings(basis), _sizes(bounds)
    found = []
    for size in sizes:
        settings = LevelRiding(up_db=size, down_db=size)
        after = basis.times(10 ** (ridings(settings) / 20))
        change = foretelling.changes(basis, after, [RANGE]).get(RANGE)
        found.append((change if change is not None else 0.0, size))
    least = min(found, default=(0.0, 0.0))[0]
    if least > -WORTHWHILE_LU:
        return None
    size = next(size for change, size in found if change <= least + STEADIEST_LU)
    return LevelRiding(up_db=size, down_db=size)


def ridden(basis: Basis, readings: Readings, riding: LevelRiding) -> Readings:
    """What is read after riding alone."""
    changed = foretelling.changes(basis, basis.times(10 ** (_Ridings(basis)(riding) / 20)), list(readings))
    return {name: value + changed.get(name, 0.0) for name, value in readings.items()}


def ranges(basis: Basis, riding: LevelRiding) -> tuple[float, float]:
    """Loudness range before and after a riding, in LU."""
    was = basis.inspection.value(RANGE) or 0.0
    return was, ridden(basis, {RANGE: was}, riding)[RANGE]


class _Ridings:
    """The gain of each cell by a riding, each drawn once."""

    def __init__(self, basis: Basis) -> None:
        self._basis = basis
        self._known: dict[str, NDArray[np.float32]] = {}

    def __call__(self, settings: LevelRiding | None) -> NDArray[np.float32]:
        basis = self._basis
        if settings is None:
            return np.zeros(basis.counts.size, dtype=np.float32)
        key = settings.model_dump_json()
        if key not in self._known:
            cells = basis.k_power.size
            drawn, _ = level_riding.draw(basis.k_power, basis.speech[:cells], basis.room[:cells], settings)
            self._known[key] = np.pad(drawn, (0, basis.counts.size - cells), "edge") if cells else drawn
        return self._known[key]


def _ridden(heard: _Heard, ridings: _Ridings, readings: Readings, asked: Asked) -> list[Evened]:
    """For each kind of riding the smallest that leaves nothing missing, else the largest that is allowed."""
    sizes = _sizes(asked.bounds)
    found = []
    for speed, up in ((SPEEDS_S[0], 1), (SPEEDS_S[0], 0), (SPEEDS_S[1], 0)):

        def tried(size: float, speed: float = speed, up: int = up) -> Evened:
            settings = LevelRiding(up_db=size * up, down_db=size, speed_s=speed)
            return _shaped(heard, Shaping(riding=settings), ridings(settings)).held(readings, asked)

        if not sizes or not (best := tried(sizes[-1])).held.enough:
            found += [best] if sizes else []
            continue
        low, high = 0, len(sizes) - 1
        while low < high:
            middle = (low + high) // 2
            candidate = tried(sizes[middle])
            low, high, best = (low, middle, candidate) if candidate.held.enough else (middle + 1, high, best)
        found.append(best)
    return found


def _sizes(bounds: Bounds) -> list[float]:
    return [float(size) for size in np.arange(RIDING_STEP_DB, bounds.riding_db + 1e-6, RIDING_STEP_DB)]


def _on_top(heard: _Heard, ridings: _Ridings, some: list[LevelRiding], readings: Readings, asked: Asked) -> list[Evened]:
    """Each of some ridings alone, and with a compressor after it."""
    found = []
    for settings in some:
        alone = _shaped(heard, Shaping(riding=settings), ridings(settings)).held(readings, asked)
        found += [alone] if alone.held.enough else [alone, *_compressed(heard, settings, ridings, readings, asked)]
    return found


def _compressed(heard: _Heard, riding: LevelRiding | None, ridings: _Ridings, readings: Readings, asked: Asked) -> list[Evened]:
    """Compressors within the bounds, mild ratios first: once a ratio does, no stronger one is looked at."""
    before = ridings(riding)
    peak = heard.basis.peak.max(axis=0) * 10 ** (before[heard.cells] / 20)
    found: list[Evened] = []
    for ratio in RATIOS:
        if ratio > asked.bounds.ratio or any(each.held.enough for each in found):
            break
        tried = list(_tried(heard, peak, ratio, asked.bounds))
        if not tried:
            continue

        def made(number: int, ratio: float = ratio, tried: list[_Tried] = tried) -> Evened:
            threshold, gain, depth = tried[number]
            shaping = Shaping(riding, Compressor(threshold_dbfs=threshold, ratio=ratio), depth)
            return _shaped(heard, shaping, before, gain).held(readings, asked)

        # The lower the threshold, the less is missing: the lowest tells whether this ratio does, and how far up it does still.
        found.append(made(len(tried) - 1))
        for number in range(len(tried) - 2, -1, -1) if found[-1].held.enough else ():
            found.append(made(number))
            if not found[-1].held.enough:
                break
    return found


_Tried = tuple[float, NDArray[np.float64], float]


def _tried(heard: _Heard, peak: NDArray[np.floating], ratio: float, bounds: Bounds) -> Iterator[_Tried]:
    """Thresholds in dBFS, from high to low, as long as they compress no more than the bound; each cell's gain, its depth."""
    last: float | None = None
    for over in OVER_VOICE_DB:
        threshold = min(heard.voice_db + over, 0.0)
        gain, depth = _compression(heard, peak, threshold, ratio)
        if depth > bounds.compression_db:
            if last is not None:
                yield from _deepest(heard, peak, ratio, bounds, threshold, last)
            return
        yield round(threshold, 1), gain, depth
        last = threshold


def _deepest(heard: _Heard, peak: NDArray[np.floating], ratio: float, bounds: Bounds, low: float, high: float) -> Iterator[_Tried]:
    """The lowest threshold that the bound allows, between one below it and one above."""
    found: _Tried | None = None
    while high - low > THRESHOLD_STEP_DB:
        middle = round((low + high) / 2, 1)
        gain, depth = _compression(heard, peak, middle, ratio)
        if depth > bounds.compression_db:
            low = middle
        else:
            high, found = middle, (middle, gain, depth)
    if found is not None:
        yield found


def _compression(heard: _Heard, peak: NDArray[np.floating], threshold: float, ratio: float) -> tuple[NDArray[np.float64], float]:
    gain = compressor.surrogate(peak, Compressor(threshold_dbfs=round(threshold, 1), ratio=ratio))
    return gain, limiting.depth_of(gain, heard.basis.speech)


def _told(whole: _Heard, found: list[Evened], ridings: _Ridings, readings: Readings, asked: Asked) -> Evened | None:
    """Of what was found the first that does, by touch; else what leaves least. Found on pieces it is told for the whole, a little
    firmer where that has to be."""
    good = sorted((each for each in found if each.held.enough), key=lambda each: each.touch.touch)
    rest = sorted((each for each in found if not each.held.enough), key=lambda each: each.held.missing_db)[: 1 if good else 2]
    if all(each.gain_db.size == whole.cells.size for each in found):
        return next(iter([*good, *rest]), None)
    told: list[Evened] = []
    for shaping in [
        *(firm for each in good[:MOST_TOLD] for firm in _firmer(each.shaping, asked.bounds)),
        *(e.shaping for e in rest),
    ]:
        made = _again(whole, shaping, ridings).held(readings, asked)
        if made.held.enough and made.shaping.compression_db <= asked.bounds.compression_db:
            return made
        told.append(made)
    return min(told, key=lambda each: each.held.missing_db, default=None)


def _firmer(shaping: Shaping, bounds: Bounds) -> Iterator[Shaping]:
    """A shaping, and as it is with more riding or a lower threshold."""
    for more in range(FIRMER + 1):
        riding, compressing = shaping.riding, shaping.compressor
        if riding is not None:
            size = riding.down_db + more * RIDING_STEP_DB
            if size > bounds.riding_db:
                return
            riding = riding.model_copy(update={"down_db": size, "up_db": size if riding.up_db else 0.0})
        if compressing is not None:
            compressing = compressing.model_copy(update={"threshold_dbfs": round(compressing.threshold_dbfs - more, 1)})
        yield Shaping(riding, compressing, shaping.compression_db)


def _needed(whole: _Heard, found: Evened, ridings: _Ridings, readings: Readings, asked: Asked) -> Evened:
    """Without what the gain and the limiter that follow could do without, set as they are: as nearly as cells can tell, for a run
    will."""
    shaping, held = found.shaping, found.held
    fewer = [Shaping()] if shaping.riding is None or shaping.compressor is None else [
        Shaping(riding=shaping.riding),
        Shaping(compressor=shaping.compressor),
    ]  # fmt: skip
    for each in fewer:
        less = _again(whole, each, ridings)
        after = less.readings(readings)
        same = holding.as_set(less.basis, after, asked, held.gain_db, held.ceiling_dbtp)
        if same.missing_db <= NEARLY_DB:
            return less.with_(same, after)
    return found


def _again(whole: _Heard, shaping: Shaping, ridings: _Ridings) -> "_Shaped":
    """A shaping found on pieces, on the whole."""
    before = ridings(shaping.riding)
    if shaping.compressor is None:
        return _shaped(whole, shaping, before)
    gain = compressor.surrogate(whole.basis.peak.max(axis=0) * 10 ** (before / 20), shaping.compressor)
    depth = limiting.depth_of(gain, whole.basis.speech)
    return _shaped(whole, Shaping(shaping.riding, shaping.compressor, depth), before, gain)


@dataclass(frozen=True)
class _Shaped:
    """A shaping, each cell's gain by it, and the cells after it."""

    heard: _Heard
    shaping: Shaping
    gain_db: NDArray[np.float64]
    basis: Basis

    def readings(self, before: Readings) -> Readings:
        if self.basis is self.heard.basis:
            return before
        changed = foretelling.changes(self.heard.basis, self.basis, before)
        return {name: value + changed.get(name, 0.0) for name, value in before.items()}

    def held(self, readings: Readings, asked: Asked) -> Evened:
        """With the gain and the limiter that belong to it."""
        after = self.readings(readings)
        inside = 0.0 if self.basis is self.heard.basis else EVENING_RESERVE_DB
        return self.with_(held(self.basis, after, asked, inside_db=inside), after)

    def with_(self, found: Held, after: Readings) -> Evened:
        moved = touch.of(self.gain_db + found.reduction_db, self.heard.basis.speech)
        return Evened(self.shaping, self.gain_db, after, found, moved)


def _shaped(
    heard: _Heard, shaping: Shaping, ridden: NDArray[np.floating], compressed: NDArray[np.float64] | None = None
) -> _Shaped:
    gain = ridden[heard.cells].astype(np.float64) + (0.0 if compressed is None else compressed)
    nothing = shaping.riding is None and shaping.compressor is None
    return _Shaped(heard, shaping, gain, heard.basis if nothing else heard.basis.times(10 ** (gain / 20)))


def _all(basis: Basis) -> _Heard:
    return _Heard(basis, np.ones(basis.counts.size, dtype=bool), _voice_db(basis))


def _pieces(basis: Basis) -> _Heard:
    """Pieces all along a long recording, and those with its highest peak and its loudest moments."""
    cells, size = basis.counts.size, round(PIECE_S * CELLS_PER_SECOND)
    if cells <= WHOLE_S * CELLS_PER_SECOND:
        return _all(basis)
    taken = np.zeros(cells, dtype=bool)
    loudest = [int(np.argmax(basis.peak.max(axis=0)))]
    for window in (loudness.MOMENTARY_CELLS, loudness.SHORT_TERM_CELLS):
        means = loudness.windows(basis.k_power, cells=window, step=loudness.STEP_CELLS)
        loudest.append(int(np.argmax(means)) * loudness.STEP_CELLS + window // 2)
    for middle in [*np.linspace(size / 2, cells - size / 2, PIECES).astype(int), *loudest]:
        first = min(max(middle - size // 2, 0), cells - size)
        taken[first : first + size] = True
    return _Heard(basis.part(taken), taken, _voice_db(basis))


def _voice_db(basis: Basis) -> float:
    return decibels.of_power(float(basis.power.mean(axis=0)[basis.speech].mean())) or -20.0 if basis.speech.any() else -20.0
