"""Tone: high-pass, shelves, bells and notches in a row, as second-order sections.

Designs: R. Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter coefficients" (bilinear transform, frequency warped). The
curve that is drawn is the response of the sections themselves, so what is drawn is what is heard at every sample rate.
"""

from typing import Any, ClassVar, Literal

import numpy as np
import scipy
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ispettore.core.figures import number
from ispettore.core.measure.meters import Measured
from ispettore.core.measure.spectrum import Resonance
from ispettore.core.treat.sections import SectionsProcessor
from ispettore.core.treat.step import Context, Settings, about

Kind = Literal["high-pass", "low-shelf", "bell", "high-shelf", "notch"]
DEEPEST_CUT_DB = 9.0


class Band(BaseModel):
    """One section. `gain_db` counts for shelves and bells; `q` is the quality (1/√2 for the steepest shelf without a bump)."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: Kind = Field(
        description="Shape",
        json_schema_extra=about(
            "Which shape it has.",
            words={
                "high-pass": "high-pass",
                "low-shelf": "low shelf",
                "bell": "bell",
                "high-shelf": "high shelf",
                "notch": "notch",
            },
        ),
    )
    frequency_hz: float = Field(ge=20, le=20_000, description="Frequency", json_schema_extra=about("Where it sits.", unit="Hz"))
    gain_db: float = Field(
        0.0, ge=-24, le=18, description="Gain", json_schema_extra=about("How much it raises or lowers.", unit="dB")
    )
    q: float = Field(
        2**-0.5, ge=0.1, le=40, description="Quality", json_schema_extra=about("How narrow it is: higher is narrower.")
    )

    @model_validator(mode="after")
    def _plain(self) -> "Band":
        if self.kind in ("high-pass", "notch") and self.gain_db != 0:
            raise ValueError(f"a {self.kind} has no gain")
        return self


class Tone(Settings):
    """Raise or lower parts of the spectrum."""

    title: ClassVar[str] = "Tone"
    steady: ClassVar[bool] = True
    anywhere: ClassVar[bool] = True
    purpose: ClassVar[str] = "Raise or lower parts of the spectrum."
    sentence: ClassVar[str] = "Shape the tone"
    each: ClassVar[tuple[str, str]] = ("bands", "A {kind} at {frequency_hz} by {gain_db}, quality {q}")
    bands: tuple[Band, ...] = Field((), max_length=16, description="Bands")

    def start(self, context: Context) -> "ToneProcessor":
        return ToneProcessor(context, self)


class ToneProcessor(SectionsProcessor):
    def __init__(self, context: Context, settings: Tone) -> None:
        super().__init__(context, sections(settings, sample_rate_hz=context.sample_rate_hz))


def sections(settings: Tone, *, sample_rate_hz: int) -> NDArray[np.float64]:
    """Second-order sections, shape (bands, 6). Bands beyond 0.49 of the sample rate are left out: there is nothing to move."""
    made = [_section(band, sample_rate_hz) for band in settings.bands if band.frequency_hz < 0.49 * sample_rate_hz]
    return np.array(made).reshape(-1, 6)


def response_db(settings: Tone, frequency_hz: NDArray[np.float64], *, sample_rate_hz: int) -> NDArray[np.float64]:
    """The drawn curve: gain in dB at frequencies in Hz."""
    made = sections(settings, sample_rate_hz=sample_rate_hz)
    if not len(made):
        return np.zeros_like(frequency_hz)
    _, found = scipy.signal.sosfreqz(made, worN=frequency_hz, fs=sample_rate_hz)
    return np.asarray(20 * np.log10(np.maximum(np.abs(found), 1e-12)))


def _section(band: Band, rate: int) -> list[float]:
    a = 10 ** (band.gain_db / 40)
    w = 2 * np.pi * band.frequency_hz / rate
    cos, alpha = np.cos(w), np.sin(w) / (2 * band.q)
    root = 2 * np.sqrt(a) * alpha
    if band.kind == "high-pass":
        numerator = [(1 + cos) / 2, -(1 + cos), (1 + cos) / 2]
        denominator = [1 + alpha, -2 * cos, 1 - alpha]
    elif band.kind == "notch":
        numerator = [1.0, -2 * cos, 1.0]
        denominator = [1 + alpha, -2 * cos, 1 - alpha]
    elif band.kind == "bell":
        numerator = [1 + alpha * a, -2 * cos, 1 - alpha * a]
        denominator = [1 + alpha / a, -2 * cos, 1 - alpha / a]
    else:
        # A high shelf is a low shelf mirrored at a quarter of the sample rate.
        sign = 1 if band.kind == "low-shelf" else -1
        up, down, cos = a + 1, a - 1, sign * cos
        numerator = [a * (up - down * cos + root), sign * 2 * a * (down - up * cos), a * (up - down * cos - root)]
        denominator = [up + down * cos + root, -sign * 2 * (down + up * cos), up + down * cos - root]
    return [float(value / denominator[0]) for value in (*numerator, *denominator)]


def starting_point(fundamental_hz: float) -> Tone:
    """Where to start from for a voice of this fundamental: what lies below it goes, mud above it and air are named but not moved.

    All gains are 0 dB: a starting point says where, the ear says how much.

    >>> [round(band.frequency_hz) for band in starting_point(110).bands]
    [66, 110, 275, 3000, 9000]
    """
    lower = fundamental_hz < 150
    return Tone(
        bands=(
            Band(kind="high-pass", frequency_hz=0.6 * fundamental_hz),
            Band(kind="low-shelf", frequency_hz=fundamental_hz),
            Band(kind="bell", frequency_hz=2.5 * fundamental_hz, q=1.2),
            Band(kind="bell", frequency_hz=3_000 if lower else 3_500, q=0.9),
            Band(kind="high-shelf", frequency_hz=9_000 if lower else 10_000),
        )
    )


def propose(measured: Measured) -> Tone | None:
    """A starting point for this recording's voice; None where it has no fundamental that could be told."""
    hz = measured.inspection.spectrum.fundamental_hz
    return starting_point(hz) if hz is not None else None


class Cut(BaseModel):
    """A narrow cut that is proposed, and why."""

    model_config = ConfigDict(frozen=True)

    band: Band
    width_hz: float
    evidence: str


def resonance_cuts(resonances: tuple[Resonance, ...]) -> list[Cut]:
    """For each resonance a bell as wide as it is, half as deep as it stands out and 9 dB at the most."""
    cuts = []
    for one in resonances:
        depth = round(min(one.stands_out_db / 2, DEEPEST_CUT_DB), 1)
        q = float(np.clip(one.frequency_hz / max(one.width_hz, 1.0), 0.5, 40))
        band = Band(kind="bell", frequency_hz=one.frequency_hz, gain_db=-depth, q=round(q, 2))
        evidence = (
            f"At {number(one.frequency_hz, 0)} Hz the long-term spectrum stands {number(one.stands_out_db, 1)} dB above "
            f"its surroundings, {number(one.width_hz, 0)} Hz wide."
        )
        cuts.append(Cut(band=band, width_hz=one.width_hz, evidence=evidence))
    return cuts


class ResonanceSearch(Settings):
    """Find resonances in the recording and cut them, each by half of what it stands out."""

    title: ClassVar[str] = "Resonance search"
    steady: ClassVar[bool] = True
    purpose: ClassVar[str] = "Find ringing of voice or room and cut it."
    sentence: ClassVar[str] = "Cut up to {most} resonances, each by at most {deepest_db}"
    needs_whole: ClassVar[bool] = True
    most: int = Field(3, ge=1, le=8, description="Most cuts", json_schema_extra=about("No more than this many resonances are cut."))
    deepest_db: float = Field(
        DEEPEST_CUT_DB, ge=1, le=18, description="Deepest cut", json_schema_extra=about("No cut goes deeper.", unit="dB")
    )

    def as_spoken(self) -> "ResonanceSearch":
        return self

    def start(self, context: Context) -> "ResonanceProcessor":
        return ResonanceProcessor(context, self)


class ResonanceProcessor(ToneProcessor):
    def __init__(self, context: Context, settings: ResonanceSearch) -> None:
        if context.measured is None:
            raise ValueError("the search for resonances has to know the recording")
        found = resonance_cuts(context.measured.inspection.spectrum.resonances)[: settings.most]
        deepest = -settings.deepest_db
        bands = tuple(cut.band.model_copy(update={"gain_db": max(cut.band.gain_db, deepest)}) for cut in found)
        super().__init__(context, Tone(bands=bands))
        self._cuts = found

    def learned(self) -> dict[str, Any]:
        return {"cuts": [{**cut.band.model_dump(), "width_hz": cut.width_hz, "evidence": cut.evidence} for cut in self._cuts]}
