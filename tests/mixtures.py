"""Recordings with several faults at once, each drawn from a number: what one fault alone never shows.

A speaker or two, even or not, in a room that answers or not; a noise of some kind, breaths, knocks, an offset, clipping, a gate, a
first word cut into; at any usual rate and level, on one channel or two.
"""

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.demo.faults import at_level
from tests import speakers
from tests.speakers import Laid

RATES = (44_100, 44_100, 48_000, 48_000, 22_050, 96_000)
PAUSES_S = (0.35, 0.6, 0.9, 1.4)
Wave = NDArray[np.float64]


@dataclass
class Mixture:
    """A voice being spoilt: `told` says how."""

    seed: int
    random: np.random.Generator
    laid: Laid
    told: list[str] = field(default_factory=list)

    @property
    def wave(self) -> Wave:
        return self.laid.wave

    def becomes(self, wave: Wave, how: str) -> None:
        self.laid = Laid(wave, self.laid.spans, self.laid.rate)
        self.told.append(how)


def mixture(seed: int) -> tuple[Wave, int, str]:
    """A wave of shape (frames, channels) in ±1, its sample rate, and what was done to it."""
    random = np.random.default_rng(seed)
    made = Mixture(seed, random, _spoken(random, int(random.choice(RATES))))
    for share, spoil in ((0.35, _answering), (0.3, _near), (0.45, _breathing), (0.3, _knocked)):
        if random.random() < share:
            spoil(made)
    _in_a_room(made)
    level = random.uniform(-40, -14)
    made.becomes(at_level(made.wave, rms_dbfs=level), f"at {level:.0f} dBFS")
    for share, spoil in ((0.15, _clipped), (0.12, _gated), (0.1, _cut), (0.15, _leaning)):
        if random.random() < share:
            spoil(made)
    return _on_channels(made), made.laid.rate, ", ".join(made.told)


def _spoken(random: np.random.Generator, rate: int) -> Laid:
    """Phrases of one or two speakers, unevenly loud, with pauses of all lengths."""
    first, second = (str(name) for name in random.choice(speakers.NAMES, 2))
    seconds, spread_db = float(random.choice((12, 25, 40))), float(random.choice((0.5, 1.5, 3.0)))
    pause_s, both, shout_db = float(random.choice(PAUSES_S)), random.random() < 0.2, random.uniform(8, 16)
    shouts, apart_db, next_one = random.random() < 0.15, random.uniform(-8, 8), int(random.integers(16))
    pieces, spans, at = [np.zeros(round(rate * random.uniform(0.1, 1.5)))], [], 0
    at = pieces[0].size
    while at < seconds * rate:
        other = both and at > seconds * rate / 2
        said = speakers.phrases(second if other else first, rate)
        louder = random.normal() * spread_db + apart_db * other + shout_db * (shouts and random.random() < 0.15)
        phrase = said[next_one % len(said)] * 10 ** (louder / 20)
        spans.append((at / rate, (at + phrase.size) / rate))
        pieces += [phrase, np.zeros(round(rate * pause_s * np.exp(0.35 * random.normal())))]
        at, next_one = at + phrase.size + pieces[-1].size, next_one + 1
    pieces[-1] = np.zeros(round(rate * random.uniform(0.2, 2.5)))
    return Laid(at_level(np.concatenate(pieces), rms_dbfs=-23), np.array(spans), rate)


def _answering(made: Mixture) -> None:
    decay_s, wet_db = made.random.uniform(0.1, 0.5), made.random.uniform(-20, -8)
    frames = round(made.laid.rate * decay_s)
    answer = made.random.standard_normal(frames) * 10 ** (-3 * np.arange(frames) / frames)
    answer *= 10 ** (wet_db / 20) / np.sqrt(np.sum(answer**2))
    made.becomes(made.wave + scipy.signal.fftconvolve(made.wave, answer)[: made.wave.size], f"a room of {decay_s:.2f} s")


def _near(made: Mixture) -> None:
    low = scipy.signal.butter(1, 200, fs=made.laid.rate, output="sos")
    made.becomes(at_level(made.wave + 0.8 * scipy.signal.sosfilt(low, made.wave), rms_dbfs=-23), "near")


def _breathing(made: Mixture) -> None:
    level, rate = made.random.uniform(-58, -38), made.laid.rate
    wave = made.wave.copy()
    for number, (start, end) in enumerate(made.laid.pauses()):
        seconds = min(made.random.uniform(0.24, 0.48), 0.8 * (end - start))
        if seconds > 0.1 and made.random.random() < 0.7:
            piece = speakers.breath(rate=rate, seconds=seconds, dbfs=level, seed=100 * made.seed + number)
            last = round((end - 0.05) * rate)
            wave[last - piece.size : last] += piece
    made.becomes(wave, f"breaths of {level:.0f} dBFS")


def _knocked(made: Mixture) -> None:
    count, level, rate = int(made.random.integers(2, 12)), made.random.uniform(-45, -25), made.laid.rate
    wave = made.wave.copy()
    for frame in made.random.integers(0, wave.size - rate // 5, count):
        frames = round(rate * made.random.uniform(0.03, 0.15))
        knock = made.random.standard_normal(frames) * np.exp(-6 * np.arange(frames) / frames)
        low = scipy.signal.butter(2, made.random.uniform(150, 4_000), fs=rate, output="sos")
        wave[frame : frame + frames] += at_level(scipy.signal.sosfilt(low, knock), rms_dbfs=level)
    made.becomes(wave, f"{count} knocks of {level:.0f} dBFS")


def _in_a_room(made: Mixture) -> None:
    frames, rate, level = made.wave.size, made.laid.rate, made.random.uniform(-85, -62)
    quiet = speakers.room(frames, rate=rate, dbfs=level, kind=str(made.random.choice(("pink", "dull", "white"))), seed=made.seed)
    made.becomes(made.wave + quiet, f"a room of {level:.0f} dBFS")
    if made.random.random() < 0.55:
        kind, level = str(made.random.choice(tuple(NOISES))), made.random.uniform(-66, -46)
        noise = at_level(NOISES[kind](made.random, frames, rate), rms_dbfs=level)
        made.becomes(made.wave + noise, f"{kind} of {level:.0f} dBFS")


def _hiss(random: np.random.Generator, frames: int, rate: int) -> Wave:
    return speakers.room(frames, rate=rate, dbfs=-20, kind=str(random.choice(("pink", "dull", "white"))), seed=11)


def _hum(random: np.random.Generator, frames: int, rate: int) -> Wave:
    return speakers.mains(
        frames, rate=rate, base_hz=float(random.choice((50.02, 59.98))), lines=range(1, int(random.integers(3, 18)))
    )


def _fan(random: np.random.Generator, frames: int, rate: int) -> Wave:
    trembling = 1 + 0.4 * np.sin(2 * np.pi * random.uniform(3, 11) * np.arange(frames) / rate)
    return np.asarray(speakers.room(frames, rate=rate, dbfs=-20, kind="dull", seed=12) * trembling)


def _swell(random: np.random.Generator, frames: int, rate: int) -> Wave:
    return speakers.swelling(frames, rate=rate, dbfs=-20, swing_db=random.uniform(3, 9), period_s=random.uniform(4, 20))


def _rumble(random: np.random.Generator, frames: int, rate: int) -> Wave:
    low = scipy.signal.butter(4, random.uniform(30, 90), fs=rate, output="sos")
    return np.asarray(scipy.signal.sosfilt(low, random.standard_normal(frames)))


def _traffic(random: np.random.Generator, frames: int, rate: int) -> Wave:
    seconds = np.arange(frames) / rate
    passing = sum(np.exp(-0.5 * ((seconds - at) / 1.5) ** 2) for at in random.uniform(0, frames / rate, 3))
    low = scipy.signal.butter(2, 400, fs=rate, output="sos")
    return np.asarray(scipy.signal.sosfilt(low, random.standard_normal(frames)) * passing)


def _whine(random: np.random.Generator, frames: int, rate: int) -> Wave:
    tone = np.sin(2 * np.pi * random.uniform(900, 6_000) * np.arange(frames) / rate)
    return np.asarray(0.5 * tone + at_level(speakers.room(frames, rate=rate, dbfs=-20, kind="dull", seed=13), rms_dbfs=-7))


NOISES: dict[str, Callable[[np.random.Generator, int, int], Wave]] = {
    "hiss": _hiss,
    "hum": _hum,
    "a fan": _fan,
    "a swelling noise": _swell,
    "rumble": _rumble,
    "traffic": _traffic,
    "a whine": _whine,
}


def _clipped(made: Mixture) -> None:
    rate, top = made.laid.rate, made.random.uniform(0.4, 0.9) * float(np.abs(made.wave).max())
    first, last = np.sort(made.random.integers(0, made.wave.size, 2)).tolist()
    wave = made.wave.copy()
    wave[first:last] = np.clip(wave[first:last], -top, top)
    made.becomes(wave, f"clipped from {first / rate:.0f} to {last / rate:.0f} s")


def _gated(made: Mixture) -> None:
    wave, rate = made.wave.copy(), made.laid.rate
    for start, end in made.laid.pauses():
        if end - start > 0.4:
            wave[round((start + 0.15) * rate) : round((end - 0.15) * rate)] = 0.0
    made.becomes(wave, "gated")


def _cut(made: Mixture) -> None:
    made.becomes(made.wave[round((made.laid.spans[0][0] + 0.02) * made.laid.rate) :], "the first word cut into")


def _leaning(made: Mixture) -> None:
    offset = made.random.uniform(-0.03, 0.03)
    made.becomes(made.wave + offset, f"an offset of {100 * offset:.1f} %")


def _on_channels(made: Mixture) -> Wave:
    wave, which = np.clip(made.wave, -1, 1)[:, None], made.random.random()
    hiss = speakers.room(wave.size, rate=made.laid.rate, dbfs=-75, seed=made.seed + 7)[:, None]
    for until, how, right in ((0.12, "held twice", wave), (0.2, "a pair", 0.8 * wave + hiss), (0.25, "one side", 0 * wave)):
        if which < until:
            made.told.append(how)
            return np.concatenate((wave, right), axis=1)
    return wave
