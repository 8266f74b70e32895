"""What the warm child of take checks does: it hears what comes in, piece by piece, and says how loud that is."""

from collections import OrderedDict
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.check.advice import TakeCheck, take_check
from ispettore.core.check.live import LiveLevels
from ispettore.core.check.session import Session, State
from ispettore.core.measure.inspecting import measure_array
from ispettore.core.spec.specification import Specification
from ispettore.demo.standin import Setting, StandIn

HELD, KNOWN = 16, 4

Act = Literal["", "begin", "finish", "give up"]


class _Sent(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Piece(_Sent):
    """Interleaved 32-bit little-endian floats of a session, its key, whether they are its first, and what is to be done before they
    are heard. Where there is a `setting` the stand-in is heard instead, for so many `frames`."""

    key: str
    first: bool
    act: Act
    channels: int
    sample_rate_hz: int
    samples: bytes = b""
    setting: Setting | None = None
    frames: int = 0


class HeardPiece(_Sent):
    levels: tuple[LiveLevels, ...]
    state: State
    left_s: float
    read_s: float


class Lost(_Sent):
    """Nothing is known of the session any more: this process was started since."""


class Asked(_Sent):
    """The result of a session that is complete, held against a specification. What was heard is remembered for that production as
    long as this process lives, so that steps can learn from it."""

    key: str
    production: str
    specification: Specification
    distance_cm: float | None


class Ended(_Sent):
    """A session that is over."""

    key: str


class _Held:
    def __init__(self, piece: Piece) -> None:
        self.session = Session(sample_rate_hz=piece.sample_rate_hz, channels=piece.channels)
        self.stand_in: StandIn | None = None
        self.setting: Setting | None = None

    def hear(self, piece: Piece) -> HeardPiece:
        if piece.act:
            {"begin": self.session.begin, "finish": self.session.finish, "give up": self.session.give_up}[piece.act]()
        block = np.frombuffer(piece.samples, dtype="<f4").reshape(-1, piece.channels)
        if piece.setting is not None:
            if piece.act == "begin":  # every check of one setting is the same
                self.stand_in = None
            block = self._stood_in(piece.setting, piece.frames)
        levels = self.session.feed(plain(block))
        return HeardPiece(levels=tuple(levels), state=self.session.state, left_s=self.session.left_s, read_s=self.session.read_s)

    def _stood_in(self, setting: Setting, frames: int) -> np.ndarray:
        """The stand-in as it is set now; it reads while sentences are wanted, and while it is only listened to."""
        if self.stand_in is None or setting != self.setting:
            self.stand_in, self.setting = StandIn(setting, sample_rate_hz=self.session.sample_rate_hz), setting
        return self.stand_in.room(frames) if self.session.state == "room" else self.stand_in.reading(frames)


_held: OrderedDict[str, _Held] = OrderedDict()
_known: OrderedDict[str, tuple[int, int, NDArray[np.float32]]] = OrderedDict()
_ready: list[bool] = []


def hear(piece: Piece) -> HeardPiece | Lost:
    """How loud a piece is, and where its session stands."""
    if piece.first:
        _held[piece.key] = _Held(piece)
    held = _held.pop(piece.key, None)
    if held is None:
        return Lost()
    _held[piece.key] = held
    while len(_held) > HELD:
        _held.popitem(last=False)
    return held.hear(piece)


def judge(asked: Asked) -> TakeCheck | Lost:
    """What a session comes to; it listens on. Raises CheckTooShort."""
    if asked.key not in _held:
        return Lost()
    session = _held[asked.key].session
    checked = session.checked()
    _known[asked.production] = session.sample_rate_hz, session.channels, session.heard()
    _known.move_to_end(asked.production)
    while len(_known) > KNOWN:
        _known.popitem(last=False)
    session.give_up()
    return take_check(checked, asked.specification, distance_cm=asked.distance_cm)


def known(production: str, *, sample_rate_hz: int, channels: int) -> NDArray[np.float32] | None:
    """The room and the sentences of the last take check of a production, shape (frames, channels), where it was of this kind."""
    rate, count, heard = _known.get(production, (0, 0, None))
    return heard if (rate, count) == (sample_rate_hz, channels) else None


def plain(block: NDArray[np.float32]) -> NDArray[np.float32]:
    """Samples as meters and steps can take them, whatever came."""
    return np.nan_to_num(block, nan=0.0, posinf=1.0, neginf=-1.0).clip(-4.0, 4.0)


def get_ready(asked: Ended) -> Ended:
    """Load all that listening and judging need."""
    if not _ready:
        silence = np.zeros((48_000, 1), dtype=np.float32)
        Session(sample_rate_hz=48_000, channels=1).feed(silence)
        measure_array(silence, sample_rate_hz=48_000)
        _ready.append(True)
    return asked


def forget(ended: Ended) -> Ended:
    """Let go of a session."""
    _held.pop(ended.key, None)
    return ended
