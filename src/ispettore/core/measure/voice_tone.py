"""The tone of a voice: its third-octaves from 100 Hz to 8 kHz while someone speaks, whatever its level; how far two are apart, and
whether two are of one voice at all.

Below lie rooms and handling, above encoders differ. Levels are taken from the long-term spectrum (`spectrum.py`).
"""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.spectrum import Spectrum

BANDS_HZ = tuple(round(1_000 * 10 ** (number / 10), 1) for number in range(-10, 10))
"""Exact middles of the bands (IEC 61260-1), 100 Hz to 8 kHz."""

PITCH_UP_TO_HZ = 450.0
OTHER_VOICE = 10 ** (1 / 10)
"""Voices whose lowest sounds lie a third-octave apart are two."""


def of(spectrum: Spectrum | None) -> NDArray[np.float64] | None:
    """Levels in dB about their mean, shape (20,); None where nobody speaks, or the sample rate is too low for it."""
    if spectrum is None or spectrum.speech_dbfs is None:
        return None
    known = {round(hz, 1): level for hz, level in zip(spectrum.centres_hz, spectrum.speech_dbfs, strict=False)}
    levels = [known.get(hz) for hz in BANDS_HZ]
    if any(level is None for level in levels):
        return None
    found = np.array(levels, dtype=np.float64)
    return np.asarray(found - found.mean())


def difference(was: Sequence[float] | NDArray[np.floating], now: Sequence[float] | NDArray[np.floating]) -> NDArray[np.float64]:
    """Band by band, what is more in the second than in the first at equal loudness, in dB. Bands in which the voice has next to
    nothing count little for what is equal."""
    change = np.asarray(now, dtype=np.float64) - np.asarray(was, dtype=np.float64)
    return np.asarray(change - np.sum(weight(was) * change))


def apart(was: Sequence[float] | NDArray[np.floating], now: Sequence[float] | NDArray[np.floating]) -> float:
    """How far two spectra are apart at equal loudness: root mean square in dB, bands weighted by what the first holds in them.

    >>> apart([-20, -20, -20], [-14, -14, -14]), round(apart([-20, -20], [-19, -21]), 2)
    (0.0, 1.0)
    """
    return float(np.sqrt(np.sum(weight(was) * difference(was, now) ** 2)))


def weight(levels: Sequence[float] | NDArray[np.floating]) -> NDArray[np.float64]:
    """What each band counts, all together 1."""
    found = 10 ** (np.asarray(levels, dtype=np.float64) / 30)
    return np.asarray(found / found.sum())


def lowest_hz(tone: NDArray[np.float64]) -> float:
    """Where the lowest sounds of a voice lie: the mean, by power and on a logarithmic axis, of the bands up to 450 Hz."""
    bands = np.array(BANDS_HZ)
    low = bands <= PITCH_UP_TO_HZ
    power = 10 ** (tone[low] / 10)
    return float(np.exp(np.sum(power * np.log(bands[low])) / power.sum()))


def voices(tones: Sequence[NDArray[np.float64]]) -> list[int]:
    """For each tone which voice it is of, counted from 0 for the lowest: those whose lowest sounds lie together are one."""
    order = sorted(range(len(tones)), key=lambda place: lowest_hz(tones[place]))
    found, voice = [0] * len(tones), 0
    for before, place in zip([None, *order], order, strict=False):
        if before is not None and lowest_hz(tones[place]) > OTHER_VOICE * lowest_hz(tones[before]):
            voice += 1
        found[place] = voice
    return found
