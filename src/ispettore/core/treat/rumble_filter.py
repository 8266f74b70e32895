"""Rumble filter: a high-pass below the voice, with minimum or linear phase.

Minimum phase: Butterworth sections, −3 dB at the corner. Linear phase: a symmetric FIR with the same magnitude, so that the wave
keeps its shape and its headroom; its delay is compensated.
"""

from typing import ClassVar, Literal

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.treat.fir import Symmetric
from ispettore.core.treat.sections import SectionsProcessor
from ispettore.core.treat.step import Block, Context, Processor, Settings, about


class RumbleFilter(Settings):
    """Take away what lies below the voice."""

    title: ClassVar[str] = "Rumble filter"
    steady: ClassVar[bool] = True
    anywhere: ClassVar[bool] = True
    purpose: ClassVar[str] = "Remove what is below the voice: traffic, footsteps, handling noise."
    sentence: ClassVar[str] = "Filter rumble below {corner_hz}"
    further: ClassVar[str] = "Slope {slope_db_per_octave}, {phase} phase"
    corner_hz: float = Field(
        80.0,
        ge=10,
        le=400,
        description="Corner",
        json_schema_extra=about("Sound below this fades out. Voices start at about 80 Hz.", unit="Hz"),
    )
    slope_db_per_octave: Literal[6, 12, 18, 24, 30, 36, 42, 48] = Field(
        24, description="Slope", json_schema_extra=about("How steeply it fades below the corner.", unit="dB per octave")
    )
    phase: Literal["minimum", "linear"] = Field(
        "minimum",
        description="Phase",
        json_schema_extra=about(
            "Linear phase keeps the waveform, so peaks stay the same; minimum phase has no pre-echo.",
            words={"minimum": "minimum", "linear": "linear"},
        ),
    )

    def as_spoken(self) -> "RumbleFilter":
        """In minimum phase: linear phase waits for ten periods of the corner."""
        return self.model_copy(update={"phase": "minimum"})

    def start(self, context: Context) -> "MinimumPhase | LinearPhase":
        return MinimumPhase(context, self) if self.phase == "minimum" else LinearPhase(context, self)


class MinimumPhase(SectionsProcessor):
    def __init__(self, context: Context, settings: RumbleFilter) -> None:
        order, rate = settings.slope_db_per_octave // 6, context.sample_rate_hz
        super().__init__(context, scipy.signal.butter(order, settings.corner_hz, "highpass", fs=rate, output="sos"))


class LinearPhase(Processor):
    def __init__(self, context: Context, settings: RumbleFilter) -> None:
        super().__init__(context)
        half = round(10 * context.sample_rate_hz / settings.corner_hz)
        self._filter = Symmetric(_symmetric(settings, context.sample_rate_hz, half), context.channels)

    def feed(self, block: Block) -> Block:
        return np.asarray(self._filter.feed(block), dtype=np.float32)

    def finish(self) -> Block:
        return np.asarray(self._filter.finish(), dtype=np.float32)


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
