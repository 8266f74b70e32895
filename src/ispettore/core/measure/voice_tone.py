"""The tone of a voice: its third-octaves from 100 Hz to 8 kHz while someone speaks, whatever its level; how far two are apart, and
whether two are of one voice at all.

Below lie rooms and handling, above encoders differ. Levels are taken from the long-term spectrum (`spectrum.py`).
"""

from collections.abc import Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.spectrum import Spectrum

BANDS_HZ = tuple(round(1_000 * 10 ** (number / 10), 1) for number in range(-10, 10))
"""Exact middles of the bands (IEC 61260-1), 100 Hz to 8 kHz."""

OTHER_VOICE = 1.08
"""Fundamentals further apart than this are of two voices: one voice keeps within a few hundredths from session to session."""


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


def voices(fundamentals_hz: Sequence[float | None]) -> list[int]:
    """For each recording which voice it is of, by the fundamentals: those that lie together are one, counted from the lowest. What
    has none is taken for the first.

    >>> voices([101.5, 165.2, 100.9, None, 167.8])
    [0, 1, 0, 0, 1]
    """
    known = sorted((hz, place) for place, hz in enumerate(fundamentals_hz) if hz is not None)
    found, voice = [0] * len(fundamentals_hz), 0
    for (before, _), (hz, place) in pairwise([known[0], *known] if known else []):
        voice += hz > OTHER_VOICE * before
        found[place] = voice
    return found
