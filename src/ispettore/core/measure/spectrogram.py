"""Spectrogram: how strong each pitch is at each time, as a picture for the page.

Columns are moments, rows pitches on a logarithmic axis from 50 Hz up. Each column is the power spectrum of Hann-windowed frames
within its time; a row is the strongest bin of its pitch, or what lies between two where bins are wider than rows.
"""

from collections.abc import Callable

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.errors import Cancelled
from ispettore.core.measure import decibels

LOWEST_HZ, HIGHEST_HZ = 50.0, 20_000.0
LOWEST_DB, HIGHEST_DB = -110.0, -20.0
FRAME_S = 0.046
MOST_FRAMES = 4
"""Frames taken of one column's time; more would only cost."""
AT_ONCE_S = 30.0

Samples = Callable[[int, int], NDArray[np.float32]]
"""(first frame, frames) → shape (frames, channels); fewer at the end of the file."""


class Axes(BaseModel):
    """What a picture's edges stand for."""

    model_config = ConfigDict(frozen=True)

    start_s: float
    end_s: float
    low_hz: float
    high_hz: float
    low_dbfs: float = LOWEST_DB
    high_dbfs: float = HIGHEST_DB


def axes(start_s: float, end_s: float, *, sample_rate_hz: int) -> Axes:
    """The edges of a picture of this span."""
    return Axes(start_s=start_s, end_s=end_s, low_hz=LOWEST_HZ, high_hz=min(HIGHEST_HZ, sample_rate_hz / 2))


def never() -> bool:
    """For callers who wait for what they asked."""
    return False


def levels(
    samples: Samples,
    where: Axes,
    *,
    sample_rate_hz: int,
    columns: int,
    rows: int,
    cancelled: Callable[[], bool] = never,
) -> NDArray[np.float64]:
    """Levels in dBFS, shape (rows, columns), the highest pitch on top. A full-scale sine reads −3 dBFS in its row.

    `cancelled` is asked before each half minute of sound. Raises Cancelled.
    """
    length = int(2 ** round(np.log2(FRAME_S * sample_rate_hz)))
    edges = where.start_s + (where.end_s - where.start_s) * np.arange(columns + 1) / columns
    window = np.hanning(length + 1)[:-1]
    window = (window * np.sqrt(2) / window.sum()).astype(np.float32)
    out = np.full((rows, columns), decibels.levels(0.0))
    pitch = where.low_hz * (where.high_hz / where.low_hz) ** (np.arange(rows + 1) / rows)
    # A column of its own read for each where they are far apart; one read for many where they are close.
    together = max(1, int(AT_ONCE_S / max(edges[1] - edges[0], 1e-9)))
    for first in range(0, columns, together):
        if cancelled():
            raise Cancelled
        last = min(first + together, columns)
        starts = _frames(edges[first : last + 1], length, sample_rate_hz)
        begin, end = int(starts.min()), int(starts.max()) + length
        if end - begin <= 2 * AT_ONCE_S * sample_rate_hz:
            read = samples(max(begin, 0), end - max(begin, 0))
            read = np.pad(read, ((max(-begin, 0), max(0, end - max(begin, 0) - len(read))), (0, 0)))
            taken = np.stack([read[start - begin : start - begin + length] for start in starts.ravel()])
        else:
            taken = np.stack([_padded(samples, int(start), length) for start in starts.ravel()])
        power = np.abs(scipy.fft.rfft(taken * window[None, :, None], axis=1)) ** 2
        columnwise = power.mean(axis=2).reshape(*starts.shape, -1).max(axis=1)
        out[:, first:last] = _rows(columnwise, pitch, sample_rate_hz / length).T[::-1]
    return out


def _frames(edges: NDArray[np.float64], length: int, rate: int) -> NDArray[np.int64]:
    """Where the frames of each column start, shape (columns, frames): spread over its time, at most `MOST_FRAMES`."""
    span = (edges[1] - edges[0]) * rate
    count = int(np.clip(np.ceil(span / length), 1, MOST_FRAMES))
    parts = (np.arange(count) + 0.5) / count
    middles = edges[:-1, None] * rate + span * parts[None, :]
    return np.asarray(np.round(middles - length / 2), dtype=np.int64)


def _padded(samples: Samples, start: int, length: int) -> NDArray[np.float32]:
    read = samples(max(start, 0), length + min(start, 0))
    return np.pad(read, ((max(-start, 0), length - max(-start, 0) - len(read)), (0, 0)))


def _rows(power: NDArray[np.float64], pitch: NDArray[np.float64], bin_hz: float) -> NDArray[np.float64]:
    """Rows of levels from bins of power: shape (columns, bins) → (columns, rows), the lowest pitch first."""
    bins = power.shape[1]
    low, high = pitch[:-1] / bin_hz, pitch[1:] / bin_hz
    middle = np.sqrt(low * high)
    level = decibels.levels(power)
    below = np.clip(middle.astype(np.int64), 0, bins - 2)
    part = np.clip(middle - below, 0, 1)
    out = level[:, below] * (1 - part) + level[:, below + 1] * part
    for row in np.flatnonzero(np.floor(high) > np.ceil(low)):
        first, last = int(np.ceil(low[row])), min(int(np.floor(high[row])) + 1, bins)
        if last > first:
            out[:, row] = level[:, first:last].max(axis=1)
    return np.asarray(out)


def shades(of: NDArray[np.float64], where: Axes) -> NDArray[np.uint8]:
    """How dark each place of the picture is, 0 at the lowest level shown to 255 at the highest."""
    return np.clip((of - where.low_dbfs) / (where.high_dbfs - where.low_dbfs) * 255, 0, 255).round().astype(np.uint8)
