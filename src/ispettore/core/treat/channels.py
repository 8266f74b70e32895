"""Channels: stereo to mono by the mean of the channels, mono to two equal channels."""

from typing import Any, ClassVar, Literal

import numpy as np

from ispettore.core.figures import number
from ispettore.core.treat.step import Block, Context, Processor, Settings

CANCELS_DB = -6.0
DIFFERS = 1e-3  # of their energy: 30 dB under what they have in common


class Channels(Settings):
    """Mix down to one channel, or place one channel on two loudspeakers."""

    title: ClassVar[str] = "Channels"
    channels: Literal[1, 2]

    def start(self, context: Context) -> "ChannelsProcessor":
        return ChannelsProcessor(context, self.channels)


class ChannelsProcessor(Processor):
    """Listens to what it mixes: channels that differ, or that cancel one another, are told of."""

    def __init__(self, context: Context, channels: int) -> None:
        super().__init__(context)
        self._were = context.channels
        self.channels = channels
        self._before = self._after = 0.0
        self._difference = 0.0

    def feed(self, block: Block) -> Block:
        if block.shape[1] == self.channels:
            return block
        middle = block.mean(axis=1, dtype=np.float64, keepdims=True).astype(np.float32)
        self._before += float(np.mean(block.astype(np.float64) ** 2, axis=1).sum())
        self._after += float((middle.astype(np.float64) ** 2).sum())
        self._difference += float(np.mean((block.astype(np.float64) - middle) ** 2, axis=1).sum())
        return np.ascontiguousarray(np.repeat(middle, self.channels, axis=1))

    def lost_db(self) -> float:
        """How much quieter the mix is than the channels were, in dB; 0 for channels that are alike."""
        if self._before <= 0:
            return 0.0
        return min(0.0, 10 * float(np.log10(max(self._after / self._before, 1e-12))))

    def learned(self) -> dict[str, Any]:
        return {"mixed_channels": self._were, "level_change_db": round(self.lost_db(), 2)} if self._before else {}

    def warnings(self) -> list[str]:
        if self._before <= 0 or self._were <= self.channels:
            return []
        if self.lost_db() < CANCELS_DB:
            return [
                f"The channels cancel one another: their mix is {number(-self.lost_db(), 1)} dB quieter than they were. One is "
                "probably inverted; take one channel, or turn its polarity before mixing."
            ]
        if self._difference > DIFFERS * self._before:
            return ["The channels differ, so mixing them changes what is heard. Where only one holds the voice, take that one."]
        return []
