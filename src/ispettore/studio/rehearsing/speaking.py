"""What the warm child does while a take is recorded: it says how loud each piece is, and what a treatment makes of it at once."""

import tempfile
from collections import OrderedDict
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.check.live import LiveLevels, LiveMeter
from ispettore.core.treat.live import LiveChain, LiveSteps
from ispettore.core.treat.treatment import Step
from ispettore.demo.standin import Setting, StandIn
from ispettore.studio.rehearsing import checking
from ispettore.studio.rehearsing.checking import Ended, Lost

HELD = 16
STAND_IN_S = 60.0


class _Sent(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Spoken(_Sent):
    """Interleaved 32-bit little-endian floats of a take, and whether they are the first of it that this process is sent."""

    key: str
    first: bool
    channels: int
    sample_rate_hz: int
    samples: bytes


class Heard(_Sent):
    """The levels that a piece completed, by the time since the first. What the steps gave back, if any run, begins `treated_from`
    frames behind the piece they were fed first."""

    levels: tuple[LiveLevels, ...]
    treated: bytes
    treated_from: int
    behind_s: float


class Wish(_Sent):
    """Which steps a take is heard through from now on; None for none. What they learn they learn from the take check of that
    production made last."""

    key: str
    production: str
    name: str
    steps: tuple[Step, ...] | None


class Reader(_Sent):
    """The stand-in, reading."""

    setting: Setting
    sample_rate_hz: int


class Read(_Sent):
    """A minute of it: 16-bit little-endian integers of one channel."""

    samples: bytes


class _Take:
    def __init__(self, piece: Spoken) -> None:
        self.rate, self.channels = piece.sample_rate_hz, piece.channels
        self.meter = LiveMeter(sample_rate_hz=piece.sample_rate_hz, channels=piece.channels)
        self.chain: LiveChain | None = None
        self.warmed = 0
        """Frames of silence that the chain was fed before the first piece."""


_held: OrderedDict[str, _Take] = OrderedDict()


def speak(piece: Spoken) -> Heard | Lost:
    """What a piece of a take reads and becomes."""
    if piece.first:
        _held[piece.key] = _Take(piece)
        while len(_held) > HELD:
            _held.popitem(last=False)
    take = _held.get(piece.key)
    if take is None:
        return Lost()
    _held.move_to_end(piece.key)
    block = checking.plain(np.frombuffer(piece.samples, dtype="<f4").reshape(-1, piece.channels))
    levels = tuple(take.meter.feed(block))
    if take.chain is None:
        return Heard(levels=levels, treated=b"", treated_from=0, behind_s=0.0)
    first = take.chain.next_frame - take.warmed
    treated = take.chain.feed(block.copy()).astype("<f4").tobytes()
    return Heard(levels=levels, treated=treated, treated_from=first, behind_s=take.chain.behind_frames / take.rate)


def choose(wish: Wish) -> LiveSteps | Lost:
    """Run these steps from the next piece on."""
    take = _held.get(wish.key)
    if take is None:
        return Lost()
    take.chain = None
    if wish.steps is None:
        return LiveSteps()
    with tempfile.TemporaryDirectory() as folder:
        take.chain = LiveChain(
            wish.steps,
            sample_rate_hz=take.rate,
            channels=take.channels,
            name=wish.name,
            folder=Path(folder),
            known=checking.known(wish.production, sample_rate_hz=take.rate, channels=take.channels),
        )
        # Kernels that are used for the first time are loaded before they are waited for.
        take.warmed = take.rate // 10
        take.chain.feed(np.zeros((take.warmed, take.channels), dtype=np.float32))
    return take.chain.steps


def read(reader: Reader) -> Read:
    """A minute of the stand-in, as its converter of 16 bits gives it."""
    wave: NDArray[np.float32] = StandIn(reader.setting, sample_rate_hz=reader.sample_rate_hz).reading(
        round(STAND_IN_S * reader.sample_rate_hz)
    )
    return Read(samples=np.round(wave * 32_767.0).astype("<i2").tobytes())


def forget(ended: Ended) -> Ended:
    """Let go of a take."""
    _held.pop(ended.key, None)
    return ended
