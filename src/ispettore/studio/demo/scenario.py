"""The demo recordings: which reading, which fault, and what was truly put in."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from ispettore.studio.demo.faults import (
    RATE_HZ,
    Wave,
    at_level,
    clean_speech,
    in_room,
    shouted,
)


@dataclass(frozen=True)
class Truth:
    """What was put in: level of the room in dBFS, where the first word starts and the last ends, in seconds."""

    noise_dbfs: float
    head_s: float
    tail_s: float


@dataclass(frozen=True)
class DemoRecording:
    """One recording of the scenario; `make` gives shape (frames, channels)."""

    file_name: str
    fault: str
    make: Callable[[], tuple[NDArray[np.float64], Truth]]


@dataclass(frozen=True)
class DemoProduction:
    name: str
    specification: str
    recordings: tuple[DemoRecording, ...]


def _placed(wave: Wave, *, rms_dbfs: float, noise_dbfs: float, head_s: float, tail_s: float, seed: int) -> tuple[Wave, Truth]:
    """The voice set so that the whole file reads `rms_dbfs`, then the room around it."""
    whole = wave.size + (head_s + tail_s) * RATE_HZ
    wave = at_level(wave, rms_dbfs=rms_dbfs + 10 * float(np.log10(whole / wave.size)))
    truth = Truth(noise_dbfs, head_s, tail_s)
    return in_room(wave, noise_dbfs=noise_dbfs, head_s=head_s, tail_s=tail_s, seed=seed)[:, None], truth


def _passes() -> tuple[NDArray[np.float64], Truth]:
    wave, _ = clean_speech("almanac-01")
    return _placed(wave, rms_dbfs=-20.5, noise_dbfs=-66.0, head_s=0.75, tail_s=2.5, seed=1)


def _too_quiet() -> tuple[NDArray[np.float64], Truth]:
    wave, _ = clean_speech("almanac-02")
    return _placed(wave, rms_dbfs=-33.0, noise_dbfs=-76.0, head_s=0.3, tail_s=1.8, seed=2)


def _wild_peaks() -> tuple[NDArray[np.float64], Truth]:
    wave, sentences = clean_speech("almanac-03")
    wave = shouted(wave, sentences, which=[1, 2, 4], gain_db=13.0)
    return _placed(wave, rms_dbfs=-22.0, noise_dbfs=-67.0, head_s=0.8, tail_s=2.2, seed=3)


def _noisy_room() -> tuple[NDArray[np.float64], Truth]:
    wave, _ = clean_speech("almanac-04")
    return _placed(wave, rms_dbfs=-21.0, noise_dbfs=-38.0, head_s=0.9, tail_s=2.0, seed=4)


PRODUCTIONS = (
    DemoProduction(
        "Almanac of a Tidal Mill",
        "audiobook-retail",
        (
            DemoRecording("01 January.wav", "none: passes as it is", _passes),
            DemoRecording("02 February.wav", "too quiet, head too short", _too_quiet),
            DemoRecording("03 March.wav", "peaks too high", _wild_peaks),
            DemoRecording("04 April.wav", "room too noisy to be conformed", _noisy_room),
        ),
    ),
)


def write(recording: DemoRecording, path: Path) -> Truth:
    """Make one recording as a 24-bit WAV file and return what was put in. The same file every time."""
    samples, truth = recording.make()
    soundfile.write(path, samples, RATE_HZ, subtype="PCM_24", format="WAV")
    return truth
