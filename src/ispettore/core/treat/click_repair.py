"""Click repair: a click is replaced by what the sound around it leads up to; no other sample changes.

Inside a spot the click is where prediction from the samples before fails by far more than it does around it; those samples, and a
few on either side, are rebuilt (`interpolation.py`). Where the meter's own look would tell a click still (the ring of a tongue, the
rest of a pulse), a little more around it is rebuilt, until it would not. Spots are those the meters found, or those chosen by hand.
"""

from collections.abc import Iterator
from typing import Any, ClassVar

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.measure import decibels
from ispettore.core.measure.clicks import SecondLook
from ispettore.core.measure.grid import runs
from ispettore.core.measure.reading import Span
from ispettore.core.treat.interpolation import ORDER, SecondsProcessor, missing_samples, model_of
from ispettore.core.treat.step import Context, Settings, spans_later

KINDS = ("click",)
AROUND_S, NEAR_S, BESIDE_S = 0.06, 0.012, 0.0001
"""What a click is told apart from, what it is rebuilt by, and how much of it is below what tells it, on either side."""

FAILS, BEYOND, PULSE_S = 6.0, 2.0, 0.01
"""So many times the usual error of prediction is a click, and so many times what it usually reaches in 10 ms, in which a voice has
a pulse."""

LONGEST_S = 0.01
"""What is longer is no click: that much speech can't be told from what is around it."""

ROUNDS = 3
WIDER_MS = ((0.1, 0.1), (0.2, 0.2), (0.2, 0.5), (0.4, 0.4), (0.3, 1), (0.7, 0.7), (1, 1), (0.5, 2), (1, 3), (1.5, 4))
"""How much before and after what stands out is rebuilt besides, the least that does."""

BESIDE_SPOT_S, MOST_IN_SPOT = 0.002, 8


class ClickRepair(Settings):
    """Rebuild clicks where they were found. Spots chosen by hand are looked at instead where there are any."""

    title: ClassVar[str] = "Click repair"
    steady: ClassVar[bool] = True
    purpose: ClassVar[str] = "Rebuild the sound where it clicks, or in spots you choose."
    sentence: ClassVar[str] = "Rebuild the sound under every click that was found"
    filled: ClassVar[str] = "Rebuild the sound under clicks in these spots"
    each: ClassVar[tuple[str, str]] = ("spans", "{start_s} to {end_s}")
    spans: tuple[Span, ...] = Field((), max_length=1_000, description="Spots")

    def learns(self) -> bool:
        return not self.spans

    def elsewhere(self) -> "ClickRepair | None":
        return None if self.spans else self

    def later(self, by_s: float) -> "ClickRepair":
        return ClickRepair(spans=spans_later(self.spans, by_s))

    def start(self, context: Context) -> "ClickProcessor":
        return ClickProcessor(context, self)


class ClickProcessor(SecondsProcessor):
    def __init__(self, context: Context, settings: ClickRepair) -> None:
        super().__init__(context)
        spots = [(span.start_s, span.end_s) for span in settings.spans]
        if not spots:
            if context.measured is None:
                raise ValueError("without spots click repair has to know the recording")
            spots = [(one.start_s, one.end_s) for one in context.measured.inspection.findings if one.kind in KINDS]
        self._spots = np.array(spots).reshape(-1, 2)
        self._around = round(AROUND_S * context.sample_rate_hz)
        self._near = round(NEAR_S * context.sample_rate_hz)
        self._repaired = 0
        self._look = SecondLook(context.sample_rate_hz)
        voice_dbfs = None if context.measured is None else context.measured.inspection.value("active_speech_level_dbfs")
        self._voice = 0.0 if voice_dbfs is None else decibels.to_amplitude(voice_dbfs)

    def work(self, line: NDArray[np.float32], first: int, last: int, channel: int) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
        out, changed = line.astype(np.float64), np.zeros(line.size, dtype=bool)
        for start, end in self.within(self._spots, line.size).tolist():
            at = max(start - self._around, 0)
            part = out[at : min(end + self._around, line.size)]
            for click, over in runs(clicks(part, start - at, end - at, sample_rate_hz=self.sample_rate_hz)).tolist():
                if self._rebuild(out, at + click, at + over):
                    changed[at + click : at + over] = True
                    self._repaired += int(first <= at + click < last)
            known = bool(changed[start:end].any())
            for begin, until in self._what_is_left(out, start, end):
                changed[begin:until] = True
                self._repaired += int(not known and first <= start < last)
                known = True
        return out, changed

    def _rebuild(self, out: NDArray[np.float64], begin: int, until: int) -> bool:
        """Rebuild some frames in place; False where there is not enough around them."""
        near = max(begin - self._near, 0)
        stretch = out[near : until + self._near]
        if stretch.size <= 3 * ORDER:
            return False
        unknown = np.arange(begin - near, until - near)
        for _ in range(ROUNDS):
            stretch[unknown] = missing_samples(stretch, unknown)
        return True

    def _what_is_left(self, out: NDArray[np.float64], start: int, end: int) -> Iterator[tuple[int, int]]:
        """Rebuild what the meter would still call a click in a spot, in place: the frames of each."""
        beside = round(BESIDE_SPOT_S * self.sample_rate_hz)
        low = max(start - 4 * self._around, 0)
        part = out[low : end + 4 * self._around]
        first, last = max(start - beside - low, 0), min(end + beside - low, part.size)
        for _ in range(MOST_IN_SPOT):
            beyond_db, top = self._look.most(part, first, last, voice=self._voice)
            if beyond_db <= 0:
                return
            found = self._least_that_does(part, top, max(first, top - beside), min(last, top + 3 * beside), beyond_db)
            if found is None:
                return
            begin, until, rebuilt = found
            part[begin:until] = rebuilt
            yield low + begin, low + until

    def _least_that_does(
        self, part: NDArray[np.float64], top: int, first: int, last: int, beyond_db: float
    ) -> tuple[int, int, NDArray[np.float64]] | None:
        """Of what may be rebuilt around the frame `top` the least after which nothing from `first` to `last` is a click, else what
        leaves least: its frames and they rebuilt. None where nothing leaves less than `beyond_db`."""
        per_ms, best = self.sample_rate_hz / 1_000, None
        for before_ms, after_ms in WIDER_MS:
            begin, until = max(top - round(before_ms * per_ms), 0), min(top + round(after_ms * per_ms) + 1, part.size)
            tried = part.copy()
            if not self._rebuild(tried, begin, until):
                break
            left_db, _ = self._look.most(tried, first, last, voice=self._voice)
            if left_db < beyond_db:
                beyond_db, best = left_db, (begin, until, tried[begin:until])
            if left_db <= 0:
                break
        return best

    def learned(self) -> dict[str, Any]:
        return {"repaired_clicks": self._repaired}


def clicks(part: NDArray[np.float64], start: int, end: int, *, sample_rate_hz: int) -> NDArray[np.bool_]:
    """Which samples from `start` to `end` belong to clicks, shape of `part`: where the prediction error is far beyond what it is
    around, and beyond the pulses of the voice, which come again and again. None where that would be too long for a click."""
    failing = np.zeros(part.size, dtype=bool)
    block = round(PULSE_S * sample_rate_hz)
    if part.size <= max(3 * ORDER, 2 * block):
        return failing
    error = np.abs(scipy.signal.lfilter(model_of(part), [1.0], part))
    pulses = error[: part.size // block * block].reshape(-1, block).max(axis=1)
    most = max(FAILS * float(np.median(error)) / 0.6745, BEYOND * float(np.percentile(pulses, 75)), 1e-9)
    failing[start:end] = error[start:end] > most
    beside = max(2, round(BESIDE_S * sample_rate_hz))
    # After a click the prediction fails on: what lies between two failures is one click.
    joined = scipy.ndimage.binary_closing(np.pad(failing, ORDER), np.ones(ORDER, dtype=bool))[ORDER:-ORDER] | failing
    wide = scipy.ndimage.binary_dilation(joined, np.ones(beside * 2 + 1, dtype=bool))
    for first, last in runs(wide):
        if last - first > LONGEST_S * sample_rate_hz:
            wide[first:last] = False
    return np.asarray(wide)
