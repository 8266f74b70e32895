"""How peaks and loudness run through a file, every 100 ms: for pictures, and so that other limits can be placed in time later."""

import zlib
from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels, loudness
from ispettore.core.measure.grid import Series, stretches
from ispettore.core.measure.meters import Measured

STEP_CELLS = 20
NOTHING = -32_768
Track = Literal["sample_peak_dbfs", "true_peak_dbtp", "momentary_lufs", "short_term_lufs"]
FIELDS: tuple[Track, ...] = get_args(Track)


@dataclass(frozen=True)
class Tracks:
    """Shape (steps,) each, −∞ in silence. Peaks are the largest within step k, true peaks exact from −12 dBFS of the samples on.

    Loudness at k is that of the 0.4 s, or 3 s, that start with step k; the last ones that fit end the series.
    """

    sample_peak_dbfs: NDArray[np.float64]
    true_peak_dbtp: NDArray[np.float64]
    momentary_lufs: NDArray[np.float64]
    short_term_lufs: NDArray[np.float64]

    def packed(self) -> bytes:
        """Hundredths of a decibel in two bytes, differences compressed."""
        parts = []
        for name in FIELDS:
            values = getattr(self, name)
            steps = np.full(values.size, NOTHING, dtype=np.int16)
            sounding = np.isfinite(values)
            steps[sounding] = np.clip(np.round(values[sounding] * 100), -32_000, 32_000)
            parts.append(
                np.array([values.size], dtype="<i4").tobytes() + np.diff(steps, prepend=np.int16(0)).astype("<i2").tobytes()
            )
        return zlib.compress(b"".join(parts))


def of(measured: Measured) -> Tracks:
    """The tracks of a whole file, the channels together."""
    meters = measured.meters
    momentary, short_term = loudness.series(meters.filtered.k_power)
    return Tracks(
        _largest(meters.cells.peak), _largest(meters.true_peak.cells), momentary.astype(np.float64), short_term.astype(np.float64)
    )


def unpacked(packed: bytes) -> Tracks:
    """Tracks from their packed form, to a hundredth of a decibel."""
    content, at, found = zlib.decompress(packed), 0, []
    for _ in FIELDS:
        count = int(np.frombuffer(content, dtype="<i4", count=1, offset=at)[0])
        steps = np.cumsum(np.frombuffer(content, dtype="<i2", count=count, offset=at + 4), dtype=np.int16)
        found.append(np.where(steps == NOTHING, -np.inf, steps / 100))
        at += 4 + 2 * count
    return Tracks(*found)


def _largest(peaks: Series) -> NDArray[np.float64]:
    """The largest of the channels in each step, in dB; a stretch is a whole number of steps."""
    parts = [
        np.maximum.reduceat(peaks.part(first, last).max(axis=0), np.arange(0, last - first, STEP_CELLS))
        for first, last, _, _ in stretches(len(peaks))
    ]
    amplitude = np.concatenate(parts).astype(np.float64) if parts else np.zeros(0)
    return np.where(amplitude > 0, decibels.levels(amplitude**2), -np.inf)
