"""Dropouts and repeated buffers: what a recording computer leaves when it cannot keep up.

A dropout is a gap of 2 to 50 ms of dead silence whose neighbours on both sides are loud (longer gaps are dead silence). A repeated
buffer is a stretch of at least 5 ms whose every sample equals the one a fixed distance before, for about that distance: no voice
does that. It is looked for where the largest sample of a cell occurs again with the same value within a tenth of a second.
"""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel
from ispettore.core.measure.cells import MS_PER_CELL, Milliseconds
from ispettore.core.measure.grid import Seconds, runs
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding

DEAD_AMPLITUDE = 10 ** (-90 / 20)
LOUD_AMPLITUDE = 0.01
SHORTEST_MS, LONGEST_MS = 2, 50
REMEMBERED_CELLS = 20
LONGEST_REPEATS = 8
"""What repeats more often at its distance is a tone."""
MOST = 1_000
"""No more findings of one kind are kept: past that, the file as a whole is what is wrong."""


class Dropouts:
    """Feed seconds with their milliseconds, then `findings()`."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._rate = sample_rate_hz
        self._largest = np.zeros((channels, 0), dtype=np.float32)
        self._seen_ms = 0
        self._seen = 0
        self._repeated_until = np.zeros(channels, dtype=np.int64)
        self._found: list[Finding] = []

    def feed(self, sound: Seconds, milliseconds: Milliseconds) -> None:
        """Take in seconds and what `Cells` returned for them."""
        self._gaps(milliseconds)
        offset = self._seen - sound.past
        found = _repeats(
            sound.samples, milliseconds.edges + sound.past, milliseconds.largest, self._rate // 200, self._repeated_until - offset
        )
        for start, length, channel in found[: max(0, MOST - len(self._found))].tolist():
            at = (start + offset) / self._rate
            self._repeated_until[channel] = max(self._repeated_until[channel], start + length + offset)
            size = length / self._rate
            self._found.append(
                Finding(kind="repeated-buffer", start_s=at, end_s=at + size, channel=channel + 1, measure=1000 * size, unit="ms",
                        severity="serious")
            )  # fmt: skip
        self._seen += sound.frames

    def _gaps(self, milliseconds: Milliseconds) -> None:
        first = self._seen_ms - self._largest.shape[1]
        if not (milliseconds.largest <= DEAD_AMPLITUDE).any() and not (self._largest <= DEAD_AMPLITUDE).any():
            self._largest = milliseconds.largest[:, -(LONGEST_MS + 2) :].copy()
            self._seen_ms += milliseconds.largest.shape[1]
            return
        self._largest = np.concatenate((self._largest, milliseconds.largest), axis=1)
        self._seen_ms += milliseconds.largest.shape[1]
        for channel, largest in enumerate(self._largest):
            dead = largest <= DEAD_AMPLITUDE
            if not dead.any():
                continue
            for start, end in runs(dead).tolist():
                if start == 0 or end == largest.size or not SHORTEST_MS <= end - start <= LONGEST_MS:
                    continue
                if first + end <= self._seen_ms - milliseconds.largest.shape[1]:
                    continue  # reported when the second before was fed
                if largest[start - 1] >= LOUD_AMPLITUDE and largest[end] >= LOUD_AMPLITUDE and len(self._found) < MOST:
                    self._found.append(
                        Finding(kind="dropout", start_s=(first + start) / 1000, end_s=(first + end) / 1000, channel=channel + 1,
                                measure=float(end - start), unit="ms", severity="serious")
                    )  # fmt: skip
        self._largest = self._largest[:, -(LONGEST_MS + 2) :].copy()

    def read(self, _heard: Heard) -> Read:
        return (), self.findings()

    def findings(self) -> list[Finding]:
        """Dropouts and repeated buffers with their lengths in ms."""
        return self._found


@kernel
def _repeats(
    x: NDArray[np.float32], edges: NDArray[np.int64], largest: NDArray[np.float32], shortest: int, known: NDArray[np.int64]
) -> NDArray[np.int64]:
    """Stretches that repeat what came just before: shape (found, 3), rows first sample, samples, channel.

    A run that is too long for its distance is a tone's: it is followed no further, and looked at once for each distance.
    """
    out = np.zeros((256, 3), dtype=np.int64)
    count = 0
    refused_lag = np.zeros(REMEMBERED_CELLS, dtype=np.int64)
    refused_until = np.zeros(REMEMBERED_CELLS, dtype=np.int64)
    cells = (edges.size - 1 + MS_PER_CELL - 1) // MS_PER_CELL
    where = np.zeros(cells + REMEMBERED_CELLS, dtype=np.int64)
    value = np.zeros(cells + REMEMBERED_CELLS, dtype=np.float32)
    for c in range(x.shape[0]):
        row = x[c]
        until = known[c]
        refused_lag[:] = 0
        # The past's cells once more, then this second's: positions of their largest samples.
        width = edges[min(MS_PER_CELL, edges.size - 1)] - edges[0]
        for k in range(cells + REMEMBERED_CELLS):
            if k < REMEMBERED_CELLS:
                first = edges[0] - (REMEMBERED_CELLS - k) * width
                last = first + width
            else:
                first = edges[(k - REMEMBERED_CELLS) * MS_PER_CELL]
                last = edges[min((k - REMEMBERED_CELLS + 1) * MS_PER_CELL, edges.size - 1)]
                high = np.float32(0.0)
                for m in range((k - REMEMBERED_CELLS) * MS_PER_CELL, min((k - REMEMBERED_CELLS + 1) * MS_PER_CELL, edges.size - 1)):
                    if largest[c, m] > high:
                        high = largest[c, m]
                        first = edges[m]
                        last = edges[m + 1]
                if high < LOUD_AMPLITUDE:
                    value[k] = -1.0
                    continue
            value[k] = -1.0
            for i in range(max(first, 0), last):
                if abs(row[i]) > value[k]:
                    value[k] = abs(row[i])
                    where[k] = i
        for k in range(REMEMBERED_CELLS, cells + REMEMBERED_CELLS):
            if value[k] < LOUD_AMPLITUDE or where[k] < until:
                continue
            for j in range(k - 1, k - REMEMBERED_CELLS - 1, -1):
                if value[j] != value[k]:
                    continue
                lag = where[k] - where[j]
                if lag == refused_lag[k - j - 1] and where[k] < refused_until[k - j - 1]:
                    continue
                start, most = where[k], LONGEST_REPEATS * lag
                while start > lag and where[k] - start <= most and row[start - 1] == row[start - 1 - lag]:
                    start -= 1
                end = where[k] + 1
                while end < row.size and end - start <= most and row[end] == row[end - lag]:
                    end += 1
                length = end - start
                if length >= shortest and length >= 0.95 * lag and length <= most and end < row.size and start > lag:
                    if count < out.shape[0]:
                        out[count, 0] = start
                        out[count, 1] = length
                        out[count, 2] = c
                        count += 1
                    until = end
                    break
                refused_lag[k - j - 1], refused_until[k - j - 1] = lag, end
    return out[:count]
