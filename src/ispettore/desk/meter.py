"""The desk's own meter: loudness and true peak by libebur128, everything else in plain NumPy.

Readings are named by what they are, in the unit at the end of the name:

- `sample_peak_dbfs`: the largest |sample| of any channel.
- `true_peak_dbtp`, `integrated_loudness_lufs`: ITU-R BS.1770-4, EBU Tech 3341.
- `rms_dbfs`: root mean square of all samples, the mean over the channels' squares.
- `noise_floor_quietest_dbfs`: the quietest half second, moved by 10 ms, without its mean, the louder channel; stretches of 50 ms
  under −90 dBFS are no room and are left out.
- `quietest_dbfs`: the same, these stretches included; silence reads −120.
- `duration_s`, `sample_rate_hz`, `channels`, `bit_rate_kbps`: of the file.
"""

import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyebur128
import soundfile
from numpy.typing import NDArray

BLOCK_S = 10
HOP_S, WINDOW = 0.01, 50
DEAD_DBFS, DEAD_HOPS = -90.0, 5
SILENCE_DBFS = -120.0
LEAST_S = 0.4
"""Loudness has no value for less: one block of BS.1770."""


TITLES = {
    "sample_peak_dbfs": ("Peak", "dBFS"),
    "true_peak_dbtp": ("True peak", "dBTP"),
    "rms_dbfs": ("RMS level", "dBFS"),
    "integrated_loudness_lufs": ("Loudness", "LUFS"),
    "noise_floor_quietest_dbfs": ("Quietest half second", "dBFS"),
    "quietest_dbfs": ("Quietest half second", "dBFS"),
    "duration_s": ("Length", "s"),
    "sample_rate_hz": ("Sample rate", "Hz"),
    "channels": ("Channels", ""),
    "bit_rate_kbps": ("Bit rate", "kbit/s"),
}
"""What each is called in answers, and its unit."""


class Unreadable(ValueError):
    """Why a file can't be decoded, in a clause."""


@dataclass(frozen=True)
class Metered:
    """What a file read; None for what has no value. `container` is what it really is."""

    container: str
    readings: dict[str, float | None]


class _Levels:
    """Everything that is summed up over the blocks of a file."""

    def __init__(self, rate: int, channels: int) -> None:
        self.rate, self.frames = rate, 0
        self.peak, self.squares = 0.0, np.zeros(channels)
        self._hops: list[tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64], NDArray[np.int64]]] = []
        mode = pyebur128.MeasurementMode
        self.loudness = pyebur128.R128State(channels, rate, mode.MODE_I | mode.MODE_TRUE_PEAK)

    def add(self, block: NDArray[np.float64]) -> None:
        """Samples of shape (frames, channels), as many frames as a whole number of hops but in the last."""
        self.loudness.add_frames(block.astype(np.float32).ravel(), len(block))
        self.peak = max(self.peak, float(np.abs(block).max(initial=0.0)))
        self.squares += np.square(block).sum(axis=0)
        self.frames += len(block)
        edges = np.unique(np.round(np.arange(0, len(block) / self.rate + HOP_S / 2, HOP_S) * self.rate).astype(np.int64))
        edges = edges[edges < len(block)]
        if edges.size:
            sizes = np.diff(np.append(edges, len(block)))
            sums, squares = np.add.reduceat(block, edges), np.add.reduceat(np.square(block), edges)
            self._hops.append((sums, squares, np.maximum.reduceat(np.abs(block), edges), sizes))

    def quietest_dbfs(self, *, alive: bool) -> float | None:
        """The quietest half second's louder channel; an `alive` one touches no dead silence."""
        if not self._hops:
            return None
        sums, squares, peaks, sizes = (np.concatenate([each[part] for each in self._hops]) for part in range(4))
        if len(sums) < WINDOW:
            return None
        dead = _runs(peaks.max(axis=1) < 10 ** (DEAD_DBFS / 20), DEAD_HOPS)
        total, mean, count = (_rolled(values, WINDOW) for values in (squares, sums, sizes[:, None].astype(np.float64)))
        power = total / count - np.square(mean / count)
        if alive:
            power[_rolled(dead[:, None].astype(np.float64), WINDOW)[:, 0] > 0] = np.inf
        at = int(power.mean(axis=1).argmin())
        if not np.isfinite(power[at]).all():
            return None
        level = _decibels(float(power[at].max()))
        return level if alive or (level is not None and level > SILENCE_DBFS) else SILENCE_DBFS


def _rolled(values: NDArray[np.float64], window: int) -> NDArray[np.float64]:
    total = np.concatenate((np.zeros((1, values.shape[1])), np.cumsum(values, axis=0)))
    found: NDArray[np.float64] = total[window:] - total[:-window]
    return found


def _runs(marked: NDArray[np.bool_], least: int) -> NDArray[np.bool_]:
    """Where at least so many follow one another."""
    edges = np.flatnonzero(np.diff(np.concatenate(([0], marked.astype(np.int8), [0]))))
    found = np.zeros_like(marked)
    for start, end in zip(edges[::2], edges[1::2], strict=True):
        found[start:end] = end - start >= least
    return found


def _decibels(power: float) -> float | None:
    return 10 * math.log10(power) if power > 0 else None


def measure(path: Path) -> Metered:
    """Read a file from end to end. Raises Unreadable."""
    try:
        with soundfile.SoundFile(path) as file:
            rate, channels = file.samplerate, file.channels
            container = {"OGG": "ogg", "MP3": "mp3", "WAVEX": "wav", "RF64": "wav"}.get(file.format, file.format.lower())
            levels = _Levels(rate, channels)
            while len(block := file.read(BLOCK_S * rate, dtype="float64", always_2d=True)):
                levels.add(block)
    except (soundfile.SoundFileError, RuntimeError, ValueError, OSError) as error:
        raise Unreadable(f"it can't be decoded ({error})") from error
    if levels.frames == 0:
        raise Unreadable("it holds no sound")
    duration_s = levels.frames / rate
    loudness = pyebur128.get_loudness_global(levels.loudness) if duration_s >= LEAST_S else -math.inf
    true_peak = max(pyebur128.get_true_peak(levels.loudness, channel) for channel in range(channels))
    return Metered(
        container,
        {
            "sample_peak_dbfs": _decibels(levels.peak**2),
            "true_peak_dbtp": _decibels(true_peak**2),
            "rms_dbfs": _decibels(float((levels.squares / levels.frames).mean())),
            "integrated_loudness_lufs": loudness if math.isfinite(loudness) else None,
            "noise_floor_quietest_dbfs": levels.quietest_dbfs(alive=True),
            "quietest_dbfs": levels.quietest_dbfs(alive=False),
            "duration_s": duration_s,
            "sample_rate_hz": float(rate),
            "channels": float(channels),
            "bit_rate_kbps": path.stat().st_size * 8 / duration_s / 1000,
        },
    )
