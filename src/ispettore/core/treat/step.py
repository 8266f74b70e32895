"""What a step is: typed settings that a person can read, and a processor that they start.

A new step is one new file with a `Settings` subclass and one line in `treatment.py`.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.reading import Span

Block = NDArray[np.float32]
"""Samples of shape (frames, channels), full scale 1.0."""


@dataclass(frozen=True)
class Context:
    """What a step is told when it starts. `measured` and `working` describe what comes in, for steps with `needs_whole`;
    `sounds` are other files by the hashes of their bytes, for those that mix them in."""

    name: str
    sample_rate_hz: int
    channels: int
    measured: Measured | None = None
    working: Any = None
    sounds: Mapping[str, Path] = field(default_factory=dict)


def about(why: str, *, unit: str = "", absent: str = "", words: dict[Any, str] | None = None) -> Any:
    """What a person is told of a setting: one line of what it does, its unit, how it reads where it is left to the step, and the
    words for its choices."""
    told = {"why": why, "unit": unit, "absent": absent, "words": {str(key): word for key, word in (words or {}).items()}}
    return {key: value for key, value in told.items() if value}


def spans_later(spans: Sequence[Span], by_s: float) -> tuple[Span, ...]:
    """Spans of a recording in which everything comes so many seconds later; those that begin before it are left out."""
    moved = (Span(start_s=span.start_s + by_s, end_s=span.end_s + by_s) for span in spans)
    return tuple(span for span in moved if span.start_s >= 0)


class Settings(BaseModel):
    """Base of every step's settings: frozen, with units in the names, unknown names refused.

    A step reads as a `sentence`, in which its settings stand in braces by their names; `further` is the rest of them. A step that
    holds a list names it in `each`, with the sentence of one entry; `filled` is its own sentence then, if it reads otherwise.
    `purpose` is one line of what it is for.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    title: ClassVar[str] = ""
    purpose: ClassVar[str] = ""
    sentence: ClassVar[str] = ""
    further: ClassVar[str] = ""
    each: ClassVar[tuple[str, str] | None] = None
    filled: ClassVar[str] = ""
    needs_whole: ClassVar[bool] = False
    anywhere: ClassVar[bool] = False
    """Whether it does the same wherever it begins, once it has settled: it counts no time, and keeps the sample rate."""

    steady: ClassVar[bool] = False
    """Whether it does the same to the room beside the words and far from them, so that the room can't come and go by it."""

    at_ends: ClassVar[bool] = False
    """Whether it works at the ends of a recording, and nowhere else."""

    adds_sound: ClassVar[bool] = False
    """Whether it mixes in what the voice has not said: such a step belongs to a recording, not to a treatment."""

    def learns(self) -> bool:
        """Whether the step has to know the whole file before it starts."""
        return self.needs_whole

    def lacks(self, inspection: Inspection) -> str:
        """What a recording does not have that the step needs, in a sentence; empty where it has all."""
        return ""

    def said(self, inspection: Inspection) -> str:
        """The sentence as it reads for one recording."""
        return self.sentence

    def later(self, by_s: float) -> "Settings":
        """The same settings for a recording in which everything comes so many seconds later."""
        return self

    def elsewhere(self) -> "Settings | None":
        """The same step for any other recording; None where it is about spots of this one alone."""
        return self

    def as_spoken(self) -> "Settings | None":
        """The same step for sound that is still being spoken, as quick as it can be; None where it has to know what follows."""
        return self if self.anywhere else None

    def meets_level(self) -> bool:
        """Whether it does something else to a voice that comes in at another level."""
        return False

    def start(self, context: Context) -> "Processor":
        raise NotImplementedError


class Processor:
    """A running step. It carries its state from block to block, compensates its own latency and keeps the length it must.

    As it stands it passes everything through.
    """

    leads_s: float = 0.0
    """How much later the same word comes in what is given back."""

    def __init__(self, context: Context) -> None:
        self.sample_rate_hz = context.sample_rate_hz
        self.channels = context.channels

    def feed(self, block: Block) -> Block:
        """Take the next block in; give back what is finished (may be empty)."""
        return block

    def finish(self) -> Block:
        """Give back the rest."""
        return np.zeros((0, self.channels), dtype=np.float32)

    def reduction_db(self) -> NDArray[np.float32]:
        """Gain change in dB of each 5 ms cell, shape (cells,); empty for steps that move no gain in time."""
        return np.zeros(0, dtype=np.float32)

    def lowered_db(self) -> NDArray[np.float32]:
        """Gain in dB of each 5 ms cell of what the step lays under the voice, shape (cells,); empty for steps that lay nothing."""
        return np.zeros(0, dtype=np.float32)

    def learned(self) -> dict[str, Any]:
        """What the step learned from this recording, in plain values with units in their names; kept with the run and shown."""
        return {}

    def warnings(self) -> list[str]:
        """What a person should know of this run, in sentences."""
        return []
