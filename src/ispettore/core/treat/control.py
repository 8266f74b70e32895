"""Gain that moves slower than sound: worked out a few times a millisecond and drawn in straight lines between.

A detector that holds the level over a pitch period changes slowly, so looking at it for every sample only costs. Time runs in ticks
of about 0.36 ms, counted from the start of the file, whatever the size of blocks.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.kernels import kernel, larger
from ispettore.core.treat.fir import Delay
from ispettore.core.treat.step import Block, Context, Processor
from ispettore.core.treat.trace import Trace

TICK_S = 16 / 44_100


def tick_frames(sample_rate_hz: int) -> int:
    """Frames of a tick: 16 at 44.1 kHz.

    >>> tick_frames(44_100), tick_frames(8_000)
    (16, 3)
    """
    return max(1, round(TICK_S * sample_rate_hz))


class TickedProcessor(Processor):
    """A step whose gain follows a held level: give `factors` from the levels of ticks. Latency: hold and look-ahead, compensated.

    The level is the largest |sample| within `hold_ms` to each side, or with `squares` the mean square there.
    """

    def __init__(self, context: Context, *, hold_ms: float, ahead_ms: float, squares: bool = False) -> None:
        super().__init__(context)
        rate = context.sample_rate_hz
        self._tick, self._squares = tick_frames(rate), squares
        self._hold = max(1, round(hold_ms / 1000 * rate / self._tick))
        self._ahead = round(ahead_ms / 1000 * rate / self._tick)
        self._levels = np.zeros(self._hold)  # before the file there is silence
        self._factors = np.zeros(0)
        self._lead = self._ahead  # factors that belong to moments before the file
        self._sound = Delay(context.channels)
        self._seen = self._given = self._levelled = 0
        self.trace = Trace(sample_rate_hz=rate)

    def factors(self, levels: NDArray[np.float64]) -> NDArray[np.float64]:
        """The factor at the start of each tick from its held level (amplitude, or power with `squares`), shape (ticks,) each."""
        raise NotImplementedError

    def moved(self, factors: NDArray[np.float64]) -> NDArray[np.float64]:
        """What of the factors counts as gain that moved, for the trace."""
        return factors

    def feed(self, block: Block) -> Block:
        if len(block) == 0:
            return block
        self._seen += len(block)
        self._sound.put(block)
        return self._advance()

    def finish(self) -> Block:
        silence = np.zeros(((self._hold + self._ahead + 3) * self._tick, self.channels), dtype=np.float32)
        self._sound.put(silence)
        before = self._given
        return self._advance()[: self._seen - before]

    def _advance(self) -> Block:
        fresh = tick_levels(self._sound.beyond(self._levelled - self._given), self._tick, self._squares)
        self._levelled += len(fresh) * self._tick
        levels = np.concatenate((self._levels, fresh))
        width = 2 * self._hold + 1
        count = len(levels) - width + 1
        if count <= 0:
            self._levels = levels
            return np.zeros((0, self.channels), dtype=np.float32)
        if self._squares:
            held = np.lib.stride_tricks.sliding_window_view(levels, width).mean(axis=1)
        else:
            held = scipy.ndimage.maximum_filter1d(levels, width, mode="nearest")[self._hold : self._hold + count]
        self._levels = levels[count:]
        factors = self.factors(held)
        dropped = min(self._lead, len(factors))
        self._lead -= dropped
        self._factors = np.concatenate((self._factors, factors[dropped:]))
        ticks = len(self._factors) - 1
        if ticks <= 0:
            return np.zeros((0, self.channels), dtype=np.float32)
        sound = self._sound.take(ticks * self._tick)
        out = apply_lines(np.ascontiguousarray(sound), self._factors[: ticks + 1], self._tick)
        gain = self.moved(self._factors[: ticks + 1])
        self.trace.ticks(np.minimum(gain[:-1], gain[1:]), self._tick)
        self._factors = self._factors[ticks:]
        self._given += len(out)
        return out

    def reduction_db(self) -> NDArray[np.float32]:
        cells = -(-self._seen * 200 // self.sample_rate_hz)
        return np.asarray(self.trace.decibels()[:cells], dtype=np.float32)


@kernel
def tick_levels(x: NDArray[np.float32], frames: int, squares: bool) -> NDArray[np.float64]:
    """Of each whole tick of x, shape (frames, channels): the largest |sample|, or the mean of the squares, shape (ticks,)."""
    together = frames * x.shape[1]
    flat = x.reshape(x.size)
    out = np.empty(x.shape[0] // frames)
    for n in range(out.size):
        part = flat[n * together : (n + 1) * together]
        if squares:
            s = 0.0
            for i in range(together):
                s += np.float64(part[i]) * part[i]
            out[n] = s / together
        else:
            top = np.float32(0.0)
            for i in range(together):
                top = larger(top, abs(part[i]))
            out[n] = top
    return out


@kernel
def apply_lines(x: NDArray[np.float32], gain: NDArray[np.float64], frames: int) -> NDArray[np.float32]:
    """x, shape (frames, channels), times a factor in straight lines from gain[n] at the start of tick n to gain[n + 1]."""
    channels = x.shape[1]
    together = frames * channels
    out = np.empty_like(x)
    flat, into = x.reshape(x.size), out.reshape(x.size)
    for n in range((x.shape[0] + frames - 1) // frames):
        first, step = np.float32(gain[n]), np.float32((gain[n + 1] - gain[n]) / frames)
        part, result = flat[n * together : (n + 1) * together], into[n * together : (n + 1) * together]
        if first == 1.0 and step == 0.0:
            for i in range(part.size):
                result[i] = part[i]
        elif channels == 1:
            for i in range(part.size):
                result[i] = part[i] * (first + step * np.float32(i))
        else:
            for i in range(part.size):
                result[i] = part[i] * (first + step * np.float32(i // channels))
    return out


@kernel
def ballistics(target: NDArray[np.float64], attack: float, release: float, last: float) -> tuple[NDArray[np.float64], float]:
    """Smooth branching in dB: towards more reduction by the attack, back by the release."""
    out = np.empty(target.size)
    for n in range(target.size):
        keep = attack if target[n] < last else release
        last = keep * last + (1 - keep) * target[n]
        out[n] = last
    return out, last


@kernel
def resting(
    target: NDArray[np.float64], rest: NDArray[np.float64], rest_db: float, attack: float, release: float, last: float, asleep: bool
) -> tuple[NDArray[np.float64], float, bool]:
    """As `ballistics`, but to `rest_db` by the release where `rest` is 1 (to a part where it is less), and from there back by the
    attack, so that no consonant is late."""
    out = np.empty(target.size)
    for n in range(target.size):
        wanted = target[n] + (rest_db - target[n]) * rest[n]
        if rest[n] > 0:
            keep = release
            asleep = True
        else:
            asleep = asleep and wanted > last + 0.1
            keep = attack if asleep or wanted < last else release
        last = keep * last + (1 - keep) * wanted
        out[n] = last
    return out, last, asleep
