"""What short frames hold in each octave, and where that stays the same: a room's does, whatever its level; a voice's moves with
every syllable."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.spectra import Spectra, centres_hz

LOWEST_HZ, OCTAVES = 200.0, 6

HALF_S = 0.2
"""So far on both sides frames are looked at together: in 0.4 s nobody speaks one sound alone for long."""

MOST_SPREAD = 2.5
"""Noise of one make-up spreads by no more than 1.3 in 99 of 100 places, hum in white noise by 2.1 in the middle; a voice 10 dB
over the room by more than 3 in 19 of 20 places, and by 10 in the middle."""

TOLD_APART = 0.69
"""Of a frame under its window: how long a piece of noise it tells apart."""
OF_ITS_OWN_DB = 1.0
PART = 16_384


def powers(spectra: Spectra, first: int, last: int) -> NDArray[np.float64]:
    """The power of each octave from 200 Hz on in these frames, shape (octaves, frames)."""
    hz, bands = centres_hz(spectra.sample_rate_hz), spectra.bands.part(first, last)
    lowest = _lowest_hz(spectra.sample_rate_hz)
    edges = np.searchsorted(hz, [*lowest, 2 * lowest[-1]])
    return np.array([bands[start:end].sum(axis=0, dtype=np.float64) for start, end in pairwise(edges)])


@dataclass(frozen=True)
class MakeUp:
    """Whether the sound keeps its make-up around each frame, shape (frames,); not known at both ends, and False."""

    stays: NDArray[np.bool_]
    spectra: Spectra

    def at(self, first: int, last: int) -> NDArray[np.bool_]:
        """Around each of these cells, shape (last − first,)."""
        if not self.stays.size:
            return np.zeros(last - first, dtype=bool)
        return self.stays[self.spectra.frame_at(np.arange(first, last))]

    def through(self, first: int, last: int) -> bool:
        """All through these cells; not where they are too few to tell."""
        step_s, half = self.spectra.step_s, half_frames(self.spectra)
        start = int(np.ceil(first * CELL_S / step_s)) + half
        end = int((last * CELL_S - step_s / 2) / step_s) + 1 - half
        return end > start and bool(self.stays[start:end].all())


def half_frames(spectra: Spectra) -> int:
    """How many frames on either side of one are looked at with it."""
    return int(HALF_S / spectra.step_s)


def make_up(spectra: Spectra) -> MakeUp:
    """Where the sound keeps its make-up.

    Levels of octaves against that of the frame, the octave in the middle; their variance in time over what chance gives noise of
    that width (4.34 dB over the root of half its degrees of freedom) and a decibel of the room's own, in the mean of the octaves.
    """
    count = len(spectra.bands)
    stays = np.zeros(count, dtype=bool)
    half = half_frames(spectra)
    together = 2 * half + 1
    told_apart_s = TOLD_APART * spectra.length / spectra.sample_rate_hz
    chance = (10 / np.log(10)) ** 2 / (_lowest_hz(spectra.sample_rate_hz) * told_apart_s) + OF_ITS_OWN_DB**2
    for start in range(0, count - together + 1, PART):
        level = decibels.levels(powers(spectra, start, start + PART + together - 1))
        shape = level - np.median(level, axis=0)
        spread = np.lib.stride_tricks.sliding_window_view(shape, together, axis=1).var(axis=2, ddof=1)
        stays[start + half : start + half + spread.shape[1]] = (spread / chance[:, None]).mean(axis=0) <= MOST_SPREAD
    return MakeUp(stays, spectra)


def _lowest_hz(sample_rate_hz: int) -> NDArray[np.float64]:
    """Where the octaves begin that this rate holds whole, shape (octaves,)."""
    lowest = LOWEST_HZ * 2.0 ** np.arange(OCTAVES)
    return np.asarray(lowest[2 * lowest <= sample_rate_hz / 2])
