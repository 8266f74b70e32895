"""Marks made in the read: two or three claps, presses of a clicker or clicks of the tongue within a second, at a mistake.

Each is a short broadband burst: in the difference of the wave to itself 0.11 ms before, which leaves thumps of plosives and knocks
out, one millisecond stands out of those before it, and what follows has fallen again. A consonant does that too, but a word is
around it: a mark is bursts that lie apart from any speech, are alike, and loud beside the voice, as noises of the mouth are not.
These are ratios to what is around or to the voice: no gain changes what is found.
"""

from collections.abc import Iterator, Sequence

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.kernels import kernel
from ispettore.core.measure import decibels
from ispettore.core.measure.cells import Milliseconds
from ispettore.core.measure.grid import CELL_S, Seconds, Series, stretches
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding

LAG_S = 1.1e-4
TOP_MS = 20  # a burst is the loudest of so many milliseconds on either side
BEFORE_MS, NEAR_MS, RISE_DB = 30, 6, 10.0
AFTER_MS, FALL_DB = (25, 50), 10.0
OWN_MS = 4
KEPT_MS = 200
BROAD_DB = -9.0  # the difference against the wave itself, over the burst: a knock's lies at −20 and below
OVER_VOICE_DB = -8.0
FURTHEST_APART_S, LONGEST_S = 0.8, 1.2
CLEARLY_APART, MOST_PARTS = 1.5, 3  # against the middle of all times between bursts
FEWEST, MOST = 2, 6  # one press of a clicker is two bursts
ALIKE_DB = 12.0
ALONE_CELLS = 20  # 100 ms on either side
OWN_CELLS = (2, 9)  # 10 ms before and 45 ms after its top are a burst's own
QUIET_DB = 15.0  # under the voice
TAIL_DB, TAIL_DB_A_CELL, TAIL_CELLS = 8.0, 0.3, 60  # under a burst, where a room rings on after it
OWN_S = 0.05
AROUND_CELLS = round(2 * LONGEST_S / CELL_S)


class Marks:
    """Feed seconds, then `read`."""

    def __init__(self, *, sample_rate_hz: int) -> None:
        self._lag = max(1, round(LAG_S * sample_rate_hz))
        # Rows: the power of a millisecond of the difference, and of the wave itself.
        self._power = np.zeros((2, 0), dtype=np.float32)
        self._seen = 0
        # Rows: millisecond (whole seconds and thousandths apart, to stay exact), power of the difference.
        self._found = Series(3)

    def feed(self, sound: Seconds, milliseconds: Milliseconds) -> None:
        """Take in seconds; their last 50 ms are looked at with what follows."""
        fresh = _powers(sound.looked_at, sound.past, milliseconds.edges, self._lag)
        first = self._seen - self._power.shape[1]
        self._power = np.concatenate((self._power, fresh), axis=1)
        self._seen += fresh.shape[1]
        at = _bursts(self._power)
        at = at[at >= (KEPT_MS - AFTER_MS[1] if first else BEFORE_MS)]
        self._found.append(np.stack((*np.divmod(at + first, 1_000), self._power[0, at])))
        self._power = self._power[:, -KEPT_MS:].copy()

    def read(self, heard: Heard) -> Read:
        """Each mark with the level of its loudest burst in dBFS, and how many bursts it has."""
        voice_dbfs = heard.voice_dbfs
        if voice_dbfs is None:
            return (), []
        seconds, thousandths, power = self._found.whole().astype(np.float64)
        loud = power > 10 ** ((voice_dbfs + OVER_VOICE_DB) / 10)
        times, power = (seconds + thousandths / 1_000)[loud], power[loud]
        found = []
        for first, last, low, high in stretches(len(heard.cells), around=AROUND_CELLS):
            near = slice(*np.searchsorted(times, (low * CELL_S, high * CELL_S)))
            levels = heard.cells.power.part(low, high).max(axis=0)
            groups = _groups(times[near], power[near], levels, low, voice_dbfs)
            found += [group for group in groups if first <= group.start_s / CELL_S < last]
        return (), found


def outside_marks(sounds: Sequence[Finding], known: Sequence[Finding]) -> list[Finding]:
    """Those of some `sounds` that are no part of a mark that is known."""
    marks = np.array([(mark.start_s - OWN_S, mark.end_s + OWN_S) for mark in known if mark.kind == "mark"]).reshape(-1, 2)
    return [sound for sound in sounds if not np.any((marks[:, 0] < sound.end_s) & (marks[:, 1] > sound.start_s))]


def _bursts(power: NDArray[np.float32]) -> NDArray[np.int64]:
    """The milliseconds that are bursts; the last that are looked at leave room for what follows them."""
    difference, wave = power
    last = difference.size - AFTER_MS[1]
    if last <= 0:
        return np.zeros(0, dtype=np.int64)
    top = scipy.ndimage.maximum_filter1d(difference, 2 * TOP_MS + 1, mode="constant")
    size = BEFORE_MS - NEAR_MS + 1
    before = np.zeros_like(difference)
    before[BEFORE_MS:] = scipy.ndimage.maximum_filter1d(difference, size, origin=-(size // 2))[:-BEFORE_MS]
    length = AFTER_MS[1] - AFTER_MS[0]
    summed = np.concatenate(([0.0], np.cumsum(difference, dtype=np.float64)))
    after = (summed[AFTER_MS[1] : AFTER_MS[1] + last] - summed[AFTER_MS[0] : AFTER_MS[0] + last]) / length
    found = (difference == top)[:last] & (difference > 0)[:last]
    found &= difference[:last] > 10 ** (RISE_DB / 10) * before[:last]
    found &= difference[:last] > 10 ** (FALL_DB / 10) * after
    at = np.flatnonzero(found)
    around = [slice(max(k - OWN_MS, 0), k + OWN_MS + 1) for k in at]
    broad = [difference[near].sum() > 10 ** (BROAD_DB / 10) * wave[near].sum() for near in around]
    return np.asarray(at[np.array(broad, dtype=bool)])


def _groups(
    times: NDArray[np.float64], power: NDArray[np.float64], levels: NDArray[np.float32], low: int, voice_dbfs: float
) -> Iterator[Finding]:
    """Bursts that no speech is around and that follow one another within a second; `levels` are powers of cells from `low` on."""
    at = np.clip(np.floor(times / CELL_S).astype(np.int64) - low, 1, max(levels.size - 2, 1))
    if levels.size < 3 or not at.size:
        return
    burst = levels[at[:, None] + np.arange(-1, 2)].max(axis=1)
    speech = np.concatenate(([0], np.cumsum(levels > _quiet(at, burst, levels.size, voice_dbfs))))

    def silent(first: NDArray[np.int64], last: NDArray[np.int64]) -> NDArray[np.bool_]:
        return np.asarray(speech[np.minimum(last, levels.size)] == speech[np.maximum(first, 0)])

    alone = np.flatnonzero(silent(at - ALONE_CELLS, at + ALONE_CELLS + 1))
    apart = np.flatnonzero((np.diff(times[alone]) > FURTHEST_APART_S) | ~silent(at[alone[:-1]], at[alone[1:]]))
    for group in np.split(alone, apart + 1):
        for kept in _within_a_second(group[power[group] > 10 ** (-ALIKE_DB / 10) * power[group].max(initial=0.0)], times):
            level = decibels.of_power(float(burst[kept].max()))
            start, end = float(times[kept[0]]), float(times[kept[-1]]) + 0.001
            yield Finding(kind="mark", start_s=start, end_s=end, measure=level, unit="dBFS", severity="warning", count=len(kept))


def _within_a_second(group: NDArray[np.int64], times: NDArray[np.float64]) -> Iterator[NDArray[np.int64]]:
    """Bursts that follow one another, if they can be one mark; else those of them that clearly lie apart from the others and can.
    Typing, applause and clicks that keep time are none."""

    def fits(part: NDArray[np.int64]) -> bool:
        return bool(FEWEST <= part.size <= MOST and times[part[-1]] - times[part[0]] <= LONGEST_S)

    if not fits(group) and group.size > FEWEST:
        gaps = np.diff(times[group])
        parts = np.split(group, np.flatnonzero(gaps > CLEARLY_APART * np.median(gaps)) + 1)
        if len(parts) <= MOST_PARTS:
            yield from filter(fits, parts)
    elif fits(group):
        yield group


def _quiet(at: NDArray[np.int64], burst: NDArray[np.float32], cells: int, voice_dbfs: float) -> NDArray[np.float64]:
    """What speech around bursts is louder than, in each cell: the bursts themselves, and rooms that ring on after them, are not."""
    quiet = np.full(cells, 10 ** ((voice_dbfs - QUIET_DB) / 10))
    after = np.arange(TAIL_CELLS)
    tail = burst[:, None] * 10 ** (-(TAIL_DB + TAIL_DB_A_CELL * after) / 10)
    tail[:, : OWN_CELLS[1] + 1] = np.inf
    for where, most in ((at[:, None] + after, tail), (at[:, None] - np.arange(1, OWN_CELLS[0] + 1), np.inf)):
        np.maximum.at(quiet, np.clip(where, 0, cells - 1), most)
    return quiet


@kernel
def _powers(samples: NDArray[np.float32], past: int, edges: NDArray[np.int64], lag: int) -> NDArray[np.float32]:
    """The mean square of x[i] − x[i − lag] and of x[i] in each millisecond, of the channel where it is larger; shape (2, n)."""
    out = np.zeros((2, edges.size - 1), dtype=np.float32)
    for c in range(samples.shape[0]):
        for k in range(edges.size - 1):
            first = max(past + edges[k] - lag, 0)
            part = samples[c, first : past + edges[k + 1]]
            size = np.float32(max(part.size - lag, 1))
            d = np.float32(0.0)
            q = np.float32(0.0)
            for i in range(part.size - lag):
                v = part[i + lag]
                u = v - part[i]
                d += u * u
                q += v * v
            out[0, k] = max(out[0, k], d / size)
            out[1, k] = max(out[1, k], q / size)
    return out
