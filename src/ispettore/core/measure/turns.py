"""Who speaks when: the passages of two voices, or of two sessions, in one recording.

Phrases (speech between pauses) are told apart by the pitch of their voice, by their third-octaves and by their level. How much
these move from one phrase to the next is nearly always how much one voice moves, since voices change seldom; in those units
phrases are parted in two (k-means, the best of several beginnings), and each is given to the nearer of both, with a price on every
change (the Viterbi algorithm). Two are told only where they lie far
apart in these units: two halves of what is one do not.
"""

from collections.abc import Iterator
from itertools import groupby, pairwise

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.measure import decibels, pitch
from ispettore.core.measure.grid import CELL_S, CELLS_PER_SECOND, Series
from ispettore.core.measure.low_rate import LowRate
from ispettore.core.measure.spectra import Spectra, centres_hz
from ispettore.core.measure.speech import PAUSE_CELLS, Passages

LONGEST_CELLS = 4 * CELLS_PER_SECOND
SHORTEST_CELLS = round(0.4 * CELLS_PER_SECOND)
STRETCHES = 12
"""So many short stretches of a phrase are looked at for its pitch; fewer voiced ones than `VOICED` say nothing."""

VOICED = 3
TOGETHER = 50
"""The pitches of so many phrases are worked out at once."""

SHAPES_HZ = (100.0, 220.0, 450.0, 900.0, 1_800.0, 3_600.0, 8_000.0)
"""The tone of a phrase is told by its level between each two of these, about their mean."""

LEAST_PITCH, LEAST_TONE_DB, LEAST_LEVEL_DB = 0.04, 0.8, 1.0
"""One voice moves by so much at least from phrase to phrase: its pitch (as a natural logarithm), its tone, its level."""

WEIGHT_S = 2.0
"""A phrase so long says all that it can say."""

LOWEST_DB = -140.0
MOST_OFF = 4.0
"""No single measure of a phrase counts for more than this in units of its usual movement."""

CHANGE = 8.0
ONE_APART, TONE_APART = 4.5, 5.7
"""Two voices lie so far apart in pitch or in level, or in all of their tone together: what is one, parted in two, does not."""

ALONE_SHARE = 0.2
"""A voice that never speaks two phrases in a row, and in fewer of them than this, is one that a phrase came out odd of."""

FEWEST, LEAST_S, LEAST_SHARE = 3, 3.0, 0.04
"""Of each voice there are so many phrases, so many seconds, and such a part of all speech at least."""


class Turn(BaseModel):
    """A passage of one voice: 0 is the one that speaks more, 1 the other. Passages follow one another without gaps, and change in
    the middle of a pause."""

    model_config = ConfigDict(frozen=True)

    start_s: float
    end_s: float
    voice: int


def find(low: LowRate, spectra: Spectra, passages: Passages, power: Series) -> list[Turn]:
    """The passages of two voices in a file whose frames have all passed; empty where one is heard, or none."""
    phrases = list(_phrases(passages))
    if len(phrases) < 2 * FEWEST:
        return []
    features = _features(low, spectra, power, phrases)
    seconds = np.array([(last - first) * CELL_S for first, last in phrases])
    voices = _parted(features, np.minimum(seconds / WEIGHT_S, 1.0))
    if voices is None or not _both(voices, seconds):
        return []
    if seconds[voices == 1].sum() > seconds[voices == 0].sum():
        voices = 1 - voices
    return list(_turns(voices, phrases, passages.cells))


def _phrases(passages: Passages) -> Iterator[tuple[int, int]]:
    """Speech between pauses in cells, cut where it goes on for long; what is too short to say anything is left out."""
    joined: list[list[int]] = []
    for first, last in passages.speech:
        if joined and first - joined[-1][1] < PAUSE_CELLS:
            joined[-1][1] = int(last)
        else:
            joined.append([int(first), int(last)])
    for first, last in joined:
        count = max(1, -(-(last - first) // LONGEST_CELLS))
        edges = np.linspace(first, last, count + 1).round().astype(int)
        yield from ((int(start), int(end)) for start, end in pairwise(edges) if end - start >= SHORTEST_CELLS)


def _features(low: LowRate, spectra: Spectra, power: Series, phrases: list[tuple[int, int]]) -> NDArray[np.float64]:
    """Pitch, tone and level of each phrase, shape (phrases, 8); a pitch that is not known is nan."""
    hz = centres_hz(spectra.sample_rate_hz)
    parts = [(hz >= start) & (hz < end) for start, end in pairwise(SHAPES_HZ)]
    pitches = _pitches(low, phrases)
    rows = []
    for (first, last), log_hz in zip(phrases, pitches, strict=True):
        bands = spectra.within(first, last).mean(axis=1, dtype=np.float64)
        shape = decibels.levels(np.array([bands[part].sum() for part in parts]), floor_db=LOWEST_DB)
        level = decibels.levels(np.array([power.part(first, last).mean(dtype=np.float64)]), floor_db=LOWEST_DB)
        rows.append([log_hz, *(shape - shape.mean()), *level])
    return np.array(rows)


def _pitches(low: LowRate, phrases: list[tuple[int, int]]) -> list[float]:
    """The natural logarithm of each phrase's usual fundamental; nan where too little is voiced."""
    found: list[float] = []
    for first in range(0, len(phrases), TOGETHER):
        found += _pitches_of(low, phrases[first : first + TOGETHER])
    return found


def _pitches_of(low: LowRate, phrases: list[tuple[int, int]]) -> list[float]:
    size = int(pitch.STRETCH_S * low.rate_hz)
    first, last = np.array(phrases).T
    starts = np.linspace(first, np.maximum(first, last - pitch.STRETCH_CELLS), STRETCHES, axis=1).round().astype(np.int64)
    waves, there = low.stretches(starts.ravel(), pitch.STRETCH_CELLS)
    hz = np.where(there >= size, pitch.pitches(waves[:, :size], rate_hz=low.rate_hz), np.nan).reshape(starts.shape)
    return [float(np.median(each)) if (each := np.log(row[~np.isnan(row)])).size >= VOICED else float("nan") for row in hz]


def _parted(features: NDArray[np.float64], weights: NDArray[np.float64]) -> NDArray[np.int64] | None:
    """For each phrase whether it is of the one (0) or the other (1); None where all are of one."""
    scaled = features / _usual_movement(features)
    voices = _nearest_two(scaled, weights)
    for _ in range(3):
        if min(np.bincount(voices, minlength=2)) < FEWEST:
            return None
        middles = _middles(scaled, voices)
        voices = _followed(_far(scaled, middles), weights)
    if min(np.bincount(voices, minlength=2)) < FEWEST:
        return None
    pitch, *tone, level = np.nan_to_num(np.abs(np.subtract(*_middles(scaled, voices))))
    return voices if max(pitch, level) >= ONE_APART or float(np.linalg.norm(tone)) >= TONE_APART else None


def _usual_movement(features: NDArray[np.float64]) -> NDArray[np.float64]:
    """How much each measure moves between neighbours, robustly, as a standard deviation; shape (measures,)."""
    least = np.array([LEAST_PITCH, *[LEAST_TONE_DB] * (len(SHAPES_HZ) - 1), LEAST_LEVEL_DB])
    usual = _medians(np.abs(np.diff(features, axis=0)))
    return np.asarray(np.maximum(1.4826 * usual / np.sqrt(2), least))


def _medians(columns: NDArray[np.float64]) -> NDArray[np.float64]:
    """Of each column's numbers, 0 where it has none."""
    numbers = [column[~np.isnan(column)] for column in columns.T]
    return np.array([np.median(each) if each.size else 0.0 for each in numbers])


def _nearest_two(scaled: NDArray[np.float64], weights: NDArray[np.float64]) -> NDArray[np.int64]:
    """Two groups whose members lie nearest to their middles."""
    plain = np.where(np.isnan(scaled), _medians(scaled), scaled)
    plain -= plain.mean(axis=0)
    along = plain @ np.linalg.svd(plain, full_matrices=False)[2][0]
    best, found = np.inf, np.zeros(len(plain), dtype=np.int64)
    for share in (10, 25, 50, 75, 90):
        voices = (along > np.percentile(along, share)).astype(np.int64)
        for _ in range(20):
            if min(np.bincount(voices, minlength=2)) == 0:
                break
            far = _far(scaled, _middles(scaled, voices))
            nearer = far.argmin(axis=1)
            if np.array_equal(nearer, voices):
                break
            voices = nearer
        if min(np.bincount(voices, minlength=2)) == 0:
            continue
        total = float(np.sum(_far(scaled, _middles(scaled, voices)).min(axis=1) * weights))
        if total < best:
            best, found = total, voices
    return found


def _middles(scaled: NDArray[np.float64], voices: NDArray[np.int64]) -> NDArray[np.float64]:
    """The middle of each group, shape (2, measures); nan where none is known."""
    with np.errstate(all="ignore"):
        return np.array([_median(scaled[voices == voice]) for voice in (0, 1)])


def _median(rows: NDArray[np.float64]) -> NDArray[np.float64]:
    known = ~np.isnan(rows)
    return np.array([np.median(column[there]) if there.any() else np.nan for column, there in zip(rows.T, known.T, strict=True)])


def _far(scaled: NDArray[np.float64], middles: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far each phrase is from each middle, shape (phrases, 2); what is not known is no distance."""
    off = np.nan_to_num(np.abs(scaled[:, None, :] - middles[None]))
    return np.asarray(np.sum(np.minimum(off, MOST_OFF) ** 2, axis=2))


def _followed(far: NDArray[np.float64], weights: NDArray[np.float64]) -> NDArray[np.int64]:
    """The voices that cost least: how far phrases are from them, and `CHANGE` for every change (the Viterbi algorithm)."""
    cost = 0.5 * far * weights[:, None]
    total, came = cost[0], np.zeros(far.shape, dtype=np.int64)
    for place in range(1, len(far)):
        changed = total[::-1] + CHANGE
        came[place] = np.where(changed < total, [1, 0], [0, 1])
        total = np.minimum(total, changed) + cost[place]
    voices = np.zeros(len(far), dtype=np.int64)
    voices[-1] = int(total.argmin())
    for place in range(len(far) - 1, 0, -1):
        voices[place - 1] = came[place, voices[place]]
    return voices


def _both(voices: NDArray[np.int64], seconds: NDArray[np.float64]) -> bool:
    """Whether there is enough of each."""
    each = np.array([seconds[voices == voice].sum() for voice in (0, 1)])
    if each.min() < max(LEAST_S, LEAST_SHARE * each.sum()):
        return False
    fewer = int(np.bincount(voices, minlength=2).argmin())
    longest = max(sum(1 for _ in group) for voice, group in groupby(voices) if voice == fewer)
    return longest > 1 or bool(np.mean(voices == fewer) >= ALONE_SHARE)


def _turns(voices: NDArray[np.int64], phrases: list[tuple[int, int]], cells: int) -> Iterator[Turn]:
    ends = [(last + following) / 2 for (_, last), (following, _) in pairwise(phrases)]
    start = 0.0
    for voice, group in groupby(range(len(phrases)), key=lambda place: int(voices[place])):
        last = list(group)[-1]
        end = ends[last] if last < len(ends) else float(cells)
        yield Turn(start_s=round(start * CELL_S, 3), end_s=round(end * CELL_S, 3), voice=voice)
        start = end
