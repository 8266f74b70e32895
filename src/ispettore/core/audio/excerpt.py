"""A stretch of a recording as a file of its own, faded in and out."""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ispettore.core.audio.writing import OutputFormat, Samples, Sink

BLOCK_S = 10


def write(samples: Samples, path: Path, *, sample_rate_hz: int, start_s: float, end_s: float, fades_s: tuple[float, float]) -> Path:
    """Write the samples from `start_s` to `end_s` as a WAV file of 24 bit, and return its path.

    Fades are half a period of a cosine over the first and last seconds; both together may be as long as the stretch. Outside of
    them the samples are the recording's own (with dither). Raises what writing raises.
    """
    first, frames = round(start_s * sample_rate_hz), round((end_s - start_s) * sample_rate_hz)
    rising, falling = (round(fade * sample_rate_hz) for fade in fades_s)
    channels = samples(first, 1).shape[1]
    with Sink(path, sample_rate_hz=sample_rate_hz, channels=channels, form=OutputFormat(container="wav", bit_depth=24)) as sink:
        for at in range(0, frames, BLOCK_S * sample_rate_hz):
            block = samples(first + at, min(BLOCK_S * sample_rate_hz, frames - at))
            places = at + np.arange(len(block))
            gain = _rise((places + 0.5) / max(rising, 1)) * _rise((frames - places - 0.5) / max(falling, 1))
            sink.write((block * gain[:, None]).astype(np.float32))
    return path


def _rise(share: NDArray[np.float64]) -> NDArray[np.float64]:
    """From 0 to 1 as `share` goes there, and 1 beyond.

    >>> _rise(np.array([0.0, 0.5, 1.0, 7.0])).round(3).tolist()
    [0.0, 0.5, 1.0, 1.0]
    """
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * np.clip(share, 0.0, 1.0)))
