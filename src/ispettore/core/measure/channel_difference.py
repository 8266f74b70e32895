"""How the channels differ, and what a listener in mono loses by it: from the products of the channels, a second at a time.

`channel_correlation`, `mono_loss_db`: of the two channels, or of what more of them come to on two loudspeakers.
"""

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ispettore.core.audio.layout import downmix
from ispettore.core.measure.cells import Cells, Milliseconds
from ispettore.core.measure.grid import CELLS_PER_SECOND, Seconds, Series, runs
from ispettore.core.measure.heard import Heard, Read
from ispettore.core.measure.reading import Finding, FindingKind, Reading, Severity
from ispettore.core.measure.speech import Passages

Relation = Literal["one", "identical", "silent", "inverted", "different"]
ALIKE_DB = -50.0
SILENT_AMPLITUDE = 10 ** (-90 / 20)
DEAD_DB = -30.0  # under the other of two channels, while there is speech: noise of an input, and what comes over from the other
OPPOSITE = -0.5
WINDOW_S = 3
GREATEST_LOSS_DB = 60.0

Products = NDArray[np.float64]
"""Mean products of the channels' samples, their means taken off, shape (seconds, channels, channels)."""


class ChannelDifference:
    """Feed seconds; every channel is compared with the first one that sounds."""

    def __init__(self, *, sample_rate_hz: int, channels: int) -> None:
        self._rate, self._channels = sample_rate_hz, channels
        self._kept = Series(channels * channels + channels + 1)
        self.relation: Relation = "one"
        """The relation as a fact of the file, once it was read."""

    def feed(self, sound: Seconds, _milliseconds: Milliseconds) -> None:
        """Take in shape (channels, frames)."""
        if self._channels == 1:
            return
        for start in range(0, sound.frames, self._rate):
            second = sound.fresh[:, start : start + self._rate]
            frames = second.shape[1]
            looked_at = second[: sound.distinct]
            products = sound.of_all(sound.of_all(np.inner(looked_at, looked_at) / frames), axis=1)
            means = sound.of_all(looked_at.mean(axis=1))
            self._kept.append(np.concatenate((products.ravel(), means, [frames]))[:, None])

    def read(self, heard: Heard) -> Read:
        if self._channels == 1:
            return _of_one(heard.duration_s), ()
        kept, n = self._kept.whole().astype(np.float64), self._channels
        plain, means, frames = kept[: n * n].T.reshape(-1, n, n), kept[n * n : n * n + n].T, kept[-1]
        products = plain - means[:, :, None] * means[:, None, :]
        speech = _with_speech(heard.passages, len(products))
        # Of everything, offsets too: identical is identical in every sample.
        total = np.tensordot(frames, plain, axes=1)
        self.relation, findings = self._result(total, products, speech, heard.cells, heard.duration_s)
        return _readings(products, speech, n, heard.duration_s), findings

    def _result(
        self, total: NDArray[np.float64], products: Products, speech: NDArray[np.int64], cells: Cells, duration_s: float
    ) -> tuple[Relation, list[Finding]]:
        """The relation as a fact, and findings for what a listener would not expect."""
        n = self._channels
        voice = products[speech].sum(axis=0)
        silent = _silent(cells, voice)
        sounding = [channel for channel in range(n) if channel not in silent]
        findings = [_finding("silent-channel", channel, 0.0, duration_s) for channel in silent if sounding]
        alike, inverted = [], []
        for channel in sounding[1:]:
            first = sounding[0]
            own, other = total[channel, channel], total[first, first]
            if own + other - 2 * total[first, channel] <= (own + other) * 10 ** (ALIKE_DB / 10):
                alike.append(channel)
                continue
            opposite = _opposite(products[:, [first, channel]][:, :, [first, channel]], speech)
            if opposite is None:
                inverted.append(channel)
                findings.append(_finding("inverted-channel", channel, 0.0, duration_s, "serious"))
            else:
                findings += [
                    _finding("inverted-channel", channel, start, min(end, duration_s), "serious") for start, end in opposite
                ]
        findings += [_finding("identical-channels", channel, 0.0, duration_s, "note") for channel in alike]
        if inverted:
            return "inverted", findings
        if silent and sounding:
            return "silent", findings
        return ("identical" if len(alike) == len(sounding) - 1 else "different"), findings


def _with_speech(passages: Passages, seconds: int) -> NDArray[np.int64]:
    """The seconds at least half of which are speech; all of them where there are none."""
    mask = passages.speech_mask()
    starts = np.arange(0, mask.size, CELLS_PER_SECOND)
    share = np.add.reduceat(mask.astype(np.int64), starts) / np.diff(np.append(starts, mask.size))
    found = np.flatnonzero(share[:seconds] >= 0.5)
    return found if found.size else np.arange(seconds)


def _silent(cells: Cells, voice: NDArray[np.float64]) -> list[int]:
    """Channels that hold nothing; of two also the one that is far below the other, which is no channel of a recording."""
    power = np.diag(voice)
    found = [channel for channel in range(power.size) if cells.peak_amplitude[channel] <= SILENT_AMPLITUDE]
    if power.size == 2 and not found and power.min() <= power.max() * 10 ** (DEAD_DB / 10):
        found = [int(np.argmin(power))]
    return found


def _correlation(products: NDArray[np.float64]) -> NDArray[np.float64]:
    """Of two channels, from products of shape (…, 2, 2); 0 where one of them holds nothing."""
    root = np.sqrt(np.maximum(products[..., 0, 0] * products[..., 1, 1], 0.0))
    return np.asarray(np.where(root > 0, products[..., 0, 1] / np.where(root > 0, root, 1.0), 0.0))


def _windows(products: Products, speech: NDArray[np.int64]) -> Products:
    """The sums over each `WINDOW_S` seconds of speech that follow one another, pauses left out."""
    chosen = products[speech]
    total = np.concatenate((np.zeros((1, *chosen.shape[1:])), np.cumsum(chosen, axis=0)))
    size = min(WINDOW_S, len(chosen))
    return np.asarray(total[size:] - total[:-size])


def _opposite(pair: Products, speech: NDArray[np.int64]) -> list[tuple[float, float]] | None:
    """Where two channels go against one another; None where they do so all along, and never together."""
    along = _correlation(_windows(pair, speech))
    if _correlation(pair[speech].sum(axis=0)) <= OPPOSITE and (along <= 0).all():
        return None
    width = min(WINDOW_S, len(speech)) - 1
    return [
        (float(speech[first]), float(speech[min(last - 1 + width, len(speech) - 1)] + 1)) for first, last in runs(along <= OPPOSITE)
    ]


def _of_one(duration_s: float) -> tuple[Reading, Reading]:
    method = "one channel: every loudspeaker plays the same"
    return (
        Reading(quantity="channel_correlation", value=1.0, unit="", method=method, end_s=duration_s),
        Reading(quantity="mono_loss_db", value=0.0, unit="dB", method=method, end_s=duration_s),
    )


def _readings(products: Products, speech: NDArray[np.int64], channels: int, duration_s: float) -> tuple[Reading, Reading]:
    to_two = downmix(channels, 2)
    pair = to_two @ products @ to_two.T
    voice = pair[speech].sum(axis=0)
    silence = not np.diag(voice).any()
    one_side = not silence and not np.diag(voice).all()
    correlation = Reading(
        quantity="channel_correlation",
        value=None if silence or one_side else float(_correlation(voice)),
        unit="",
        method="product of left and right over the root of their powers, while there is speech",
        end_s=duration_s,
        note="nothing sounds" if silence else "only one side sounds" if one_side else None,
        silence=silence,
    )
    windows = _windows(pair, speech)
    sides = windows[:, 0, 0] + windows[:, 1, 1]
    mixed = (sides + 2 * windows[:, 0, 1]) / 2
    left = np.where(sides > 0, np.maximum(mixed, 0.0) / np.where(sides > 0, sides, 1.0), 1.0)
    worst = int(np.argmin(left))
    start = float(speech[worst])
    end = min(float(speech[min(worst + WINDOW_S, len(speech)) - 1]) + 1, duration_s)
    loss = Reading(
        quantity="mono_loss_db",
        value=None if silence else max(0.0, -10 * float(np.log10(max(left[worst], 10 ** (-GREATEST_LOSS_DB / 10))))),
        unit="dB",
        method="the mix of both sides against their mean power, in the worst 3 s of speech",
        start_s=start,
        end_s=end,
        note="nothing sounds" if silence else None,
        silence=silence,
    )
    return correlation, loss


def _finding(kind: FindingKind, channel: int, start_s: float, end_s: float, severity: Severity = "warning") -> Finding:
    return Finding(kind=kind, start_s=start_s, end_s=end_s, channel=channel + 1, severity=severity)
