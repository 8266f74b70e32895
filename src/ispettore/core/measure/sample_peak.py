"""`sample_peak_dbfs`: the largest |sample|, with its channel and time (AES17: level relative to full scale)."""

import numpy as np

from ispettore.core.measure import decibels
from ispettore.core.measure.reading import Reading
from ispettore.core.measure.totals import Totals


def measure(totals: Totals, *, sample_rate_hz: int) -> Reading:
    """The reading in dBFS; None with `silence` where every sample is zero."""
    worst = int(np.argmax(totals.peak_amplitude))
    at_s = float(totals.peak_frame[worst]) / sample_rate_hz
    value = decibels.of_amplitude(float(totals.peak_amplitude[worst]))
    return Reading(
        quantity="sample_peak_dbfs",
        value=value,
        unit="dBFS",
        method="largest |sample| of all channels",
        channel=worst + 1,
        start_s=at_s,
        end_s=at_s,
        note=None if value is not None else "silence: every sample is zero",
        silence=value is None,
        per_channel=tuple(decibels.of_amplitude(float(peak)) for peak in totals.peak_amplitude),
    )
