"""Channels: several to one or two as ITU-R BS.775 mixes them, one to two equal ones.

Before anything is mixed it is decided which channels hold something, and whether one of them has to be turned over, so that no
voice is halved by a dead side or cancelled by an inverted one. A plan decides it once and writes it into the step; a step without
that decides it from the recording.
"""

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from ispettore.core.audio.layout import LAYOUTS, downmix, name_of
from ispettore.core.figures import number
from ispettore.core.measure.inspection import Inspection
from ispettore.core.treat.step import Block, Context, Processor, Settings, about

CANCELS_DB = -6.0
DIFFERS = 1e-3  # of their energy: 30 dB under what they have in common


class Channels(Settings):
    """Mix down to one channel or two, or place one channel on two loudspeakers.

    `live` are the channels that are taken, from 1, and `turned` those whose polarity is turned before mixing; without `live` both
    are decided from the recording: what sounds is taken, and what is upside down is turned.
    """

    title: ClassVar[str] = "Channels"
    steady: ClassVar[bool] = True
    purpose: ClassVar[str] = "Mix to mono or place one channel on two loudspeakers."
    sentence: ClassVar[str] = "Deliver {channels}"
    further: ClassVar[str] = "Channels taken: {live}; flipped: {turned}"
    channels: Literal[1, 2] = Field(
        description="Channels", json_schema_extra=about("How many channels come out.", words={1: "one channel", 2: "two channels"})
    )
    live: tuple[int, ...] | None = Field(
        None,
        description="Channels taken",
        json_schema_extra=about("Which channels are taken, counted from 1.", absent="those that carry sound"),
    )
    turned: tuple[int, ...] = Field(
        (),
        description="Channels flipped",
        json_schema_extra=about("Which channels are flipped in polarity before mixing, counted from 1."),
    )

    def learns(self) -> bool:
        return self.live is None

    def elsewhere(self) -> "Channels":
        return Channels(channels=self.channels)

    def start(self, context: Context) -> "ChannelsProcessor":
        return ChannelsProcessor(context, self)


def decided(inspection: Inspection, channels: int) -> Channels:
    """The step that brings a recording to one channel or two: what sounds is taken, and what is upside down all along is turned."""
    found, duration = inspection.findings, inspection.facts.duration_s
    silent = {one.channel for one in found if one.kind == "silent-channel"}
    turned = {one.channel for one in found if one.kind == "inverted-channel" and one.start_s == 0 and one.end_s >= duration}
    every = range(1, inspection.facts.channels + 1)
    return Channels.model_validate(
        {
            "channels": channels,
            "live": [channel for channel in every if channel not in silent] or list(every),
            "turned": [channel for channel in every if channel in turned],
        }
    )


def needed(inspection: Inspection) -> bool:
    """Whether two channels should not be handed over as they are: one of them holds nothing, or is upside down."""
    settings = decided(inspection, 2)
    return inspection.facts.channels == 2 and (settings.live != (1, 2) or bool(settings.turned))


def told(settings: Channels, channels: int) -> str:
    """What is done with the channels of a recording before they are mixed, as the rest of a sentence; empty where nothing is.

    >>> told(Channels(channels=1, live=(1,)), 2)
    'the left channel only is used, as the voice is nowhere else'
    >>> told(Channels(channels=1, live=(1, 2), turned=(2,)), 2)
    'the right channel is inverted and is flipped first'
    """
    live = settings.live or tuple(range(1, channels + 1))
    parts = []
    if len(live) == 1 < channels:
        parts.append(f"{name_of(live[0], channels)} only is used, as the voice is nowhere else")
    parts += [f"{name_of(channel, channels)} is inverted and is flipped first" for channel in settings.turned]
    return "; ".join(parts)


def alike(block: Block, channels: int) -> Block:
    """A wave that all channels of a block share, on so many of them: shape (frames, channels)."""
    return block if block.shape[1] == channels else np.ascontiguousarray(np.repeat(block[:, :1], channels, axis=1))


class ChannelsProcessor(Processor):
    """Listens to what it mixes: channels that differ, or that cancel one another, are told of."""

    def __init__(self, context: Context, settings: Channels) -> None:
        super().__init__(context)
        if settings.live is None:
            if context.measured is None:
                raise ValueError("which channels sound can be decided only when the recording is known")
            settings = decided(context.measured.inspection, settings.channels)
        self._were = context.channels
        self.channels = settings.channels
        there = range(1, self._were + 1)
        self._live = [channel for channel in settings.live or () if channel in there] or list(there)
        self._turned = [channel for channel in settings.turned if channel in there]
        self._weights = downmix(self._were, self.channels, live=self._live, turned=self._turned)
        self._signs, self._shares = np.sign(self._weights), np.abs(self._weights)
        self._before = self._after = 0.0
        self._difference = 0.0

    def feed(self, block: Block) -> Block:
        if self._were == self.channels and np.array_equal(self._weights, np.eye(self.channels)):
            return block
        wave = block.astype(np.float64)
        mixed = wave @ self._weights.T
        self._before += float((np.square(wave) @ self._shares.T).sum())
        self._after += float(np.square(mixed).sum())
        for out, (shares, signs) in enumerate(zip(self._shares, self._signs, strict=True)):
            self._difference += float((np.square(wave * signs - mixed[:, [out]]) @ shares).sum())
        return np.ascontiguousarray(mixed, dtype=np.float32)

    def lost_db(self) -> float:
        """How much quieter the mix is than the channels were, in dB; 0 for channels that are alike."""
        if self._before <= 0:
            return 0.0
        return min(0.0, 10 * float(np.log10(max(self._after / self._before, 1e-12))))

    def learned(self) -> dict[str, Any]:
        if not self._before:
            return {}
        return {
            "mixed_channels": len([name for name in np.array(LAYOUTS[self._were])[np.array(self._live) - 1] if name != "LFE"]),
            "turned_channels": self._turned,
            "level_change_db": round(self.lost_db(), 2),
        }

    def warnings(self) -> list[str]:
        if self._before <= 0 or self._were < self.channels:
            return []
        if self.lost_db() < CANCELS_DB:
            return [
                f"The channels cancel each other: their mix is {number(-self.lost_db(), 1)} dB quieter than they were. One is "
                "probably inverted for a part of the time; use one channel, or flip its polarity there before mixing."
            ]
        if self._difference > DIFFERS * self._before:
            return ["The channels differ, so mixing them changes what is heard. If the voice is in only one, use that one."]
        return []
