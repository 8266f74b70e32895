"""The long-term spectrum of the voice and of the room tone, in third-octaves, and what stands out of both.

Third-octaves (IEC 61260-1) of the frames in which someone speaks and of those of room tone, as mean squares over their own time.
Hum is told by its lines, resonances by narrow peaks of the whole file's long-term spectrum over their surroundings.
"""

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.measure import decibels, fundamental
from ispettore.core.measure.grid import runs
from ispettore.core.measure.low_rate import LowRate
from ispettore.core.measure.reading import Reading
from ispettore.core.measure.spectra import Spectra, centres_hz
from ispettore.core.measure.speech import Passages

LOWEST_DB = -140.0
RESONANCES_FROM_HZ, RESONANCES_TO_HZ = 250.0, 8_000.0
STANDS_OUT_DB = 6.0
WIDEST_OCTAVES = 1 / 3
AROUND_OCTAVES = 2 / 3
MOST = 8


class Resonance(BaseModel):
    """A narrow peak of the long-term spectrum: its middle, its width 3 dB below the top, and how far it stands out."""

    model_config = ConfigDict(frozen=True)

    frequency_hz: float
    width_hz: float
    stands_out_db: float


class Spectrum(BaseModel):
    """Levels in dBFS of each third-octave (None where there is no such time); `hum_hz` are the lines of hum, if there is any."""

    model_config = ConfigDict(frozen=True)

    centres_hz: tuple[float, ...] = ()
    speech_dbfs: tuple[float, ...] | None = None
    room_tone_dbfs: tuple[float, ...] | None = None
    hum_hz: tuple[float, ...] = ()
    resonances: tuple[Resonance, ...] = ()
    fundamental_hz: float | None = None
    """Of the voice; None where too little is voiced, or it was measured before this was kept."""


def measure(spectra: Spectra, low: LowRate, passages: Passages, hum: Reading, *, worth_saying_db: float) -> Spectrum:
    """The spectrum of a file whose frames have all passed."""
    base = float(hum.note.split(" ")[0]) if hum.value is not None and hum.value > worth_saying_db and hum.note else None
    return Spectrum(
        centres_hz=tuple(round(float(hz), 1) for hz in centres_hz(spectra.sample_rate_hz)),
        speech_dbfs=_of(spectra, passages.speech),
        room_tone_dbfs=_of(spectra, runs(passages.room)),
        hum_hz=tuple(base * multiple for multiple in range(1, 9) if base * multiple <= 400) if base else (),
        resonances=resonances(spectra.long_term(), sample_rate_hz=spectra.sample_rate_hz),
        fundamental_hz=round(pitch, 1) if (pitch := fundamental.usual(low, passages)) is not None else None,
    )


def _of(spectra: Spectra, spans: NDArray[np.int64]) -> tuple[float, ...] | None:
    total, count = np.zeros(spectra.bands.rows), 0
    for first, last in spans:
        bands = spectra.within(int(first), int(last))
        total += bands.sum(axis=1, dtype=np.float64)
        count += bands.shape[1]
    return levels_of(total / count) if count else None


def levels_of(powers: NDArray[np.float64]) -> tuple[float, ...]:
    """Mean squares as levels to a hundredth of a decibel."""
    return tuple(round(float(level), 2) for level in decibels.levels(powers, floor_db=LOWEST_DB))


def of_samples(samples: NDArray[np.floating], *, sample_rate_hz: int) -> tuple[float, ...]:
    """Third-octave levels in dBFS of a short stretch, shape (frames, channels), the mean of the channels (Welch's method)."""
    # Frames as long as a tenth of a second, so that the lowest band of 23 Hz holds several bins.
    length = min(round(sample_rate_hz / 10), len(samples))
    hz, density = scipy.signal.welch(
        np.asarray(samples, dtype=np.float64), sample_rate_hz, nperseg=length, detrend="constant", axis=0, scaling="density"
    )
    density = density.mean(axis=1)
    width = float(hz[1] - hz[0])
    centres = centres_hz(sample_rate_hz)
    low, high = centres * 10 ** (-1 / 20), np.minimum(centres * 10 ** (1 / 20), sample_rate_hz / 2)
    shares = np.clip((np.minimum(hz + width / 2, high[:, None]) - np.maximum(hz - width / 2, low[:, None])) / width, 0, 1)
    return levels_of(shares @ density * width)


def resonances(long_term: NDArray[np.float64], *, sample_rate_hz: int) -> tuple[Resonance, ...]:
    """Peaks narrower than a third of an octave that stand at least 6 dB over their surroundings, the highest first.

    `long_term` holds the mean square of each bin of a Hann-windowed spectrum, shape (bins,).
    """
    bins = long_term.size
    width_hz = sample_rate_hz / 2 / (bins - 1)
    hz = np.arange(bins) * width_hz
    inside = np.flatnonzero((hz >= RESONANCES_FROM_HZ) & (hz <= min(RESONANCES_TO_HZ, 0.45 * sample_rate_hz)))
    if inside.size < 8 or not (long_term > 1e-14).any():
        return ()
    # Even steps of a 48th of an octave, so that "around" means the same everywhere.
    octaves = np.arange(0, np.log2(hz[inside[-1]] / hz[inside[0]]), 1 / 48)
    at = hz[inside[0]] * 2**octaves
    level = np.interp(at, hz, decibels.levels(long_term, floor_db=LOWEST_DB))
    around = scipy.ndimage.median_filter(level, size=int(2 * AROUND_OCTAVES * 48) | 1, mode="nearest")
    found = []
    for peak, prominence in _peaks(level):
        out = min(float(level[peak] - around[peak]), prominence)
        low, high = (float(np.interp(edge, np.arange(at.size), at)) for edge in _edges(level, peak))
        if out >= STANDS_OUT_DB and np.log2(high / low) <= WIDEST_OCTAVES:
            found.append(
                Resonance(frequency_hz=round(float(at[peak]), 1), width_hz=round(high - low, 1), stands_out_db=round(out, 1))
            )
    return tuple(sorted(found, key=lambda one: -one.stands_out_db)[:MOST])


def _peaks(level: NDArray[np.float64]) -> list[tuple[int, float]]:
    """Where a level is higher than on both sides, and its prominence: how far it falls on either side before it climbs higher.
    Only what is prominent enough to be looked at.

    >>> _peaks(np.array([0.0, 9, 9, 1, 20, 13, 15, 0, 8]))
    [(1, 8.0), (4, 20.0)]
    """
    found = []
    for peak in np.flatnonzero((level[1:-1] > level[:-2]) & (level[1:-1] >= level[2:])) + 1:
        higher = np.flatnonzero(level > level[peak])
        left = higher[higher < peak].max(initial=-1) + 1
        right = higher[higher > peak].min(initial=level.size)
        prominence = float(level[peak] - max(level[left : peak + 1].min(), level[peak:right].min()))
        if prominence >= STANDS_OUT_DB:
            found.append((int(peak), prominence))
    return found


def _edges(level: NDArray[np.float64], peak: int) -> tuple[float, float]:
    """Between which places a peak's level is 3 dB under its top, straight lines between the steps; it falls further on both
    sides.

    >>> _edges(np.array([0.0, 6, 9, 3]), 2)
    (1.0, 2.5)
    """
    height = level[peak] - 3.0
    below = np.flatnonzero(level <= height)
    left, right = int(below[below < peak].max()), int(below[below > peak].min())
    return (
        float(left + (height - level[left]) / (level[left + 1] - level[left])),
        float(right - (height - level[right]) / (level[right - 1] - level[right])),
    )
