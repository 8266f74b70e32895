"""A corpus of made-up recordings of every kind that narrators bring, and the specifications they are held against.

Speakers × rooms, uneven and shouted readings, two voices, faults, odd lengths, rates and channels: each a wave of shape (frames,
channels) and its rate, made when it is asked for.
"""

from collections.abc import Callable
from functools import partial

import numpy as np
import scipy
import soxr
from numpy.typing import NDArray

from ispettore.core.spec import catalogue
from ispettore.core.spec.specification import Limit, Specification
from tests import signals, speakers

RATE = 44_100
Wave = NDArray[np.float64]
ROOMS = (
    ("pink", -75.0),
    ("white", -57.0),
    ("white", -52.0),
    ("pink", -55.0),
    ("hum", -53.0),
    ("hum and hiss", -51.0),
    ("rumble", -50.0),
)
LEVELS_DBFS = (-21.5, -27.0, -33.0, -18.5)


def at(wave: Wave, rms_dbfs: float) -> Wave:
    return wave * 10 ** (rms_dbfs / 20) / np.sqrt(np.mean(wave**2))


def noise(frames: int, kind: str, dbfs: float) -> Wave:
    if kind in ("white", "pink"):
        return speakers.room(frames, rate=RATE, dbfs=dbfs, kind=kind)
    if kind == "rumble":
        low = scipy.signal.butter(4, 60, fs=RATE, output="sos")
        return at(scipy.signal.sosfilt(low, speakers.room(frames, rate=RATE, dbfs=-20, kind="white")), dbfs)
    hiss = speakers.room(frames, rate=RATE, dbfs=-20, kind="white")
    return at(at(speakers.mains(frames), -20) + (0.7 * hiss if kind == "hum and hiss" else 0.0), dbfs)


def spoken(name: str, *, seconds: float = 20, pause_s: float = 0.9, louder_db: float = 0.0, every: int = 3) -> Wave:
    """A speaker, every so many phrases louder; with `every` 0 the second half."""
    laid = speakers.laid(name, rate=RATE, seconds=seconds, pause_s=pause_s)
    wave = laid.wave.copy()
    loud = laid.spans[every - 1 :: every] if every else [(wave.size / RATE / 2, wave.size / RATE)]
    for start, end in loud if louder_db else ():
        wave[round(start * RATE) : round(end * RATE)] *= 10 ** (louder_db / 20)
    return wave


def placed(wave: Wave, level_dbfs: float, kind: str = "pink", dbfs: float = -75.0) -> Wave:
    """In a room whose level is that of a voice at −21.5 dBFS, over a quieter one; no louder than a file holds."""
    moved = level_dbfs + 21.5
    rooms = noise(wave.size, kind, dbfs + moved) + speakers.room(wave.size, rate=RATE, dbfs=-76 + moved, seed=5)
    return np.clip(at(wave, level_dbfs) + rooms, -1, 1)[:, None]


def whispered(name: str) -> Wave:
    """The voice without its pitch: noise that has its short-term spectrum."""
    return placed(speakers.whispered(spoken(name)) + 1e-9, -24)


def with_music() -> Wave:
    """Slow chords under the voice, 22 dB softer."""
    wave = spoken("almanac-01")
    t = np.arange(wave.size) / RATE
    chords = sum(np.sin(2 * np.pi * hz * t + hz) * (1 + np.sin(0.7 * t + hz)) for hz in (196.0, 246.9, 293.7, 392.0))
    return placed(at(wave, -21.5) + at(chords, -43.5), -23)


def with_breaths() -> Wave:
    laid = speakers.laid("caller", rate=RATE, seconds=20, pause_s=1.0)
    return placed(at(laid.wave, -21.5) + speakers.breaths(laid, seconds=0.4, dbfs=-46), -25)


def gated() -> Wave:
    laid = speakers.laid("wren", rate=RATE, seconds=20, pause_s=1.4)
    wave = placed(laid.wave, -24, "pink", -64)
    for start, end in laid.pauses()[::2]:
        wave[round((start + 0.2) * RATE) : round((end - 0.3) * RATE)] = 0.0
    return wave


def sides(*, right: float, hiss_dbfs: float = -72.0) -> Wave:
    """Two channels with a hiss of their own; the right one louder, softer or upside down."""
    wave = at(spoken("plover"), -24)
    return np.stack(
        [gain * wave + speakers.room(wave.size, rate=RATE, dbfs=hiss_dbfs, seed=seed) for gain, seed in ((1.0, 8), (right, 9))],
        axis=1,
    )


def recordings() -> dict[str, Callable[[], tuple[Wave, int]]]:
    """Each by its name."""
    made: dict[str, Callable[[], Wave]] = {}
    for number, name in enumerate(speakers.NAMES):
        for room, (kind, dbfs) in enumerate(ROOMS):
            level = LEVELS_DBFS[(number + room) % len(LEVELS_DBFS)]
            made[f"{name}, {kind} {dbfs:g}, at {level:g}"] = lambda n=name, k=kind, d=dbfs, lv=level: placed(spoken(n), lv, k, d)
        made[f"{name}, shouts"] = lambda n=name: placed(spoken(n, seconds=30, louder_db=14, every=6), -27)
        made[f"{name}, two voices"] = lambda n=name: placed(spoken(n, seconds=40, louder_db=-9, every=0), -24)
    made |= {
        "5 s": lambda: placed(spoken("almanac-02")[: 5 * RATE], -26),
        "90 s": lambda: placed(spoken("caller", seconds=90, louder_db=5), -30),
        "breaths": with_breaths,
        "whispered": partial(whispered, "wren"),
        "music": with_music,
        "no pause": lambda: placed(spoken("reed", pause_s=0.0), -24),
        "dead silence": gated,
        "clipped": lambda: np.clip(2.2 * placed(spoken("almanac-01"), -19), -0.9, 0.9) / 2.2,
        "offset": lambda: placed(spoken("wren"), -24) + 0.015,
        "dual mono": lambda: np.repeat(placed(spoken("heron"), -26), 2, axis=1),
        "stereo pair": lambda: sides(right=0.7),
        "right side upside down": lambda: sides(right=-1.0),
    }
    found: dict[str, Callable[[], tuple[Wave, int]]] = {name: (lambda make=make: (make(), RATE)) for name, make in made.items()}
    found["8 kHz"] = lambda: (soxr.resample(placed(spoken("caller"), -25), RATE, 8_000, quality="VHQ"), 8_000)
    found["96 kHz"] = lambda: (soxr.resample(placed(spoken("wren"), -25), RATE, 96_000, quality="VHQ"), 96_000)
    return found


def hopeless() -> dict[str, tuple[Wave, int]]:
    """What nothing can be made of."""
    return {
        "silence": (np.zeros((5 * RATE, 1)), RATE),
        "one sample": (np.full((1, 1), 0.5), RATE),
        "all noise": (signals.noise(8, rms_dbfs=-20, rate=RATE)[:, None], RATE),
        "all tone": (signals.sine(440, peak_dbfs=-6, seconds=8, rate=RATE)[:, None], RATE),
        "not a number": (np.full((RATE, 1), np.nan), RATE),
        "six channels of nothing": (np.zeros((2 * RATE, 6)), RATE),
    }


def _hard(name: str, *limits: Limit) -> Specification:
    return Specification(id=name, name=name.replace("-", " ").capitalize(), limits=limits)


def specifications() -> dict[str, Specification]:
    """All that are shipped, and six that ask for more."""
    audiobook = catalogue.shipped()["audiobook-retail"].limits
    loudness = (Limit(quantity="integrated_loudness_lufs", low=-17, high=-15), Limit(quantity="true_peak_dbtp", high=-1))
    hard = (
        _hard("narrow-range", *loudness, Limit(quantity="loudness_range_lu", high=6)),
        _hard("even-passages", *loudness, Limit(quantity="short_term_max_lufs", high=-12)),
        _hard(
            "dense",
            Limit(quantity="rms_dbfs", low=-23, high=-18),
            Limit(quantity="sample_peak_dbfs", high=-3),
            Limit(quantity="crest_factor_db", high=14),
        ),
        _hard("no-dead-silence", *audiobook, Limit(quantity="digital_silence_s", high=0)),
        _hard(
            "very-quiet-room",
            *(each for each in audiobook if each.quantity != "noise_floor_dbfs"),
            Limit(quantity="noise_floor_dbfs", high=-66),
        ),
        _hard(
            "loud-and-low-peaks",
            Limit(quantity="integrated_loudness_lufs", low=-15, high=-13),
            Limit(quantity="true_peak_dbtp", high=-3),
        ),
    )
    return {**catalogue.shipped(), **{each.id: each for each in hard}}
