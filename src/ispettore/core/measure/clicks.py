"""Clicks: places where the wave bends far more sharply, for a moment, than anywhere around.

The measure is the second difference of the samples (as in S. V. Vaseghi, "Advanced Digital Signal Processing and Noise Reduction",
chapter on impulsive noise, where a differentiator stands for the predictor): its largest value in a millisecond against the largest
within 15 ms on either side. Voices bend as sharply again at the next pulse of the glottis, and consonants go on for longer.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.measure.cells import Milliseconds
from ispettore.core.measure.grid import Seconds, Series
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding, merged

AROUND_MS, NEAR_MS = 15, 2
RATIO_DB = 15.0
LEAST_BEND = 0.002
JOIN_S = 0.02


class Clicks:
    """Feed milliseconds, then `findings()`."""

    def __init__(self, *, channels: int) -> None:
        self._bend = np.zeros((channels, 0), dtype=np.float32)
        self._waiting: list[NDArray[np.float32]] = []
        self._seen = 0
        # Rows: millisecond (whole part and thousands apart, to stay exact), ratio in dB, channel.
        self._found = Series(4)

    def feed(self, _sound: Seconds, milliseconds: Milliseconds) -> None:
        """Take in bends; they are worked through a minute at a time."""
        self._waiting.append(milliseconds.bend)
        if sum(bend.shape[1] for bend in self._waiting) >= 60_000:
            self._work()

    def _work(self) -> None:
        first = self._seen - self._bend.shape[1]
        self._bend = np.concatenate((self._bend, *self._waiting), axis=1)
        self._waiting = []
        self._seen = first + self._bend.shape[1]
        last = self._bend.shape[1] - AROUND_MS
        if last <= AROUND_MS:
            return
        around = _around(self._bend)
        found = (self._bend > LEAST_BEND) & (self._bend > 10 ** (RATIO_DB / 20) * around)
        found[:, :AROUND_MS] = False
        found[:, last:] = False
        channels, at = np.nonzero(found)
        if at.size:
            ratio = 20 * np.log10(self._bend[channels, at] / np.maximum(around[channels, at], 1e-7))
            place = at + first
            self._found.append(np.stack((place // 1_000, place % 1_000, ratio, channels + 1)))
        self._bend = self._bend[:, last - AROUND_MS :].copy()

    def read(self, _heard: Heard) -> Read:
        return (), self.findings()

    def findings(self) -> list[Finding]:
        """Each click with its sharpness over what is around it in dB."""
        self._work()
        each = [
            Finding(kind="click", start_s=second + ms / 1_000, end_s=second + (ms + 1) / 1_000, channel=int(channel), measure=ratio,
                    unit="dB", severity="warning")
            for second, ms, ratio, channel in self._found.whole().T.astype(np.float64).tolist()
        ]  # fmt: skip
        return merged(each, within_s=JOIN_S)


def _around(bend: NDArray[np.float32]) -> NDArray[np.float32]:
    """The largest bend from 2 to 15 ms before or after each millisecond."""
    size = AROUND_MS - NEAR_MS + 1
    left, right = np.zeros_like(bend), np.zeros_like(bend)
    highest = scipy.ndimage.maximum_filter1d(
        bend, size, axis=1, mode="nearest", origin=-(size // 2)
    )  # from here to `size` − 1 later
    right[:, : bend.shape[1] - NEAR_MS] = highest[:, NEAR_MS:]
    left[:, AROUND_MS:] = highest[:, : bend.shape[1] - AROUND_MS]
    return np.maximum(left, right)
