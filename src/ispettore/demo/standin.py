"""A stand-in for a reader at a microphone: a synthetic voice at a distance, in a room that rings, hisses and hums, behind an input
that can be turned and clips.

Its sound falls by half with each doubling of the distance; what the room gives back of it does not. So whatever a take check
advises can be done here, and looked at again.
"""

from functools import lru_cache

import numpy as np
import scipy
import soxr
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from ispettore.demo import faults

NEAR_CM = 20.0
SPEECH_AT_NEAR_DBFS = -30.0
"""The voice at that distance with the input at 0 dB."""
RINGS_ALIKE_CM = 80.0
"""At this distance the room gives back as much of the voice as comes straight."""
TEXT = "almanac-01"
LONGEST_S = 40.0
LARGEST = 1.0 - 2.0**-23


class Setting(BaseModel):
    """How the stand-in sits and what surrounds it; levels with the input at 0 dB. `hum_dbfs` is None where nothing hums."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    seed: int = Field(1, ge=0, le=2**31 - 1)
    distance_cm: float = Field(30.0, ge=5, le=300, allow_inf_nan=False)
    input_db: float = Field(12.0, ge=-40, le=60, allow_inf_nan=False)
    room_dbfs: float = Field(-86.0, ge=-140, le=-20, allow_inf_nan=False)
    hum_dbfs: float | None = Field(None, ge=-140, le=-20, allow_inf_nan=False)
    hum_hz: float = Field(50.0, ge=40, le=70, allow_inf_nan=False)
    decay_s: float = Field(0.3, ge=0.05, le=2, allow_inf_nan=False)


class StandIn:
    """Its sound from the beginning on, in pieces of any size: the room alone, or with somebody reading in it."""

    def __init__(self, setting: Setting, *, sample_rate_hz: int = 48_000) -> None:
        self._setting, self._rate = setting, sample_rate_hz
        self._random = np.random.default_rng(setting.seed)
        self._shape = _noise_shape(sample_rate_hz)
        self._noise = 10 ** (setting.room_dbfs / 20) / _power(self._shape) ** 0.5
        self._state = np.zeros((len(self._shape), 2))
        straight, rung = _voice(sample_rate_hz, setting.decay_s, setting.seed)
        near = 10 ** (SPEECH_AT_NEAR_DBFS / 20)
        self._voice = near * (NEAR_CM / setting.distance_cm * straight + NEAR_CM / RINGS_ALIKE_CM * rung)
        self._read = self._frames = 0

    def room(self, frames: int) -> NDArray[np.float32]:
        """So much of the room alone, shape (frames, 1), full scale 1.0."""
        return self._heard(np.zeros(frames))

    def reading(self, frames: int) -> NDArray[np.float32]:
        """So much of somebody reading on, shape (frames, 1)."""
        places = (self._read + np.arange(frames)) % self._voice.size
        self._read += frames
        return self._heard(self._voice[places])

    def _heard(self, voice: NDArray[np.float64]) -> NDArray[np.float32]:
        if not voice.size:
            return np.zeros((0, 1), dtype=np.float32)
        setting = self._setting
        noise, self._state = scipy.signal.sosfilt(self._shape, self._random.standard_normal(voice.size), zi=self._state)
        heard = voice + noise * self._noise
        if setting.hum_dbfs is not None:
            heard = heard + self._hum(voice.size) * 10 ** (setting.hum_dbfs / 20)
        self._frames += voice.size
        turned = np.clip(heard * 10 ** (setting.input_db / 20), -1.0, LARGEST)
        return np.asarray(turned, dtype=np.float32)[:, None]

    def _hum(self, frames: int) -> NDArray[np.float64]:
        """The mains and what of it rectifiers make, its root mean square 1."""
        time = (self._frames + np.arange(frames)) / self._rate
        parts = ((1, 1.0), (2, 0.7), (3, 0.3), (4, 0.25))
        waves = [part * np.sin(2 * np.pi * self._setting.hum_hz * times * time + times) for times, part in parts]
        return np.asarray(np.sum(waves, axis=0) / np.sqrt(sum(part**2 for _, part in parts) / 2), dtype=np.float64)


def _noise_shape(rate: int) -> NDArray[np.float64]:
    """A room's noise falls with frequency: white below 200 Hz, 6 dB an octave above it."""
    return np.asarray(scipy.signal.butter(1, 200, fs=rate, output="sos"))


def _power(shape: NDArray[np.float64]) -> float:
    """What white noise of power 1 has behind a filter."""
    _, response = scipy.signal.sosfreqz(shape, worN=1 << 16)
    return float(np.mean(np.abs(response) ** 2))


@lru_cache(maxsize=4)
def _voice(rate: int, decay_s: float, seed: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The voice as it comes straight, its level while it speaks 1, and as the room gives it back, as loud as that."""
    wave, sentences = faults.clean_speech(TEXT)
    first, last = float(sentences[0, 0]), float(sentences[-1, 1])
    cut = wave[round(first * faults.RATE_HZ) : round(min(last, first + LONGEST_S) * faults.RATE_HZ)]
    straight = np.asarray(soxr.resample(cut, faults.RATE_HZ, rate, quality="HQ"), dtype=np.float64)
    straight = np.concatenate((straight, np.zeros(rate)))
    loud = straight[np.abs(straight) > 0.05 * np.abs(straight).max()]
    straight /= np.sqrt(np.mean(loud**2))
    time = np.arange(round(decay_s * rate)) / rate
    tail = np.random.default_rng(seed).standard_normal(time.size) * 10 ** (-3 * time / decay_s)
    rung = scipy.signal.oaconvolve(straight, tail / np.sqrt(np.sum(tail**2)))[: straight.size]
    return straight, rung
