"""Gain: every sample multiplied by the same factor. Exact; no touch."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from ispettore.core.treat.step import Block, Context, Processor, Settings, about


class Gain(Settings):
    """A constant gain in dB."""

    title: ClassVar[str] = "Gain"
    steady: ClassVar[bool] = True
    anywhere: ClassVar[bool] = True
    purpose: ClassVar[str] = "Make everything louder or quieter by the same amount."
    sentence: ClassVar[str] = "Change the level by {gain_db}"
    gain_db: float = Field(
        ge=-60, le=60, description="Gain", json_schema_extra=about("How much louder or quieter everything becomes.", unit="dB")
    )

    def meets_level(self) -> bool:
        return True

    def start(self, context: Context) -> "GainProcessor":
        return GainProcessor(context, self.gain_db)


class GainProcessor(Processor):
    def __init__(self, context: Context, gain_db: float) -> None:
        super().__init__(context)
        self._factor = np.float32(10 ** (gain_db / 20))

    def feed(self, block: Block) -> Block:
        return np.asarray(block * self._factor, dtype=np.float32)
