"""Words that were read again: behind a mark, or right behind themselves.

What is heard from a place on is laid beside what was heard before it: short-time spectra in third-octaves, smoothed by a cosine
transform so that the pitch of the voice counts for little, along a warped path (dynamic time warping: H. Sakoe and S. Chiba, IEEE
Trans. ASSP 26(1), 1978), of which the part counts that is alike (as in T. F. Smith and M. S. Waterman, J. Mol. Biol. 147, 1981).
A path begins where words are taken up again and goes on as long as they are the same; words behind its end are those that were
misread, and the fewer of them stand before the mark the better. No language is recognised. A voice is compared with itself alone,
over some tens of seconds, and what counts as alike is told by how far apart its moments usually are: no gain changes what is found.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel
from ispettore.core.measure import decibels
from ispettore.core.measure.cells import Cells
from ispettore.core.measure.grid import CELL_S, runs
from ispettore.core.measure.reading import Finding, Span
from ispettore.core.measure.spectra import Spectra, centres_hz
from ispettore.core.measure.speech import Passages

LOW_HZ, HIGH_HZ = 180.0, 7_000.0
COEFFICIENTS = 10
FLOOR_DB = 45.0  # under the loudest band: what lies lower counts alike
BACK_S, ON_S = 40.0, 12.0
AGAIN_BACK_S = 20.0  # without a mark, words are looked for so far back
ALIKE = 0.7  # of what two moments of a voice usually are apart: those as far apart as this are neither alike nor other sounds
LEAST_APART_DB = 6.5  # moments of voices are 8 to 14 dB apart; where they are less, one word is like any other
WAITING = 0.35  # what each frame costs in which one of both waits, as a part of a frame that is quite alike
REST = 0.2  # and what each costs that was spoken before the mark and is not read again
LOST = -2.5  # a path that is worse than this never comes back
MARKED_FRAMES, UNMARKED_FRAMES = 5.0, 12.0
"""So much has to be alike: frames, less what waiting and the rest cost."""

LEAST_SHARE = 0.2
MOST_REST_SHARE, MOST_REST_S = 0.35, 0.8
"""Without a mark, what was said first has to come again nearly to its end: all but so much of it, or so many seconds."""

MARKS = ("mark", "mark-set")
EARLY_S, LATE_S = 2.5, 8.0
"""So long before a mark that was set by hand, and behind it, words may be taken up again."""

MOST_TRIED = 8
MOST_MISREAD_S = 6.0  # nobody speaks on for longer before a mark is made

PAUSE_S = 0.25  # without a mark, both times begin behind a pause
TAIL_S = 0.1  # a room rings on behind a mark
NEAR_S = 0.15  # words begin where speech does, as near as this
LEAD_S = 0.15  # so much of the room before a word stays with it, or half of the pause


class Repeat(Span):
    """What is proposed to be cut out: words from `begun_s` on that are read again from `again_s` on, and what lies between.

    `mark_s` is where the mark between begins, None where none stands there; `alike_s` is for how long both are alike.
    """

    begun_s: float
    again_s: float
    mark_s: float | None
    alike_s: float

    @property
    def marked(self) -> bool:
        """Whether a reader said that something went wrong here."""
        return self.mark_s is not None


def find(spectra: Spectra, cells: Cells, passages: Passages, marks: Sequence[Finding]) -> list[Repeat]:
    """Each mark behind which words from before it are read again, and phrases that are read again at once, in order of time; the
    latter overlap nothing else."""
    heard = _Heard(spectra, cells, passages, marks)
    marked = [found for mark in marks if (found := heard.behind(mark)) is not None]
    apart = list(marked)
    for one in heard.unmarked():
        if not any(one.start_s < other.end_s and one.end_s > other.start_s for other in apart):
            apart.append(one)
    return sorted(apart, key=lambda one: (one.start_s, one.end_s))


def findings(found: Sequence[Repeat]) -> list[Finding]:
    """What is read again without a mark, with how long both are alike in seconds."""
    return [
        Finding(kind="repeated-words", start_s=one.begun_s, end_s=one.again_s, measure=one.alike_s, unit="s", severity="note")
        for one in found
        if not one.marked
    ]


@dataclass(frozen=True)
class _Frames:
    """Frames `first` and on: what each sounds like, shape (frames, coefficients), and 1.0 where someone speaks."""

    first: int
    shape: NDArray[np.float32]
    spoken: NDArray[np.float32]

    def part(self, first: int, last: int) -> "_Frames":
        here = slice(max(first - self.first, 0), max(last - self.first, 0))
        return _Frames(max(first, self.first), self.shape[here], self.spoken[here])


class _Heard:
    def __init__(self, spectra: Spectra, cells: Cells, passages: Passages, marks: Sequence[Finding]) -> None:
        self._spectra, self._cells = spectra, cells
        self._step_s = spectra.step_s
        self._most_rest = MOST_MISREAD_S / spectra.step_s
        self._spoken = passages.speech_mask()
        for mark in (one for one in marks if one.kind == "mark"):
            self._spoken[round((mark.start_s - TAIL_S / 2) / CELL_S) : round((mark.end_s + TAIL_S) / CELL_S)] = False
        self._runs = runs(self._spoken) * CELL_S
        hz = centres_hz(spectra.sample_rate_hz)
        self._bands = np.flatnonzero((hz >= LOW_HZ) & (hz <= HIGH_HZ))
        self._near = _Frames(0, np.zeros((0, COEFFICIENTS), dtype=np.float32), np.zeros(0, dtype=np.float32))

    def behind(self, mark: Finding) -> Repeat | None:
        """The words before a mark that are read again behind it."""
        if mark.kind == "mark-set":
            return self._near_set(mark.start_s)
        later = np.flatnonzero(self._runs[:, 0] >= mark.end_s)
        if not later.size:
            return None
        again_s = float(self._runs[later[0], 0])
        on, back = self._frames(again_s, again_s + ON_S), self._frames(again_s - BACK_S, mark.start_s)
        found = _taken_up(on, back, np.ones(back.spoken.size, dtype=bool), self._most_rest)
        if found is None or found.score < MARKED_FRAMES:
            return None
        return self._cut(found, back, again_s, mark_s=mark.start_s, silent_from_s=mark.end_s + TAIL_S)

    def _near_set(self, mark_s: float) -> Repeat | None:
        """Words that are read again near a mark that was set by hand. Nobody presses a key in the very pause in which a line is
        taken up: the nearest pause counts behind which words clearly are, or else the one where they are most alike."""
        pauses = np.append(np.inf, np.diff(self._runs.ravel())[1::2])
        begins = self._runs[(pauses >= PAUSE_S)[: len(self._runs)], 0]
        begins = begins[(begins > mark_s - EARLY_S) & (begins < mark_s + LATE_S)]
        best: tuple[_Path, _Frames, float] | None = None
        for again_s in begins[np.argsort(np.abs(begins - mark_s))][:MOST_TRIED].tolist():
            on, back = self._frames(again_s, again_s + ON_S), self._frames(again_s - BACK_S, again_s)
            found = _taken_up(on, back, np.ones(back.spoken.size, dtype=bool), self._most_rest)
            if found is not None and found.score >= MARKED_FRAMES and (best is None or found.score > best[0].score):
                best = found, back, again_s
                if found.score >= UNMARKED_FRAMES:
                    break
        if best is None:
            return None
        found, back, again_s = best
        before = self._runs[self._runs[:, 1] <= again_s, 1]
        return self._cut(found, back, again_s, mark_s=mark_s, silent_from_s=float(before[-1]) if before.size else 0.0)

    def unmarked(self) -> Iterator[Repeat]:
        """Phrases that are read again at once, without a mark."""
        pauses = np.diff(self._runs.ravel())[1::2]
        begins = self._runs[np.append(True, pauses >= PAUSE_S)[: len(self._runs)], 0]
        for place in range(1, begins.size):
            again_s = float(begins[place])
            earlier = begins[:place][begins[:place] > again_s - AGAIN_BACK_S]
            if not earlier.size:
                continue
            back, on = self._frames(float(earlier[0]), again_s), self._frames(again_s, again_s + AGAIN_BACK_S)
            near = np.round(earlier / self._step_s).astype(int)[:, None] + np.arange(-1, 2) - back.first
            may = np.zeros(back.spoken.size, dtype=bool)
            may[np.clip(near, 0, may.size - 1)] = True
            found = _taken_up(on, back, may, self._most_rest)
            if found is None or found.score < UNMARKED_FRAMES:
                continue
            attempt, rest = float(back.spoken[found.start :].sum()), float(back.spoken[found.end + 1 :].sum())
            if found.score >= LEAST_SHARE * attempt and rest <= max(MOST_REST_SHARE * attempt, MOST_REST_S / self._step_s):
                before = self._runs[self._runs[:, 1] <= again_s, 1]
                yield self._cut(found, back, again_s, mark_s=None, silent_from_s=float(before[-1]))

    def _at(self, time_s: float) -> int:
        return max(round(time_s / self._step_s), 0)

    def _frames(self, start_s: float, end_s: float) -> _Frames:
        """The frames of some tens of seconds; a minute and more around is kept for what is asked next."""
        first, last = self._at(start_s), min(self._at(end_s), len(self._spectra.bands))
        if first < self._near.first or last > self._near.first + len(self._near.spoken):
            low, high = max(first - self._at(BACK_S), 0), last + self._at(2 * BACK_S)
            bands = self._spectra.bands.part(low, high)[self._bands]
            middles = (np.arange(low, low + bands.shape[1]) * self._step_s + self._step_s / 4) / CELL_S
            spoken = self._spoken[np.clip(middles.astype(np.int64), 0, max(self._spoken.size - 1, 0))]
            self._near = _Frames(low, _shapes(bands), spoken.astype(np.float32))
        return self._near.part(first, last)

    def _cut(self, found: "_Path", back: _Frames, again_s: float, *, mark_s: float | None, silent_from_s: float) -> Repeat:
        about_s = (back.first + found.start) * self._step_s
        nearest = int(np.argmin(np.abs(self._runs[:, 0] - about_s)))
        begun_s, lead_s = float(self._runs[nearest, 0]), 0.0
        if abs(begun_s - about_s) <= NEAR_S:
            before_s = float(self._runs[nearest - 1, 1]) if nearest else 0.0
            lead_s = max(min(LEAD_S, (begun_s - before_s) / 2, (again_s - silent_from_s) / 2), 0.0)
        else:  # in the midst of speech: where it is softest
            first = max(round((about_s - NEAR_S / 2) / CELL_S), 0)
            levels = self._cells.power.part(first, first + round(NEAR_S / CELL_S)).max(axis=0)
            begun_s = (first + int(np.argmin(levels))) * CELL_S
        return Repeat(
            start_s=round(begun_s - lead_s, 3), end_s=round(again_s - lead_s, 3), begun_s=round(begun_s, 3),
            again_s=round(again_s, 3), mark_s=mark_s, alike_s=round(found.score * self._step_s, 2),
        )  # fmt: skip


def _shapes(bands: NDArray[np.float32]) -> NDArray[np.float32]:
    """What each frame sounds like, whatever its level: cosine coefficients in dB, shape (frames, coefficients). `bands` has shape
    (bands, frames)."""
    level = decibels.levels(bands.T)
    if not level.size:
        return np.zeros((0, COEFFICIENTS), dtype=np.float32)
    level = np.maximum(level, float(np.percentile(level, 98)) - FLOOR_DB)
    count = level.shape[1]
    waves = np.cos(np.pi * np.arange(1, COEFFICIENTS + 1)[:, None] * (np.arange(count)[None, :] + 0.5) / count)
    return np.ascontiguousarray(level @ waves.T * np.sqrt(2) / count, dtype=np.float32)


@dataclass(frozen=True)
class _Path:
    """From which frame of what was said before to which, and how many frames are alike, less what was paid."""

    start: int
    end: int
    score: float


def _taken_up(on: _Frames, back: _Frames, may: NDArray[np.bool_], most_rest: float) -> _Path | None:
    """Where in `back` the words of `on` were begun, if they were; `may` says where that can be. No more than `most_rest` frames of
    speech stay behind the end of a path."""
    if not on.spoken.size or not back.spoken.size:
        return None
    left = np.append(np.cumsum(back.spoken[:0:-1])[::-1], 0.0)
    rest = np.where(left > most_rest, np.inf, REST * left)
    apart = _usually_apart(on, back)
    if apart < LEAST_APART_DB:
        return None
    score, ends = _paths(on.shape, back.shape, on.spoken, back.spoken, may & (back.spoken > 0), rest, ALIKE * apart)
    start = int(np.argmax(score))
    return _Path(start, int(ends[start]), float(score[start]))


def _usually_apart(on: _Frames, back: _Frames) -> float:
    """How far apart two moments of this voice usually are, in dB."""
    one, other = np.flatnonzero(on.spoken > 0), np.flatnonzero(back.spoken > 0)
    if not one.size or not other.size:
        return 0.0
    pairs = np.random.default_rng(1).integers(0, (one.size, other.size), size=(500, 2))
    return float(np.median(np.linalg.norm(on.shape[one[pairs[:, 0]]] - back.shape[other[pairs[:, 1]]], axis=1)))


@kernel
def _paths(  # type: ignore[no-untyped-def]
    on: NDArray[np.float32],
    back: NDArray[np.float32],
    spoken_on: NDArray[np.float32],
    spoken_back: NDArray[np.float32],
    may: NDArray[np.bool_],
    rest: NDArray[np.float64],
    alike: float,
):
    """The best path from the first frame of `on` and each of `back`: how many frames are alike less all costs, and its end."""
    n, m = on.shape[0], back.shape[0]
    best = np.full(m, -99.0)
    ends = np.zeros(m, dtype=np.int64)
    score = np.full((2, m), -99.0)
    begun = np.zeros((2, m), dtype=np.int64)
    for i in range(n):
        now, last = i % 2, (i + 1) % 2
        alive = False
        for j in range(m):
            s = -99.0
            b = 0
            if i == 0 and may[j]:
                s, b = 0.0, j
            if i > 0 and j > 0 and score[last, j - 1] > s:
                s, b = score[last, j - 1], begun[last, j - 1]
            if i > 0 and score[last, j] - WAITING > s:
                s, b = score[last, j] - WAITING, begun[last, j]
            if j > 0 and score[now, j - 1] - WAITING > s:
                s, b = score[now, j - 1] - WAITING, begun[now, j - 1]
            if s > LOST:
                both = spoken_on[i] * spoken_back[j]
                if both > 0:
                    apart = np.float32(0.0)
                    for k in range(on.shape[1]):
                        apart += (on[i, k] - back[j, k]) ** 2
                    s += max(1.0 - np.sqrt(apart) / alike, -1.0)
                elif spoken_on[i] + spoken_back[j] > 0:
                    s -= 1.0
            if s <= LOST:
                score[now, j] = -99.0
                continue
            score[now, j], begun[now, j] = s, b
            alive = True
            if s - rest[j] > best[b]:
                best[b], ends[b] = s - rest[j], j
        if not alive:
            break
    return best, ends
