"""Tone match: the voice's third-octaves brought towards those of another recording by one gentle curve, the same throughout.

The voice that comes in is measured first; the curve is the difference at equal loudness, bounded, and smoothed over neighbouring
bands. It is drawn by a filter of linear phase, so the wave keeps its place.
"""

from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from ispettore.core.measure import voice_tone
from ispettore.core.treat.fir import Symmetric
from ispettore.core.treat.step import Block, Context, Processor, Settings, about

MOST_DB = 6.0
HALF_S = 0.04
FADES_FROM_HZ, GONE_AT_HZ = 90.0, 45.0
SMOOTHED = (0.25, 0.5, 0.25)


class ToneMatch(Settings):
    """Bring the voice's tone towards another's. Without one nothing is moved."""

    title: ClassVar[str] = "Tone match"
    purpose: ClassVar[str] = "Bring the voice's tone towards that of other recordings."
    sentence: ClassVar[str] = "Bring the voice’s tone towards the other recordings’ by up to {most_db}"
    further: ClassVar[str] = "Their third-octaves from 100 Hz to 8 kHz: {voice_db}"
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
        own = voice_tone.of(context.measured.inspection.spectrum)
        self._gain_db = curve(settings, own)
        self._was = voice_tone.apart(own, settings.voice_db) if own is not None and self._gain_db.any() else 0.0
        self._filter = Symmetric(taps(self._gain_db, sample_rate_hz=context.sample_rate_hz), context.channels)

    def feed(self, block: Block) -> Block:
        return np.asarray(self._filter.feed(block), dtype=np.float32)

    def finish(self) -> Block:
        return np.asarray(self._filter.finish(), dtype=np.float32)

    def learned(self) -> dict[str, Any]:
        bands = {str(round(hz)): round(float(db), 1) for hz, db in zip(voice_tone.BANDS_HZ, self._gain_db, strict=True)}
        return {"apart_db": round(self._was, 2), "bands_db": bands}
