"""The one grid of time that all meters share: cells of 5 ms, 200 to the second.

Meters are fed whole seconds, four at a time (the last may be shorter), so a block size can never change a reading and the borders
of the cells are the same in every second. Cell k of a file starts at k × 5 ms at every sample rate; where 5 ms is no whole number
of samples, borders are rounded to the nearest.
"""

import os
import tempfile
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import IO, TypeVar

import numpy as np
import scipy
from numpy.typing import NDArray

CELLS_PER_SECOND = 200
CELL_S = 1 / CELLS_PER_SECOND
STRETCH_CELLS = 900 * CELLS_PER_SECOND
"""How much is worked out at a time when a file has passed: a quarter of an hour."""

TOGETHER = 4
"""So many seconds are fed at a time: one by one, most of the time would go into calls."""


Number = TypeVar("Number", bound=np.generic)


@dataclass(frozen=True)
class Seconds:
    """Four seconds of sound, at the end of a file fewer, with what came just before them.

    `samples` has shape (channels, past + frames), each channel contiguous; up to a fifth of a second of it is `past`. The array is
    used again for the seconds that follow. `distinct` is how many channels have to be looked at: only the first as long as all hold
    the same samples from the start of the file on.
    """

    samples: NDArray[np.float32]
    past: int
    distinct: int

    @property
    def frames(self) -> int:
        return int(self.samples.shape[1]) - self.past

    @property
    def fresh(self) -> NDArray[np.float32]:
        """The seconds alone, shape (channels, frames)."""
        return self.samples[:, self.past :]

    @property
    def looked_at(self) -> NDArray[np.float32]:
        """The channels that have to be looked at, with their past, shape (distinct, past + frames)."""
        return self.samples[: self.distinct]

    def of_all(self, found: NDArray[Number], *, axis: int = 0) -> NDArray[Number]:
        """What was found in each channel that was looked at, for every channel along `axis`."""
        alike = len(self.samples) // self.distinct
        return found if alike == 1 else np.repeat(found, alike, axis=axis)


def borders(sample_rate_hz: int, frames: int | None = None, *, per_second: int = CELLS_PER_SECOND) -> NDArray[np.int64]:
    """Sample indices at which the cells of so many frames (or their milliseconds) start, and their end: shape (cells + 1,).

    Without a number of frames, those of one second.

    The borders of cells are borders of milliseconds too.

    >>> borders(44_100)[:4].tolist()
    [0, 221, 441, 662]
    >>> borders(48_000, 500).tolist()
    [0, 240, 480, 500]
    """
    frames = sample_rate_hz if frames is None else frames
    second, step = np.divmod(np.arange(frames * per_second // sample_rate_hz + 2, dtype=np.int64), per_second)
    edges = second * sample_rate_hz + (2 * step * sample_rate_hz + per_second) // (2 * per_second)
    return np.append(edges[edges < frames], frames).astype(np.int64)


class Regrouped:
    """Blocks of shape (frames, channels) in, of any size; whole seconds out, four at a time."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._together, self._keep = TOGETHER * sample_rate_hz, sample_rate_hz // 5
        self._samples = np.empty((channels, self._together), dtype=np.float32)
        self._past = self._filled = 0
        self._distinct = 1

    def put(self, block: NDArray[np.float32]) -> Iterator[Seconds]:
        """Take a block in; each of what is full then has to be used before the next is asked for."""
        start = 0
        while start < len(block):
            taken = min(self._together - self._filled, len(block) - start)
            at = self._past + self._filled
            self._samples[:, at : at + taken] = block[start : start + taken].T
            self._compare(at, at + taken)
            self._filled += taken
            start += taken
            if self._filled == self._together:
                yield Seconds(self._samples, self._past, self._distinct)
                self._turn()

    def _compare(self, first: int, last: int) -> None:
        channels = len(self._samples)
        if self._distinct < channels:
            fresh = self._samples[:, first:last]
            self._distinct = 1 if all(np.array_equal(fresh[0], other) for other in fresh[1:]) else channels

    def _turn(self) -> None:
        """The end becomes the past of what follows."""
        past = min(self._keep, self._past + self._filled)
        end = self._samples[:, self._past + self._filled - past :]
        if past != self._past:
            self._samples = np.empty((len(end), past + self._together), dtype=np.float32)
        self._samples[:, :past] = end.copy()
        self._past, self._filled = past, 0

    def rest(self) -> Iterator[Seconds]:
        """What did not fill four seconds, if anything."""
        if self._filled:
            yield Seconds(np.ascontiguousarray(self._samples[:, : self._past + self._filled]), self._past, self._distinct)
            self._filled = 0


def seconds(blocks: Iterable[NDArray[np.float32]], *, sample_rate_hz: int, channels: int) -> Iterator[Seconds]:
    """Regroup blocks of shape (frames, channels) into whole seconds, four at a time, with what came before them."""
    regrouped = Regrouped(sample_rate_hz=sample_rate_hz, channels=channels)
    for block in blocks:
        yield from regrouped.put(block)
    yield from regrouped.rest()


def runs(mask: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Start and end (exclusive) of each run of True, shape (runs, 2).

    >>> runs(np.array([False, True, True, False, True])).tolist()
    [[1, 3], [4, 5]]
    """
    padded = np.concatenate(([False], mask, [False]))
    return np.flatnonzero(padded[1:] != padded[:-1]).reshape(-1, 2)


def widened(mask: NDArray[np.bool_], cells: int) -> NDArray[np.bool_]:
    """True within so many cells of a True one.

    >>> widened(np.array([False, False, True, False, False]), 1).tolist()
    [False, True, True, True, False]
    """
    return np.asarray(scipy.ndimage.maximum_filter1d(mask.view(np.uint8), 2 * cells + 1, mode="constant")).astype(bool)


def counts(sample_rate_hz: int, first: int, last: int, frames: int) -> NDArray[np.int64]:
    """How many samples lie in each of the cells `first` to `last` (exclusive) of a file of so many frames."""
    index = np.arange(first, last + 1, dtype=np.int64)
    second, step = np.divmod(index, CELLS_PER_SECOND)
    edges = second * sample_rate_hz + (2 * step * sample_rate_hz + CELLS_PER_SECOND) // (2 * CELLS_PER_SECOND)
    return np.asarray(np.diff(np.minimum(edges, frames)))


class Series:
    """A growing series of float32 values in rows; what outgrows `MEMORY_BYTES` waits in an unnamed temporary file.

    So an inspection's memory does not depend on the length of the file, and nothing can be left behind.
    """

    MEMORY_BYTES = 1 << 20

    def __init__(self, rows: int = 1) -> None:
        self.rows = rows
        self._parts: list[NDArray[np.float32]] = []
        self._held = 0
        self._spilled = 0
        self._file: IO[bytes] | None = None

    def __len__(self) -> int:
        return self._spilled + self._held

    def append(self, part: NDArray[np.floating]) -> None:
        """Add shape (rows, values)."""
        self._parts.append(np.ascontiguousarray(part.T, dtype=np.float32))
        self._held += part.shape[1]
        if self._held * self.rows * 4 > self.MEMORY_BYTES:
            self._spill()

    def _spill(self) -> None:
        if self._file is None:
            self._file = tempfile.TemporaryFile(buffering=0)  # noqa: SIM115 - lives as long as the series
        data = memoryview(np.concatenate(self._parts).tobytes())
        while data:
            data = data[self._file.write(data) :]
        self._spilled += self._held
        self._parts, self._held = [], 0

    def part(self, first: int, last: int) -> NDArray[np.float32]:
        """Values `first` to `last` (exclusive; cut to what there is), shape (rows, values)."""
        first, last = max(first, 0), min(last, len(self))
        found = []
        if self._file is not None and first < self._spilled:
            end = min(last, self._spilled)
            data = os.pread(self._file.fileno(), (end - first) * self.rows * 4, first * self.rows * 4)
            found.append(np.frombuffer(data, dtype=np.float32).reshape(-1, self.rows))
        if last > self._spilled and self._parts:
            self._parts = [np.concatenate(self._parts)] if len(self._parts) > 1 else self._parts
            found.append(self._parts[0][max(first - self._spilled, 0) : last - self._spilled])
        if not found:
            return np.zeros((self.rows, 0), dtype=np.float32)
        return np.ascontiguousarray((np.concatenate(found) if len(found) > 1 else found[0]).T)

    def whole(self) -> NDArray[np.float32]:
        """All so far, shape (rows, values). For what is known to be short, and for planning."""
        return self.part(0, len(self))


def stretches(count: int, *, around: int = 0) -> Iterator[tuple[int, int, int, int]]:
    """Walk over so many cells in stretches of a quarter of an hour: (first, last, first less `around`, last plus `around`)."""
    for first in range(0, count, STRETCH_CELLS):
        last = min(first + STRETCH_CELLS, count)
        yield first, last, max(first - around, 0), min(last + around, count)
