"""What lies under the museum guide: slow chords of a made-up harmonium behind water, in stereo."""

import numpy as np
from numpy.typing import NDArray

from ispettore.demo.faults import RATE_HZ

CHORD_S, FADE_S = 4.0, 1.2
CHORDS_HZ = ((110.0, 164.8, 220.0, 261.6), (98.0, 146.8, 196.0, 246.9), (87.3, 130.8, 174.6, 261.6), (98.0, 146.8, 220.0, 293.7))
NAME = "Sluice and harmonium.flac"


def harmonium(seconds: float, *, seed: int = 50) -> NDArray[np.float64]:
    """Chords that go over into one another, the voices of each a little apart on both sides; shape (frames, 2)."""
    random = np.random.default_rng(seed)
    at = np.arange(round(seconds * RATE_HZ)) / RATE_HZ
    found = np.zeros((at.size, 2))
    for number in range(int(np.ceil(seconds / CHORD_S))):
        first, end = number * CHORD_S, (number + 1) * CHORD_S + FADE_S
        sounding = slice(*np.searchsorted(at, (first, end)))
        t = at[sounding]
        shape = np.sin(np.pi / 2 * np.clip((end - t) / FADE_S, 0, 1))
        if number:
            shape *= np.sin(np.pi / 2 * np.clip((t - first) / FADE_S, 0, 1))
        for pitch in CHORDS_HZ[number % len(CHORDS_HZ)]:
            for side in range(2):
                beat = pitch * (1 + random.uniform(-0.0015, 0.0015))
                reed = sum(np.sin(2 * np.pi * k * beat * t + random.uniform(0, 6)) / k**1.6 for k in range(1, 8))
                found[sounding, side] += shape * reed
    water = _water(at.size, random)
    found = 0.05 * found / np.sqrt(np.mean(found**2)) + 0.012 * water * (1 + 0.5 * np.sin(2 * np.pi * at / 7.0))[:, None]
    return np.asarray(found / max(1.0, float(np.abs(found).max()) / 0.5))


def _water(frames: int, random: np.random.Generator) -> NDArray[np.float64]:
    """Noise that falls by 6 dB an octave above 500 Hz, one of its own on each side; RMS 1."""
    spectrum = np.fft.rfft(random.standard_normal((frames, 2)), axis=0)
    pitch = np.fft.rfftfreq(frames, 1 / RATE_HZ)[:, None]
    made = np.fft.irfft(spectrum / (1 + (pitch / 500) ** 2) ** 0.5, frames, axis=0)
    return np.asarray(made / np.sqrt(np.mean(made**2)))
