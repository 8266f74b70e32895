"""Where someone speaks and where nobody does: speech, pauses, and the room tone inside the pauses.

A short-time level above 150 Hz stands against an estimate of the noise that follows the recording (minimum statistics after
R. Martin, IEEE Trans. Speech and Audio Processing 9(5), 2001), with hysteresis, so that the soft ends of words stay with them.
Where the room swells, that estimate moves with it (`swelling.py`).
A run that rises too little, or too briefly, is not speech; nor is what stays at one level for 0.4 s far under the voice while
neither its make-up nor a pitch in it moves (the room grew louder there); nor is a run without voice in it, unless it hisses right
beside a voiced one: a voice has most of its energy below 800 Hz once the room's own is taken off, a breath has not. Everything is
worked out a quarter of an hour at a time, so memory does not grow with the file but for a few marks a cell.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.measure import decibels, octaves, pitch, swelling
from ispettore.core.measure.cells import Cells
from ispettore.core.measure.grid import CELL_S, STRETCH_CELLS, Series, runs, stretches, widened
from ispettore.core.measure.low_rate import LowRate
from ispettore.core.measure.octaves import MakeUp
from ispettore.core.measure.spectra import Spectra, centres_hz
from ispettore.core.measure.swelling import Swelling

DEAD_AMPLITUDE = 10 ** (-90 / 20)
DEAD_CELLS = 10  # 50 ms
SMOOTH_CELLS = 5  # 25 ms
TENTH = 20  # 100 ms
NOISE_WINDOW_CELLS = 2_400  # 12 s
ON_DB, OFF_DB = 5.0, 3.0
RISE_DB = 10.0  # a run must rise this far above the noise somewhere to be speech
BELOW_SPEECH_DB = 24.0  # and come within this of the level of speech
SHORTEST_SPEECH_CELLS = 20  # 100 ms
JOIN_CELLS = 30  # gaps under 150 ms belong to the speech around them
PAUSE_CELLS = 80  # 0.4 s
AFTER_SPEECH_CELLS, BEFORE_SPEECH_CELLS = 40, 12  # 200 ms for the room's decay, 60 ms before speech
NEAR_SPEECH_CELLS = 10  # 50 ms: nearer to speech the room is not even looked for
GENTLE_DB = 3.0  # a room changes by less in 100 ms
SETTLED_CELLS = 61
ABOVE_LOWEST_DB = 6.0
ABOVE_FLOOR_DB = 8.0
THUMP_DB = 10.0  # knocks have their energy below the voice's band
EDGE_CELLS = 6  # 30 ms around a sound are its own
LEAST_ROOM_CELLS = 20
NOISE_EVERY = 20  # the noise is kept for one cell of so many
VOICED_BELOW_HZ, VOICED_SHARE = 800.0, 0.5
HISS_ABOVE_HZ, HISS_SHARE = 3_000.0, 0.6
STANDS_OUT = 3.0  # a frame's own power against the room's: below that its spectrum says nothing
LONGEST_HISS_CELLS = 70  # 350 ms
BREATH_CELLS = 30  # an unvoiced stretch of 150 ms or more before or after the voice of a run is a breath
BREATH_BELOW_VOICE_DB = 12.0
GENTLE_CELLS = 50  # 250 ms of slow change are no speech
STEADY_CELLS, STEADY_DB, STEADY_BELOW_VOICE_DB = 81, 5.0, 18.0
TREMBLING_DB = 12.0  # what a fan's blades do to its level
LONGEST_HELD_CELLS = 400  # 2 s: nobody holds one sound longer between words
AROUND_CELLS = 2 * NOISE_WINDOW_CELLS

Mask = NDArray[np.bool_]
Runs = NDArray[np.int64]


def _no_runs() -> Runs:
    return np.zeros((0, 2), dtype=np.int64)


@dataclass(frozen=True)
class Passages:
    """All as cells (5 ms). Runs have shape (n, 2) with exclusive ends; the masks have one entry a cell.

    `room` marks room tone: inside pauses of at least 0.4 s, guarded, without breaths and clicks; or what was marked by hand.
    `dead` marks stretches of at least 50 ms without a |sample| above −90 dBFS. `sounds` are the runs in pauses that stand out of
    the room tone and are not speech: breaths, mouth noises, knocks.
    """

    speech: Runs
    pauses: Runs
    room: Mask
    dead: Mask
    cells: int
    sounds: Runs = field(default_factory=_no_runs)
    marked: bool = False

    def speech_mask(self, first: int = 0, last: int | None = None) -> Mask:
        """True in the cells in which someone speaks, shape (last − first,)."""
        last = self.cells if last is None else last
        mask = np.zeros(last - first, dtype=bool)
        for start, end in self.speech[(self.speech[:, 1] > first) & (self.speech[:, 0] < last)]:
            mask[max(start - first, 0) : max(end - first, 0)] = True
        return mask


def find(voice_power: Series, cells: Cells, spectra: Spectra, low: LowRate, marked: Runs | None = None) -> Passages:
    """Speech, pauses and room tone from the voice-band power of each cell, the plain cells, the spectra and the sound below 400 Hz.

    `marked` are runs of room tone chosen by hand; then only those are.
    """
    count = len(voice_power)
    dead = dead_cells(cells)
    level, above, noise, loud = _levels(voice_power, dead)
    swell = swelling.find(alone=(above == 0) & ~dead, soft=level <= loud - STEADY_BELOW_VOICE_DB, spectra=spectra)
    if swell.any:
        level, above, noise, _ = _levels(voice_power, dead, swell)
    make_up = octaves.make_up(spectra)
    strong, voice_db = _strong(level, above, voice_power, dead, make_up, low)
    speech = _speech(strong, level, voice_db, spectra, swell)
    pauses = _between(speech, count)
    room, sounds = _room_tone(pauses, voice_power, cells.power, noise, dead, swell, make_up)
    if marked is not None:
        room = np.zeros(count, dtype=bool)
        for start, end in marked:
            room[start:end] = ~dead[start:end]
    return Passages(speech, pauses, room, dead, count, sounds, marked is not None)


def dead_cells(cells: Cells) -> Mask:
    """Cells within stretches of at least 50 ms of dead silence on every channel."""
    count = len(cells)
    dead = np.zeros(count, dtype=bool)
    for first, last, _, _ in stretches(count):
        dead[first:last] = cells.peak.part(first, last).max(axis=0) <= DEAD_AMPLITUDE
    if dead.any():
        for start, end in runs(dead):
            dead[start:end] = end - start >= DEAD_CELLS
    return dead


def _levels(
    voice_power: Series, dead: Mask, swell: Swelling | None = None
) -> tuple[NDArray[np.float16], NDArray[np.uint8], NDArray[np.float32], float]:
    """The short-time level in dB, and how far it stands above the noise: 0 not, 1 off, 2 on, 3 risen; shape (cells,) each.

    And the noise in dB at every `NOISE_EVERY`-th cell, and the level that the loudest twentieth reaches. By `swell` the noise is
    known to have swollen.
    """
    count = dead.size
    level = np.empty(count, dtype=np.float16)
    above = np.empty(count, dtype=np.uint8)
    under = np.empty((count + NOISE_EVERY - 1) // NOISE_EVERY, dtype=np.float32)
    any_dead = bool(dead.any())
    near_dead = widened(dead, TENTH) if any_dead else dead
    loud, least = _loud_and_least(voice_power, dead, near_dead)
    # In a gated file the softest live sound is speech, not room: there the noise is whatever lies far under the voice.
    gated = any_dead and least > loud - 30.0
    for first, last, before, after in stretches(count, around=AROUND_CELLS):
        power = voice_power.part(before, after)[0].astype(np.float64)
        smooth = _decibels(power, SMOOTH_CELLS)
        noise = np.full(power.size, loud - 40.0) if gated else _noise(power, near_dead[before:after], least)
        if swell is not None:
            noise = noise + swell.at(before, after)
        inner = slice(first - before, last - before)
        over = (smooth - noise)[inner]
        level[first:last] = smooth[inner]
        above[first:last] = (over > OFF_DB).astype(np.uint8) + (over > ON_DB) + (over > RISE_DB)
        under[first // NOISE_EVERY : (last + NOISE_EVERY - 1) // NOISE_EVERY] = noise[inner][::NOISE_EVERY]
    return level, above, under, loud


def _loud_and_least(voice_power: Series, dead: Mask, near_dead: Mask) -> tuple[float, float]:
    """The 95th percentile of the level where the file is not dead, and the lowest level over 100 ms, in dB."""
    histogram = np.zeros(2_600, dtype=np.int64)
    least = np.inf
    for first, last, before, after in stretches(dead.size, around=TENTH):
        power = voice_power.part(before, after)[0].astype(np.float64)
        smooth = _decibels(power, TENTH)[first - before : last - before]
        alive = smooth[~near_dead[first:last]]
        least = min(least, float(alive.min(initial=np.inf)))
        living = smooth[~dead[first:last]]
        histogram += np.bincount(np.clip((living + 200) * 10, 0, 2_599).astype(np.int64), minlength=2_600)
    if not histogram.any():
        return -60.0, -100.0
    loud = int(np.searchsorted(np.cumsum(histogram), 0.95 * histogram.sum())) / 10 - 200
    return loud, least if np.isfinite(least) else loud


def _noise(power: NDArray[np.float64], near_dead: Mask, least: float) -> NDArray[np.float64]:
    """Level in dB of the noise under each cell: the lowest 100 ms within ± 6 s, dead silence left out, slowly moving."""
    level = _decibels(power, TENTH)
    lowest = scipy.ndimage.minimum_filter1d(np.where(near_dead, np.inf, level), NOISE_WINDOW_CELLS, mode="nearest")
    followed = np.minimum(np.where(np.isfinite(lowest), lowest, least), least + 12.0)
    return np.asarray(scipy.ndimage.uniform_filter1d(followed, NOISE_WINDOW_CELLS // 4, mode="nearest"))


def _strong(
    level: NDArray[np.float16], above: NDArray[np.uint8], voice_power: Series, dead: Mask, make_up: MakeUp, low: LowRate
) -> tuple[Runs, float]:
    """Runs that stand out as speech does, and the level of speech in dB (its 90th percentile).

    Takes `level` and `above` down to nothing where nothing stands out, in place: they are as long as the file.
    """
    standing = (above > 0) & ~dead
    active, _ = _with_highest(standing, above)
    if len(active) == 0:
        return active, -60.0
    voice = _voice(active, level)
    steady = standing & _steady(standing, level, voice_power, make_up, voice - STEADY_BELOW_VOICE_DB)
    for start, end in _held(runs(steady), low):
        steady[start:end] = False
    standing &= ~steady
    active, highest = _with_highest(standing, above)
    if len(active) == 0:
        return active, voice
    voice = _voice(active, level)
    level[~standing] = -200
    tops = np.maximum.reduceat(level, active[:, 0])
    return active[(highest >= 3) & (tops > voice - BELOW_SPEECH_DB)], voice


def _with_highest(standing: Mask, above: NDArray[np.uint8]) -> tuple[Runs, NDArray[np.uint8]]:
    """Runs that rise over the noise by `ON_DB` somewhere, and the highest mark in each."""
    active = runs(standing)
    if len(active) == 0:
        return active, np.zeros(0, dtype=np.uint8)
    above[~standing] = 0  # a run's maximum goes from its start to the next run's
    highest = np.maximum.reduceat(above, active[:, 0])
    return active[highest >= 2], highest[highest >= 2]


def _steady(standing: Mask, level: NDArray[np.float16], voice_power: Series, make_up: MakeUp, below_db: float) -> Mask:
    """Stretches far under the voice whose make-up stays, and whose level stays within a few dB for 0.4 s, trembles but stands out
    all the while, or moves as slowly as a room's: a room that grew louder, or a sound that a voice holds."""
    found = np.zeros(level.size, dtype=bool)
    for first, last, before, after in stretches(level.size, around=2 * STEADY_CELLS):
        part = level[before:after].astype(np.float32)
        highest = scipy.ndimage.maximum_filter1d(part, STEADY_CELLS, mode="nearest")
        lowest = scipy.ndimage.minimum_filter1d(part, STEADY_CELLS, mode="nearest")
        alike = make_up.at(before, after)
        stands = scipy.ndimage.minimum_filter1d(standing[before:after].view(np.uint8), STEADY_CELLS, mode="nearest").view(bool)
        within = (highest - lowest <= STEADY_DB) | (stands & (highest - lowest <= TREMBLING_DB) & _all_along(part, highest))
        steady = _whole(alike & (highest <= below_db) & within, STEADY_CELLS)
        slow = _decibels(voice_power.part(before, after)[0], TENTH)
        gentle = _gentle(slow) & (slow <= below_db)
        middles = scipy.ndimage.minimum_filter1d(gentle.view(np.uint8), GENTLE_CELLS, mode="nearest")
        gently = _whole(alike & middles.view(bool), GENTLE_CELLS + TENTH // 2)
        found[first:last] = (steady | gently)[first - before : last - before]
    return found


def _held(steady: Runs, low: LowRate) -> Runs:
    """Those of the steady runs that are a sound which a voice holds."""
    lengths = steady[:, 1] - steady[:, 0]
    possible = steady[(lengths >= JOIN_CELLS) & (lengths <= LONGEST_HELD_CELLS)]
    return np.asarray(possible[pitch.moves(low, possible)])


def _all_along(level: NDArray[np.float32], highest: NDArray[np.float32]) -> Mask:
    """Whether both halves of the `STEADY_CELLS` around each cell come near their highest level: where a word begins or ends, one
    does not."""
    cells = STEADY_CELLS // 2 + 1
    before, after = (
        scipy.ndimage.maximum_filter1d(level, cells, mode="nearest", origin=origin) for origin in (cells // 2, -(cells // 2))
    )
    return np.asarray(highest - np.minimum(before, after) <= STEADY_DB)


def _gentle(slow: NDArray[np.float64]) -> Mask:
    """Where the level over 100 ms changes little within 100 ms; nowhere in what is no longer than that."""
    if slow.size <= TENTH:
        return np.zeros(slow.size, dtype=bool)
    change = np.abs(slow[TENTH:] - slow[:-TENTH])
    return np.pad(change < GENTLE_DB, (TENTH // 2, TENTH - TENTH // 2), mode="edge")[: slow.size]


def _whole(middles: Mask, cells: int) -> Mask:
    """The stretches of so many cells that have these middles."""
    return np.asarray(scipy.ndimage.maximum_filter1d(middles.view(np.uint8), cells, mode="nearest")).astype(bool)


def _voice(active: Runs, level: NDArray[np.float16]) -> float:
    """The 90th percentile of the level in runs, in dB."""
    histogram = np.zeros(2_600, dtype=np.int64)
    for start, end in active:
        histogram += _histogram(level[start:end]) if end - start > 2_000 else 0
    short = active[active[:, 1] - active[:, 0] <= 2_000]
    for group in np.array_split(short, max(1, len(short) // 2_000)):
        if len(group):
            histogram += _histogram(np.concatenate([level[start:end] for start, end in group]))
    return int(np.searchsorted(np.cumsum(histogram), 0.9 * histogram.sum())) / 10 - 200


def _histogram(level: NDArray[np.float16]) -> NDArray[np.int64]:
    return np.bincount(np.clip((level.astype(np.float32) + 200) * 10, 0, 2_599).astype(np.int64), minlength=2_600)


@dataclass(frozen=True)
class _Frames:
    """Which spectral frames hold voice and which hiss, as running counts, shape (frames + 1,)."""

    voiced: NDArray[np.int64]
    hissing: NDArray[np.int64]
    step_cells: float

    def range(self, run: Runs) -> Runs:
        """First and last frame (exclusive, at least one) of runs of cells, shape (n, 2)."""
        frames = np.round(run / self.step_cells).astype(np.int64)
        frames[:, 1] = np.maximum(frames[:, 1], frames[:, 0] + 1)
        return np.minimum(frames, self.voiced.size - 1)

    def count(self, running: NDArray[np.int64], run: Runs) -> NDArray[np.int64]:
        frames = self.range(run)
        return running[frames[:, 1]] - running[frames[:, 0]]


def _frames(strong: Runs, spectra: Spectra, swell: Swelling) -> _Frames:
    centres = centres_hz(spectra.sample_rate_hz)
    low, high = centres < VOICED_BELOW_HZ, centres > HISS_ABOVE_HZ
    step_cells = spectra.step_s / CELL_S
    count = len(spectra.bands)
    busy = np.zeros(count, dtype=bool)
    for start, end in strong:
        busy[max(int(start / step_cells) - 2, 0) : int(end / step_cells) + 3] = True
    room = np.zeros(len(centres))
    for first in range(0, count, 65_536):
        part = spectra.bands.part(first, first + 65_536)
        room += part[:, ~busy[first : first + 65_536]].sum(axis=1, dtype=np.float64)
    room /= max(int((~busy).sum()), 1)
    voiced, hissing = np.zeros(count, dtype=bool), np.zeros(count, dtype=bool)
    for first in range(0, count, 65_536):
        louder = 10 ** (swell.raised_db[first : first + 65_536] / 10)
        part = np.maximum(spectra.bands.part(first, first + 65_536) - room[:, None] * louder, 0)
        whole = part.sum(axis=0) + 1e-20
        plain = whole > STANDS_OUT * room.sum() * louder
        voiced[first : first + 65_536] = plain & (part[low].sum(axis=0) >= VOICED_SHARE * whole)
        hissing[first : first + 65_536] = plain & (part[high].sum(axis=0) >= HISS_SHARE * whole)
    return _Frames(np.append(0, np.cumsum(voiced)), np.append(0, np.cumsum(hissing)), step_cells)


def _speech(strong: Runs, level: NDArray[np.float16], voice_db: float, spectra: Spectra, swell: Swelling) -> Runs:
    """Runs that are speech."""
    if len(strong) == 0:
        return strong
    frames = _frames(strong, spectra, swell)
    lengths = strong[:, 1] - strong[:, 0]
    voices = frames.count(frames.voiced, strong)
    size = np.diff(frames.range(strong), axis=1)[:, 0]
    voiced = (voices >= 2) | ((voices == 1) & (lengths < BREATH_CELLS))
    if not voiced.any():
        return _joined(strong)  # a whole recording without voice is a whisper
    hissing = (frames.count(frames.hissing, strong) * 2 >= size) & (lengths <= LONGEST_HISS_CELLS)
    hissing |= np.maximum.reduceat(level, strong[:, 0]) > voice_db - BREATH_BELOW_VOICE_DB
    anchors = strong[voiced]
    after = np.searchsorted(anchors[:, 0], strong[:, 1])
    gap_after = np.where(after < len(anchors), anchors[np.minimum(after, len(anchors) - 1), 0] - strong[:, 1], 1 << 40)
    before = np.searchsorted(anchors[:, 1], strong[:, 0], side="right") - 1
    gap_before = np.where(before >= 0, strong[:, 0] - anchors[np.maximum(before, 0), 1], 1 << 40)
    beside = np.minimum(gap_after, gap_before) < JOIN_CELLS
    joined = _joined(strong[voiced | (beside & (hissing | (lengths < SHORTEST_SPEECH_CELLS)))])
    return np.array([_trimmed(run, level, voice_db, frames) for run in joined], dtype=np.int64).reshape(-1, 2)


def _joined(strong: Runs) -> Runs:
    """Runs less than 150 ms apart become one; what is then shorter than 100 ms is dropped."""
    if len(strong) == 0:
        return strong
    breaks = np.flatnonzero(strong[1:, 0] - strong[:-1, 1] >= JOIN_CELLS) + 1
    starts = strong[np.append(0, breaks), 0]
    ends = strong[np.append(breaks - 1, len(strong) - 1), 1]
    joined = np.stack((starts, ends), axis=1)
    return np.asarray(joined[ends - starts >= SHORTEST_SPEECH_CELLS])


def _trimmed(run: NDArray[np.int64], level: NDArray[np.float16], voice_db: float, frames: _Frames) -> tuple[int, int]:
    """The run without a breath before or after its voice: soft, unvoiced, no hiss, at least 150 ms long."""
    start, end = int(run[0]), int(run[1])
    first, last = frames.range(run[None, :])[0]
    voiced = np.flatnonzero(np.diff(frames.voiced[first : last + 1]))
    if voiced.size == 0:
        return start, end
    speaks = int((first + voiced[0]) * frames.step_cells)
    falls_silent = int((first + voiced[-1] + 0.5) * frames.step_cells)
    lead, trail = (start, min(speaks, end)), (max(falls_silent, start), end)
    if _breath(*lead, level, voice_db, frames):
        near = max(lead[1] - 40, start)
        start = near + int(np.argmin(level[near : lead[1]]))
    if _breath(*trail, level, voice_db, frames):
        end = trail[0] + int(np.argmin(level[trail[0] : trail[0] + 40]))
    return start, end


def _breath(start: int, end: int, level: NDArray[np.float16], voice_db: float, frames: _Frames) -> bool:
    if end - start < BREATH_CELLS:
        return False
    if float(level[start:end].max()) > voice_db - BREATH_BELOW_VOICE_DB:
        return False
    span = np.array([[start, end]])
    size = int(np.diff(frames.range(span))[0, 0])
    return bool(frames.count(frames.hissing, span)[0] * 2 < size)


def _between(speech: Runs, count: int) -> Runs:
    edges = np.concatenate(([0], speech.ravel(), [count])).reshape(-1, 2)
    return edges[edges[:, 1] > edges[:, 0]]


def _room_tone(
    pauses: Runs, voice_power: Series, plain: Series, noise: NDArray[np.float32], dead: Mask, swell: Swelling, make_up: MakeUp
) -> tuple[Mask, Runs]:
    """Room tone, and the sounds in the pauses that are none.

    `noise` is the level that the noise falls to around every `NOISE_EVERY`-th cell, in dB.
    """
    room = np.zeros(dead.size, dtype=bool)
    sounds: list[Runs] = []
    for group in _together(pauses[pauses[:, 1] - pauses[:, 0] >= PAUSE_CELLS]):
        before = max(int(group[0, 0]) - TENTH, 0)
        power = voice_power.part(before, int(group[-1, 1]) + TENTH)[0]
        under = plain.part(before, int(group[-1, 1]) + TENTH).mean(axis=0) - 1.5 * power
        rumbling = _decibels(np.maximum(under, 0), TENTH)
        quick, slow = _decibels(power, SMOOTH_CELLS), _decibels(power, TENTH)
        raised = swell.at(before, before + power.size)
        for start, end in group.tolist():
            first = start + (AFTER_SPEECH_CELLS if start > 0 else 0)
            last = end - (BEFORE_SPEECH_CELLS if end < dead.size else 0)
            usable = ~dead[first:last]
            if not usable.any():
                continue
            inside = slice(first - before, last - before)
            floor = float(noise[(first + last) // 2 // NOISE_EVERY])
            near = max(start - before + NEAR_SPEECH_CELLS, 0) if start > 0 else 0
            softest = near + int(np.argmin(np.where(dead[near + before : last], np.inf, slow[near : last - before])))
            lowest = float(slow[softest])
            since = np.maximum(raised[inside] - raised[softest], 0.0)  # by how much the room has swollen from there
            out = usable & _sounding(
                quick[inside] - since, slow[inside] - since, usable, lowest, floor, make_up.through(start + NEAR_SPEECH_CELLS, end)
            )
            rumble = rumbling[inside] - since
            usual = max(decibels.middle(rumble[usable]), lowest)
            out |= usable & (rumble > usual + THUMP_DB)
            kept = usable & ~widened(out, EDGE_CELLS)
            room[first:last] = kept
            if out.any():
                sounds.append(runs(out) + first)
                if kept.sum() < LEAST_ROOM_CELLS and lowest <= floor + ABOVE_FLOOR_DB:  # what the guard left out will have to do
                    early = slice(near, first - before)
                    low = quick[early] <= min(lowest + ABOVE_LOWEST_DB, floor + ABOVE_FLOOR_DB)
                    room[near + before : first] = low & ~dead[near + before : first]
    return room, _joined_sounds(np.concatenate(sounds) if sounds else _no_runs())


def _decibels(power: NDArray[np.floating], cells: int) -> NDArray[np.float64]:
    """Level over so many cells around each, in dB."""
    return np.asarray(decibels.levels(scipy.ndimage.uniform_filter1d(power.astype(np.float64), cells, mode="nearest")))


def _together(pauses: Runs) -> Iterator[Runs]:
    """Pauses in groups that are worked out at a time; what is longer than a quarter of an hour is cut."""
    cut = [(at, min(at + STRETCH_CELLS, end)) for start, end in pauses.tolist() for at in range(start, end, STRETCH_CELLS)]
    group: list[tuple[int, int]] = []
    for start, end in cut:
        if group and end - group[0][0] > STRETCH_CELLS:
            yield np.array(group)
            group = []
        group.append((start, end))
    if group:
        yield np.array(group)


def _sounding(
    quick: NDArray[np.float64], slow: NDArray[np.float64], usable: Mask, lowest: float, floor: float, alike: bool
) -> Mask:
    """Where in a pause something else than the room is heard; levels over 25 and 100 ms in dB, shape (cells,).

    A room's level moves slowly, however far; a breath's does not. Where a tenth of a second changes little, or all of the pause is
    louder than the room and `alike`, only what stands out of the level around it is a sound; else whatever stands out of the lowest
    level, and everything if that is not the room's. What never comes down near to the lowest level of the pause began in it: a
    breath that lasts from soon after the words to the next is even, too.
    """
    living = slow[usable]
    gentle = living.size <= TENTH or np.abs(living[TENTH:] - living[:-TENTH]).max() < GENTLE_DB
    if (gentle or (alike and lowest > floor + GENTLE_DB)) and living.min() <= lowest + ABOVE_LOWEST_DB:
        return np.asarray(quick > scipy.ndimage.median_filter(slow, SETTLED_CELLS, mode="nearest") + ABOVE_LOWEST_DB)
    if lowest > floor + ABOVE_FLOOR_DB:
        return np.asarray(quick > floor + ABOVE_FLOOR_DB)
    return np.asarray(quick > lowest + ABOVE_LOWEST_DB)


def _joined_sounds(sounds: Runs) -> Runs:
    """Sounds less than 100 ms apart are one."""
    if len(sounds) < 2:
        return sounds
    breaks = np.flatnonzero(sounds[1:, 0] - sounds[:-1, 1] >= 20) + 1
    return np.stack((sounds[np.append(0, breaks), 0], sounds[np.append(breaks - 1, len(sounds) - 1), 1]), axis=1)
