"""The two filters every sample passes, side by side in one loop: K-weighting, and the band in which speech is looked for.

Each section runs in a form whose feedback is one multiply-add from sample to sample (transposed direct form II with the output
substituted), so that the processor works on all three sections at once.
"""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ispettore.core.kernels import kernel
from ispettore.core.measure.grid import Seconds, Series, borders
from ispettore.core.measure.k_weighting import CHANNEL_WEIGHTS, design
from ispettore.core.measure.sections import high_pass

VOICE_HZ = 150.0


def voice_band(sample_rate_hz: int) -> NDArray[np.float64]:
    """The high-pass at 150 Hz before `voice_power`, [b0 b1 b2 a1 a2]."""
    return high_pass(VOICE_HZ, sample_rate_hz=sample_rate_hz)


class Filtered:
    """Feed seconds; `k_power` and `voice_power` grow by one value a cell.

    `k_power` is the weighted sum over the channels of the K-weighted mean square (BS.1770-5), `voice_power` the mean over the
    channels of the mean square above 150 Hz.
    """

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._rate = sample_rate_hz
        self._sections = np.vstack((design(sample_rate_hz), voice_band(sample_rate_hz)))
        self._weights = np.array(CHANNEL_WEIGHTS[channels])
        self._state = np.zeros((channels, 6))
        self.k_power, self.voice_power = Series(), Series()

    def feed(self, sound: Seconds) -> None:
        """Take in seconds."""
        edges = _edges(self._rate, sound.frames)
        n = sound.distinct
        weights = self._weights if n == len(self._weights) else self._weights.sum(keepdims=True)
        k_power, voice_power = _filter(sound.looked_at, sound.past, edges, self._sections, weights, self._state[:n])
        self._state[n:] = self._state[0]
        self.k_power.append(k_power[None, :])
        self.voice_power.append(voice_power[None, :])


@lru_cache(maxsize=16)
def _edges(rate: int, frames: int) -> NDArray[np.int64]:
    return borders(rate, frames)


@kernel
def _filter(  # type: ignore[no-untyped-def]
    samples: NDArray[np.float32],
    before: int,
    edges: NDArray[np.int64],
    sections: NDArray[np.float64],
    weights: NDArray[np.float64],
    state: NDArray[np.float64],
):
    """Mean squares per cell behind both filters, shape (cells,) each. `state` is moved on."""
    channels = samples.shape[0]
    k_power = np.zeros(edges.size - 1)
    voice_power = np.zeros(edges.size - 1)
    b0, b1, b2, a1, a2 = sections[0]
    c0, c1, c2, d1, d2 = sections[1]
    g0, g1, g2, h1, h2 = sections[2]
    b1, b2 = b1 - a1 * b0, b2 - a2 * b0
    c1, c2 = c1 - d1 * c0, c2 - d2 * c0
    g1, g2 = g1 - h1 * g0, g2 - h2 * g0
    for c in range(channels):
        x = samples[c, before:]
        s1, s2, t1, t2, u1, u2 = state[c]
        for k in range(edges.size - 1):
            part = x[edges[k] : edges[k + 1]]
            q = 0.0
            r = 0.0
            for i in range(part.size):
                v = np.float64(part[i])
                y = b0 * v + s1
                w = c0 * y + t1
                z = g0 * v + u1
                s1, s2 = (b1 * v + s2) - a1 * s1, b2 * v - a2 * s1
                t1, t2 = (c1 * y + t2) - d1 * t1, c2 * y - d2 * t1
                u1, u2 = (g1 * v + u2) - h1 * u1, g2 * v - h2 * u1
                q += w * w
                r += z * z
            k_power[k] += weights[c] * q / part.size
            voice_power[k] += r / part.size / channels
        # Values this small are nothing but would make the filters crawl.
        for j, s in enumerate((s1, s2, t1, t2, u1, u2)):
            state[c, j] = s if abs(s) > 1e-30 else 0.0
    return k_power, voice_power
