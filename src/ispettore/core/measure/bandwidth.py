"""`bandwidth_hz`: where the long-term spectrum ends.

A recording made at its own rate falls off smoothly and reaches the end of its band, or nearly. Where it was encoded with loss or
brought up from a lower rate, it ends at an edge: over a few per cent of the band the level falls by more than 15 dB and never comes
back. The reading is the place of the steepest such edge, else half the sample rate.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.measure import decibels
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding, Reading

EDGE_DB, STAYS_BELOW_DB = 15.0, 12.0
NEAR, FAR = 0.008, 0.035  # of half the sample rate: the levels compared lie so far from the edge
FROM = 0.12
TOO_EARLY = 0.94  # good resamplers end above 0.96; encoders and lower rates well below
FLOOR_DB = -150.0


def read(heard: Heard) -> Read:
    """Where the spectrum ends."""
    facts = heard.facts
    band, findings = measure(
        heard.spectra.long_term(), sample_rate_hz=facts.sample_rate_hz, duration_s=facts.duration_s, lossy=facts.lossy
    )
    return (band,), findings


def measure(spectrum: NDArray[np.float64], *, sample_rate_hz: int, duration_s: float, lossy: bool) -> tuple[Reading, list[Finding]]:
    """The reading in Hz from the long-term mean squares, shape (bins,), and a finding where the band ends too early."""
    half = sample_rate_hz / 2
    silent = not bool((spectrum > 1e-14).any())
    edge = (
        None if silent else _edge(scipy.ndimage.uniform_filter1d(decibels.levels(spectrum, floor_db=FLOOR_DB), 3, mode="nearest"))
    )
    value = None if silent else half if edge is None else edge * half
    reading = Reading(
        quantity="bandwidth_hz",
        value=value,
        unit="Hz",
        method="steepest edge of the long-term spectrum, else half the sample rate",
        end_s=duration_s,
        note="silence: there is no spectrum" if silent else None,
        silence=silent,
    )
    if value is None or lossy or value >= TOO_EARLY * half:
        return reading, []
    early = Finding(kind="band-limited", start_s=0.0, end_s=duration_s, measure=value, unit="Hz", severity="note")
    return reading, [early]


def _edge(level: NDArray[np.float64]) -> float | None:
    """The place of the edge as a part of the band, or None."""
    count = level.size
    near, far = max(1, round(NEAR * count)), max(3, round(FAR * count))
    total = np.concatenate(([0.0], np.cumsum(level)))
    places = np.arange(max(far, round(FROM * count)), count - near - 3)
    below = (total[places - near] - total[places - far]) / (far - near)
    ends = np.minimum(places + far, count)
    above = (total[ends] - total[places + near]) / (ends - places - near)
    highest_after = np.maximum.accumulate(level[::-1])[::-1][places + near]
    fits = (below - above >= EDGE_DB) & (highest_after <= below - STAYS_BELOW_DB)
    if not fits.any():
        return None
    drop = np.where(fits, below - above, -np.inf)
    return float(places[int(np.argmax(drop))] / (count - 1))
