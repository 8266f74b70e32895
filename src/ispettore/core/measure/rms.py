"""`rms_dbfs`: root mean square over the whole file, silence included. The RMS of a full-scale sine is −3.01 dBFS."""

from ispettore.core.measure import decibels
from ispettore.core.measure.reading import Reading
from ispettore.core.measure.totals import Totals


def measure(totals: Totals, *, duration_s: float) -> Reading:
    """The programme's value in dBFS from the mean of the channels' mean squares; each channel's own beside it."""
    powers = totals.sum_of_squares / max(totals.frames, 1)
    value = decibels.of_power(float(powers.mean()))
    return Reading(
        quantity="rms_dbfs",
        value=value,
        unit="dBFS",
        method="root mean square of all samples, mean of the channels' squares",
        start_s=0.0,
        end_s=duration_s,
        note=None if value is not None else "silence: every sample is zero",
        silence=value is None,
        per_channel=tuple(decibels.of_power(float(power)) for power in powers),
    )
