"""`clipped_runs`: flat tops, at any level from 20 dB under the recording's highest on, so that clipping is still seen after the
file was turned down.

A flat top is a run of three or more samples within one step of a 16-bit sample (or of the file's own, coarser ones) of one another,
at the crest of a wave that arrives and leaves steeply, much more steeply than the crest of any sine could. It counts where the
histogram of the recording ends with it: nothing in its second stands higher, and other crests end at the same level. A lossy codec
or a change of the sample rate rounds flat tops; what is left of them is wider crests than a sine's at the very top of the
recording, which is reported as suspected where they crowd at one level as cut ones do, or are many. So are crests that run
straight between two corners: a high-pass tilts a flat top, and leaves its corners.
"""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel, larger
from ispettore.core.measure import decibels
from ispettore.core.measure.cells import Milliseconds
from ispettore.core.measure.grid import CELLS_PER_SECOND, Seconds, Series
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding, FindingKind, Reading, merged

FROM_AMPLITUDE = 0.003  # −50 dBFS: under that, rounding makes tops of its own
FROM_TOP = 0.1  # and 20 dB under the recording's highest
CONTEXT = 64  # samples around a crest
LONG = 5  # a single run of so many samples needs no other run at its level
# Flat: tolerance relative to the level, samples before and after, steepness in tolerances, shortest run, nearness to the top.
FLAT = (0.0, 2.0, 16.0, 3.0, 0.999)
ROUNDED = (0.03, 3.0, 6.0, 4.0, 0.85)
# Straight: from this part of the second's top on; samples inside; a corner's bend of the level, and of the largest inside.
STRAIGHT_FROM, STRAIGHT_LEAST, CORNER, SHARPER, CORNER_STEPS = 0.4, 4, 0.012, 12.0, 24.0
SUSPECTED_RUNS, STRAIGHT_RUNS, STRAIGHT_A_SECOND = 5, 6, 0.25  # of straight runs so many in a minute, and a loud second
NEAR_TOP = 0.85
CROWD, ALIKE, APART = 0.015, 0.5, 1.2  # half of them this near their middle; so many a loud second if so, and if not
METHOD = "runs of 3 or more equal samples at crests that arrive and leave steeply, at a level that nothing exceeds"
JOIN_S = 0.25
NOWHERE = np.zeros((3, 0))


class Clipping:
    """Feed seconds with their milliseconds; `bit_depth` is that of the file's samples, None where it has none."""

    def __init__(self, *, sample_rate_hz: int, channels: int, bit_depth: int | None) -> None:
        self._rate = sample_rate_hz
        self._step = 2.0 ** (1 - min(bit_depth or 16, 16))
        self._corner = CORNER * min(1.0, 48_000 / sample_rate_hz)
        self._seen = 0
        # Rows: cell, level with its sign, samples, channel.
        self._flat, self._rounded, self._straight = Series(4), Series(4), Series(4)
        self._clear = False  # flat tops were seen that count however loud the rest is: nobody asks what is only suspected then
        self._extremes = Series(2 * channels)

    def feed(self, sound: Seconds, milliseconds: Milliseconds) -> None:
        """Take in seconds and what `Cells` returned for them."""
        highest, lowest = milliseconds.extremes()
        self._extremes.append(np.concatenate((highest, -lowest)))
        if milliseconds.largest.max(initial=0.0) > FROM_AMPLITUDE:
            highest, lowest = np.maximum(highest, 0), np.maximum(-lowest, 0)
            tops = (milliseconds.edges, milliseconds.high, milliseconds.low, highest, lowest)
            flat = _crests(sound.looked_at, self._step, FLAT, *tops)
            self._note(self._flat, flat, sound)
            if flat.shape[1] and not self._clear:
                known = self._flat.whole()
                self._clear = bool((self._supported(known) & (np.abs(known[1]) >= FROM_TOP)).any())
            if not self._clear:
                self._note(self._rounded, _crests(sound.looked_at, self._step, ROUNDED, *tops), sound)
                straight = _straight_tops(sound.looked_at, self._step, self._corner, *tops, milliseconds.bend)
                self._note(self._straight, straight, sound)
        self._seen += sound.frames

    def _note(self, series: Series, found: NDArray[np.float32], sound: Seconds) -> None:
        if found.shape[1]:
            found[0] = (found[0] + self._seen - sound.past) * CELLS_PER_SECOND / self._rate
            for channel in range(len(sound.samples) // sound.distinct):
                series.append(np.concatenate((found[:3], found[3:] + channel)))

    def read(self, heard: Heard) -> Read:
        clipped, findings = self.result(duration_s=heard.duration_s)
        return (clipped,), findings

    def result(self, *, duration_s: float) -> tuple[Reading, list[Finding]]:
        """The number of clipped runs, and where they are: runs within a quarter of a second of one another are one finding."""
        kept = self._kept()
        suspected = np.zeros((4, 0), dtype=np.float32) if kept.shape[1] else self._suspected()
        reading = Reading(
            quantity="clipped_runs",
            value=float(kept.shape[1]),
            unit="runs",
            method=METHOD,
            end_s=duration_s,
            note=f"{suspected.shape[1]} rounded crests at the top look like clipping before encoding or resampling"
            if suspected.shape[1]
            else None,
        )
        return reading, [*_findings("clipping", kept), *_findings("clipping-suspected", suspected)]

    def _kept(self) -> NDArray[np.float32]:
        flat = self._flat.whole()
        top = self._extremes.whole().max(initial=0.0)
        flat = flat[:, np.abs(flat[1]) >= FROM_TOP * top]
        return flat[:, self._supported(flat)]

    def cuts(self) -> NDArray[np.float64]:
        """Where waves were cut, shape (3, runs): cell, level with its sign, channel from 1."""
        return self._kept()[[0, 1, 3]].astype(np.float64)

    def _supported(self, found: NDArray[np.float32]) -> NDArray[np.bool_]:
        """Runs with another one of their channel and sign at their level, or long ones."""
        supported = np.asarray(found[2] >= LONG)
        order = np.lexsort((found[1], found[3]))
        level, channel = found[1][order], found[3][order]
        alike = (np.diff(level) <= 2 * self._step) & (np.diff(channel) == 0)
        supported[order[1:][alike]] = True
        supported[order[:-1][alike]] = True
        return supported

    def _suspected(self) -> NDArray[np.float32]:
        straight = self._straight_often()
        return straight if straight.shape[1] else self._suspected_rounded()

    def _straight_often(self) -> NDArray[np.float32]:
        """Straight tops of those minutes that have many of them: now and then a voice makes one."""
        straight = self._straight.whole()
        if straight.shape[1] < STRAIGHT_RUNS:
            return straight[:, :0]
        minute = (straight[0] / (60 * CELLS_PER_SECOND)).astype(np.int64)
        extremes = self._extremes.whole().max(axis=0)
        loud = np.add.reduceat(extremes >= STRAIGHT_FROM * extremes.max(), np.arange(0, extremes.size, 60))
        needed = np.maximum(STRAIGHT_RUNS, STRAIGHT_A_SECOND * loud)
        return straight[:, (np.bincount(minute, minlength=loud.size) >= needed)[minute]]

    def _suspected_rounded(self) -> NDArray[np.float32]:
        found = self._rounded.whole()
        if found.shape[1] < SUSPECTED_RUNS:
            return found[:, :0]
        extremes = self._extremes.whole()
        channels = len(extremes) // 2
        side = found[3].astype(np.int64) - 1 + np.where(found[1] > 0, 0, channels)
        top = extremes.max(axis=1)
        near = np.abs(found[1]) >= NEAR_TOP * top[side]
        kept = found[:, near]
        if not kept.shape[1]:
            return kept
        loud_seconds = (extremes >= NEAR_TOP * top[:, None]).sum(axis=1).max()
        # Crests that were cut end at one level; those that a voice makes wide by itself, as one vowel may, end where they will.
        level, of = np.abs(kept[1]), side[near]
        middle = np.array([np.median(level[of == one]) if (of == one).any() else 1.0 for one in range(2 * channels)])
        crowded = np.median(np.abs(level / middle[of] - 1)) <= CROWD
        return kept if kept.shape[1] >= max(SUSPECTED_RUNS, (ALIKE if crowded else APART) * loud_seconds) else kept[:, :0]


def _findings(kind: FindingKind, runs: NDArray[np.float32]) -> list[Finding]:
    """Measure: the level in dBFS at which the waves are cut."""
    each = [
        Finding(
            kind=kind,
            start_s=float(cell) / CELLS_PER_SECOND,
            end_s=float(cell) / CELLS_PER_SECOND,
            channel=int(channel),
            measure=decibels.of_amplitude(abs(float(level))),
            unit="dBFS",
            severity="serious" if kind == "clipping" else "warning",
        )
        for cell, level, _, channel in runs[:, np.argsort(runs[0], kind="stable")].T.astype(np.float64)
    ]
    return merged(each, within_s=JOIN_S)


@kernel
def _crests(
    x: NDArray[np.float32],
    step: float,
    settings: tuple[float, float, float, float, float],
    edges: NDArray[np.int64],
    highs: NDArray[np.float32],
    lows: NDArray[np.float32],
    highest: NDArray[np.float64],
    lowest: NDArray[np.float64],
) -> NDArray[np.float32]:
    """Flat crests, shape (4, found): frame, level, samples, channel; none that start in the last 32 samples, which
    are looked at again with what follows.

    `highs` and `lows` have shape (channels, milliseconds), `highest` and `lowest` shape (channels, seconds).
    """
    relative, around, steepness, shortest, near_top = settings
    away = int(around)
    margin = CONTEXT // 2
    out = np.empty((4, 256), dtype=np.float32)
    count = 0
    past = x.shape[1] - edges[-1]
    for c in range(x.shape[0]):
        row = x[c]
        i = max(past - CONTEXT, 0) + margin
        for m in range(-1, edges.size - 1):
            second = max(m, 0) // 1_000
            if m < 0 or m % 1_000 == 0:
                floor_up = np.float32(max(FROM_AMPLITUDE, near_top * highest[c, second] - 2 * step))
                floor_down = np.float32(-max(FROM_AMPLITUDE, near_top * lowest[c, second] - 2 * step))
            end_of_block = past if m < 0 else past + edges[m + 1]
            if m >= 0 and highs[c, m] < floor_up and lows[c, m] > floor_down:
                i = max(i, end_of_block)
                continue
            while i < min(end_of_block, row.size - margin):
                if floor_down < row[i] < floor_up:
                    i += 1
                    continue
                size = abs(row[i])
                top = highest[c, second] if row[i] > 0 else lowest[c, second]
                tolerance = max(step, relative * size) * 1.001
                if abs(row[i] - row[i - 1]) <= tolerance:
                    i += 1
                    continue
                low = row[i]
                high = row[i]
                end = i + 1
                while end < row.size - away and max(high, row[end]) - min(low, row[end]) <= tolerance:
                    high = max(high, row[end])
                    low = min(low, row[end])
                    end += 1
                if end - i >= shortest:
                    # Coarse samples have flat crests of their own: their step is the smallest change around.
                    change = np.float32(2.0**-7)
                    for k in range(i - margin + 1, min(end + margin, row.size)):
                        between = abs(row[k] - row[k - 1])
                        if between > 0 and between < change:
                            change = between
                    tolerance = max(tolerance, np.float64(change))
                    sign = 1.0 if row[i] > 0 else -1.0
                    inner = min(abs(low), abs(high))
                    outer = max(abs(low), abs(high))
                    steep = steepness * tolerance
                    before = inner - sign * row[i - away]
                    after = inner - sign * row[min(end - 1 + away, row.size - 1)]
                    if before >= steep and after >= steep and outer >= near_top * top - 2 * step:
                        if count == out.shape[1]:
                            grown = np.empty((4, 2 * count), dtype=np.float32)
                            grown[:, :count] = out
                            out = grown
                        out[0, count] = i
                        out[1, count] = sign * outer
                        out[2, count] = end - i
                        out[3, count] = c + 1
                        count += 1
                i = max(end - 1, i + 1)
    return out[:, :count].copy()


@kernel
def _straight_tops(
    x: NDArray[np.float32],
    step: float,
    sharp: float,
    edges: NDArray[np.int64],
    highs: NDArray[np.float32],
    lows: NDArray[np.float32],
    highest: NDArray[np.float64],
    lowest: NDArray[np.float64],
    bends: NDArray[np.float32],
) -> NDArray[np.float32]:
    """Crests that run straight between two sharp corners, shape (4, found): as `_crests` gives them.

    `bends` has the sharpest bend of each millisecond, shape (channels, milliseconds): where none is sharp enough, no corner is
    looked for.
    """
    margin = CONTEXT // 2
    out = np.empty((4, 256), dtype=np.float32)
    count = 0
    past = x.shape[1] - edges[-1]
    turn = np.empty(x.shape[1], dtype=np.float32)
    nothing, one, two = np.float32(0.0), np.float32(1.0), np.float32(2.0)
    sharpness, softer = np.float32(0.999 * sharp), np.float32(1.001 / SHARPER)
    for c in range(x.shape[0]):
        row = x[c]
        i = max(past - CONTEXT, 0) + margin
        for m in range(-1, edges.size - 1):
            second = max(m, 0) // 1_000
            up = np.float32(max(FROM_AMPLITUDE, STRAIGHT_FROM * highest[c, second]))
            down = np.float32(-max(FROM_AMPLITUDE, STRAIGHT_FROM * lowest[c, second]))
            end_of_block = past if m < 0 else past + edges[m + 1]
            if m >= 0:
                # The bend of a sample is noted with the next one, which may lie in the next millisecond or in what follows.
                bend = max(bends[c, m], bends[c, m + 1]) if m + 1 < bends.shape[1] else np.float32(np.inf)
                blunt = bend < 0.999 * sharp * min(up, -down) or bend < 0.999 * CORNER_STEPS * step
                likely = not (blunt or (highs[c, m] < up and lows[c, m] > down))
                if likely and i < end_of_block < row.size - STRAIGHT_LEAST - 1:
                    # A corner at the top, and after it hardly any bend for as long as a straight top lasts at least: seldom.
                    near = row[i - 1 : end_of_block + STRAIGHT_LEAST + 1]
                    bent = turn[: near.size - 2]
                    for k in range(bent.size):
                        bent[k] = near[k + 2] - two * near[k + 1] + near[k]
                    tops = np.float32(0.0)
                    for k in range(bent.size - STRAIGHT_LEAST):
                        top = near[k + 1]
                        corner = -bent[k] if top > 0 else bent[k]
                        inside = abs(bent[k + 1])
                        for away in range(2, STRAIGHT_LEAST + 1):
                            inside = larger(inside, abs(bent[k + away]))
                        straight = corner >= sharpness * abs(top) and inside <= corner * softer
                        tops += one if straight and (top >= up or top <= down) else nothing
                    likely = bool(tops > 0)
                if not likely:
                    i = max(i, end_of_block)
                    continue
            while i < min(end_of_block, row.size - margin):
                if down < row[i] < up:
                    i += 1
                    continue
                sign = np.float32(1.0) if row[i] > 0 else np.float32(-1.0)
                size = abs(row[i])
                corner = -sign * (row[i + 1] - 2 * row[i] + row[i - 1])
                if corner < max(sharp * size, CORNER_STEPS * step):
                    i += 1
                    continue
                # From this corner on, as long as the wave hardly bends.
                quiet = corner / SHARPER
                end = i + 1
                while end < row.size - 1 and abs(row[end + 1] - 2 * row[end] + row[end - 1]) <= quiet:
                    end += 1
                inside = end - i - 1
                if inside >= STRAIGHT_LEAST and end < row.size - 1:
                    last = -sign * (row[end + 1] - 2 * row[end] + row[end - 1])
                    slope = abs(row[end] - row[i]) / (end - i)
                    rises = sign * (row[i] - row[i - 1])
                    falls = sign * (row[end] - row[end + 1])
                    if last >= sharp * size and last >= quiet and rises > slope and falls > 1.5 * slope and sign * row[end] > 0:
                        if count == out.shape[1]:
                            grown = np.empty((4, 2 * count), dtype=np.float32)
                            grown[:, :count] = out
                            out = grown
                        out[0, count] = i
                        out[1, count] = sign * max(size, abs(row[end]))
                        out[2, count] = end - i + 1
                        out[3, count] = c + 1
                        count += 1
                i = max(end, i + 1)
    return out[:, :count].copy()
