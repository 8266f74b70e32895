"""Rumble filter: a high-pass below the voice, with minimum or linear phase.

Minimum phase: Butterworth sections, −3 dB at the corner. Linear phase: a symmetric FIR with the same magnitude, so that the wave
keeps its shape and its headroom; its delay is compensated.
"""

from typing import ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.treat.step import Block, Context, Settings


class RumbleFilter(Settings):
    """Take away what lies below the voice."""

    title: ClassVar[str] = "Rumble filter"
    corner_hz: float = Field(80.0, ge=10, le=400, description="Corner", json_schema_extra={"unit": "Hz"})
    slope_db_per_octave: Literal[6, 12, 18, 24, 30, 36, 42, 48] = 24
    phase: Literal["minimum", "linear"] = "minimum"

    def start(self, context: Context) -> "MinimumPhase | LinearPhase":
        return MinimumPhase(context, self) if self.phase == "minimum" else LinearPhase(context, self)


class MinimumPhase:
    def __init__(self, context: Context, settings: RumbleFilter) -> None:
        from scipy import signal

        self.sample_rate_hz, self.channels = context.sample_rate_hz, context.channels
        order = settings.slope_db_per_octave // 6
        self._filter = signal.sosfilt
        self._sections = signal.butter(order, settings.corner_hz, "highpass", fs=context.sample_rate_hz, output="sos")
        self._state = np.zeros((len(self._sections), 2, context.channels))

    def feed(self, block: Block) -> Block:
        if len(block) == 0:
            return block
        out, self._state = self._filter(self._sections, block.astype(np.float64), axis=0, zi=self._state)
        # Decaying state must never crawl through numbers too small to matter.
        self._state[np.abs(self._state) < 1e-30] = 0.0
        return np.asarray(out, dtype=np.float32)

    def finish(self) -> Block:
        return np.zeros((0, self.channels), dtype=np.float32)

    def reduction_db(self) -> NDArray[np.float32]:
        return np.zeros(0, dtype=np.float32)


class LinearPhase:
    def __init__(self, context: Context, settings: RumbleFilter) -> None:
        from scipy import signal

        self.sample_rate_hz, self.channels = context.sample_rate_hz, context.channels
        self._convolve = signal.oaconvolve
        self._half = round(10 * context.sample_rate_hz / settings.corner_hz)
        self._taps = _symmetric(settings, context.sample_rate_hz, self._half)
        self._past = np.zeros((self._half, context.channels))

    def feed(self, block: Block) -> Block:
        return self._step(block.astype(np.float64))

    def finish(self) -> Block:
        return self._step(np.zeros((self._half, self.channels)))

    def _step(self, block: NDArray[np.float64]) -> Block:
        joined = np.concatenate((self._past, block))
        ready = len(joined) - 2 * self._half
        if ready <= 0:
            self._past = joined
            return np.zeros((0, self.channels), dtype=np.float32)
        out = self._convolve(joined, self._taps[:, None], mode="valid", axes=0)
        self._past = joined[ready:]
        return np.asarray(out, dtype=np.float32)

    def reduction_db(self) -> NDArray[np.float32]:
        return np.zeros(0, dtype=np.float32)


def _symmetric(settings: RumbleFilter, rate: int, half: int) -> NDArray[np.float64]:
    """The FIR of 2·half + 1 taps with the Butterworth magnitude, by frequency sampling and a Blackman window."""
    size = 1 << (8 * half - 1).bit_length()
    frequency = np.fft.rfftfreq(size, 1 / rate)
    order = settings.slope_db_per_octave // 6
    with np.errstate(divide="ignore"):
        magnitude = 1 / np.sqrt(1 + (settings.corner_hz / np.maximum(frequency, 1e-9)) ** (2 * order))
    impulse = np.fft.irfft(magnitude, size)
    taps = np.concatenate((impulse[-half:], impulse[: half + 1])) * np.blackman(2 * half + 3)[1:-1]
    return np.asarray(taps)
