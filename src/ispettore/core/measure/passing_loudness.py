"""Integrated loudness of what passes, and nothing else of it."""

import numpy as np
from numpy.typing import NDArray

from ispettore.core.measure import loudness
from ispettore.core.measure.filtered import Filtered
from ispettore.core.measure.grid import Regrouped


class PassingLoudness:
    """Fed with blocks of any size, shape (frames, channels)."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._rate, self._frames = sample_rate_hz, 0
        self._regrouped = Regrouped(sample_rate_hz=sample_rate_hz, channels=channels)
        self._filtered = Filtered(sample_rate_hz=sample_rate_hz, channels=channels)

    def feed(self, block: NDArray[np.float32]) -> None:
        """Take the next in."""
        self._frames += len(block)
        for sound in self._regrouped.put(block):
            self._filtered.feed(sound)

    def lufs(self) -> float | None:
        """BS.1770-5, over all of it; None of silence and of less than 400 ms. Nothing can be fed afterwards."""
        for sound in self._regrouped.rest():
            self._filtered.feed(sound)
        return loudness.integrated(self._filtered.k_power, duration_s=self._frames / self._rate).value
