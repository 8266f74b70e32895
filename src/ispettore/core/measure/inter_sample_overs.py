"""`inter_sample_overs`: places where the wave between the samples goes beyond full scale (0 dBTP)."""

import numpy as np

from ispettore.core.measure import decibels
from ispettore.core.measure.grid import CELL_S, Series, runs, stretches
from ispettore.core.measure.reading import Finding, Reading

FULL_SCALE = 1.0
JOIN_CELLS = 10  # overs within 50 ms are one place


def places(true_peaks: Series, ceiling: float) -> list[tuple[int, int, float]]:
    """First and last cell (exclusive) and largest amplitude of each place above a ceiling (as amplitude, at least 0.25)."""
    found: list[tuple[int, int, float]] = []
    for first, last, _, _ in stretches(len(true_peaks)):
        peaks = true_peaks.part(first, last)[0]
        for start, end in (runs(peaks > ceiling) + first).tolist():
            highest = float(peaks[start - first : end - first].max())
            if found and start - found[-1][1] < JOIN_CELLS:
                start, highest = found[-1][0], max(found.pop()[2], highest)
            found.append((start, end, highest))
    return found


def measure(true_peaks: Series, *, duration_s: float) -> tuple[Reading, list[Finding]]:
    """The number of places above 0 dBTP, and a finding for each with its true peak in dBTP."""
    found = places(true_peaks, FULL_SCALE * (1 + 1e-6))
    reading = Reading(
        quantity="inter_sample_overs",
        value=float(len(found)),
        unit="places",
        method="places where the true peak exceeds 0 dBTP, those within 50 ms counted once",
        end_s=duration_s,
    )
    return reading, [
        Finding(
            kind="inter-sample-over",
            start_s=start * CELL_S,
            end_s=end * CELL_S,
            measure=decibels.of_amplitude(highest),
            unit="dBTP",
            severity="warning",
        )
        for start, end, highest in found
    ]


def count_above(true_peaks: Series, ceiling_dbtp: float) -> int:
    """How many places stand above another ceiling of at least −12 dBTP, without measuring again."""
    return len(places(true_peaks, float(np.power(10.0, ceiling_dbtp / 20))))
