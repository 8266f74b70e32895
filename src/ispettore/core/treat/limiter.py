"""True-peak limiter: holds the waveform between the samples under a ceiling, and leaves everything below it alone.

The side chain interpolates sixteen times wherever the samples allow a peak above the ceiling. The gain each peak needs is held for
about a pitch period (a sliding minimum), released exponentially, and smoothed by a window as long as the look-ahead, so that it is
reached exactly when the peak arrives. Moving gain itself can lift a peak by a hair; two more passes see to that.

What it can't promise: meters of the standard's kind agree that the ceiling holds, but a voice that was clipped heavily has so much
at the very end of its band that ideal interpolation finds up to half a decibel more between its samples (docs/BENCHMARKS.md).
"""

from typing import ClassVar

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.kernels import kernel, larger
from ispettore.core.measure.true_peak import HALF_TAPS, TAPS, bow, interpolator
from ispettore.core.treat.step import Block, Context, Processor, Settings, about
from ispettore.core.treat.trace import Trace

# Each pass listens through another interpolator (the meter's own, one that reaches nearer to half the sample rate, one that is
# softer), as other people's true-peak meters differ there.
BETAS = (8.0, 2.0, 24.0)
HOLD_MS = 8.0
RELEASED = 1e-6


class TruePeakLimiter(Settings):
    """Hold true peaks under a ceiling. Channels are linked."""

    title: ClassVar[str] = "True-peak limiter"
    anywhere: ClassVar[bool] = True
    purpose: ClassVar[str] = "Hold the peaks."
    sentence: ClassVar[str] = "Hold true peaks under {ceiling_dbtp}"
    further: ClassVar[str] = "Look-ahead {look_ahead_ms}, release {release_ms}"
    ceiling_dbtp: float = Field(
        ge=-40, le=0, description="Ceiling", json_schema_extra=about("No true peak goes over it.", unit="dBTP")
    )
    look_ahead_ms: float = Field(
        3.0, ge=0.5, le=20, description="Look-ahead", json_schema_extra=about("How long before a peak it acts.", unit="ms")
    )
    release_ms: float = Field(
        60.0, ge=5, le=2_000, description="Release", json_schema_extra=about("How fast it lets go again.", unit="ms")
    )

    def meets_level(self) -> bool:
        return True

    def start(self, context: Context) -> "LimiterProcessor":
        return LimiterProcessor(context, self)


class LimiterProcessor(Processor):
    """Three passes in a row; the later ones with a shorter hold, as what they mend is rare and small."""

    def __init__(self, context: Context, settings: TruePeakLimiter) -> None:
        super().__init__(context)
        ceiling = 10 ** (settings.ceiling_dbtp / 20)
        # A twentieth of a hundredth of a decibel: room for rounding to float32.
        self._passes = [
            _Pass(
                context,
                ceiling * (1 - 2e-5),
                settings.look_ahead_ms,
                HOLD_MS if number == 0 else 1.0,
                settings.release_ms,
                beta,
            )
            for number, beta in enumerate(BETAS)
        ]

    def feed(self, block: Block) -> Block:
        for stage in self._passes:
            block = stage.feed(block)
        return block

    def finish(self) -> Block:
        parts = []
        for number, stage in enumerate(self._passes):
            rest = stage.finish()
            for later in self._passes[number + 1 :]:
                rest = later.feed(rest)
            parts.append(rest)
        return np.concatenate(parts)

    def reduction_db(self) -> NDArray[np.float32]:
        """Gain change in dB of each 5 ms cell, the passes together, shape (cells,)."""
        return np.asarray(sum(stage.trace.decibels() for stage in self._passes), dtype=np.float32)


class _Pass:
    """One pass. Latency: look-ahead and half the interpolator, compensated."""

    def __init__(
        self, context: Context, ceiling: float, look_ahead_ms: float, hold_ms: float, release_ms: float, beta: float
    ) -> None:
        rate = context.sample_rate_hz
        self._ceiling = ceiling
        self._taps, (self._per_bend, self._per_sample) = interpolator(beta), bow(beta)
        self._ahead = max(1, round(look_ahead_ms * rate / 1000))
        self._hold = max(1, round(hold_ms * rate / 1000))
        self._release = float(np.exp(-1000 / (release_ms * rate)))
        # The interpolator starts HALF_TAPS − 1 frames before the first that still lacks its needed gain; what goes out next lies a
        # look-ahead before that one.
        past = max(HALF_TAPS - 1, self._ahead)
        self._held = np.zeros((past, context.channels), dtype=np.float32)
        self._listens, self._leaves = past - (HALF_TAPS - 1), past - self._ahead
        self._needed = np.ones(self._hold + self._ahead)  # gains of past frames, for the hold
        self._released = np.ones(self._ahead)  # past of the smoothing window
        self._last = 1.0
        self._rests = True
        # The gain starts to move a look-ahead before the first frame: those frames are silence and are dropped.
        self._lead = self._ahead
        self.trace = Trace(sample_rate_hz=rate)

    def feed(self, block: Block) -> Block:
        self._held = np.concatenate((self._held, block))
        x = self._held[self._listens :]
        ready = len(x) - (TAPS - 1)
        return self._apply(self._gains(x, ready)) if ready > 0 else block[:0]

    def _gains(self, x: Block, frames: int) -> NDArray[np.float64]:
        if frames <= 0:
            return np.zeros(0)
        return _needed_gain(x, self._taps, self._per_bend, self._per_sample, self._ceiling, frames)

    def _apply(self, gains: NDArray[np.float64]) -> Block:
        """Advance by the frames whose needed gain is new; output those whose look-ahead is complete."""
        if self._rests and gains.min(initial=1.0) == 1.0:
            return self._passed(len(gains))
        needed = np.concatenate((self._needed, gains))
        span = self._hold + self._ahead
        count = len(gains)
        # Frame n is held by needed[n − hold … n + ahead].
        half = (span + 1) // 2
        lowest = scipy.ndimage.minimum_filter1d(needed, span + 1, mode="nearest")[half : half + count]
        released = _release(lowest, self._release, self._last)
        self._last = float(released[-1])
        self._needed = needed[count:]
        joined = np.concatenate((self._released, released))
        self._released = joined[len(joined) - self._ahead :]
        gain = _smooth(joined, self._ahead + 1)
        out = self._next(count) * gain[:, None].astype(np.float32)
        dropped = min(self._lead, count)
        self._lead -= dropped
        self.trace.feed(gain[dropped:])
        self._rests = self._last == 1.0 and bool((self._needed == 1.0).all() and (self._released == 1.0).all())
        return np.asarray(out[dropped:], dtype=np.float32)

    def _passed(self, count: int) -> Block:
        """So many frames while nothing is over the ceiling and nothing is being released: as they are."""
        out = self._next(count)
        dropped = min(self._lead, count)
        self._lead -= dropped
        self.trace.still(count - dropped)
        return out[dropped:]

    def _next(self, count: int) -> Block:
        out = self._held[self._leaves : self._leaves + count]
        self._held = self._held[count:]
        return out

    def finish(self) -> Block:
        x = self._held[self._listens :]
        joined = np.concatenate((x, np.zeros((HALF_TAPS, x.shape[1]), dtype=np.float32)))
        ready = len(joined) - (TAPS - 1)
        gains = self._gains(joined, ready)
        return self._apply(np.concatenate((gains, np.ones(self._ahead))))


def surrogate(peak: NDArray[np.floating], settings: TruePeakLimiter, *, gain_db: float = 0.0) -> NDArray[np.float32]:
    """What the limiter would do after a gain, from the largest |sample| of each 5 ms cell, shape (cells,): each cell's gain in dB,
    0 or below.

    The same hold and release on the coarse grid; no audio is touched. Good for deciding, never for proving.
    """
    # A peak anywhere in a cell is held for 8 ms and looked ahead to by 3: it lowers the cells on both sides.
    cells = 3 + round(HOLD_MS / 10)
    return _over_cells(
        np.asarray(peak, dtype=np.float32),
        10 ** ((settings.ceiling_dbtp - gain_db) / 20),
        cells // 2,
        cells - cells // 2,
        float(np.exp(-5.0 / settings.release_ms)),
    )


@kernel
def _over_cells(peak: NDArray[np.float32], ceiling: float, before: int, after: int, keep: float) -> NDArray[np.float32]:
    """Gain in dB of each cell: the largest peak from `before` cells earlier to one short of `after` later is brought to the
    ceiling, and the gain goes back to 1, which it reaches when it is a millionth short of it."""
    out = np.zeros(peak.size, np.float32)
    last = 1.0
    for n in range(peak.size):
        top = np.float32(0.0)
        for k in range(max(n - before, 0), min(n + after, peak.size)):
            top = larger(top, peak[k])
        back = 1.0 - (1.0 - last) * keep
        back = back if back < 1.0 - RELEASED else 1.0
        needed = ceiling / float(top) if top > ceiling else 1.0
        last = needed if needed < back else back
        if last < 1.0:
            out[n] = 20 * np.log10(last)
    return out


@kernel
def _needed_gain(
    x: NDArray[np.float32], taps: NDArray[np.float32], per_bend: float, per_sample: float, ceiling: float, frames: int
) -> NDArray[np.float64]:
    """Gain that brings each frame and the wave up to the next one under the ceiling: shape (frames,), 1 where nothing is over.

    x has shape (at least frames + 47, channels); frame n of the result is x[n + 23]. The hold that follows carries the gain on
    to the next frame, which bounds the same stretch of wave. Between two samples the wave leaves their line by at most `per_bend`
    times the largest second difference under the taps and `per_sample` times the larger of both (`bow` in the meter): only where
    that could pass the ceiling is anything interpolated.
    """
    width = taps.shape[1]
    lead = width // 2 - 1
    two = np.float32(2.0)
    gain = np.ones(frames)
    groups = (x.shape[0] + 15) // 16
    row = np.zeros(16 * groups + 2, np.float32)
    # The largest |sample| and second difference of each group of sixteen; the latter where it is asked for.
    highs, bends = np.empty(groups, np.float32), np.empty(groups, np.float32)
    near = (width + 15) // 16 + 1
    for c in range(x.shape[1]):
        for n in range(x.shape[0]):
            row[n] = x[n, c]
        for group in range(groups):
            part = row[16 * group : 16 * group + 16]
            top = np.float32(0.0)
            for i in range(16):
                top = larger(top, abs(part[i]))
            highs[group] = top
        bends[:] = np.float32(-1.0)
        for group in range((frames + 15) // 16):
            until = min(group + near, groups)
            high = np.float32(0.0)
            for k in range(group, until):
                high = max(high, highs[k])
            if high * (1.0 + per_sample + 4.0 * per_bend) <= ceiling:
                continue
            bend = np.float32(0.0)
            for k in range(group, until):
                if bends[k] < 0.0:
                    part = row[16 * k : 16 * k + 18]
                    top = np.float32(0.0)
                    for i in range(16):
                        top = larger(top, abs(part[i + 2] - two * part[i + 1] + part[i]))
                    bends[k] = top
                bend = max(bend, bends[k])
            leave = per_bend * bend
            if high * (1.0 + per_sample) + leave <= ceiling:
                continue
            for n in range(16 * group, min(16 * group + 16, frames)):
                top = abs(row[n + lead])
                if max(top, abs(row[n + lead + 1])) * (1.0 + per_sample) + leave <= ceiling:
                    continue
                line = row[n : n + width]
                for p in range(taps.shape[0]):
                    s = np.float32(0.0)
                    for k in range(width):
                        s += taps[p, k] * line[k]
                    top = max(top, abs(s))
                if top > ceiling:
                    gain[n] = min(gain[n], ceiling / top)
    return gain


@kernel
def _release(lowest: NDArray[np.float64], keep: float, last: float) -> NDArray[np.float64]:
    """The gain on its way back to 1, which it reaches when it is a millionth short of it."""
    out = np.empty(lowest.size)
    for n in range(lowest.size):
        back = 1.0 - (1.0 - last) * keep
        last = min(lowest[n], back if back < 1.0 - RELEASED else 1.0)
        out[n] = last
    return out


@kernel
def _smooth(joined: NDArray[np.float64], width: int) -> NDArray[np.float64]:
    """Mean over the last `width` values, weighted by a Hann window without its zeros; values of 1 throughout give exactly 1.

    What the values lack of 1 is summed as it runs: plainly, and turned by the window's cosine. The sums are taken anew every 4,096
    values, so that rounding does not gather.
    """
    angle = 2 * np.pi / (width + 1)
    turn_re, turn_im = np.cos(angle), np.sin(angle)
    last_re, last_im = np.cos(angle * width), np.sin(angle * width)
    scale = 1.0 / (width + 1)  # a half over the window's sum
    out = np.ones(joined.size - width + 1)
    low = 0  # index after the last value below 1
    plain, re, im = 0.0, 0.0, 0.0
    fresh = 0  # so many values from now the sums are taken anew
    for n in range(joined.size):
        if joined[n] < 1.0:
            low = n + 1
        first = n - width + 1
        if first < 0:
            continue
        if low <= first:
            fresh = 0
            continue
        if fresh == 0:
            plain, re, im = 0.0, 0.0, 0.0
            for k in range(width):
                lacks = 1.0 - joined[first + k]
                if lacks > 0.0:
                    plain += lacks
                    re += lacks * np.cos(angle * (k + 1))
                    im += lacks * np.sin(angle * (k + 1))
            fresh = 4_096
        else:
            lacks, gone = 1.0 - joined[n], 1.0 - joined[first - 1]
            plain += lacks - gone
            re, im = turn_re * re + turn_im * im - gone + last_re * lacks, turn_re * im - turn_im * re + last_im * lacks
            fresh -= 1
        out[first] = min(1.0 - scale * (plain - re), 1.0)
    return out
