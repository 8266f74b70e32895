"""Sample rate: conversion at very high quality, linear phase, no delay (soxr)."""

from typing import ClassVar

import numpy as np
import soxr
from pydantic import Field

from ispettore.core.treat.step import Block, Context, Processor, Settings, about


class SampleRate(Settings):
    """Convert to another sample rate."""

    title: ClassVar[str] = "Sample rate"
    steady: ClassVar[bool] = True
    purpose: ClassVar[str] = "Convert to the sample rate that is asked for."
    sentence: ClassVar[str] = "Convert to {sample_rate_hz}"
    sample_rate_hz: int = Field(
        ge=8_000, le=192_000, description="Sample rate", json_schema_extra=about("Samples per second of what comes out.", unit="Hz")
    )

    def start(self, context: Context) -> "SampleRateProcessor":
        return SampleRateProcessor(context, self.sample_rate_hz)


class SampleRateProcessor(Processor):
    def __init__(self, context: Context, rate: int) -> None:
        super().__init__(context)
        self.sample_rate_hz = rate
        self._stream = soxr.ResampleStream(context.sample_rate_hz, rate, context.channels, dtype="float32", quality="VHQ")

    def feed(self, block: Block) -> Block:
        return np.asarray(self._stream.resample_chunk(np.ascontiguousarray(block)), dtype=np.float32).reshape(-1, self.channels)

    def finish(self) -> Block:
        empty = np.zeros((0, self.channels), dtype=np.float32)
        return np.asarray(self._stream.resample_chunk(empty, last=True), dtype=np.float32).reshape(-1, self.channels)
