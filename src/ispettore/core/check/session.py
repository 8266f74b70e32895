"""The course of a take check: somebody listens to the levels, then the room is heard alone, then a few sentences."""

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ispettore.core.check.figures import Checked, check
from ispettore.core.check.live import LiveLevels, LiveMeter

ROOM_S = 10.0
READING_S = (8.0, 25.0)
"""From when on the sentences may be ended, and when they are."""

State = Literal["listening", "room", "reading", "complete"]


class Session:
    """Feed blocks of shape (frames, channels), float32, full scale 1.0. Nothing is kept but what the check is made of, and that
    until the next one begins."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self.sample_rate_hz, self.channels = sample_rate_hz, channels
        self.state: State = "listening"
        self._meter = LiveMeter(sample_rate_hz=sample_rate_hz, channels=channels)
        self._room: list[NDArray[np.float32]] = []
        self._voice: list[NDArray[np.float32]] = []

    def begin(self) -> None:
        """The room from now on. Whatever was under way is dropped."""
        self.state = "room"
        self._room, self._voice = [], []

    def give_up(self) -> None:
        """Only listen again."""
        self.state = "listening"
        self._room, self._voice = [], []

    def finish(self) -> None:
        """The sentences are over, if enough of them was heard."""
        if self.state == "reading" and self.read_s >= READING_S[0]:
            self.state = "complete"

    @property
    def read_s(self) -> float:
        return self._seconds(self._voice)

    @property
    def left_s(self) -> float:
        """How long what is under way lasts at the most."""
        if self.state == "room":
            return ROOM_S - self._seconds(self._room)
        return READING_S[1] - self.read_s if self.state == "reading" else 0.0

    def feed(self, block: NDArray[np.float32]) -> list[LiveLevels]:
        """Take in a block; the tenths of a second that it completes."""
        self._keep(block)
        return self._meter.feed(block)

    def heard(self) -> NDArray[np.float32]:
        """The room and then the sentences, shape (frames, channels)."""
        return np.concatenate((self._whole(self._room), self._whole(self._voice)))

    def checked(self) -> Checked:
        """Both parts measured, once complete. Raises CheckTooShort."""
        return check(self._whole(self._room), self._whole(self._voice), sample_rate_hz=self.sample_rate_hz)

    def _keep(self, block: NDArray[np.float32]) -> None:
        if self.state == "room":
            left = self._frames(ROOM_S) - sum(map(len, self._room))
            self._room.append(block[:left])
            if len(block) >= left:
                self.state, block = "reading", block[left:]
        if self.state == "reading":
            left = self._frames(READING_S[1]) - sum(map(len, self._voice))
            self._voice.append(block[:left])
            if len(block) >= left:
                self.state = "complete"

    def _frames(self, seconds: float) -> int:
        return round(seconds * self.sample_rate_hz)

    def _seconds(self, blocks: list[NDArray[np.float32]]) -> float:
        return sum(map(len, blocks)) / self.sample_rate_hz

    def _whole(self, blocks: list[NDArray[np.float32]]) -> NDArray[np.float32]:
        return np.concatenate(blocks) if blocks else np.zeros((0, self.channels), dtype=np.float32)
