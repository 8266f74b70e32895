"""Multiband compressor: bands that are compressed by themselves and put together again; flat while none of them works.

The bands are differences of linear-phase low-passes, so that their sum is the signal itself, sample for sample.

A compressor that lets go in pauses raises the room against the voice by as much as it takes from the voice. Here every band that
has nothing to do rests at the gain that the words have as a whole, which is learned from pieces spread over the recording: brought
back to its level, the recording has its own room, and nothing under the thresholds is softer than it was.
"""

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ispettore.core.audio.writing import read_span
from ispettore.core.treat.compressor import Compressor, CompressorProcessor
from ispettore.core.treat.fir import Delay, Symmetric, low_pass
from ispettore.core.treat.step import Block, Context, Processor, Settings, about

PIECE_S, MOST_PIECES = 2.0, 60


class BandSettings(BaseModel):
    """The compressor of one band; off leaves the band as it is."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    on: bool = Field(
        True, description="Band", json_schema_extra=about("Off leaves the band as it is.", words={True: "on", False: "off"})
    )
    compressor: Compressor


class MultibandCompressor(Settings):
    """Compress bands by themselves: one more band than there are crossovers, from the lowest."""

    title: ClassVar[str] = "Multiband compressor"
    anywhere: ClassVar[bool] = True
    purpose: ClassVar[str] = "Compress low, middle and high parts of the voice apart."
    sentence: ClassVar[str] = "Compress bands apart, crossing at {crossovers_hz}"
    further: ClassVar[str] = "Pauses {rests_in_pauses}"
    each: ClassVar[tuple[str, str]] = ("bands", "Above {compressor.threshold_dbfs} at {compressor.ratio}, {on}")
    crossovers_hz: tuple[float, ...] = Field(
        (150.0, 3_000.0),
        min_length=1,
        max_length=4,
        description="Crossovers",
        json_schema_extra=about("Where the bands meet; there is one more band than there are crossovers.", unit="Hz"),
    )
    bands: tuple[BandSettings, ...] = Field(min_length=2, max_length=5, description="Bands")
    rests_in_pauses: bool = Field(
        True,
        description="Pauses fall with the words",
        json_schema_extra=about(
            "Whether pauses are lowered as the words beside them are.",
            words={True: "fall with the words", False: "stay as they are"},
        ),
    )

    def learns(self) -> bool:
        return self.rests_in_pauses

    @model_validator(mode="after")
    def _fits(self) -> "MultibandCompressor":
        if len(self.bands) != len(self.crossovers_hz) + 1:
            raise ValueError(
                f"{len(self.crossovers_hz)} crossovers make {len(self.crossovers_hz) + 1} bands, not {len(self.bands)}"
            )
        if any(hz < 40 or hz > 16_000 for hz in self.crossovers_hz) or list(self.crossovers_hz) != sorted(set(self.crossovers_hz)):
            raise ValueError("crossovers lie between 40 Hz and 16 kHz and rise from one to the next")
        return self

    def meets_level(self) -> bool:
        return True

    def start(self, context: Context) -> "MultibandProcessor":
        return MultibandProcessor(context, self)


class MultibandProcessor(Processor):
    """Latency: the longest filter's half and that of the compressors, compensated."""

    def __init__(self, context: Context, settings: MultibandCompressor) -> None:
        super().__init__(context)
        rate = context.sample_rate_hz
        corners = [min(hz, 0.45 * rate) for hz in settings.crossovers_hz]
        taps = [low_pass(hz, transition_hz=0.8 * hz, sample_rate_hz=rate) for hz in corners]
        # The lowest crossover has the longest filter; the others wait as long as it does.
        self._filters = [Symmetric(np.pad(each, (len(taps[0]) - len(each)) // 2), context.channels) for each in taps]
        self._sound = Delay(context.channels)
        self._rest_db = _rest(context, settings) if settings.rests_in_pauses else 0.0
        self._compressors = [
            CompressorProcessor(context, band.compressor, rest_db=self._rest_db) if band.on else None for band in settings.bands
        ]
        self._out = [Delay(context.channels) for _ in settings.bands]

    def feed(self, block: Block) -> Block:
        if len(block) == 0:
            return block
        self._sound.put(block)
        return self._split([each.feed(block) for each in self._filters])

    def finish(self) -> Block:
        first = self._split([each.finish() for each in self._filters])
        for out, compressor in zip(self._out, self._compressors, strict=True):
            if compressor is not None:
                out.put(compressor.finish())
        return np.concatenate((first, self._together()))

    def _split(self, lows: list[NDArray[np.float64]]) -> Block:
        sound = self._sound.take(len(lows[0])).astype(np.float64)
        edges = [np.zeros_like(sound), *lows, sound]
        for number, (out, compressor) in enumerate(zip(self._out, self._compressors, strict=True)):
            band = (edges[number + 1] - edges[number]).astype(np.float32)
            out.put(compressor.feed(band) if compressor is not None else band)
        return self._together()

    def _together(self) -> Block:
        ready = min(out.size for out in self._out)
        return np.asarray(sum(out.take(ready).astype(np.float64) for out in self._out), dtype=np.float32).reshape(-1, self.channels)

    def learned(self) -> dict[str, Any]:
        return {"rests_at_db": round(self._rest_db, 1)} if self._rest_db else {}

    def reduction_db(self) -> NDArray[np.float32]:
        """The deepest of the bands in each cell."""
        parts = [each.reduction_db() for each in self._compressors if each is not None]
        if not parts:
            return np.zeros(0, dtype=np.float32)
        count = max(part.size for part in parts)
        return np.asarray(np.min([np.pad(part, (0, count - part.size)) for part in parts], axis=0), dtype=np.float32)


def _rest(context: Context, settings: MultibandCompressor) -> float:
    """What the words lose as a whole, in dB, 0 or below: tried on the working file that comes in, or on pieces spread over it."""
    if context.measured is None:
        raise ValueError("what the words lose can be learned only when the recording is known")
    rate, frames = context.sample_rate_hz, context.measured.inspection.facts.frames
    size = min(round(PIECE_S * rate), frames)
    count = min(-(-frames // size), MOST_PIECES)
    bands = tuple(
        band.model_copy(update={"compressor": band.compressor.model_copy(update={"make_up_db": 0.0})}) for band in settings.bands
    )
    trial = MultibandProcessor(context, settings.model_copy(update={"rests_in_pauses": False, "bands": bands}))
    before = after = 0.0
    for number in range(count):
        piece = read_span(context.working, number * frames // count, size)
        before += float(np.sum(piece.astype(np.float64) ** 2))
        after += float(np.sum(trial.feed(piece).astype(np.float64) ** 2))
    after += float(np.sum(trial.finish().astype(np.float64) ** 2))
    return min(0.0, 10 * float(np.log10(after / before))) if before > 0 and after > 0 else 0.0
