"""Breath softening: the breaths that the meters found become quieter, and nothing else changes."""

from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.treat.curve import CurveProcessor, eased
from ispettore.core.treat.step import Context, Settings, about

FADE_CELLS = 8  # 40 ms, inside the breath's own rise and fall


class BreathSoftening(Settings):
    """Lower found breaths by an amount."""

    title: ClassVar[str] = "Breath softening"
    purpose: ClassVar[str] = "Lower the breaths that were found."
    sentence: ClassVar[str] = "Soften breaths by {amount_db}"
    needs_whole: ClassVar[bool] = True
    amount_db: float = Field(
        6.0, ge=0, le=24, description="Amount", json_schema_extra=about("How much each breath is lowered.", unit="dB")
    )

    def start(self, context: Context) -> "BreathProcessor":
        return BreathProcessor(context, self)


class BreathProcessor(CurveProcessor):
    def __init__(self, context: Context, settings: BreathSoftening) -> None:
        if context.measured is None:
            raise ValueError("breath softening has to know the recording")
        measured = context.measured
        breaths = [found for found in measured.inspection.findings if found.kind == "breath"]
        gain = np.zeros(measured.passages.cells)
        for breath in breaths:
            first, last = round(breath.start_s * CELLS_PER_SECOND), round(breath.end_s * CELLS_PER_SECOND)
            gain[max(first - FADE_CELLS // 2, 0) : last + FADE_CELLS // 2] = -settings.amount_db
        # The fades lie beside the breath, never in a word.
        gain = eased(gain, cells=FADE_CELLS)
        gain[measured.speech_mask] = 0.0
        super().__init__(context, gain)
        self._breaths = breaths

    def learned(self) -> dict[str, Any]:
        levels = [breath.measure for breath in self._breaths if breath.measure is not None]
        return {
            "breaths": sum(breath.count for breath in self._breaths),
            "loudest_breath_dbfs": round(max(levels), 2) if levels else None,
        }
