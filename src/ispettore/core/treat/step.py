"""What a step is: typed settings that a person can read, and a processor that they start.

A new step is one new file with a `Settings` subclass and one line in `treatment.py`.
"""

from dataclasses import dataclass
from typing import Any, ClassVar, Protocol

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.measure.inspection import Measured

Block = NDArray[np.float32]
"""Samples of shape (frames, channels), full scale 1.0."""


@dataclass(frozen=True)
class Context:
    """What a step is told when it starts. `measured` and `working` describe what comes in, for steps with `needs_whole`."""

    name: str
    sample_rate_hz: int
    channels: int
    measured: Measured | None = None
    working: Any = None


class Processor(Protocol):
    """A running step. It carries its state from block to block, compensates its own latency and keeps the length it must."""

    sample_rate_hz: int
    channels: int

    def feed(self, block: Block) -> Block:
        """Take the next block in; give back what is finished (may be empty)."""

    def finish(self) -> Block:
        """Give back the rest."""

    def reduction_db(self) -> NDArray[np.float32]:
        """Gain change in dB of each 5 ms cell (0 or below), shape (cells,); empty for steps that move no gain in time."""


class Settings(BaseModel):
    """Base of every step's settings: frozen, with units in the names, unknown names refused."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    title: ClassVar[str] = ""
    needs_whole: ClassVar[bool] = False

    def start(self, context: Context) -> Processor:
        raise NotImplementedError


class Plain:
    """A processor that changes each block by itself: no state, no latency, no gain moving in time."""

    def __init__(self, context: Context) -> None:
        self.sample_rate_hz = context.sample_rate_hz
        self.channels = context.channels

    def feed(self, block: Block) -> Block:
        raise NotImplementedError

    def finish(self) -> Block:
        return np.zeros((0, self.channels), dtype=np.float32)

    def reduction_db(self) -> NDArray[np.float32]:
        return np.zeros(0, dtype=np.float32)
