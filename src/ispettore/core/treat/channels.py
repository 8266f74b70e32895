"""Channels: stereo to mono by the mean of the channels, mono to two equal channels."""

from typing import ClassVar, Literal

import numpy as np

from ispettore.core.treat.step import Block, Context, Plain, Settings


class Channels(Settings):
    """Mix down to one channel, or place one channel on two loudspeakers."""

    title: ClassVar[str] = "Channels"
    channels: Literal[1, 2]

    def start(self, context: Context) -> "ChannelsProcessor":
        return ChannelsProcessor(context, self.channels)


class ChannelsProcessor(Plain):
    def __init__(self, context: Context, channels: int) -> None:
        super().__init__(context)
        self.channels = channels

    def feed(self, block: Block) -> Block:
        if block.shape[1] == self.channels:
            return block
        middle = block.mean(axis=1, dtype=np.float64, keepdims=True).astype(np.float32)
        return np.ascontiguousarray(np.repeat(middle, self.channels, axis=1))
