"""What one wave reads on another number of channels that are all alike, told from what it read before: nothing is measured again.

Peaks, levels and the room are those of each channel and stay; loudness adds the channels (ITU-R BS.1770-5, equation 2) and is read
anew from the same cells. For a plan: what is written is measured.
"""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure.basis import Basis
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.level_meters import derived
from ispettore.core.measure.reading import Finding, Reading

AS_THEY_WERE = ("sample_peak_dbfs", "true_peak_dbtp", "rms_dbfs", "active_speech_level_dbfs", "speech_activity_percent")
COUNTED = ("clipped_runs",)
"""Counts of every channel's own."""


def copied(basis: Basis, channels: int) -> Basis:
    """A recording of one channel, or of channels that are alike, on so many channels that are alike."""
    before = basis.inspection
    k_power = basis.k_power * np.float32(channels / before.facts.channels)
    peak, power = _rows(basis.peak, channels), _rows(basis.power, channels)
    return Basis(_inspection(before, channels, k_power), peak, power, k_power, basis.counts)


def _rows(of_each: NDArray[np.float32], channels: int) -> NDArray[np.float32]:
    return np.broadcast_to(of_each[:1], (channels, of_each.shape[1]))


def _inspection(before: Inspection, channels: int, k_power: NDArray[np.float32]) -> Inspection:
    facts, readings = before.facts, {name: _on(channels, each) for name, each in before.readings.items()}
    for name in COUNTED:
        count = readings[name].value
        readings[name] = readings[name].model_copy(update={"value": count and count * channels / facts.channels})
    peak, true_peak, level, active, activity = (readings[name] for name in AS_THEY_WERE)
    levels = derived(peak, true_peak, level, active, activity, k_power, duration_s=facts.duration_s)
    alike = Finding(kind="identical-channels", start_s=0.0, end_s=facts.duration_s, severity="note")
    findings = [each for each in before.findings if each.kind != alike.kind and each.channel in (None, 1)]
    return before.model_copy(
        update={
            "facts": facts.model_copy(update={"channels": channels, "channel_relation": "identical" if channels > 1 else "one"}),
            "readings": readings | {each.quantity: each for each in levels},
            "findings": findings + [alike.model_copy(update={"channel": number}) for number in range(2, channels + 1)],
        }
    )


def _on(channels: int, reading: Reading) -> Reading:
    each = reading.per_channel
    return reading.model_copy(update={"per_channel": each[:1] * channels, "channel": reading.channel and 1}) if each else reading
