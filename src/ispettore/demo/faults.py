"""Faults as they happen in real rooms, made by code and repeatable: what is put in is known, so meters can be held against it.

Everything works on float64 arrays of shape (frames,) at `RATE_HZ`, full scale 1.0.
"""

import json
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
import scipy
import soundfile
import soxr
from numpy.typing import NDArray

RATE_HZ = 44_100
HISS_HZ = (3_000.0, 7_900.0)
SPEECH = Path(__file__).parent / "speech"
Wave = NDArray[np.float64]


def level_db(wave: Wave) -> float:
    """RMS level in dBFS."""
    return 10 * float(np.log10(np.mean(wave**2)))


def clean_speech(name: str) -> tuple[Wave, NDArray[np.float64]]:
    """The clean reading of a text and its sentences in seconds, shape (sentences, 2).

    The synthesiser's voice ends at 8 kHz and whistles in its hiss. What stands out there is lowered, and where it hisses, noise
    shaped by the hiss gives back what was lost, over the whole of the hiss, and goes on above it, as in a real voice.
    """
    wave, sentences = _spoken(name)
    return wave.copy(), sentences.copy()


@cache
def _spoken(name: str) -> tuple[Wave, NDArray[np.float64]]:
    samples, rate = soundfile.read(SPEECH / f"{name}.flac", dtype="float64")
    wave = np.asarray(soxr.resample(samples, rate, RATE_HZ, quality="VHQ"))
    high, low = _band(wave, 4_500, 7_500), _band(wave, 200, 3_000)
    hiss, voice = _envelope(high), _envelope(low)
    gently = scipy.signal.windows.gaussian(round(0.032 * RATE_HZ), 0.004 * RATE_HZ)  # at once, it would click
    hisses = hiss * scipy.signal.oaconvolve(hiss > 0.7 * voice, gently / gently.sum(), "same")
    sentences = np.array(_notes(name)["sentences"])
    calm = _without_whistles(wave)
    lost = max(0.0, float(np.mean(_band(wave, *HISS_HZ) ** 2) - np.mean(_band(calm, *HISS_HZ) ** 2)))
    given_back = _noise(wave.size, *HISS_HZ, seed=9) * hisses
    given_back *= np.sqrt(lost / np.mean(given_back**2))
    whole = calm + given_back + 0.7 * _noise(wave.size, 7_800, 15_000, seed=8) * hisses
    return np.asarray(scipy.signal.sosfilt(scipy.signal.butter(2, 20, "highpass", fs=RATE_HZ, output="sos"), whole)), sentences


def _band(wave: Wave, low_hz: float, high_hz: float) -> Wave:
    return np.asarray(scipy.signal.sosfilt(scipy.signal.butter(4, [low_hz, high_hz], "bandpass", fs=RATE_HZ, output="sos"), wave))


def _envelope(wave: Wave) -> Wave:
    smooth = scipy.signal.butter(2, 40, fs=RATE_HZ, output="sos")
    return np.asarray(np.sqrt(np.maximum(scipy.signal.sosfiltfilt(smooth, wave**2), 0)))


def _noise(frames: int, low_hz: float, high_hz: float, *, seed: int) -> Wave:
    """Noise of one band, its root mean square 1."""
    noise = _band(np.random.default_rng(seed).standard_normal(frames), low_hz, high_hz)
    return np.asarray(noise / np.sqrt(np.mean(noise**2)))


def _without_whistles(wave: Wave) -> Wave:
    """The voice without what stands out of its long-term spectrum where it hisses."""
    hz, power = scipy.signal.welch(wave, RATE_HZ, nperseg=4_096)
    octaves = np.arange(0, np.log2(8_000 / 2_800), 1 / 48)
    at = 2_800 * 2**octaves
    level = np.interp(at, hz, 10 * np.log10(power))
    around = scipy.ndimage.median_filter(level, 49, mode="nearest")
    lower = scipy.ndimage.gaussian_filter1d(np.maximum(level - around, 0), 1.5)
    taps = scipy.signal.firwin2(2_049, np.concatenate(([0.0], at, [RATE_HZ / 2])), 10 ** (-np.pad(lower, 1) / 20), fs=RATE_HZ)
    return np.asarray(scipy.signal.oaconvolve(wave, taps, "same"))


def paragraph_starts(name: str) -> list[float]:
    """Where each paragraph of a reading starts, in seconds."""
    return list(_notes(name)["paragraphs"])


def _notes(name: str) -> dict[str, Any]:
    return dict(json.loads((SPEECH / f"{name}.json").read_text()))


def in_room(wave: Wave, *, noise_dbfs: float, head_s: float, tail_s: float, seed: int) -> Wave:
    """The voice with silence before and after, in a room with a steady hiss and a little rumble of a known total level."""
    head, tail = np.zeros(round(head_s * RATE_HZ)), np.zeros(round(tail_s * RATE_HZ))
    placed = np.concatenate((head, wave, tail))
    return placed + room_noise(placed.size, noise_dbfs=noise_dbfs, seed=seed)


def room_noise(frames: int, *, noise_dbfs: float, seed: int) -> Wave:
    """Noise of a small room: falls by 3 dB an octave above 200 Hz, exactly `noise_dbfs` over its length."""
    white = np.random.default_rng(seed).standard_normal(frames)
    b, a = [0.049922, -0.095993, 0.050612, -0.004408], [1, -2.494956, 2.017265, -0.522189]
    pink = scipy.signal.lfilter(b, a, white)
    shaped = scipy.signal.sosfilt(scipy.signal.butter(1, 60, "highpass", fs=RATE_HZ, output="sos"), pink)
    return np.asarray(shaped * 10 ** ((noise_dbfs - level_db(shaped)) / 20))


def shouted(wave: Wave, sentences: NDArray[np.float64], *, which: list[int], gain_db: float) -> Wave:
    """Some sentences' stressed middles louder by `gain_db`, with soft edges."""
    gain = np.zeros(wave.size)
    for index in which:
        start, end = sentences[index]
        middle, half = (start + end) / 2, min(0.3, (end - start) / 4)
        first, last = int((middle - half) * RATE_HZ), int((middle + half) * RATE_HZ)
        gain[first:last] = gain_db * np.hanning(last - first) ** 0.5
    return np.asarray(wave * 10 ** (gain / 20))


def at_level(wave: Wave, *, rms_dbfs: float) -> Wave:
    """Scaled so that the whole wave has this RMS level."""
    return np.asarray(wave * 10 ** ((rms_dbfs - level_db(wave)) / 20))


def hum(frames: int, *, base_hz: float, level_dbfs: float, falls_db: float = 14.0) -> Wave:
    """Mains hum: the base at `level_dbfs` (RMS) and five harmonics, each `falls_db` lower than the one before."""
    t = np.arange(frames) / RATE_HZ
    parts = (
        10 ** ((level_dbfs - falls_db * k) / 20) * np.sqrt(2) * np.sin(2 * np.pi * base_hz * (k + 1) * t + k) for k in range(6)
    )
    return np.asarray(sum(parts))


def breath(*, seconds: float, level_dbfs: float, seed: int) -> Wave:
    """An inhalation: noise from 500 Hz to 5 kHz that swells and stops, of this RMS level."""
    noise = np.random.default_rng(seed).standard_normal(round(seconds * RATE_HZ))
    shaped = scipy.signal.sosfilt(scipy.signal.butter(2, [500, 5_000], "bandpass", fs=RATE_HZ, output="sos"), noise)
    shaped *= np.sin(np.linspace(0, np.pi, noise.size)) ** 0.7
    return at_level(shaped, rms_dbfs=level_dbfs)


def plosive(*, level_dbfs: float) -> Wave:
    """A burst of air on the microphone: 60 ms of a falling wave around 35 Hz, of this RMS level."""
    t = np.arange(round(0.06 * RATE_HZ)) / RATE_HZ
    return at_level(np.sin(2 * np.pi * 35 * t) * np.exp(-t / 0.03) * np.hanning(2 * t.size)[t.size :], rms_dbfs=level_dbfs)


def click(*, peak: float) -> Wave:
    """A click of a mouth: a millisecond of a fast, dying wave."""
    t = np.arange(round(0.0015 * RATE_HZ)) / RATE_HZ
    return np.asarray(peak * np.sin(2 * np.pi * 6_000 * t) * np.exp(-t / 0.0003))


def clap(*, peak: float, seed: int) -> Wave:
    """Two hands in a small room: a burst of noise that rings for some milliseconds."""
    t = np.arange(round(0.2 * RATE_HZ)) / RATE_HZ
    noise = np.random.default_rng(seed).standard_normal(t.size)
    ringing = scipy.signal.sosfilt(scipy.signal.butter(1, [700, 3_200], "bandpass", fs=RATE_HZ, output="sos"), noise)
    wave = ringing * (np.exp(-t / 0.004) + 0.02 * np.exp(-t / 0.04))
    return np.asarray(peak * wave / np.abs(wave).max())


def misread(wave: Wave, sentence: NDArray[np.float64], *, share: float, peak: float) -> tuple[Wave, float]:
    """A sentence begun a little faster, broken off after a `share` of it, two claps, and the whole of it again; and when the first
    clap is heard. `sentence` is where it lies in seconds."""
    start, end = (round(float(time) * RATE_HZ) for time in sentence)
    begun = wave[start : start + round(share * (end - start))]
    begun = np.interp(np.arange(0, begun.size - 1, 1.03), np.arange(begun.size), begun)
    begun[-400:] *= np.linspace(1, 0, 400)
    between = np.zeros(round(1.6 * RATE_HZ))
    for number, at in enumerate((0.5, 0.82)):
        laid(between, clap(peak=peak * (1 - 0.2 * number), seed=number), at)
    return np.concatenate((wave[:start], begun, between, wave[start:])), (start + begun.size) / RATE_HZ + 0.5


def in_hall(wave: Wave, *, decay_s: float, direct_db: float, seed: int) -> Wave:
    """The voice in a room that falls by 60 dB in `decay_s`, the direct sound `direct_db` above the room's."""
    t = np.arange(round(1.2 * decay_s * RATE_HZ)) / RATE_HZ
    answer = np.random.default_rng(seed).standard_normal(t.size) * 10 ** (-3 * t / decay_s)
    answer *= 10 ** (-direct_db / 20) / np.sqrt(np.sum(answer**2))
    answer[0] += 1.0
    return np.asarray(scipy.signal.fftconvolve(np.concatenate((wave, np.zeros(t.size))), answer)[: wave.size + t.size])


def laid(wave: Wave, piece: Wave, at_s: float) -> None:
    """Add a piece to a wave in place, from a time on."""
    first = round(at_s * RATE_HZ)
    wave[first : first + piece.size] += piece


def clipped(wave: Wave, *, share: float) -> Wave:
    """Flat tops: what stands above `share` of the largest |sample| is cut off."""
    ceiling = share * np.abs(wave).max()
    return np.asarray(np.clip(wave, -ceiling, ceiling))


def gated(wave: Wave, spoken: NDArray[np.float64]) -> Wave:
    """Dead silence between the sentences, as a careless gate leaves it; `spoken` are spans in seconds, shape (n, 2)."""
    kept = np.zeros(wave.size)
    for start, end in spoken:
        kept[int((start - 0.02) * RATE_HZ) : int((end + 0.08) * RATE_HZ)] = 1.0
    smooth = np.convolve(kept, np.ones(221) / 221, mode="same")
    return np.asarray(np.where(smooth > 0, wave * smooth, 0.0))
