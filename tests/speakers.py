"""Several speakers in made-up rooms, for tests and benches: a real one, synthetic ones of three kinds, and faults of a known size.

The real speaker is the one whose words Debian's alsa-utils ships; `tools/make_voices.py` spoke the others. Everything between the
words is true silence until a room is added, so what is put in is known. Waves are float64 of shape (frames,), full scale 1.0.
"""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache, lru_cache
from pathlib import Path

import numpy as np
import scipy
import soundfile
import soxr
from numpy.typing import NDArray

from ispettore.demo import faults

Wave = NDArray[np.float64]
REAL_FOLDER = Path("/usr/share/sounds/alsa")
FOLDER = Path(__file__).parent / "voices"
SYNTHETIC = ("reed", "heron", "wren", "sluice", "plover")
DEMO = ("almanac-01", "almanac-02")
REAL = "caller"
NAMES = (REAL, *SYNTHETIC, *DEMO)


@dataclass(frozen=True)
class Laid:
    """Phrases at known places: `spans` in seconds, shape (phrases, 2)."""

    wave: Wave
    spans: NDArray[np.float64]
    rate: int

    @property
    def words(self) -> NDArray[np.bool_]:
        """True at the samples of phrases."""
        mask = np.zeros(self.wave.size, dtype=bool)
        for start, end in self.spans:
            mask[round(start * self.rate) : round(end * self.rate)] = True
        return mask

    def pauses(self) -> NDArray[np.float64]:
        """Between the phrases, in seconds, shape (phrases − 1, 2)."""
        return np.stack((self.spans[:-1, 1], self.spans[1:, 0]), axis=1)

    def over(self, room: Wave) -> "Laid":
        """The same in a room."""
        return Laid(self.wave + room, self.spans, self.rate)


@cache
def _source(name: str) -> tuple[tuple[Wave, ...], int]:
    if name == REAL:
        paths = sorted(path for path in REAL_FOLDER.glob("*.wav") if path.stem != "Noise")
        pieces, rate = [soundfile.read(path)[0] for path in paths], soundfile.info(paths[0]).samplerate
    elif name in DEMO:
        (wave, spans), rate = faults.clean_speech(name), faults.RATE_HZ
        pieces = [wave[int(start * rate) : int(end * rate)] for start, end in spans[:10]]
    else:
        wave, rate = soundfile.read(FOLDER / f"{name}.flac")
        pieces = [wave[round(a * rate) : round(b * rate)] for a, b in json.loads((FOLDER / f"{name}.json").read_text())]
    return tuple(_gated(piece, rate) for piece in pieces), rate


def _gated(wave: Wave, rate: int) -> Wave:
    """From the first sound to the last, true silence wherever 60 ms and more lie 42 dB and more under the loudest 5 ms; fades of
    5 ms."""
    size = rate // 200
    wave = wave[: wave.size // size * size]
    level = np.mean(wave.reshape(-1, size) ** 2, axis=1)
    heard = level > level.max() * 10**-4.2
    loud = np.flatnonzero(heard)
    near = scipy.ndimage.binary_dilation(scipy.ndimage.binary_closing(heard, np.ones(13)) | heard)
    gain = np.convolve(np.repeat(near.astype(float), size), np.ones(size) / size, mode="same")
    return np.asarray((wave * gain)[max(loud[0] - 1, 0) * size : (loud[-1] + 2) * size])


@cache
def phrases(name: str, rate: int) -> tuple[Wave, ...]:
    """A speaker's phrases, each of −20 dBFS, resampled where the rate is not its own."""
    pieces, own = _source(name)
    if rate != own:
        pieces = tuple(np.asarray(soxr.resample(piece, own, rate, quality="VHQ")) for piece in pieces)
    return tuple(faults.at_level(piece, rms_dbfs=-20.0) for piece in pieces)


def laid(
    name: str, *, rate: int = 48_000, pause_s: float = 0.8, head_s: float = 0.8, tail_s: float = 1.2, seconds: float = 0.0
) -> Laid:
    """A speaker's phrases with silence between, over and over until so many seconds are full."""
    pieces, spans = [np.zeros(round(head_s * rate))], []
    at = pieces[0].size
    while True:
        for phrase in phrases(name, rate):
            spans.append((at / rate, (at + phrase.size) / rate))
            pieces += [phrase, np.zeros(round(pause_s * rate))]
            at += phrase.size + pieces[-1].size
        if at >= seconds * rate:
            break
    pieces[-1] = np.zeros(round(tail_s * rate))
    return Laid(np.concatenate(pieces), np.array(spans), rate)


def room(frames: int, *, rate: int, dbfs: float, kind: str = "pink", seed: int = 1) -> Wave:
    """Noise of this level (its mean power): `white`; `pink`, falling by 3 dB an octave; or `dull`, by 6 above 300 Hz."""
    shaped = _noise(scipy.fft.next_fast_len(frames, real=True), rate, kind, seed)[:frames]
    return np.asarray(shaped * 10 ** (dbfs / 20) / np.sqrt(np.mean(shaped**2)))


@lru_cache(maxsize=8)
def _noise(frames: int, rate: int, kind: str, seed: int) -> Wave:
    white = np.random.default_rng(seed).standard_normal(frames)
    if kind == "white":
        return white
    bands = scipy.fft.rfft(white)
    hz = np.maximum(scipy.fft.rfftfreq(frames, 1 / rate), 20.0)
    bands *= hz**-0.5 if kind == "pink" else 1 / (1 + hz / 300)
    return np.asarray(scipy.fft.irfft(bands, frames))


def swelling(frames: int, *, rate: int, dbfs: float, swing_db: float, period_s: float, kind: str = "pink", seed: int = 1) -> Wave:
    """Noise whose level swings by so many dB, up and down in a period; `dbfs` is its mean power."""
    noise = room(frames, rate=rate, dbfs=dbfs, kind=kind, seed=seed)
    swung = noise * 10 ** (swing_db / 40 * np.sin(2 * np.pi * np.arange(frames) / (rate * period_s)))
    return np.asarray(swung * 10 ** (dbfs / 20) / np.sqrt(np.mean(swung**2)))


def whispered(wave: Wave, *, seed: int = 3) -> Wave:
    """The voice without its pitch: noise that has its short-term spectrum, and silence where it has."""
    _, _, bins = scipy.signal.stft(wave, nperseg=512)
    phase = np.exp(2j * np.pi * np.random.default_rng(seed).random(bins.shape))
    _, made = scipy.signal.istft(np.abs(bins) * phase, nperseg=512)
    return np.where(np.abs(wave) > 0, made[: wave.size], 0.0)


SOFTER = ("every third", "a passage", "the second half", "every third, whispered")


def softer(where: Laid, *, by_db: float, which: str) -> Laid:
    """The same with phrases that are said so much more softly: one of `SOFTER`."""
    wave, count = where.wave.copy(), len(where.spans)
    soft = {"a passage": range(count // 3, 2 * count // 3), "the second half": range(count // 2, count)}
    for start, end in where.spans[list(soft.get(which, range(2, count, 3)))]:
        part = slice(round(start * where.rate), round(end * where.rate))
        said = faults.at_level(whispered(wave[part]), rms_dbfs=-20.0) if which.endswith("whispered") else wave[part]
        wave[part] = said * 10 ** (-by_db / 20)
    return Laid(wave, where.spans, where.rate)


LOUDER = ("every third pause", "eight seconds of twenty")


def louder(where: Laid, *, dbfs: float, kind: str, when: str, seed: int = 9) -> Wave:
    """A noise that comes and goes, to be added to a room: `hum` of the mains, a `fan` (trembling at 7 Hz by half its strength) or a
    kind of `room`, of this level while it is there, in one of `LOUDER`."""
    frames, rate = where.wave.size, where.rate
    there = np.zeros(frames)
    if when == "every third pause":
        for start, end in where.pauses()[1::3]:
            there[round((start - 0.04) * rate) : round((end + 0.04) * rate)] = 1.0
    else:
        there[np.arange(frames) / rate % 20 > 12] = 1.0
    if kind == "hum":
        noise = mains(frames, rate=rate)
    else:
        noise = room(frames, rate=rate, dbfs=dbfs, kind="dull" if kind == "fan" else kind, seed=seed)
    if kind == "fan":
        noise *= 1 + 0.5 * np.sin(2 * np.pi * 7 * np.arange(frames) / rate)
    return np.asarray(there * faults.at_level(noise, rms_dbfs=dbfs))


def mains(
    frames: int, *, rate: int = 44_100, base_hz: float = 50.03, lines: Sequence[int] = range(1, 11), level: float = 0.008
) -> Wave:
    """Hum whose base wanders by 20 mHz rms over some seconds."""
    slow = np.convolve(np.random.default_rng(1).standard_normal(frames * 20 // rate + 220), np.hanning(200), "same")
    off = np.interp(np.arange(frames) / rate, np.arange(slow.size) / 20, slow * 0.02 / slow.std())
    phase = 2 * np.pi * np.cumsum(base_hz + off) / rate
    return np.asarray(sum(level / line * np.sin(line * phase + line) for line in lines))


def breath(*, rate: int, seconds: float, dbfs: float, seed: int = 1) -> Wave:
    """An inhalation: noise through resonances of an open mouth, that swells quickly, trembles and stops; of this RMS level."""
    random = np.random.default_rng(seed)
    frames = round(seconds * rate)
    noise = random.standard_normal(frames)
    shaped = np.zeros(frames)
    for hz, width in ((900, 500), (1_700, 600), (3_200, 1_200)):
        low, high = hz * random.uniform(0.85, 1.15) - width / 2, hz + width / 2
        shaped += scipy.signal.sosfilt(scipy.signal.butter(2, [low, high], "bandpass", fs=rate, output="sos"), noise) / np.sqrt(hz)
    top = random.uniform(0.45, 0.75)
    t = np.linspace(0, 1, frames)
    swell = np.where(t < top, t / top, (1 - t) / (1 - top)) ** 0.6
    trembling = random.standard_normal(max(round(seconds / 0.04), 2))
    tremble = np.interp(t, np.linspace(0, 1, trembling.size), trembling)
    return faults.at_level(shaped * swell * np.exp(0.3 * tremble), rms_dbfs=dbfs)


def breaths(where: Laid, *, seconds: float, dbfs: float, before_s: float = 0.08, seed: int = 1) -> Wave:
    """One breath in each pause, ending so long before the next phrase."""
    wave = np.zeros(where.wave.size)
    for index, (_, end) in enumerate(where.pauses()):
        piece = breath(rate=where.rate, seconds=seconds, dbfs=dbfs, seed=seed * 1_000 + index)
        last = round((end - before_s) * where.rate)
        wave[last - piece.size : last] += piece
    return wave


def faulty(where: Laid, kind: str, *, under_peak_db: float = 0.0, seed: int = 1, every_s: float = 1.0) -> tuple[Wave, list[float]]:
    """The wave with faults of one kind about once in so many seconds, and where they are in seconds.

    `ringing`, `impulse` and `step` stand so far under the wave's peak; what takes the sound away (`gap` of 3 to 10 ms, `hole` of
    60 ms, `held` and `repeated` of 6 to 12) happens in words.
    """
    random = np.random.default_rng(seed)
    wave, rate, words = where.wave.copy(), where.rate, where.words
    top = float(np.abs(wave).max()) * 10 ** (-under_peak_db / 20)
    loud = scipy.ndimage.maximum_filter1d(np.abs(wave), rate // 250) > 0.1 * np.abs(wave).max()
    places = []
    for at in np.arange(0.5 * every_s, wave.size / rate - 0.5, every_s):
        frame = round((at + random.uniform(-0.3, 0.3) * every_s) * rate)
        length = round(random.uniform(0.003, 0.010) * rate) if kind == "gap" else round(random.uniform(0.006, 0.012) * rate)
        length = round(0.06 * rate) if kind == "hole" else length
        if kind in TAKEN:
            after = loud[frame + length : frame + rate]
            near = np.flatnonzero(loud[frame : frame + after.size] & after)
            inside = [n for n in near[:: rate // 500] if words[frame + n - rate // 50 : frame + n + length + rate // 50].all()]
            if not inside:
                continue
            frame += int(inside[0])
        put_in(wave, kind, frame, rate=rate, top=top, random=random, length=length)
        places.append(frame / rate)
    return wave, places


TAKEN = ("gap", "hole", "held", "repeated")


def put_in(wave: Wave, kind: str, frame: int, *, rate: int, top: float, random: np.random.Generator, length: int = 0) -> None:
    """One fault into a wave, in place: a click whose largest sample is `top`, or `length` frames taken away."""
    _FAULTS[kind](wave, frame, length, rate, top, random)


def _ring(wave: Wave, frame: int, _length: int, rate: int, top: float, random: np.random.Generator) -> None:
    t = np.arange(round(0.003 * rate)) / rate
    piece = np.sin(2 * np.pi * random.uniform(2_500, 6_500) * t) * np.exp(-t / random.uniform(0.0002, 0.0005))
    wave[frame : frame + t.size] += top * piece / np.abs(piece).max()


def _impulse(wave: Wave, frame: int, _length: int, rate: int, top: float, random: np.random.Generator) -> None:
    # A pulse as a band of 20 kHz, or the rate's own, lets it be.
    t = (np.arange(-rate // 1_000, rate // 1_000) - random.uniform(0, 1)) / rate
    wave[frame : frame + t.size] += random.choice((-1, 1)) * top * np.sinc(t * min(0.9 * rate, 40_000)) * np.hanning(t.size)


def _step(wave: Wave, frame: int, _length: int, rate: int, top: float, random: np.random.Generator) -> None:
    t = np.arange(round(0.1 * rate)) / rate
    wave[frame : frame + t.size] += random.choice((-1, 1)) * top * np.exp(-t / random.uniform(0.003, 0.015))


def _silent(wave: Wave, frame: int, length: int, _rate: int, _top: float, _random: np.random.Generator) -> None:
    wave[frame : frame + length] = 0.0


def _held(wave: Wave, frame: int, length: int, _rate: int, _top: float, _random: np.random.Generator) -> None:
    wave[frame : frame + length] = wave[frame - 1]


def _repeated(wave: Wave, frame: int, length: int, _rate: int, _top: float, _random: np.random.Generator) -> None:
    wave[frame : frame + length] = wave[frame - length : frame]


_FAULTS = {
    "ringing": _ring, "impulse": _impulse, "step": _step, "gap": _silent, "hole": _silent, "held": _held, "repeated": _repeated,
}  # fmt: skip


def trailing(where: Laid, *, slowest_s: float = 0.55, over_s: float = 0.25, seed: int = 1) -> Laid:
    """The same, but every phrase dies away before its end as voices do that are not cut: by 60 dB in 0.15 to `slowest_s`."""
    random = np.random.default_rng(seed)
    wave = where.wave.copy()
    for start, end in where.spans:
        first, last = round(max(start, end - over_s) * where.rate), round(end * where.rate)
        t = np.arange(last - first) / where.rate
        level = np.sqrt(np.convolve(wave[first:last] ** 2, np.ones(where.rate // 50) / (where.rate // 50), mode="same") + 1e-12)
        # Made even first, so that the fall is the one that was asked for.
        wave[first:last] *= level[: where.rate // 50].mean() / level * 10 ** (-3 * t / random.uniform(0.15, slowest_s))
    return Laid(wave, where.spans, where.rate)
