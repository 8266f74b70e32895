"""Spot gain: chosen spans are turned up or down, with fades; nothing else is touched."""

from collections.abc import Sequence
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ispettore.core.treat.step import Block, Context, Processor, Settings, about


class Spot(BaseModel):
    """A span in seconds of the recording, its gain, and how long its fades are (inside the span)."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    start_s: float = Field(ge=0, description="Start", json_schema_extra=about("Where the spot begins.", unit="s"))
    end_s: float = Field(description="End", json_schema_extra=about("Where the spot ends.", unit="s"))
    gain_db: float = Field(
        ge=-60, le=24, description="Gain", json_schema_extra=about("How much it is raised or lowered.", unit="dB")
    )
    fade_s: float = Field(
        0.02,
        ge=0.001,
        le=5,
        description="Fades",
        json_schema_extra=about("How long the gain takes to come and go, inside the spot.", unit="s"),
    )

    @model_validator(mode="after")
    def _forward(self) -> "Spot":
        if self.end_s <= self.start_s:
            raise ValueError("a span ends after it starts")
        return self


class SpotGain(Settings):
    """Gain for a list of spans. Where spans overlap their gains add."""

    title: ClassVar[str] = "Spot gain"
    purpose: ClassVar[str] = "Raise or lower single words."
    sentence: ClassVar[str] = "Change the level of single spots"
    each: ClassVar[tuple[str, str]] = ("spots", "From {start_s} to {end_s} by {gain_db}, fades {fade_s}")
    spots: tuple[Spot, ...] = Field((), max_length=1_000, description="Spans")

    def elsewhere(self) -> None:
        return None

    def later(self, by_s: float) -> "SpotGain":
        moved = (spot.model_dump() | {"start_s": spot.start_s + by_s, "end_s": spot.end_s + by_s} for spot in self.spots)
        return SpotGain(spots=tuple(Spot.model_validate(spot) for spot in moved if spot["start_s"] >= 0))

    def start(self, context: Context) -> "SpotProcessor":
        return SpotProcessor(context, self)


class SpotProcessor(Processor):
    def __init__(self, context: Context, settings: SpotGain) -> None:
        super().__init__(context)
        self._spots = settings.spots
        self._frames = 0

    def feed(self, block: Block) -> Block:
        first, last = self._frames / self.sample_rate_hz, (self._frames + len(block)) / self.sample_rate_hz
        near = [spot for spot in self._spots if spot.end_s > first and spot.start_s < last]
        at = (np.arange(self._frames, self._frames + len(block)) + 0.5) / self.sample_rate_hz if near else np.zeros(0)
        self._frames += len(block)
        if not near:
            return block
        out = block.copy()
        gain_db = drawn(near, at)
        inside = gain_db != 0
        out[inside] *= (10 ** (gain_db[inside] / 20)).astype(np.float32)[:, None]
        return out


def drawn(spots: Sequence[Spot], at_s: NDArray[np.float64]) -> NDArray[np.float64]:
    """The gain in dB at some moments in order, shape (moments,): each spot a raised cosine in decibels."""
    total = np.zeros(at_s.size)
    for spot in spots:
        first, last = np.searchsorted(at_s, (spot.start_s, spot.end_s))
        fade = min(spot.fade_s, (spot.end_s - spot.start_s) / 2)
        here = at_s[first:last]
        part = np.clip(np.minimum(here - spot.start_s, spot.end_s - here) / fade, 0, 1)
        total[first:last] += spot.gain_db * (0.5 - 0.5 * np.cos(np.pi * part))
    return total
