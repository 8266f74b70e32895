"""Signals that tests build: exact, seeded, shape (frames,) unless said otherwise, full scale 1.0."""

from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

Wave = NDArray[np.float64]


def sine(frequency_hz: float, *, peak_dbfs: float, seconds: float, rate: int, degrees: float = 0.0) -> Wave:
    t = np.arange(round(seconds * rate)) / rate
    return 10 ** (peak_dbfs / 20) * np.sin(2 * np.pi * frequency_hz * t + np.radians(degrees))


def steps(frequency_hz: float, parts: list[tuple[float, float]], *, rate: int) -> Wave:
    """A sine whose level follows (dBFS, seconds) parts."""
    level = np.concatenate([np.full(round(seconds * rate), 10 ** (dbfs / 20)) for dbfs, seconds in parts])
    return level * np.sin(2 * np.pi * frequency_hz * np.arange(level.size) / rate)


def noise(seconds: float, *, rms_dbfs: float, rate: int, seed: int = 1) -> Wave:
    white = np.random.default_rng(seed).standard_normal(round(seconds * rate))
    return white * 10 ** (rms_dbfs / 20) / np.sqrt(np.mean(white**2))


def stereo(wave: Wave) -> Wave:
    """The same on both channels: shape (frames, 2)."""
    return np.repeat(wave[:, None], 2, axis=1)


def voice_like(seconds: float, *, rms_dbfs: float, rate: int, room_dbfs: float = -70.0, head: float = 0.7, seed: int = 3) -> Wave:
    """Bursts of harmonics with pauses between, in a quiet room: what a meter takes for speech."""
    random = np.random.default_rng(seed)
    t = np.arange(round(seconds * rate)) / rate
    pitch = 120 + 15 * np.sin(2 * np.pi * 0.7 * t)
    phase = 2 * np.pi * np.cumsum(pitch) / rate
    wave = sum(np.sin(k * phase) / k for k in range(1, 25))
    envelope = np.zeros(t.size)
    at = head
    while at < seconds - 1.6:
        length = random.uniform(1.0, 2.0)
        first, last = round(at * rate), round(min(at + length, seconds - 1.5) * rate)
        size = last - first
        syllables = 0.55 + 0.45 * np.sin(2 * np.pi * 4 * np.arange(size) / rate) ** 2
        envelope[first:last] = syllables * np.minimum(1, np.minimum(np.arange(size), np.arange(size)[::-1]) / (0.02 * rate))
        at += length + random.uniform(0.6, 0.9)
    spoken = np.asarray(wave * envelope)
    spoken *= 10 ** (rms_dbfs / 20) / np.sqrt(np.mean(spoken**2))
    return spoken + noise(seconds, rms_dbfs=room_dbfs, rate=rate, seed=seed)


def long_voice(seconds: int, *, rms_dbfs: float, rate: int, seed: int = 3) -> Wave:
    """Half a minute of such a voice, over and over."""
    return np.tile(voice_like(30, rms_dbfs=rms_dbfs, rate=rate, room_dbfs=-75, seed=seed), seconds // 30)


def write(path: Path, wave: NDArray[np.floating], rate: int, subtype: str = "PCM_24") -> Path:
    soundfile.write(path, wave, rate, subtype=subtype)
    return path
