"""A stretch of a sound over and over, joined where its end and its beginning are most alike."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.audio.crossing import crossed
from ispettore.core.audio.reading import Block
from ispettore.core.audio.writing import Samples
from ispettore.core.edit.reading import padded

FADE_S = 0.05
SEARCH_S = 0.04
"""So much earlier than asked for a stretch may end to join cleanly: less than anybody hears of a rhythm."""


@dataclass(frozen=True)
class Loop:
    """A stretch from frame `first` on that comes back every `period` frames; the first `fade` of each turn but the first are laid
    over what follows the turn before it."""

    first: int
    period: int
    fade: int


def found(samples: Samples, first: int, last: int, *, sample_rate_hz: int) -> Loop:
    """Where a stretch from `first` up to `last` loops best: its end is moved back by up to `SEARCH_S`, to where what is laid over
    one another has the largest correlation coefficient; the latest of equals. The fade is at most a quarter of the stretch."""
    length = last - first
    fade = max(min(round(FADE_S * sample_rate_hz), length // 4), 1)
    most = min(round(SEARCH_S * sample_rate_hz), length // 4)
    begins = _mono(samples(first, fade))
    ends = _mono(samples(last - fade - most, fade + most))
    alike = scipy.signal.correlate(ends, begins, mode="valid")
    total = np.concatenate(([0.0], np.cumsum(ends * ends)))
    power = (total[fade:] - total[:-fade]) * float((begins * begins).sum())
    part = np.divide(alike, np.sqrt(power), out=np.zeros_like(alike), where=power > 1e-20)
    back = int(np.argmax(np.round(part[::-1], 6)))
    return Loop(first, length - fade - back, fade)


def looped(samples: Samples, loop: Loop) -> Samples:
    """The stretch without an end, from its beginning on."""
    join: Block | None = None

    def read(start: int, frames: int) -> Block:
        nonlocal join
        pieces, at = [], start
        if join is None:
            join = crossed(padded(samples, loop.first + loop.period, loop.fade), padded(samples, loop.first, loop.fade))
        while at < start + frames:
            turn, inside = divmod(at, loop.period)
            if turn and inside < loop.fade:
                piece = join[inside : inside + start + frames - at]
            else:
                last = min(loop.period, inside + start + frames - at)
                piece = padded(samples, loop.first + inside, last - inside)
            pieces.append(piece)
            at += len(piece)
        return np.concatenate(pieces) if pieces else samples(loop.first, 0)

    return read


def _mono(block: Block) -> NDArray[np.float64]:
    return np.asarray(block.astype(np.float64).mean(axis=1))
