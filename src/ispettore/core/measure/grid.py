"""The one grid of time that all meters share: cells of 5 ms, 200 to the second.

Meters are fed whole seconds (the last may be shorter), so a block size can never change a reading and the borders of the cells
are the same in every second. Cell k of a file starts at k × 5 ms at every sample rate; where 5 ms is no whole number of samples,
borders are rounded to the nearest.
"""

from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray

CELLS_PER_SECOND = 200
CELL_S = 1 / CELLS_PER_SECOND

Second = NDArray[np.float32]
"""One second of samples, shape (channels, at most sample_rate_hz), each channel contiguous."""


def borders(sample_rate_hz: int, frames: int | None = None) -> NDArray[np.int64]:
    """Sample indices at which the cells of one second start, and its end: shape (cells + 1,).

    >>> borders(44_100)[:4].tolist()
    [0, 221, 441, 662]
    >>> borders(48_000, 500).tolist()
    [0, 240, 480, 500]
    """
    steps = np.arange(CELLS_PER_SECOND + 1, dtype=np.int64)
    edges = (2 * steps * sample_rate_hz + CELLS_PER_SECOND) // (2 * CELLS_PER_SECOND)
    if frames is None or frames >= sample_rate_hz:
        return edges
    return np.append(edges[edges < frames], frames).astype(np.int64)


def seconds(blocks: Iterable[NDArray[np.float32]], *, sample_rate_hz: int, channels: int) -> Iterator[Second]:
    """Regroup blocks of shape (frames, channels) into whole seconds of shape (channels, frames). The array is reused."""
    second = np.empty((channels, sample_rate_hz), dtype=np.float32)
    filled = 0
    for block in blocks:
        start = 0
        while start < len(block):
            taken = min(sample_rate_hz - filled, len(block) - start)
            second[:, filled : filled + taken] = block[start : start + taken].T
            filled += taken
            start += taken
            if filled == sample_rate_hz:
                yield second
                filled = 0
    if filled:
        yield np.ascontiguousarray(second[:, :filled])


def runs(mask: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Start and end (exclusive) of each run of True, shape (runs, 2).

    >>> runs(np.array([False, True, True, False, True])).tolist()
    [[1, 3], [4, 5]]
    """
    padded = np.concatenate(([False], mask, [False]))
    return np.flatnonzero(padded[1:] != padded[:-1]).reshape(-1, 2)


class Series:
    """A growing series of float32 values, one row of cells per channel."""

    def __init__(self) -> None:
        self._parts: list[NDArray[np.float32]] = []

    def append(self, part: NDArray[np.floating]) -> None:
        """Add shape (rows, cells)."""
        self._parts.append(part.astype(np.float32))

    def whole(self) -> NDArray[np.float32]:
        """All so far, shape (rows, cells)."""
        if len(self._parts) > 1:
            self._parts = [np.concatenate(self._parts, axis=1)]
        return self._parts[0] if self._parts else np.zeros((1, 0), dtype=np.float32)
