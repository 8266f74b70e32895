"""Harsh sibilance: frames of speech whose band from 5 to 10 kHz alone is louder than the voice on the whole."""

import numpy as np

from ispettore.core.measure import decibels
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding, merged
from ispettore.core.measure.spectra import Spectra, centres_hz

LOW_HZ, HIGH_HZ = 4_900.0, 10_100.0
JOIN_S = 0.1
LEAST_RATE_HZ = 16_000


def read(heard: Heard) -> Read:
    """Hissing bursts."""
    return (), findings(heard.spectra, voice_dbfs=heard.voice_dbfs)


def findings(spectra: Spectra, *, voice_dbfs: float | None) -> list[Finding]:
    """Each burst with its level against the active speech level `voice_dbfs`, in dB."""
    centres = centres_hz(spectra.sample_rate_hz)
    if voice_dbfs is None or spectra.sample_rate_hz < LEAST_RATE_HZ:
        return []
    band = (centres > LOW_HZ) & (centres < HIGH_HZ)
    found = []
    for first in range(0, len(spectra.bands), 65_536):
        level = decibels.levels(spectra.bands.part(first, first + 65_536)[band].sum(axis=0)) - voice_dbfs
        for frame in np.flatnonzero(level > 0):
            start = (first + int(frame)) * spectra.step_s
            found.append(
                Finding(kind="sibilance", start_s=start, end_s=start + spectra.step_s, measure=float(level[frame]), unit="dB",
                        severity="note")
            )  # fmt: skip
    return merged(found, within_s=JOIN_S)
