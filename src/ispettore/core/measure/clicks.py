"""Clicks: moments at which the wave does what nothing around leads up to.

Two looks. The first is quick: the largest second difference in a millisecond, taken over 1/44,100 s at every rate so that a wave
reads alike at all of them, against the largest within 15 ms on either side. Where it stands out at all, the second look takes the
voice away: linear prediction, learned from what lies 2 to 25 ms before and after, leaves a residual in which vowels are small, and
a filter matched to what an impulse leaves there gathers all of a click in one place (S. V. Vaseghi, "Advanced Digital Signal
Processing and Noise Reduction", chapter on impulsive noise). Its largest value is held against the largest from 2 to 16 ms before
and after, so the next pulse of the glottis and a consonant's noise speak for themselves; and the smaller an impulse beside the
voice, the further it has to stand out. All are ratios: no gain changes what is found.
"""

from collections.abc import Iterable

import numpy as np
import scipy
from numpy.typing import NDArray

from ispettore.core.kernels import kernel, larger
from ispettore.core.measure import decibels
from ispettore.core.measure.cells import Milliseconds
from ispettore.core.measure.grid import Seconds, Series
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.marks import outside_marks
from ispettore.core.measure.reading import Finding, merged

AROUND_MS, NEAR_MS = 15, 2
KEPT_MS = 60
FIRST_LOOK_DB = 1.5
OUT_DB = 6.0
SMALLER_COUNTS, SMALLEST_DB = 0.5, -45.0
"""The second look must come to `OUT_DB` and to half of what the impulse lies under the voice: under its level in the whole file or
in the 50 ms around, whichever is higher."""

EITHER_DB = 3.0
"""It must stand out by so much also where only what came before is learned from, and where only what comes after is: hiss that sets
in at once is told by the one and no click."""

QUIET_DB = 30.0
"""Where the 50 ms around lie further under the voice no voice hides a click: by twice what they do, less is taken for its level."""

OCTAVE_DB = 4.4  # more is asked of rates under 44.1 kHz, where a voice fills the band: so much for each octave

LEAST_STEPS = 6.0  # of the file's own samples: less may be rounding
LEAST_OF_VOICE = 0.02  # of the active speech level as an amplitude
WINDOW_S, APART_S, LONGEST_ORDER = 0.025, 0.002, 32
PIECES, USUAL = 10, 7
JOIN_S = 0.02
AT_CEILING_DB, CREST = 0.1, 10.0
"""A sample so near the level of clipping is one of those that were cut, unless it stands alone: so many times the level around."""


class SecondLook:
    """How far moments of a wave stand out of what is around them, once what leads up to them is taken away."""

    def __init__(self, sample_rate_hz: int) -> None:
        self._rate = sample_rate_hz
        self.stride = max(1, round(sample_rate_hz / 44_100))
        rate = sample_rate_hz / self.stride
        self._out_db = OUT_DB + OCTAVE_DB * max(np.log2(44_100 / rate), 0)
        self._order = int(min(LONGEST_ORDER, 4 * np.ceil(rate / 4_000)))
        reach, apart = round(WINDOW_S * rate), round(APART_S * rate)
        bell, gap = np.hanning(reach - apart + 3)[1:-1], np.zeros(2 * apart - 1)
        # A bell on either side that leaves out what is near, so that a click does not learn to predict itself.
        self._both, self._before, self._after = (
            np.concatenate((bell * before, gap, bell * after)).astype(np.float32) for before, after in ((1, 1), (1, 0), (0, 1))
        )

    def at(self, samples: NDArray[np.float32], channels: NDArray[np.int64], middles: NDArray[np.int64]) -> NDArray[np.float64]:
        """Near each of some `middles` of samples of shape (channels, frames): how far it stands out in dB, no more than 0 where one
        side's prediction knows it; as amplitudes the impulse that it would be, the level around and the largest sample near; and
        its frame. Shape (5, middles)."""
        around = _around_each(samples, channels, middles, self.stride, self._both.size)
        found = self._predicted(around, self._both)
        told = found[0] > self.asked_db(found[1], found[2])
        for side in (self._before, self._after):
            told[told] = self._predicted(around[told], side)[0] > EITHER_DB
        found[0, ~told] = np.minimum(found[0, ~told], 0.0)
        found[4] = middles + self.stride * found[4]
        return found

    def _predicted(self, around: NDArray[np.float32], window: NDArray[np.float32]) -> NDArray[np.float64]:
        return _standing_out(around, _predicting(around, window, self._order), self._rate / (1_000 * self.stride))

    def asked_db(self, impulse: NDArray[np.float64], around: NDArray[np.float64], voice: float = 0.0) -> NDArray[np.float64]:
        """How far impulses of so large an amplitude have to stand out where the level around them is this and that of the whole
        file's voice is `voice`."""
        level = np.maximum(around, voice * np.minimum(around * 10 ** (QUIET_DB / 20) / max(voice, 1e-12), 1) ** 2)
        under_db = np.clip(20 * np.log10(np.maximum(impulse, 1e-12) / np.maximum(level, 1e-12)), SMALLEST_DB, 0)
        return np.asarray(self._out_db - SMALLER_COUNTS * under_db)

    def most(self, wave: NDArray[np.floating], first: int, last: int, *, voice: float) -> tuple[float, int]:
        """By how many dB whatever stands out most between two frames of one channel does so beyond what is asked of a click, and
        where it is highest; shape (frames,)."""
        middles = np.arange(first, last, max(self._rate // 2_000, 1))
        samples = np.asarray(wave, dtype=np.float32)[None]
        out_db, impulse, around, _, where = self.at(samples, np.zeros(middles.size, dtype=np.int64), middles)
        beyond_db = out_db - self.asked_db(impulse, around, voice)
        most = int(np.argmax(beyond_db))
        return float(beyond_db[most]), int(where[most])


class Clicks:
    """Feed seconds with their milliseconds, then `findings()`; `bit_depth` is that of the file's samples, None where it has
    none."""

    def __init__(self, *, sample_rate_hz: int, channels: int, bit_depth: int | None = None) -> None:
        self._rate = sample_rate_hz
        self._second_look = SecondLook(sample_rate_hz)
        self._stride = self._second_look.stride
        self._least = np.float32(LEAST_STEPS * 2.0 ** (1 - min(bit_depth or 24, 24)))
        self._bend = np.zeros((channels, 0), dtype=np.float32)
        self._seen = 0
        # Rows: millisecond (whole part and thousands apart, to stay exact), channel, bend, how far it stands out in dB, the
        # impulse's amplitude, the level around and the largest sample near as amplitudes.
        self._found = Series(8)

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
                self._look_again(sound, channels, middles, at + first, bend[channels, at])
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
    ) -> None:
        """`middles` are samples of `sound`, `place` the millisecond of each in the file."""
        out_db, impulse, around, top, _ = self._second_look.at(sound.looked_at, channels, middles)
        kept = out_db > self._second_look.asked_db(impulse, around)
        if kept.any():
            found = np.stack((place // 1_000, place % 1_000, channels + 1, bend, out_db, impulse, around, top))[:, kept]
            for channel in range(len(sound.samples) // sound.distinct):
                self._found.append(found + np.array([[0], [0], [channel], [0], [0], [0], [0], [0]]))

    def read(self, heard: Heard) -> Read:
        voice = 0.0 if heard.voice_dbfs is None else decibels.to_amplitude(heard.voice_dbfs)
        gaps = [finding for finding in heard.findings if finding.kind in ("dropout", "repeated-buffer")]
        cut = [finding for finding in heard.findings if finding.kind == "clipping"]
        known = [
            *((None, edge, edge) for gap in gaps for edge in (gap.start_s, gap.end_s)),
            *((each.channel, each.start_s, each.end_s) for each in cut),
        ]
        found = self.findings(voice=voice, ceilings=[(each.channel, each.measure) for each in cut])
        return (), [
            click
            for click in outside_marks(found, heard.findings)
            if not any(of in (None, click.channel) and start - JOIN_S < click.start_s < end + JOIN_S for of, start, end in known)
        ]

    def findings(self, *, voice: float = 0.0, ceilings: Iterable[tuple[int | None, float | None]] = ()) -> list[Finding]:
        """Each click and how far it stands out in dB; `voice` is the active speech level as an amplitude, 0 where nobody speaks.

        `ceilings` are channels and levels in dBFS at which the wave is cut: a sample that is cut there is none.
        """
        found = self._found.whole().astype(np.float64)
        _, _, channel, bend, out_db, impulse, around, top = found
        told = (bend >= LEAST_OF_VOICE * voice) & (out_db > self._second_look.asked_db(impulse, around, voice))
        for cut, ceiling_dbfs in set(ceilings):
            if ceiling_dbfs is not None:
                at_it = (np.abs(20 * np.log10(top + 1e-12) - ceiling_dbfs) <= AT_CEILING_DB) & (top < CREST * around)
                told &= ~at_it | ((channel != cut) & (cut is not None))
        each = [
            Finding(kind="click", start_s=second + ms / 1_000, end_s=second + (ms + 1) / 1_000, channel=int(of), measure=out,
                    unit="dB", severity="warning")
            for second, ms, of, _, out, *_ in found[:, told].T.tolist()
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
def _around_each(
    samples: NDArray[np.float32], channels: NDArray[np.int64], middles: NDArray[np.int64], stride: int, size: int
) -> NDArray[np.float32]:
    """Every `stride`-th sample around each middle, 0 beyond the ends, shape (middles, size)."""
    out = np.zeros((middles.size, size), dtype=np.float32)
    for n in range(middles.size):
        row = samples[channels[n]]
        begin = middles[n] - size // 2 * stride
        for i in range(size):
            k = begin + i * stride
            if 0 <= k < row.size:
                out[n, i] = row[k]
    return out


@kernel
def _predicting(around: NDArray[np.float32], window: NDArray[np.float32], order: int) -> NDArray[np.float32]:
    """Prediction's coefficients, the first of them 1, shape (middles, order + 1): from what is around each middle, and how much of
    it counts."""
    out = np.empty((len(around), order + 1), dtype=np.float32)
    shaped = np.zeros(window.size + order, dtype=np.float32)  # zeros behind, so that all lags are as long
    r = np.empty(order + 1)
    a = np.empty(order + 1)
    held = np.empty(order + 1)
    for n in range(len(around)):
        square = np.float32(0.0)
        for i in range(window.size):
            shaped[i] = window[i] * around[n, i]
            square += shaped[i] * shaped[i]
        r[0] = square
        for lag in range(1, order + 1, 4):
            p, q, s, t = np.float32(0.0), np.float32(0.0), np.float32(0.0), np.float32(0.0)
            one, two, three, four = shaped[lag:], shaped[lag + 1 :], shaped[lag + 2 :], shaped[lag + 3 :]
            for i in range(window.size):
                p += one[i] * shaped[i]
                q += two[i] * shaped[i]
                s += three[i] * shaped[i]
                t += four[i] * shaped[i]
            r[lag], r[lag + 1], r[lag + 2], r[lag + 3] = p, q, s, t
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
        out[n] = a
    return out


@kernel
def _standing_out(around: NDArray[np.float32], coefficients: NDArray[np.float32], ms: float) -> NDArray[np.float64]:
    """How far the matched residual near each middle stands above that around it, in dB; as amplitudes the impulse that it would be,
    the level around (of the third loudest of ten pieces: the click's own does not count) and the largest sample near; and how many
    samples after the middle it is highest. Shape (5, middles)."""
    size = around.shape[1]
    out = np.zeros((5, len(around)))
    order = coefficients.shape[1] - 1
    half = size // 2
    left = np.empty(size, dtype=np.float32)
    matched = np.empty(size, dtype=np.float32)
    squares = np.empty(PIECES)
    away, reach, near = int(2 * ms), int(16 * ms), int(1.5 * ms)
    first, last = half - near - reach, half + near + reach + 1
    for n in range(len(around)):
        part = around[n]
        left[:] = part
        for i in range(1, order + 1, 4):  # four at a time: what is summed is fetched and put back a quarter as often
            a, b, c, d = coefficients[n, i], coefficients[n, i + 1], coefficients[n, i + 2], coefficients[n, i + 3]
            wanted = left[first : last + order]
            one, two, three, four = part[first - i :], part[first - i - 1 :], part[first - i - 2 :], part[first - i - 3 :]
            for k in range(wanted.size):
                wanted[k] += a * one[k] + b * two[k] + c * three[k] + d * four[k]
        matched[:] = left
        gathered = np.float32(1.0)
        for i in range(1, order + 1, 4):
            a, b, c, d = coefficients[n, i], coefficients[n, i + 1], coefficients[n, i + 2], coefficients[n, i + 3]
            gathered += a * a + b * b + c * c + d * d
            wanted = matched[first:last]
            one, two, three, four = left[first + i :], left[first + i + 1 :], left[first + i + 2 :], left[first + i + 3 :]
            for k in range(wanted.size):
                wanted[k] += a * one[k] + b * two[k] + c * three[k] + d * four[k]
        top = np.float32(0.0)
        where = half
        for i in range(half - near, half + near + 1):
            out[3, n] = max(out[3, n], abs(part[i]))
            if abs(matched[i]) > top:
                top = abs(matched[i])
                where = i
        other = np.float32(0.0)
        for i in range(where - reach, where - away):
            other = max(other, abs(matched[i]))
        for i in range(where + away, where + reach):
            other = max(other, abs(matched[i]))
        out[0, n] = 20 * np.log10((top + 1e-12) / (other + 1e-9))
        out[1, n] = top / gathered
        out[4, n] = where - half
        length = size // PIECES
        for piece in range(PIECES):
            square = np.float32(0.0)
            for i in range(piece * length, (piece + 1) * length):
                square += part[i] * part[i]
            squares[piece] = square / length
        out[2, n] = np.sqrt(np.sort(squares)[USUAL])
    return out
