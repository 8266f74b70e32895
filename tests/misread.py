"""Readings with mistakes in them: sentences broken off or misread, marked by claps, a clicker or the tongue, and read again.

What is put in where is known. Waves are float64 of shape (frames,), full scale 1.0; a reading's words have an RMS of −20 dBFS.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
import scipy
import soxr

from ispettore.core.measure import repeats
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Finding
from tests import speakers
from tests.speakers import Wave

NEAR_S, WORD_S = 0.02, 0.1
KINDS = ("clap", "clicker", "tongue")


def burst(kind: str, *, rate: int, peak: float, random: np.random.Generator, decay_s: float = 0.3) -> Wave:
    """One clap, one press of a clicker (which is two bursts), one click of the tongue; with what a room of this decay adds."""
    frames = round(0.4 * rate)
    t = np.arange(frames) / rate
    wave = np.zeros(frames)
    if kind == "clap":
        noise = random.standard_normal(frames) * np.exp(-t / random.uniform(0.002, 0.006)) * np.minimum(t / 0.0008, 1)
        for _ in range(2):
            wave += _rung(noise, random.uniform(600, 2_600), random.uniform(2, 4), rate)
        wave += 0.5 * noise
    elif kind == "tongue":
        noise = random.standard_normal(frames) * np.exp(-t / 0.0008)
        wave = _rung(noise, random.uniform(900, 2_200), random.uniform(5, 9), rate) + 0.2 * noise
    else:
        apart = round(random.uniform(0.06, 0.2) * rate)
        for at, height in ((0, 1.0), (apart, random.uniform(0.4, 1.0))):
            for hz, share in ((random.uniform(2_500, 3_500), 1.0), (random.uniform(3_600, 0.42 * min(rate, 16_000)), 0.8)):
                ring = np.sin(2 * np.pi * hz * t) * np.exp(-t / random.uniform(0.001, 0.004))
                wave[at:] += height * share * ring[: frames - at]
    tail = random.standard_normal(frames) * np.exp(-6.9 * t / decay_s) * 10 ** (-38 / 20)
    wave = wave + scipy.signal.fftconvolve(wave, tail)[:frames]
    return np.asarray(wave * peak / np.abs(wave).max())


def _rung(noise: Wave, hz: float, q: float, rate: int) -> Wave:
    b, a = scipy.signal.iirpeak(min(hz, 0.45 * rate), q, fs=rate)
    return np.asarray(scipy.signal.lfilter(b, a, noise))


def mark(kind: str, *, rate: int, peak_dbfs: float, random: np.random.Generator, decay_s: float = 0.3) -> Wave:
    """Two or three bursts within a second, each somewhat otherwise than the last; of a clicker one press or two."""
    count = int(random.integers(1, 3)) if kind == "clicker" else int(random.integers(2, 4))
    step = random.uniform(0.2, 0.4) if kind == "clicker" else random.uniform(0.12, 0.85 / (count - 1))
    wave = np.zeros(round(1.5 * rate))
    for n in range(count):
        at = round(n * step * random.uniform(0.92, 1.0) * rate)
        peak = 10 ** ((peak_dbfs - random.uniform(0, 4)) / 20)
        piece = burst(kind, rate=rate, peak=peak, random=random, decay_s=decay_s)
        wave[at : at + piece.size] += piece
    heard = np.flatnonzero(np.abs(wave) > 10 ** (-70 / 20))
    return wave[: heard[-1] + 1]


def other(kind: str, *, rate: int, random: np.random.Generator) -> Wave:
    """What is no mark: `mouth` noises and `knocks` by twos and threes, `page`s, bursts of `air`, a `single` clap."""
    frames = round(1.2 * rate)
    t = np.arange(frames) / rate
    wave = np.zeros(frames)
    if kind == "single":
        piece = burst("clap", rate=rate, peak=10 ** (random.uniform(-12, -4) / 20), random=random)
        wave[: piece.size] = piece
    elif kind == "page":
        shape = np.convolve(random.standard_normal(frames), np.hanning(rate // 20), "same")
        rustle = _rung(random.standard_normal(frames) * np.abs(shape), 3_000, 0.7, rate) * np.sin(np.pi * np.minimum(t / 0.8, 1))
        wave = rustle / np.abs(rustle).max() * 10 ** (random.uniform(-40, -22) / 20)
    else:
        for n in range(int(random.integers(1, 4))):
            at = round((n * random.uniform(0.1, 0.3)) * rate)
            if kind == "mouth":
                noise = random.standard_normal(frames) * np.exp(-t / random.uniform(0.0005, 0.004))
                piece = _rung(noise, random.uniform(1_200, 5_000), random.uniform(1, 6), rate)
                peak = random.uniform(-60, -34)
            elif kind == "knocks":
                piece = np.sin(2 * np.pi * random.uniform(70, 260) * t) * np.exp(-t / random.uniform(0.01, 0.03))
                piece = piece * np.minimum(t / 0.002, 1) + 0.03 * random.standard_normal(frames) * np.exp(-t / 0.004)
                peak = random.uniform(-30, -8)
            else:
                piece = _rung(random.standard_normal(frames), 45, 0.8, rate) * np.sin(np.pi * np.minimum(t / 0.08, 1))
                peak = random.uniform(-24, -8)
            piece = piece / np.abs(piece).max() * 10 ** (peak / 20)
            wave[at:] += piece[: frames - at]
    return np.asarray(wave)


OTHERS = ("mouth", "knocks", "page", "air", "single")


@dataclass(frozen=True)
class Reading:
    """`marks` and `others` are where they were put, in seconds; a mistake is where the misread words begin and the mark (or the
    pause) after them ends, that is: where they are read again."""

    wave: Wave
    rate: int
    marks: list[tuple[float, float]] = field(default_factory=list)
    others: list[float] = field(default_factory=list)
    mistakes: list[tuple[float, float]] = field(default_factory=list)

    @property
    def seconds(self) -> float:
        return self.wave.size / self.rate


class Recorder:
    """Puts a reading together piece by piece, in a room."""

    def __init__(self, rate: int, *, room_dbfs: float = -65.0, seed: int = 1) -> None:
        self.rate, self.random = rate, np.random.default_rng(seed)
        self._pieces: list[Wave] = []
        self._frames = 0
        self._room_dbfs = room_dbfs
        self.marks: list[tuple[float, float]] = []
        self.others: list[float] = []
        self.mistakes: list[tuple[float, float]] = []
        self.pause(0.9)

    @property
    def now_s(self) -> float:
        return self._frames / self.rate

    def say(self, wave: Wave) -> None:
        self._pieces.append(wave)
        self._frames += wave.size

    def pause(self, seconds: float) -> None:
        self.say(np.zeros(round(seconds * self.rate)))

    def mark(self, kind: str, *, peak_dbfs: float, decay_s: float = 0.3) -> None:
        start = self.now_s
        self.say(mark(kind, rate=self.rate, peak_dbfs=peak_dbfs, random=self.random, decay_s=decay_s))
        self.marks.append((start, self.now_s))

    def other(self, kind: str) -> None:
        self.others.append(self.now_s)
        self.say(other(kind, rate=self.rate, random=self.random))

    def done(self) -> Reading:
        self.pause(1.0)
        wave = np.concatenate(self._pieces)
        room = speakers.room(wave.size, rate=self.rate, dbfs=self._room_dbfs, seed=int(self.random.integers(1, 99)))
        return Reading(wave + room, self.rate, self.marks, self.others, self.mistakes)


def marked(name: str, *, rate: int, seed: int, seconds: float = 60.0, room_dbfs: float = -65.0) -> Reading:
    """A speaker's phrases with about as many marks between them as other noises."""
    recorder = Recorder(rate, room_dbfs=room_dbfs, seed=seed)
    random = recorder.random
    phrases = speakers.phrases(name, rate)
    n = 0
    while recorder.now_s < seconds:
        recorder.say(phrases[n % len(phrases)])
        n += 1
        recorder.pause(random.uniform(0.15, 0.9))
        drawn = random.uniform()
        if drawn < 0.4:
            recorder.mark(str(random.choice(KINDS)), peak_dbfs=random.uniform(-14, -1), decay_s=random.choice((0.15, 0.3, 0.5)))
            recorder.pause(random.uniform(0.15, 0.9))
        elif drawn < 0.85:
            recorder.other(str(random.choice(OTHERS)))
            recorder.pause(random.uniform(0.1, 0.6))
    return recorder.done()


def again(wave: Wave, *, rate: int, seed: int, most: float = 0.07) -> Wave:
    """The same words as the same speaker says them another time: quicker here and slower there by up to `most`, the pitch with it,
    a little louder or softer, brighter or duller."""
    random = np.random.default_rng(seed)
    knots = max(round(wave.size / rate / 0.35), 2)
    speed = np.exp(random.uniform(-most, most, knots))
    position = np.cumsum(np.interp(np.linspace(0, 1, wave.size), np.linspace(0, 1, knots), speed))
    position = position[position < wave.size - 1]
    upper = soxr.resample(wave, rate, 4 * rate)
    warped = np.interp(4 * position, np.arange(upper.size), upper)
    tilted = warped + random.uniform(-0.3, 0.3) * np.append(0.0, np.diff(warped)) * rate / 16_000
    return np.asarray(tilted * 10 ** (random.uniform(-3, 3) / 20))


def spoken_twice(name: str, rate: int) -> list[tuple[Wave, Wave]]:
    """A synthetic speaker's lines, each at two speeds and pitches."""
    return list(zip(speakers.phrases(name, rate), speakers.phrases(f"{name}-again", rate), strict=True))


def lines_of(name: str, rate: int) -> list[tuple[Wave, Wave]]:
    """A speaker's lines, each said twice."""
    return seats(rate) if name == speakers.REAL else spoken_twice(name, rate)


def inspected(reading: Reading, *, gain_db: float = 0.0) -> Inspection:
    """What is measured of a reading."""
    wave = reading.wave * 10 ** (gain_db / 20)
    return measure_array(wave[:, None].astype(np.float32), sample_rate_hz=reading.rate).inspection


class Marks(NamedTuple):
    """How many marks were made and found, and how many were found that are none."""

    made: int
    found: int
    false: int


def marks_found(reading: Reading, inspection: Inspection) -> Marks:
    told = [each for each in inspection.findings if each.kind == "mark"]
    met = [[start - NEAR_S < each.end_s and end > each.start_s - NEAR_S for start, end in reading.marks] for each in told]
    found = sum(any(row[n] for row in met) for n in range(len(reading.marks)))
    return Marks(len(reading.marks), found, sum(not any(row) for row in met))


def marks_of(readings: Iterable[Reading]) -> Marks:
    """Of several readings together."""
    return Marks(*np.sum([marks_found(reading, inspected(reading)) for reading in readings], axis=0).tolist())


class Mistakes(NamedTuple):
    """How many mistakes were made; found from where they begin to where they are read again; found with another beginning; and what
    was proposed elsewhere."""

    made: int
    right: int
    wrong: int
    false: int


def mistakes_found(reading: Reading, inspection: Inspection, *, marked: bool, near_s: float = WORD_S) -> Mistakes:
    right = wrong = 0
    theirs = set()
    for begun_s, again_s in reading.mistakes:
        told = [one for one in inspection.repeats if one.marked == marked and abs(one.again_s - again_s) < WORD_S]
        theirs |= {one.again_s for one in told}
        met = any(abs(one.begun_s - begun_s) < near_s for one in told)
        right, wrong = right + met, wrong + (bool(told) and not met)
    # Where a mistake is within what is read twice, another part of it may be told as well.
    others = [one for one in inspection.repeats if one.again_s not in theirs]
    alone = [one for one in others if not any(one.begun_s < end + 8 and one.again_s > start for start, end in reading.mistakes)]
    return Mistakes(len(reading.mistakes), right, wrong, len(alone))


PRESSED = {"in the pause": (-0.5, -0.05), "early": (-1.5, -0.5), "late": (0.1, 1.2)}
"""When somebody presses a key to mark a mistake, against the moment when the words are taken up again, in seconds."""


def key(at_s: float) -> Finding:
    return Finding(kind="mark-set", start_s=at_s, end_s=at_s, severity="note")


def keyed_of(name: str, rate: int, *, when: str, seed: int) -> Mistakes:
    """A reading without claps, in which a key was pressed at each mistake."""
    reading = misread(lines_of(name, rate), rate=rate, seed=seed, with_marks=False)
    random = np.random.default_rng(seed)
    keys = [key(again_s + random.uniform(*PRESSED[when])) for _, again_s in reading.mistakes]
    seen = measure_array(reading.wave[:, None].astype(np.float32), sample_rate_hz=rate)
    found = repeats.find(seen.meters.spectra, seen.meters.cells, seen.passages, keys)
    return mistakes_found(reading, seen.inspection.model_copy(update={"repeats": found}), marked=True)


TWICE = ("reed", "heron", "sluice", "plover")
SEATS = ("front_center", "front_left", "front_right", "rear_center", "rear_left", "rear_right", "side_left", "side_right")
"""What the real speaker's phrases are, in their order."""


def broken_off(wave: Wave, *, rate: int, share: float, wrong: Wave | None = None, random: np.random.Generator) -> Wave:
    """The beginning of a line, up to about `share` of it, and what was said wrongly there: a piece of another."""
    frames = round(share * wave.size)
    begun = wave[:frames].copy()
    fade = rate // 80
    begun[-fade:] *= np.linspace(1, 0, fade)
    if wrong is None:
        return begun
    length = min(round(random.uniform(0.25, 0.5) * rate), wrong.size // 2)
    at = int(random.integers(wrong.size // 4, wrong.size - length))
    piece = wrong[at : at + length] * np.minimum(1, np.minimum(np.arange(length), np.arange(length)[::-1]) / fade)
    return np.concatenate((begun, piece))


def misread(
    lines: Sequence[tuple[Wave, Wave]], *, rate: int, seed: int, with_marks: bool = True, room_dbfs: float = -65.0, rounds: int = 2
) -> Reading:
    """Lines, each given as said two times. About half of them go wrong: broken off somewhere, with a wrong word at times, marked
    (or not), and said again from their beginning, or from that of the line before, or from the middle of the line."""
    recorder = Recorder(rate, room_dbfs=room_dbfs, seed=seed)
    random = recorder.random
    said: dict[int, float] = {}  # when a line was begun last
    for n in range(rounds * len(lines)):
        one, other_take = lines[n % len(lines)]
        start_s = said[n] = recorder.now_s
        if random.uniform() < 0.55:
            recorder.say(one)
            recorder.pause(random.uniform(0.25, 0.9))
            continue
        wrong = lines[(n + 3) % len(lines)][0] if random.uniform() < 0.5 else None
        share = max(random.uniform(0.35, 1.0), min(1.3 * rate / one.size, 1.0))
        recorder.say(broken_off(one, rate=rate, share=share, wrong=wrong, random=random))
        recorder.pause(random.uniform(0.3, 0.9))
        if with_marks:
            recorder.mark(str(random.choice(KINDS)), peak_dbfs=random.uniform(-12, -2))
            recorder.pause(random.uniform(0.3, 0.9))
        from_before = n > 0 and random.uniform() < 0.2
        recorder.mistakes.append((said[n - 1] if from_before else start_s, recorder.now_s))
        if from_before:
            said[n - 1] = recorder.now_s
            recorder.say(again(lines[(n - 1) % len(lines)][1], rate=rate, seed=seed * 100 + n))
            recorder.pause(random.uniform(0.25, 0.9))
        said[n] = recorder.now_s
        recorder.say(again(other_take, rate=rate, seed=seed * 100 + n, most=0.04))
        recorder.pause(random.uniform(0.25, 0.9))
    return recorder.done()


def summed(readings: Iterable[Reading], *, marked: bool, near_s: float = WORD_S) -> Mistakes:
    """Of several readings together."""
    seen = [mistakes_found(reading, inspected(reading), marked=marked, near_s=near_s) for reading in readings]
    return Mistakes(*np.sum(seen, axis=0).tolist())


def midway(lines: Sequence[tuple[Wave, Wave]], *, rate: int, seed: int, room_dbfs: float = -65.0) -> Reading:
    """Lines that are broken off near their end and, behind a mark, read again from their midst, where there is no pause.
    Where that is in what was said first is known to a fifth of a second or so: both are as long as they are."""
    recorder = Recorder(rate, room_dbfs=room_dbfs, seed=seed)
    random = recorder.random
    for n, (one, other_take) in enumerate(lines):
        start_s = recorder.now_s
        recorder.say(broken_off(one, rate=rate, share=0.9, random=random))
        recorder.pause(0.5)
        recorder.mark(str(random.choice(KINDS)), peak_dbfs=-6)
        recorder.pause(0.5)
        near = round(random.uniform(0.25, 0.5) * other_take.size)
        level = np.convolve(other_take**2, np.ones(rate // 100), "same")
        first = max(near - rate // 8, 0)
        at = first + int(np.argmin(level[first : near + rate // 8]))
        recorder.mistakes.append((start_s + at / other_take.size * one.size / rate, recorder.now_s))
        recorder.say(again(other_take[at:], rate=rate, seed=seed * 100 + n, most=0.04))
        recorder.pause(0.6)
    return recorder.done()


def seats(rate: int) -> list[tuple[Wave, Wave]]:
    """Lines of the real speaker, put together of the words of the announcements of loudspeakers, which he said two or three times
    each: both times of a line are other words of his."""
    takes = _words(rate)
    orders = (
        "front left rear right", "rear center front right", "side left front center", "rear left front left side right",
        "front right side left rear left", "side right rear center", "rear right front center",
    )  # fmt: skip
    lines = []
    for n, order in enumerate(orders):
        pair = []
        for take in (0, 1):
            pieces = []
            for word in order.split():
                said = takes[word]
                pieces += [said[(n + take) % len(said)], np.zeros(round(0.04 * rate))]
            pair.append(np.concatenate(pieces[:-1]))
        lines.append((pair[0], pair[1]))
    return lines


def _words(rate: int) -> dict[str, list[Wave]]:
    """The real speaker's words, parted where each announcement is softest in its middle."""
    said: dict[str, list[Wave]] = {}
    for name, phrase in zip(SEATS, speakers.phrases(speakers.REAL, rate), strict=True):
        level = np.convolve(phrase**2, np.ones(rate // 100), "same")
        third = phrase.size // 3
        middle = third + int(np.argmin(level[third : 2 * third]))
        for word, piece in zip(name.split("_"), (phrase[:middle], phrase[middle:]), strict=True):
            said.setdefault(word, []).append(piece)
    return said
