"""Clicks: moments at which the wave does what nothing around leads up to.

Two looks. The first is quick: the largest second difference in a millisecond, taken over 1/44,100 s at every rate so that a wave
reads alike at all of them, against the largest within 15 ms on either side. Where it stands out a little, the second look takes the
voice away: linear prediction from the 50 ms around leaves a residual in which a click stands out and vowels do not (S. V. Vaseghi,
"Advanced Digital Signal Processing and Noise Reduction", chapter on impulsive noise); its largest value is held against the largest
from 2 to 16 ms before and after, so the next pulse of the glottis and a consonant's noise speak for themselves. Both looks are
ratios, and what is too faint is judged against the voice: no gain changes what is found.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.kernels import kernel, larger
from ispettore.core.measure.cells import Milliseconds
from ispettore.core.measure.grid import Seconds, Series
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.marks import outside_marks
from ispettore.core.measure.reading import Finding, merged

AROUND_MS, NEAR_MS = 15, 2
KEPT_MS = 60
FIRST_LOOK_DB = 4.0
SCORE_DB, FIRST_COUNTS, FIRST_AT_MOST_DB = 15.5, 0.35, 25.0
"""The second look and 0.35 of the first, no more than 25 dB of it, must come to so much."""

LOW_RATE_DB = 2.0  # more is asked of rates under 44.1 kHz, where a voice fills the band: so much at half of it

LEAST_STEPS = 6.0  # of the file's own samples: less may be rounding
LEAST_OF_VOICE = 0.02  # of the active speech level as an amplitude
WINDOW_S, LONGEST_ORDER = 0.025, 32
JOIN_S = 0.02


class Clicks:
    """Feed seconds with their milliseconds, then `findings()`; `bit_depth` is that of the file's samples, None where it has
    none."""

    def __init__(self, *, sample_rate_hz: int, channels: int, bit_depth: int | None = None) -> None:
        self._rate = sample_rate_hz
        self._stride = max(1, round(sample_rate_hz / 44_100))
        self._least = np.float32(LEAST_STEPS * 2.0 ** (1 - min(bit_depth or 24, 24)))
        rate = sample_rate_hz / self._stride
        self._score = SCORE_DB + LOW_RATE_DB * max(44_100 / rate - 1, 0)
        self._order = int(min(LONGEST_ORDER, 2 + rate // 1_500))
        self._window = np.hanning(2 * round(WINDOW_S * rate) + 1).astype(np.float32)
        self._bend = np.zeros((channels, 0), dtype=np.float32)
        self._seen = 0
        # Rows: millisecond (whole part and thousands apart, to stay exact), sharpness in dB, channel, bend.
        self._found = Series(5)

    def feed(self, sound: Seconds, milliseconds: Milliseconds) -> None:
        """Take in seconds; their last 30 ms are looked at with what follows."""
        fresh = self._snaps(sound, milliseconds)
        before = self._bend.shape[1]
        first = self._seen - before
        self._bend = np.concatenate((self._bend, fresh), axis=1)
        self._seen += fresh.shape[1]
        last = self._bend.shape[1] - KEPT_MS // 2
        start = KEPT_MS // 2 if first else AROUND_MS
        if last > start:
            bend = self._bend[: sound.distinct]
            around = _around(bend)
            standing = (bend > self._least) & (bend > 10 ** (FIRST_LOOK_DB / 20) * around)
            standing[:, :start] = False
            standing[:, last:] = False
            channels, at = np.nonzero(standing)
            if at.size:
                middles = sound.past + ((2 * (at - before) + 1) * self._rate) // 2_000
                self._look_again(sound, channels, middles, at + first, bend[channels, at], around[channels, at])
        self._bend = self._bend[:, -KEPT_MS:].copy()

    def _snaps(self, sound: Seconds, milliseconds: Milliseconds) -> NDArray[np.float32]:
        if self._stride == 1:
            return milliseconds.bend
        return sound.of_all(_strided_bends(sound.looked_at, sound.past, milliseconds.edges, self._stride))

    def _look_again(
        self,
        sound: Seconds,
        channels: NDArray[np.int64],
        middles: NDArray[np.int64],
        place: NDArray[np.int64],
        bend: NDArray[np.float32],
        around: NDArray[np.float32],
    ) -> None:
        """`middles` are samples of `sound`, `place` the millisecond of each in the file."""
        stands_out = _stands_out(sound.looked_at, channels, middles, self._stride, self._window, self._order, self._rate / 1_000)
        ratio = 20 * np.log10(bend / np.maximum(around, 1e-7))
        kept = stands_out + FIRST_COUNTS * np.minimum(ratio, FIRST_AT_MOST_DB) > self._score
        if kept.any():
            rows = (place // 1_000, place % 1_000, np.maximum(stands_out, ratio), channels + 1, bend)
            found = np.stack(rows)[:, kept]
            for channel in range(len(sound.samples) // sound.distinct):
                self._found.append(found + np.array([[0], [0], [0], [channel], [0]]))

    def read(self, heard: Heard) -> Read:
        voice_dbfs = heard.voice_dbfs
        least = 0.0 if voice_dbfs is None else LEAST_OF_VOICE * 10 ** (voice_dbfs / 20)
        gaps = [finding for finding in heard.findings if finding.kind in ("dropout", "repeated-buffer")]
        edges = np.array([edge for gap in gaps for edge in (gap.start_s, gap.end_s)])
        found = outside_marks(self.findings(least=least), heard.findings)
        return (), [click for click in found if not np.any(np.abs(edges - click.start_s) < JOIN_S)]

    def findings(self, *, least: float = 0.0) -> list[Finding]:
        """Each click with its sharpness over what is around it in dB; none that bend less than `least`, an amplitude."""
        each = [
            Finding(kind="click", start_s=second + ms / 1_000, end_s=second + (ms + 1) / 1_000, channel=int(channel), measure=ratio,
                    unit="dB", severity="warning")
            for second, ms, ratio, channel, bend in self._found.whole().T.astype(np.float64).tolist() if bend >= least
        ]  # fmt: skip
        return merged(each, within_s=JOIN_S)


def _around(bend: NDArray[np.float32]) -> NDArray[np.float32]:
    """The largest bend from 2 to 15 ms before or after each millisecond."""
    size = AROUND_MS - NEAR_MS + 1
    left, right = np.zeros_like(bend), np.zeros_like(bend)
    highest = scipy.ndimage.maximum_filter1d(
        bend, size, axis=1, mode="nearest", origin=-(size // 2)
    )  # from here to `size` − 1 later
    right[:, : bend.shape[1] - NEAR_MS] = highest[:, NEAR_MS:]
    left[:, AROUND_MS:] = highest[:, : bend.shape[1] - AROUND_MS]
    return np.maximum(left, right)


@kernel
def _strided_bends(samples: NDArray[np.float32], past: int, edges: NDArray[np.int64], stride: int) -> NDArray[np.float32]:
    """The largest |x[i] − 2·x[i − s] + x[i − 2s]| in each millisecond, shape (channels, milliseconds)."""
    out = np.zeros((samples.shape[0], edges.size - 1), dtype=np.float32)
    two = np.float32(2.0)
    for c in range(samples.shape[0]):
        for k in range(edges.size - 1):
            first = max(past + edges[k] - 2 * stride, 0)
            part = samples[c, first : past + edges[k + 1]]
            sharpest = np.float32(0.0)
            for i in range(part.size - 2 * stride):
                sharpest = larger(sharpest, abs(part[i + 2 * stride] - two * part[i + stride] + part[i]))
            out[c, k] = sharpest
    return out


@kernel
def _stands_out(
    samples: NDArray[np.float32],
    channels: NDArray[np.int64],
    middles: NDArray[np.int64],
    stride: int,
    window: NDArray[np.float32],
    order: int,
    per_ms: float,
) -> NDArray[np.float64]:
    """How far the prediction's residual near each middle stands above that around it, in dB; every `stride`-th sample is used."""
    out = np.full(middles.size, -99.0)
    size = window.size
    half = size // 2
    part = np.empty(size, dtype=np.float32)
    shaped = np.empty(size, dtype=np.float32)
    left = np.empty(size, dtype=np.float32)
    r = np.empty(order + 1)
    a = np.empty(order + 1)
    held = np.empty(order + 1)
    ms = per_ms / stride
    for n in range(middles.size):
        row = samples[channels[n]]
        begin = middles[n] - half * stride
        for i in range(size):
            k = begin + i * stride
            part[i] = row[k] if 0 <= k < row.size else np.float32(0.0)
            shaped[i] = part[i] * window[i]
        for lag in range(order + 1):
            near = shaped[lag:]
            s = np.float32(0.0)
            for i in range(near.size):
                s += near[i] * shaped[i]
            r[lag] = s
        r[0] = r[0] * (1 + 1e-5) + 1e-15
        # Levinson and Durbin's recursion.
        error = r[0]
        a[0] = 1.0
        for m in range(1, order + 1):
            against = r[m]
            for i in range(1, m):
                against += a[i] * r[m - i]
            reflection = -against / error
            held[:m] = a[:m]
            for i in range(1, m):
                a[i] = held[i] + reflection * held[m - i]
            a[m] = reflection
            error *= 1 - reflection * reflection
            if error <= 0:
                error = 1e-30
        left[:] = part
        for i in range(1, order + 1):
            weight = np.float32(a[i])
            later = left[i:]
            earlier = part[: size - i]
            for k in range(later.size):
                later[k] += weight * earlier[k]
        first = int(half - 1.5 * ms)
        top = np.float32(0.0)
        where = first
        for i in range(first, int(half + 1.5 * ms) + 1):
            if abs(left[i]) > top:
                top = abs(left[i])
                where = i
        away = int(2 * ms)
        reach = int(16 * ms)
        other = np.float32(0.0)
        for i in range(max(order, where - reach), where - away):
            other = max(other, abs(left[i]))
        for i in range(where + away, min(size, where + reach)):
            other = max(other, abs(left[i]))
        out[n] = 20 * np.log10((top + 1e-12) / (other + 1e-9))
    return out
