"""A room that swells: how much stronger than usual it is at a time.

A room keeps its spectrum while its level moves; breaths, consonants and murmurs have another. What the room is made of is heard
where nothing stands out of it. A fifth of a second whose octaves all differ from that by the same number of decibels is the room,
whatever its level; between such places it is taken to move evenly.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels, octaves
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.spectra import Spectra

TOGETHER = 5
"""Frames that are looked at together: a fifth of a second."""

LEAST_FRAMES = 12
ALIKE_DB = 1.5
LEAP_DB = 2.5
"""From one frame to the next, over a fifth of a second each: twice what a room does that swells by 12 dB in a second and a half."""

SWOLLEN_DB, MOST_DB = 3.0, 15.0
"""A room twice as strong as usual has swollen; below that it is taken as it usually is. What is louder
by more is no room that swells."""

PART = 65_536


@dataclass(frozen=True)
class Swelling:
    """By how many dB the room lies over its usual level around each frame of the spectra, 0 where it has not swollen; shape
    (frames,)."""

    raised_db: NDArray[np.float64]
    step_s: float

    @property
    def any(self) -> bool:
        """Whether the room swells at all."""
        return bool(self.raised_db.any())

    def at(self, first: int, last: int) -> NDArray[np.float64]:
        """By how many dB it has swollen in these cells, shape (cells,)."""
        if not self.any:
            return np.zeros(last - first)
        return np.asarray(np.interp(np.arange(first, last) * CELL_S / self.step_s, np.arange(self.raised_db.size), self.raised_db))


def find(*, alone: NDArray[np.bool_], soft: NDArray[np.bool_], spectra: Spectra) -> Swelling:
    """How a room swells. `alone` are cells in which nothing stands out of it, `soft` those in which it may be heard alone, whatever
    its level, shape (cells,) each. Where they are too few to tell, no room has swollen."""
    count = len(spectra.bands)
    known, possible = _whole(alone, spectra), _whole(soft, spectra)
    as_usual = Swelling(np.zeros(count), spectra.step_s)
    if known.sum() < LEAST_FRAMES:
        return as_usual
    usual = sum(
        octaves.powers(spectra, start, start + PART)[:, known[start : start + PART]].sum(axis=1) for start in range(0, count, PART)
    )
    usual *= TOGETHER / known.sum()
    places, strong_db = [], []
    for start in range(0, count - TOGETHER + 1, PART):
        part = octaves.powers(spectra, start, start + PART + TOGETHER - 1)
        together = np.lib.stride_tricks.sliding_window_view(part, TOGETHER, axis=1).sum(axis=2)
        apart_db = decibels.levels(together) - decibels.levels(usual)[:, None]
        quiet = np.lib.stride_tricks.sliding_window_view(possible[start : start + PART + TOGETHER - 1], TOGETHER).all(axis=1)
        like = quiet & (apart_db.std(axis=0) <= ALIKE_DB) & (apart_db.mean(axis=0) <= MOST_DB)
        beside = np.concatenate(([False], like[:-1])) | np.concatenate((like[1:], [False]))
        alike = np.flatnonzero(like & beside)  # for a moment a voice that dies away may be like any room
        places.append(alike + start + TOGETHER // 2)
        strong_db.append(apart_db[:, alike].mean(axis=0))
    if not places:
        return as_usual
    found, level_db = np.concatenate(places), np.concatenate(strong_db)
    gently = (level_db <= SWOLLEN_DB) | ~_at_once(found, level_db)
    if not gently.any():
        return as_usual
    over_db = np.interp(np.arange(count), found[gently], level_db[gently])
    return Swelling(np.where(over_db > SWOLLEN_DB, over_db, 0.0), spectra.step_s)


def _at_once(places: NDArray[np.int64], level_db: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Which belong to places one behind the other among which the level leaps: a room does not, a noise that is like it may."""
    near = np.diff(places) == 1
    runs = np.concatenate(([0], np.cumsum(~near)))[: places.size]
    leaps = near & (np.abs(np.diff(level_db)) > LEAP_DB)
    return np.isin(runs, runs[1:][leaps])


def _whole(cells: NDArray[np.bool_], spectra: Spectra) -> NDArray[np.bool_]:
    """The frames that lie in these cells alone, shape (frames,)."""
    start_s = np.arange(len(spectra.bands)) * spectra.step_s
    first = np.minimum((start_s / CELL_S).astype(np.int64), cells.size)
    after = np.minimum(np.ceil((start_s + spectra.step_s / 2) / CELL_S).astype(np.int64), cells.size)
    count = np.concatenate(([0], np.cumsum(cells)))
    return np.asarray((count[after] - count[first] == after - first) & (after > first))
