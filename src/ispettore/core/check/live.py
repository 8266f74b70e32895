"""Levels ten times a second, out of blocks of any size as they come: what a person watches while turning a knob.

The same filters as the meters of a file: the interpolator of `true_peak` (ITU-R BS.1770-5, Annex 2) and the K-weighting of
`k_weighting` (Annex 1), here run block by block with what they remember.
"""

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.measure import decibels
from ispettore.core.measure.k_weighting import CHANNEL_WEIGHTS, design
from ispettore.core.measure.true_peak import HALF_TAPS, TAPS, interpolator

A_SECOND = 10
MOMENTARY_STEPS = 4
"""400 ms (EBU Tech 3341, "momentary")."""
FULL_SCALE = 1.0 - 2.0**-15
"""From here on a sample stands at the converter's end, whichever of 16 bits and more it has."""
OFFSET_LUFS = -0.691
BESIDE = 0.156


class LiveLevels(BaseModel):
    """A tenth of a second that ended at `at_s`: the loudest sample, the true peak and the RMS level of the loudest channel, how
    many samples stand at full scale, and the momentary loudness of the last 400 ms. None is silence."""

    model_config = ConfigDict(frozen=True)

    at_s: float
    peak_dbfs: float | None
    true_peak_dbtp: float | None
    rms_dbfs: float | None
    momentary_lufs: float | None
    full_scale: int


class LiveMeter:
    """Feed blocks of shape (frames, channels) in float32, full scale 1.0; each whole tenth of a second comes back once.

    True peaks lag by the 24 samples that the interpolator looks ahead.
    """

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._rate, self._channels = sample_rate_hz, channels
        self._sections = [np.insert(section, 3, 1.0) for section in design(sample_rate_hz)]
        self._state = [np.zeros((2, channels)) for _ in self._sections]
        self._weights = np.array(CHANNEL_WEIGHTS[channels])
        self._waiting = np.zeros((0, channels), dtype=np.float32)
        self._before = np.zeros((TAPS - 1, channels), dtype=np.float32)
        self._powers: list[float] = []
        self._steps = 0

    @property
    def heard_s(self) -> float:
        """How much was fed."""
        return self._edge(self._steps) / self._rate + len(self._waiting) / self._rate

    def feed(self, block: NDArray[np.float32]) -> list[LiveLevels]:
        """Take in a block; the tenths of a second that it completes."""
        self._waiting = np.concatenate((self._waiting, block))
        found = []
        while len(self._waiting) >= (size := self._edge(self._steps + 1) - self._edge(self._steps)):
            step, self._waiting = self._waiting[:size], self._waiting[size:]
            self._steps += 1
            found.append(self._read(step))
        return found

    def _edge(self, step: int) -> int:
        return step * self._rate // A_SECOND

    def _read(self, step: NDArray[np.float32]) -> LiveLevels:
        peak = float(np.abs(step).max())
        level = float(np.mean(step.astype(np.float64) ** 2, axis=0).max())
        weighted = step.astype(np.float64)
        for place, section in enumerate(self._sections):
            weighted, self._state[place] = scipy.signal.sosfilt(
                section[None, :], weighted, axis=0, zi=self._state[place][None, :, :]
            )
            self._state[place] = self._state[place][0]
        self._powers = [*self._powers, float(self._weights @ np.mean(weighted**2, axis=0))][-MOMENTARY_STEPS:]
        momentary = decibels.of_power(sum(self._powers) / MOMENTARY_STEPS) if len(self._powers) == MOMENTARY_STEPS else None
        return LiveLevels(
            at_s=self._edge(self._steps) / self._rate,
            peak_dbfs=decibels.of_amplitude(peak),
            true_peak_dbtp=decibels.of_amplitude(max(peak, self._between(step))),
            rms_dbfs=decibels.of_power(level),
            momentary_lufs=momentary + OFFSET_LUFS if momentary is not None else None,
            full_scale=int((np.abs(step) >= FULL_SCALE).sum()),
        )

    def _between(self, step: NDArray[np.float32]) -> float:
        """The largest value between the samples that have all their neighbours by now."""
        known = np.concatenate((self._before, step))
        self._before = known[-(TAPS - 1) :]
        largest = np.abs(known).max()
        if largest == 0:
            return 0.0
        windows = np.lib.stride_tricks.sliding_window_view(known, TAPS, axis=0)  # (places, channels, taps)
        # A wave below 0.45 of the rate is at least cos(0.45 pi) of its largest value at the sample beside it.
        near = np.abs(known[HALF_TAPS - 1 : HALF_TAPS - 1 + len(windows) + 1])
        loud = np.maximum(near[:-1], near[1:]).max(axis=1) >= BESIDE * largest
        return float(np.abs(windows[loud] @ interpolator().T).max()) if loud.any() else 0.0
