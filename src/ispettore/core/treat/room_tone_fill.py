"""Room tone fill: dead silence, or spans chosen by hand, become the recording's own room tone; the length stays.

The longest pieces of room tone are laid over one another at equal power to half a minute without a seam (`filling.fill`), which
goes round for as long as a span needs. Where a span begins and ends both sounds are faded into one another at equal power, inside
a span chosen by hand; dead silence has nothing to fade, so there the tone comes in under the last milliseconds of what sounds.
"""

from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from ispettore.core import errors
from ispettore.core.audio.reading import Block
from ispettore.core.edit import filling
from ispettore.core.measure.grid import CELL_S, runs
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Span
from ispettore.core.treat import room_tone
from ispettore.core.treat.step import Context, Processor, Settings, spans_later

LOOP_S, FADE_S = 30.0, 0.01


class RoomToneFill(Settings):
    """Put room tone in the place of dead silence. Spans chosen by hand are filled instead where there are any."""

    title: ClassVar[str] = "Room tone fill"
    steady: ClassVar[bool] = True
    purpose: ClassVar[str] = "Replace dead silence, or spots you choose, by room tone."
    sentence: ClassVar[str] = "Fill dead silence with this recording's own room tone"
    filled: ClassVar[str] = "Lay this recording's own room tone over"
    each: ClassVar[tuple[str, str]] = ("spans", "{start_s} to {end_s}")
    needs_whole: ClassVar[bool] = True
    spans: tuple[Span, ...] = Field((), max_length=1_000, description="Spans")

    @field_validator("spans")
    @classmethod
    def _forward(cls, spans: tuple[Span, ...]) -> tuple[Span, ...]:
        if any(span.start_s < 0 or span.end_s <= span.start_s for span in spans):
            raise ValueError("a span starts at 0 or later, and ends after it starts")
        return spans

    def elsewhere(self) -> "RoomToneFill | None":
        return None if self.spans else self

    def later(self, by_s: float) -> "RoomToneFill":
        return RoomToneFill(spans=spans_later(self.spans, by_s))

    def lacks(self, inspection: Inspection) -> str:
        wanted = bool(self.spans) or any(finding.kind == "dead-silence" for finding in inspection.findings)
        return room_tone.lacking(inspection.room_tone) if wanted else ""

    def start(self, context: Context) -> "FillProcessor":
        return FillProcessor(context, self)


class FillProcessor(Processor):
    """No latency. Raises NothingToFillWith where there is something to fill and nothing to fill it with."""

    def __init__(self, context: Context, settings: RoomToneFill) -> None:
        super().__init__(context)
        if context.measured is None or context.working is None:
            raise ValueError("room tone fill has to know the recording")
        rate, passages = context.sample_rate_hz, context.measured.passages
        fade = round(FADE_S * rate)
        if settings.spans:
            chosen = np.array([(span.start_s * rate, span.end_s * rate) for span in settings.spans])
        else:
            chosen = runs(passages.dead) * (CELL_S * rate) + np.array([-fade, fade])
        # First and last frame of each span, fades among them.
        self._spans = np.maximum(np.round(chosen).astype(np.int64).reshape(-1, 2), 0)
        self._fade, self._frames = fade, 0
        self._tone: Block = np.zeros((0, context.channels), dtype=np.float32)
        if len(self._spans):
            outside = passages.room & ~_inside(self._spans / (CELL_S * rate), passages.cells)
            pieces = room_tone.pieces(outside, Path(context.working), sample_rate_hz=rate)
            if not pieces:
                raise errors.NothingToFillWith(file=context.name, least_ms=1000 * room_tone.SHORTEST_S)
            self._tone = _loop(pieces, rate)

    def feed(self, block: Block) -> Block:
        first, last = self._frames, self._frames + len(block)
        self._frames = last
        near = self._spans[(self._spans[:, 1] > first) & (self._spans[:, 0] < last)]
        if not len(near):
            return block
        out = block.copy()
        for start, end in near.tolist():
            at = np.arange(max(start, first), min(end, last))
            fade = max(1, min(self._fade, (end - start) // 2))
            angle = np.clip(np.minimum(at - start + 0.5, end - at - 0.5) / fade, 0, 1)[:, None] * (np.pi / 2)
            tone = self._tone[at % len(self._tone)]
            out[at - first] = out[at - first] * np.cos(angle) + tone * np.sin(angle)
        return out

    def learned(self) -> dict[str, Any]:
        return {"places": len(self._spans), "filled_s": round(float(np.diff(self._spans).sum()) / self.sample_rate_hz, 2)}


def _inside(spans: NDArray[np.float64], cells: int) -> NDArray[np.bool_]:
    mask = np.zeros(cells, dtype=bool)
    for start, end in spans:
        mask[int(start) : int(np.ceil(end))] = True
    return mask


def _loop(pieces: list[Block], rate: int) -> Block:
    """Half a minute of room tone whose end goes over into its start."""
    fade = round(filling.FADE_S * rate)
    long = filling.fill(pieces, round(LOOP_S * rate) + fade, sample_rate_hz=rate)
    seam = filling.join(long[-fade:], long[:fade], fade=fade)
    return np.concatenate((seam, long[fade:-fade]))
