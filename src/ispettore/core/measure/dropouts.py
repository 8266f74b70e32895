"""Dropouts and repeated buffers: what a recording computer leaves when it cannot keep up.

A dropout is a gap of 2 to 200 ms in the midst of sound: dead silence, or one sample held, with loud neighbours on both sides
(longer gaps are dead silence). A repeated buffer is a stretch of at least 5 ms whose every sample equals the one a fixed distance
before, for about that distance: no voice does that. It is looked for where the largest sample of 2 ms occurs again with the same
value within a tenth of a second. What is loud is judged by the voice, so no gain changes what is found.
"""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel
from ispettore.core.measure.cells import Milliseconds
from ispettore.core.measure.grid import Seconds, borders, runs
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding

DEAD_AMPLITUDE = 10 ** (-90 / 20)
ABOVE_DEAD = 4.0
LOUD_OF_VOICE = 0.05
STILL_OF_VOICE = 0.001
"""Neighbours of a gap have this part of the active speech level, as an amplitude; what moves in the gap has no more than that."""

SHORTEST_MS, LONGEST_MS = 2, 200
BESIDE_MS = 2
HELD_AT_TOP, TOP_MS = 0.98, 8
"""What stands still at the highest level around is a wave that was cut, and clipping's to find."""

LOUD_AMPLITUDE, LOUD_STEPS = 0.0005, 16
REMEMBERED_MS = 100
LONGEST_REPEATS = 8
"""What repeats more often at its distance is a tone."""
MOST = 1_000
"""No more findings of one kind are kept: past that, the file as a whole is what is wrong."""


class Dropouts:
    """Feed seconds with their milliseconds, then `findings()`; `bit_depth` is that of the file's samples, None where it has
    none."""

    def __init__(self, *, sample_rate_hz: int, channels: int, bit_depth: int | None = None) -> None:
        self._rate = sample_rate_hz
        self._loud = max(LOUD_AMPLITUDE, LOUD_STEPS * 2.0 ** (1 - (bit_depth or 24)))
        self._past_edges = borders(sample_rate_hz, per_second=1_000)[-REMEMBERED_MS - 1 : -1] - sample_rate_hz
        self._kept = np.zeros((3, channels, 0), dtype=np.float32)
        self._remembered = np.full((channels, REMEMBERED_MS), -1, dtype=np.float32)
        self._seen_ms = 0
        self._seen = 0
        self._repeated_until = np.zeros(channels, dtype=np.int64)
        # With each: how loud its neighbours are and how far the wave moves within it, as amplitudes.
        self._gaps: list[tuple[Finding, float, float]] = []
        self._repeats: list[Finding] = []

    def feed(self, sound: Seconds, milliseconds: Milliseconds) -> None:
        """Take in seconds and what `Cells` returned for them."""
        self._find_gaps(milliseconds)
        offset = self._seen - sound.past
        largest = np.concatenate((self._remembered, milliseconds.largest), axis=1)
        edges = np.concatenate((self._past_edges, milliseconds.edges)) + sound.past
        found = _repeats(sound.looked_at, edges, largest, self._loud, self._rate // 200, self._repeated_until - offset)
        if sound.distinct < len(sound.samples):
            found = np.concatenate([found + np.array([0, 0, channel]) for channel in range(len(sound.samples))])
        self._remembered = largest[:, -REMEMBERED_MS:]
        for start, length, channel in found[: max(0, MOST - len(self._repeats))].tolist():
            at = (start + offset) / self._rate
            self._repeated_until[channel] = max(self._repeated_until[channel], start + length + offset)
            size = length / self._rate
            self._repeats.append(
                Finding(kind="repeated-buffer", start_s=at, end_s=at + size, channel=channel + 1, measure=1000 * size, unit="ms",
                        severity="serious")
            )  # fmt: skip
        self._seen += sound.frames

    def _find_gaps(self, milliseconds: Milliseconds) -> None:
        first = self._seen_ms - self._kept.shape[2]
        fresh = np.stack((milliseconds.largest, milliseconds.high, milliseconds.low))
        known = self._seen_ms
        self._kept = np.concatenate((self._kept, fresh), axis=2)
        self._seen_ms += fresh.shape[2]
        for channel in range(self._kept.shape[1]):
            largest, high, low = self._kept[:, channel]
            still = (largest <= DEAD_AMPLITUDE) | (high == low)
            if not still.any():
                continue
            for start, end in runs(still).tolist():
                if start == 0 or end == still.size or not SHORTEST_MS <= end - start <= LONGEST_MS:
                    continue
                if first + end < known - TOP_MS or end + TOP_MS > still.size:
                    continue  # told already, or to be told with what follows
                self._tell(first, start, end, channel)
        self._kept = self._kept[:, :, -(LONGEST_MS + 2 * TOP_MS) :].copy()

    def _tell(self, first: int, start: int, end: int, channel: int) -> None:
        largest, high, low = self._kept[:, channel]
        beside = [slice(max(start - BESIDE_MS, 0), start), slice(end, end + BESIDE_MS)]
        loud = min(float((high[side] - low[side]).max()) / 2 for side in beside)
        around = max(largest[max(start - TOP_MS, 0) : start].max(), largest[end : end + TOP_MS].max())
        held = float(largest[start:end].max())
        if loud < ABOVE_DEAD * DEAD_AMPLITUDE or len(self._gaps) >= MOST or held >= HELD_AT_TOP * around:
            return
        gap = Finding(kind="dropout", start_s=(first + start) / 1000, end_s=(first + end) / 1000, channel=channel + 1,
                      measure=float(end - start), unit="ms", severity="serious")  # fmt: skip
        self._gaps.append((gap, loud, float((high - low)[start:end].max())))

    def read(self, heard: Heard) -> Read:
        return (), self.findings(voice_dbfs=heard.voice_dbfs)

    def findings(self, *, voice_dbfs: float | None = None) -> list[Finding]:
        """Dropouts and repeated buffers with their lengths in ms. `voice_dbfs` is the active speech level."""
        voice = None if voice_dbfs is None else 10 ** (voice_dbfs / 20)
        gaps = [
            gap
            for gap, loud, moves in self._gaps
            if voice is None or (loud >= LOUD_OF_VOICE * voice and moves <= STILL_OF_VOICE * voice)
        ]
        return gaps + self._repeats


@kernel
def _repeats(
    x: NDArray[np.float32],
    edges: NDArray[np.int64],
    largest: NDArray[np.float32],
    loud: float,
    shortest: int,
    known: NDArray[np.int64],
) -> NDArray[np.int64]:
    """Stretches that repeat what came just before: shape (found, 3), rows first sample, samples, channel.

    `edges` and `largest` begin `REMEMBERED_MS` before what is fresh. A run that is too long for its distance is a tone's: it is
    followed no further. For each distance is remembered how far it was looked at in vain, so that nothing is looked at twice at
    the same distance, however often the largest sample comes back.
    """
    out = np.zeros((256, 3), dtype=np.int64)
    count = 0
    furthest = 0
    for k in range(REMEMBERED_MS, largest.shape[1]):
        furthest = max(furthest, edges[k + 1] - edges[k - REMEMBERED_MS])
    in_vain_until = np.zeros(furthest + 1, dtype=np.int64)
    total = largest.shape[1]
    nothing, one = np.float32(0.0), np.float32(1.0)
    for c in range(x.shape[0]):
        row = x[c]
        most_of = largest[c]
        until = known[c]
        in_vain_until[:] = 0
        for pair in range(REMEMBERED_MS, total, 2):
            k = pair
            if pair + 1 < total and most_of[pair + 1] > most_of[pair]:
                k = pair + 1
            value = most_of[k]
            if value < loud or edges[k + 1] <= until:
                continue
            earlier = most_of[k - REMEMBERED_MS : k]
            alike = np.float32(0.0)
            for j in range(earlier.size):
                alike += one if earlier[j] == value else nothing
            if alike == 0:
                continue
            here = -1
            for j in range(k - 1, k - REMEMBERED_MS - 1, -1):
                if most_of[j] != value:
                    continue
                if here < 0:
                    here = edges[k]
                    while abs(row[here]) != value:
                        here += 1
                    if here < until:
                        break
                there = edges[j]
                while abs(row[there]) != value:
                    there += 1
                lag = here - there
                known_until = in_vain_until[lag]
                if here < known_until:
                    continue
                start, most = here, LONGEST_REPEATS * lag
                first = max(lag, known_until)
                while start > first and here - start <= most and row[start - 1] == row[start - 1 - lag]:
                    start -= 1
                if start == known_until:  # the same run goes on that was too long before
                    in_vain_until[lag] = here + 1
                    continue
                end = here + 1
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
                in_vain_until[lag] = end
    return out[:count]
