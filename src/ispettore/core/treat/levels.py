"""Reference level and final level: one gain for the whole recording, chosen so that a reading becomes a target.

The recording is measured first; the gain is the difference. The final level also knows a ceiling: it goes only as far as that
allows, and says what stood in the way.
"""

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ispettore.core.figures import exact, number
from ispettore.core.measure.inspection import Inspection
from ispettore.core.spec.quantities import QUANTITIES
from ispettore.core.treat.step import Block, Context, Processor, Settings, about

Quantity = Literal["sample_peak_dbfs", "true_peak_dbtp", "rms_dbfs", "integrated_loudness_lufs", "active_speech_level_dbfs"]
WORDS: dict[Any, str] = {
    "sample_peak_dbfs": "peak",
    "true_peak_dbtp": "true peak",
    "rms_dbfs": "RMS level",
    "integrated_loudness_lufs": "loudness",
    "active_speech_level_dbfs": "active speech level",
}


class ReferenceLevel(Settings):
    """Bring peak, RMS or loudness to a target, so that what follows finds the level it is set for."""

    title: ClassVar[str] = "Reference level"
    steady: ClassVar[bool] = True
    purpose: ClassVar[str] = "Bring every recording to the same level, so that thresholds mean the same."
    sentence: ClassVar[str] = "Bring {quantity} to {target_db}"
    needs_whole: ClassVar[bool] = True
    quantity: Quantity = Field(
        "rms_dbfs",
        description="Level",
        json_schema_extra=about(
            "Which reading is brought to the target.",
            words=WORDS,
        ),
    )
    target_db: float = Field(
        -20.0, ge=-60, le=0, description="Target", json_schema_extra=about("What the reading is to be, in its own unit.", unit="dB")
    )

    def as_spoken(self) -> "ReferenceLevel":
        return self

    def start(self, context: Context) -> "LevelProcessor":
        return LevelProcessor(context, self.quantity, self.target_db, None)


class FinalLevel(Settings):
    """Bring a reading to its target without a true peak above the ceiling."""

    title: ClassVar[str] = "Final level"
    steady: ClassVar[bool] = True
    purpose: ClassVar[str] = "Bring a reading to its target, as far as a ceiling allows."
    sentence: ClassVar[str] = "Set {quantity} to {target_db}, true peaks at most {ceiling_dbtp}"
    needs_whole: ClassVar[bool] = True
    quantity: Quantity = Field(
        "integrated_loudness_lufs",
        description="Level",
        json_schema_extra=about(
            "Which reading is brought to the target.",
            words=WORDS,
        ),
    )
    target_db: float = Field(
        -18.0, ge=-60, le=0, description="Target", json_schema_extra=about("What the reading is to be, in its own unit.", unit="dB")
    )
    ceiling_dbtp: float = Field(
        -1.0,
        ge=-40,
        le=0,
        description="Ceiling",
        json_schema_extra=about("The gain stops where a true peak would go over it.", unit="dBTP"),
    )

    def as_spoken(self) -> "FinalLevel":
        return self

    def start(self, context: Context) -> "LevelProcessor":
        return LevelProcessor(context, self.quantity, self.target_db, self.ceiling_dbtp)


class LevelProcessor(Processor):
    def __init__(self, context: Context, quantity: Quantity, target_db: float, ceiling_dbtp: float | None) -> None:
        super().__init__(context)
        if context.measured is None:
            raise ValueError("a level can be reached only when the recording is known")
        inspection = context.measured.inspection
        self._was = inspection.value(quantity)
        wanted = target_db - self._was if self._was is not None else 0.0
        room = _room(inspection, ceiling_dbtp)
        self._gain_db = min(wanted, room)
        self._quantity, self._target = quantity, target_db
        self._missing = wanted - self._gain_db
        self._ceiling = ceiling_dbtp
        self._factor = np.float32(10 ** (self._gain_db / 20))

    def feed(self, block: Block) -> Block:
        return np.asarray(block * self._factor, dtype=np.float32)

    def learned(self) -> dict[str, Any]:
        return {"gain_db": round(self._gain_db, 3), "was_db": None if self._was is None else round(self._was, 3)}

    def warnings(self) -> list[str]:
        known = QUANTITIES[self._quantity]
        if self._was is None:
            return [f"{known.title} could not be measured, so the level was left unchanged."]
        if self._missing <= 0.005:
            return []
        return [
            f"{known.title} stays {number(self._missing, 1)} dB below {exact(self._target)} {known.unit}: "
            f"more gain would lift peaks above {exact(self._ceiling or 0.0)} dBTP. Limit or compress before, or ask for less."
        ]


def _room(inspection: Inspection, ceiling_dbtp: float | None) -> float:
    peak = inspection.value("true_peak_dbtp")
    return np.inf if ceiling_dbtp is None or peak is None else ceiling_dbtp - peak
