"""Head and tail: exact lengths before the first and after the last speech, with the recording's own room tone.

What is too long is cut inside the room tone; what is too short is filled with room tone taken from the pauses of the recording
itself as it arrives at this step, never with dead silence.
"""

from pathlib import Path
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core import errors
from ispettore.core.edit import filling
from ispettore.core.measure.inspection import Inspection
from ispettore.core.treat import room_tone
from ispettore.core.treat.step import Block, Context, Processor, Settings, about

EDGE_S = 0.005


class HeadAndTail(Settings):
    """Lengths of head and tail in seconds; None leaves one as it is."""

    title: ClassVar[str] = "Head and tail"
    steady: ClassVar[bool] = True
    purpose: ClassVar[str] = "Set the room tone before the first word and after the last."
    sentence: ClassVar[str] = "Set the head to {head_s} and the tail to {tail_s}"
    needs_whole: ClassVar[bool] = True
    at_ends: ClassVar[bool] = True
    head_s: float | None = Field(
        None,
        ge=0.0,
        le=30,
        description="Head",
        json_schema_extra=about("How much room tone there is before the first word.", unit="s", absent="its own length"),
    )
    tail_s: float | None = Field(
        None,
        ge=0.0,
        le=30,
        description="Tail",
        json_schema_extra=about("How much room tone there is after the last word.", unit="s", absent="its own length"),
    )

    def lacks(self, inspection: Inspection) -> str:
        wanted = ((self.head_s, inspection.value("head_s")), (self.tail_s, inspection.value("tail_s")))
        longer = any(asked is not None and there is not None and asked > there for asked, there in wanted)
        return room_tone.lacking(inspection.room_tone) if longer else ""

    def start(self, context: Context) -> "HeadAndTailProcessor":
        return HeadAndTailProcessor(context, self)


class HeadAndTailProcessor(Processor):
    """Knows the whole file from `context.measured` and `context.working`; output differs in length by what was asked."""

    def __init__(self, context: Context, settings: HeadAndTail) -> None:
        if context.measured is None or context.working is None:
            raise ValueError("head and tail need the whole file first")
        super().__init__(context)
        rate = context.sample_rate_hz
        inspection = context.measured.inspection
        head, tail = inspection.value("head_s"), inspection.value("tail_s")
        self._frames = inspection.facts.frames
        # Positive: frames to add; negative: frames to cut.
        self._before = round((settings.head_s - head) * rate) if settings.head_s is not None and head is not None else 0
        self._after = round((settings.tail_s - tail) * rate) if settings.tail_s is not None and tail is not None else 0
        self.leads_s = self._before / rate
        self._head_frames = round((head or 0.0) * rate)
        self._tail_frames = round((tail or 0.0) * rate)
        material: list[Block] = []
        if self._before > 0 or self._after > 0:
            material = room_tone.pieces(context.measured.passages.room, Path(context.working), sample_rate_hz=rate)
            if not material:
                raise errors.NothingToLengthenWith(
                    file=context.name, end="head" if self._before > 0 else "tail", need_ms=room_tone.SHORTEST_S * 1000
                )
        self._material = material
        self._edge = max(1, round(EDGE_S * rate))
        self._seen = 0
        self._opened = False
        self._last = np.zeros((0, self.channels), dtype=np.float32)
        self._keep = round(filling.FADE_S * rate)

    def feed(self, block: Block) -> Block:
        start, stop = 0, len(block)
        if self._before < 0:
            start = min(max(0, -self._before - self._seen), stop)
        end = self._frames + min(self._after, 0)
        stop = max(start, min(stop, end - self._seen))
        self._seen += len(block)
        self._last = np.concatenate((self._last, block[start:stop]))
        # The first stretch waits until it is long enough for what is laid over it, whatever the size of blocks.
        if not self._opened:
            if len(self._last) < self._keep:
                return self._last[:0]
            self._last, self._opened = self._open(self._last), True
        # The last stretch stays back, so that an added tail can be laid over it.
        cut = max(0, len(self._last) - self._keep)
        out, self._last = self._last[:cut], self._last[cut:]
        return out

    def _open(self, kept: Block) -> Block:
        if self._before > 0:
            fade = min(self._keep, self._head_frames // 2, len(kept))
            lead = filling.fill(self._material, self._before + fade, sample_rate_hz=self.sample_rate_hz, seed=1)
            kept = filling.join(lead, kept, fade=fade)
        if self._before != 0:
            kept = kept.copy()
            edge = min(self._edge, len(kept))
            kept[:edge] *= _ramp(edge)
        return kept

    def finish(self) -> Block:
        kept = self._last if self._opened or not len(self._last) else self._open(self._last)
        if self._after > 0:
            fade = min(self._keep, self._tail_frames // 2, len(kept))
            end = filling.fill(self._material, self._after + fade, sample_rate_hz=self.sample_rate_hz, seed=2)
            kept = filling.join(kept, end, fade=fade)
        if self._after != 0:
            kept = kept.copy()
            edge = min(self._edge, len(kept))
            kept[len(kept) - edge :] *= _ramp(edge)[::-1]
        return kept


def _ramp(frames: int) -> NDArray[np.float32]:
    """From 0 to 1 as a raised cosine, shape (frames, 1)."""
    return (0.5 - 0.5 * np.cos(np.pi * (np.arange(frames) + 0.5) / frames)).astype(np.float32)[:, None]
