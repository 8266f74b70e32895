"""Tone match: the voice's third-octaves brought towards those of another recording by one gentle curve, the same throughout.

The voice that comes in is measured first; the curve is the difference at equal loudness, bounded, and smoothed over neighbouring
bands. It is drawn by a filter of linear phase, so the wave keeps its place.
"""

from collections.abc import Sequence
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ispettore.core.measure import voice_tone
from ispettore.core.treat.fir import Delay, Symmetric
from ispettore.core.treat.step import Block, Context, Processor, Settings, about

MOST_DB = 6.0
HALF_S = 0.04
FADES_FROM_HZ, GONE_AT_HZ = 90.0, 45.0
SMOOTHED = (0.25, 0.5, 0.25)
FADE_S = 0.1


class Passage(BaseModel):
    """A passage of one voice, in seconds of the recording."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    start_s: float = Field(ge=0, description="Start", json_schema_extra=about("Where the passage begins.", unit="s"))
    end_s: float = Field(description="End", json_schema_extra=about("Where the passage ends.", unit="s"))

    @model_validator(mode="after")
    def _forward(self) -> "Passage":
        if self.end_s <= self.start_s:
            raise ValueError("a passage ends after it starts")
        return self


class ToneMatch(Settings):
    """Bring the voice's tone towards another's, everywhere or in some passages alone. Without one nothing is moved."""

    title: ClassVar[str] = "Tone match"
    steady: ClassVar[bool] = True
    purpose: ClassVar[str] = "Bring the voice's tone towards that of other recordings."
    sentence: ClassVar[str] = "Bring the voice’s tone towards the other recordings’ by up to {most_db}"
    further: ClassVar[str] = "Their third-octaves from 100 Hz to 8 kHz: {voice_db}; what is brought there: {own_db}"
    each: ClassVar[tuple[str, str]] = ("passages", "From {start_s} to {end_s}")
    filled: ClassVar[str] = "Bring the tone of these passages towards another by up to {most_db}"
    needs_whole: ClassVar[bool] = True
    voice_db: tuple[float, ...] = Field(
        (),
        max_length=len(voice_tone.BANDS_HZ),
        description="Tone aimed for",
        json_schema_extra=about("Levels of the voice in each band, about their mean.", unit="dB", absent="none yet"),
    )
    most_db: float = Field(
        MOST_DB,
        ge=0,
        le=MOST_DB,
        description="Most",
        json_schema_extra=about("No band is moved by more.", unit="dB"),
    )
    own_db: tuple[float, ...] = Field(
        (),
        max_length=len(voice_tone.BANDS_HZ),
        description="Own tone",
        json_schema_extra=about(
            "Levels of the voice as it is, in the same bands; measured where none are given.", unit="dB", absent="as measured"
        ),
    )
    passages: tuple[Passage, ...] = Field((), max_length=1_000, description="Passages")

    def elsewhere(self) -> "ToneMatch | None":
        return None if self.passages else self

    def as_spoken(self) -> "ToneMatch | None":
        return self.elsewhere()

    def later(self, by_s: float) -> "ToneMatch":
        moved = [(max(0.0, one.start_s + by_s), one.end_s + by_s) for one in self.passages]
        there = [Passage(start_s=start, end_s=end) for start, end in moved if end > start]
        if self.passages and not there:
            return self.model_copy(update={"voice_db": (), "passages": ()})
        return self.model_copy(update={"passages": tuple(there)})

    def start(self, context: Context) -> "ToneMatchProcessor":
        return ToneMatchProcessor(context, self)


def curve(settings: ToneMatch, own: NDArray[np.float64] | None) -> NDArray[np.float64]:
    """What is added to each band, in dB, shape (20,)."""
    if own is None or len(settings.voice_db) != len(voice_tone.BANDS_HZ):
        return np.zeros(len(voice_tone.BANDS_HZ))
    wanted = np.clip(voice_tone.difference(own, np.array(settings.voice_db)), -settings.most_db, settings.most_db)
    padded = np.concatenate((wanted[:1], wanted, wanted[-1:]))
    return np.asarray(np.convolve(padded, SMOOTHED, mode="valid"))


def taps(gain_db: NDArray[np.float64], *, sample_rate_hz: int) -> NDArray[np.float64]:
    """A symmetric filter with these gains in its bands: beyond the last as in it, below the first less and less."""
    half = round(HALF_S * sample_rate_hz)
    size = 1 << (4 * half).bit_length()
    hz = np.fft.rfftfreq(size, 1 / sample_rate_hz)
    known = np.log(np.array((GONE_AT_HZ, FADES_FROM_HZ, *voice_tone.BANDS_HZ)))
    level = np.interp(np.log(np.maximum(hz, 1.0)), known, np.concatenate(([0.0], gain_db[:1], gain_db)))
    impulse = np.fft.irfft(10 ** (level / 20), size)
    return np.asarray(np.concatenate((impulse[-half:], impulse[: half + 1])) * np.hanning(2 * half + 3)[1:-1])


class ToneMatchProcessor(Processor):
    """Latency: half the filter, compensated."""

    def __init__(self, context: Context, settings: ToneMatch) -> None:
        super().__init__(context)
        if context.measured is None:
            raise ValueError("tone match has to know the recording")
        given = np.array(settings.own_db) if len(settings.own_db) == len(voice_tone.BANDS_HZ) else None
        own = given if given is not None else voice_tone.of(context.measured.inspection.spectrum)
        self._gain_db = curve(settings, own)
        self._was = voice_tone.apart(own, settings.voice_db) if own is not None and self._gain_db.any() else 0.0
        self._filter = Symmetric(taps(self._gain_db, sample_rate_hz=context.sample_rate_hz), context.channels)
        self._passages = settings.passages
        self._plain = Delay(context.channels)
        self._frames = 0

    def feed(self, block: Block) -> Block:
        if self._passages:
            self._plain.put(block)
        return self._mixed(self._filter.feed(block))

    def finish(self) -> Block:
        return self._mixed(self._filter.finish())

    def _mixed(self, moved: NDArray[np.float64]) -> Block:
        """What was moved in the passages, what came in outside of them."""
        if not self._passages:
            return np.asarray(moved, dtype=np.float32)
        plain = self._plain.take(len(moved))
        at = (np.arange(self._frames, self._frames + len(moved)) + 0.5) / self.sample_rate_hz
        self._frames += len(moved)
        inside = _inside(self._passages, at)[:, None]
        mixed = np.where(inside > 0, plain + inside * (moved - plain), plain)
        return np.asarray(mixed, dtype=np.float32)

    def learned(self) -> dict[str, Any]:
        bands = {str(round(hz)): round(float(db), 1) for hz, db in zip(voice_tone.BANDS_HZ, self._gain_db, strict=True)}
        return {"apart_db": round(self._was, 2), "bands_db": bands}


def _inside(passages: Sequence[Passage], at_s: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far inside the passages some moments in order are, from 0 to 1, shape (moments,); fades lie inside."""
    found = np.zeros(at_s.size)
    for passage in passages:
        first, last = np.searchsorted(at_s, (passage.start_s, passage.end_s))
        if first == last:
            continue
        fade = min(FADE_S, (passage.end_s - passage.start_s) / 2)
        here = at_s[first:last]
        part = np.clip(np.minimum(here - passage.start_s, passage.end_s - here) / fade, 0, 1)
        found[first:last] = np.maximum(found[first:last], 0.5 - 0.5 * np.cos(np.pi * part))
    return found
