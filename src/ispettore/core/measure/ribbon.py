"""The level ribbon: for each column of time the RMS and the peak, for pictures."""

import itertools
import zlib
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import decibels
from ispettore.core.measure.meters import Measured

COLUMNS = 480
LOWEST_DB = -80.0


@dataclass(frozen=True)
class Ribbon:
    """Levels in dBFS per column, −80 at the least: shape (columns,) each."""

    rms_dbfs: NDArray[np.float64]
    peak_dbfs: NDArray[np.float64]

    def packed(self) -> bytes:
        """One byte a level (0 for −80 dBFS to 255 for 0), RMS then peak, compressed."""
        levels = np.concatenate((self.rms_dbfs, self.peak_dbfs))
        return zlib.compress(np.round((levels - LOWEST_DB) / -LOWEST_DB * 255).astype(np.uint8).tobytes())


def coarser(ribbon: Ribbon, columns: int) -> Ribbon:
    """The same ribbon in at most so many columns, each the highest of those it stands for."""
    count = ribbon.peak_dbfs.size
    if count <= columns:
        return ribbon
    starts = (np.arange(columns) * count) // columns
    return Ribbon(np.maximum.reduceat(ribbon.rms_dbfs, starts), np.maximum.reduceat(ribbon.peak_dbfs, starts))


def of(measured: Measured, *, columns: int = COLUMNS) -> Ribbon:
    """The ribbon of a whole file in at most so many columns, the channels together."""
    cells = measured.meters.cells
    edges = _edges(len(cells), columns)
    high, mean = np.zeros(edges.size - 1), np.zeros(edges.size - 1)
    for column, (first, last) in enumerate(itertools.pairwise(edges.tolist())):
        high[column] = cells.peak.part(first, last).max()
        mean[column] = cells.power.part(first, last).mean()
    return of_levels(mean, high)


def of_cells(power: NDArray[np.floating], peak: NDArray[np.floating], *, columns: int) -> Ribbon:
    """The ribbon of mean squares and peak amplitudes of cells in memory, shape (cells,) each, in at most so many columns."""
    edges = _edges(power.size, columns)
    if edges.size == 1:
        return of_levels(np.zeros(0), np.zeros(0))
    return of_levels(np.add.reduceat(power, edges[:-1]) / np.diff(edges), np.maximum.reduceat(peak, edges[:-1]))


def _edges(cells: int, columns: int) -> NDArray[np.int64]:
    """The borders of at most so many columns, as alike as they can be."""
    columns = min(columns, cells)
    return np.asarray((np.arange(columns + 1) * cells) // max(columns, 1), dtype=np.int64)


def of_levels(power: NDArray[np.float64], peak: NDArray[np.float64]) -> Ribbon:
    """A ribbon from the mean square and the peak amplitude of its columns, shape (columns,) each."""
    return Ribbon(_shown(decibels.levels(power)), _shown(decibels.levels(peak**2)))


def unpacked(packed: bytes) -> Ribbon:
    """A ribbon from its packed form, to a third of a decibel."""
    levels = np.frombuffer(zlib.decompress(packed), dtype=np.uint8).astype(np.float64) / 255 * -LOWEST_DB + LOWEST_DB
    half = levels.size // 2
    return Ribbon(levels[:half], levels[half:])


def _shown(levels: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.clip(levels, LOWEST_DB, 0.0)
