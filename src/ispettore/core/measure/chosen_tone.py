"""Room tone that a person chose: its level and spectrum, and which readings of the whole file it changes.

Worked out from the chosen stretch alone and what is known of the file, so that it can be seen before the file is measured again.
"""

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core import errors
from ispettore.core.measure import decibels, noise_floor, spectrum
from ispettore.core.measure.grid import CELL_S
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Reading, Span
from ispettore.core.measure.spectra import centres_hz

SHORTEST_S, LONGEST_S = 0.1, 60.0


class ChosenTone(BaseModel):
    """`level_dbfs` is None for dead silence; `changed` are the readings as they would be."""

    model_config = ConfigDict(frozen=True)

    span: Span
    level_dbfs: float | None
    centres_hz: tuple[float, ...]
    spectrum_dbfs: tuple[float, ...]
    changed: dict[str, Reading]


def snapped(span: Span) -> Span:
    """To whole cells of 5 ms, as the meters count."""
    first, last = round(span.start_s / CELL_S), round(span.end_s / CELL_S)
    return Span(start_s=round(first * CELL_S, 3), end_s=round(last * CELL_S, 3))


def check(span: Span, inspection: Inspection) -> None:
    """Raises RoomToneOutside or RoomToneLength."""
    duration_s = inspection.facts.duration_s
    if span.start_s < 0 or span.end_s > duration_s + CELL_S or span.end_s <= span.start_s:
        raise errors.RoomToneOutside(file=inspection.name, duration_s=duration_s)
    if not SHORTEST_S <= span.length_s <= LONGEST_S:
        raise errors.RoomToneLength(file=inspection.name, length_s=span.length_s, least_ms=SHORTEST_S * 1000, most_s=LONGEST_S)


def look(samples: NDArray[np.float32], span: Span, inspection: Inspection) -> ChosenTone:
    """`samples` are those of the span, shape (frames, channels)."""
    rate = inspection.facts.sample_rate_hz
    powers = np.var(samples.astype(np.float64), axis=0)
    worst = int(np.argmax(powers))
    level = decibels.of_power(float(powers[worst]))
    noise = Reading(
        quantity="noise_floor_dbfs",
        value=level,
        unit="dBFS",
        method=f"{noise_floor.MARKED_METHOD}; {span.length_s:.1f} s of it",
        channel=worst + 1 if level is not None else None,
        start_s=span.start_s,
        end_s=span.end_s,
        note=None if level is not None else "silence: the room tone is dead silence",
        silence=level is None,
        per_channel=tuple(decibels.of_power(float(power)) for power in powers) if level is not None else (),
    )
    ratio = noise_floor.signal_to_noise(
        inspection.readings["active_speech_level_dbfs"], noise_floor.speech_levels(inspection.readings), noise
    )
    return ChosenTone(
        span=span,
        level_dbfs=level,
        centres_hz=tuple(round(float(hz), 1) for hz in centres_hz(rate)),
        spectrum_dbfs=spectrum.of_samples(samples, sample_rate_hz=rate),
        changed={one.quantity: one for one in (noise, ratio)},
    )
