"""How alike the recordings of a production are, as a listener would notice it, and which of them stand apart, with the reason.

Compared are the level of the voice, loudness, room tone, dynamics and pace, the spectrum of the room tone, and the tone of each
voice (voices are told apart by their fundamentals). A recording stands apart in what lies three robust deviations from the middle
of all, and far enough to be heard (`spread.py` has the rule). All of it is read from inspections; nothing is measured again.
"""

import statistics
from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.figures import number, with_unit
from ispettore.core.measure import voice_tone
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.spectrum import Spectrum
from ispettore.core.plan import one_sound
from ispettore.core.spec import spread
from ispettore.core.spec.quantities import quantity
from ispettore.core.spec.shown import Shown, shown

SPEECH, LOUDNESS, ROOM = "active_speech_level_dbfs", "integrated_loudness_lufs", "noise_floor_dbfs"
DYNAMICS, ACTIVITY, PAUSE = "loudness_range_lu", "speech_activity_percent", "longest_pause_s"
COMPARED = (SPEECH, LOUDNESS, ROOM, DYNAMICS, ACTIVITY, PAUSE)
FEWEST_OF_A_VOICE = 3
"""Of fewer recordings by one voice none can be said to have another tone than the others."""

TONE_HEARD_DB, ROOM_HEARD_DB, BAND_HEARD_DB = one_sound.TONE_APART_DB, 3.0, 1.0
"""So far spectra have to be apart to be named: as a whole, and in the part of them that is named."""

ROOM_BANDS_HZ = tuple(round(1_000 * 10 ** (place / 10), 1) for place in range(-10, 11))
"""Exact middles of third-octaves (IEC 61260-1), 100 Hz to 10 kHz."""

_TONE_PARTS = (
    (0.0, 224.0, "below 250 Hz", ("fuller", "thinner")),
    (224.0, 891.0, "from 250 Hz to 1 kHz", ("heavier", "lighter")),
    (891.0, 3_548.0, "from 1 to 4 kHz", ("more forward", "more distant")),
    (3_548.0, 1e6, "above 4 kHz", ("brighter", "duller")),
)
_ROOM_PARTS = ((0.0, 178.0, "below 200 Hz"), (178.0, 1_778.0, "from 200 Hz to 2 kHz"), (1_778.0, 1e6, "above 2 kHz"))


class Compared(Shown):
    """One quantity over all recordings, in their order: its values (None where there is none), their middle, largest less smallest,
    and the places of those that stand apart."""

    values: tuple[float | None, ...]
    middle: float | None
    spread: float | None
    apart: tuple[int, ...]


class Curve(BaseModel):
    """The spectrum of one recording against the middle of those it is compared with, band by band in dB, and how far it is from
    that as a whole."""

    model_config = ConfigDict(frozen=True)

    db: tuple[float, ...]
    apart_db: float


class StandsApart(BaseModel):
    """A recording that stands apart: its place, and why, the most noticeable first."""

    model_config = ConfigDict(frozen=True)

    index: int
    reasons: tuple[str, ...]


class Consistency(BaseModel):
    """All recordings against one another, in their order. `voices` says of which voice each is, counted from the lowest."""

    model_config = ConfigDict(frozen=True)

    measures: tuple[Compared, ...]
    tone_bands_hz: tuple[float, ...] = voice_tone.BANDS_HZ
    room_bands_hz: tuple[float, ...] = ROOM_BANDS_HZ
    voices: tuple[int | None, ...]
    tones: tuple[Curve | None, ...]
    rooms: tuple[Curve | None, ...]
    apart: tuple[StandsApart, ...]


def compared(inspections: Sequence[Inspection]) -> Consistency:
    """These recordings against one another."""
    measures = tuple(_measure(name, inspections) for name in COMPARED)
    voices, tones = _tones(inspections)
    rooms = _rooms(inspections)
    reasons = [
        [said for said in (_of_measure(one, place, measures) for one in measures) if said] for place in range(len(inspections))
    ]
    humming = _humming(inspections)
    for place in humming:
        reasons[place].append(f"hum at {number(inspections[place].spectrum.hum_hz[0], 0)} Hz")
    for place in _far([curve.apart_db if curve else None for curve in rooms], ROOM_HEARD_DB):
        curve = rooms[place]
        if curve is not None and place not in humming and (said := _room_words(curve)):
            reasons[place].append(said)
    for voice in {voice for voice in voices if voice is not None}:
        own = [curve.apart_db if curve and voices[place] == voice else None for place, curve in enumerate(tones)]
        for place in _far(own, TONE_HEARD_DB, fewest=FEWEST_OF_A_VOICE):
            curve = tones[place]
            if curve is not None and (said := _tone_words(curve)):
                reasons[place].append(said)
    return Consistency(
        measures=measures,
        voices=voices,
        tones=tones,
        rooms=rooms,
        apart=tuple(StandsApart(index=place, reasons=tuple(said)) for place, said in enumerate(reasons) if said),
    )


def _measure(name: str, inspections: Sequence[Inspection]) -> Compared:
    about = quantity(name)
    values = tuple(one.value(name) for one in inspections)
    known = {place: value for place, value in enumerate(values) if value is not None}
    middle = statistics.median(known.values()) if known else None
    apart = spread.outliers(known, middle, about) if middle is not None else ()
    return Compared(
        **shown(name),
        values=values,
        middle=middle,
        spread=max(known.values()) - min(known.values()) if len(known) > 1 else None,
        apart=tuple(sorted(one.index for one in apart)),
    )


def _far(values: Sequence[float | None], heard: float, *, fewest: int = spread.FEWEST) -> list[int]:
    """The places of values that lie above the others by the same rule, and above `heard`."""
    known = [value for value in values if value is not None]
    if len(known) < fewest:
        return []
    middle = statistics.median(known)
    deviation = spread.SCALE * statistics.median(abs(value - middle) for value in known)
    least = max(heard, middle + spread.DEVIATIONS * deviation)
    return [place for place, value in enumerate(values) if value is not None and value > least]


def _humming(inspections: Sequence[Inspection]) -> list[int]:
    """The places of those with hum, where most have none."""
    found = [place for place, one in enumerate(inspections) if one.spectrum.hum_hz]
    return found if len(inspections) >= spread.FEWEST and 2 * len(found) < len(inspections) else []


def _tones(inspections: Sequence[Inspection]) -> tuple[tuple[int | None, ...], tuple[Curve | None, ...]]:
    voices, curves = [], []
    for inspection, (voice, middle, apart) in zip(inspections, one_sound.tones(inspections, None), strict=True):
        own = voice_tone.of(inspection.spectrum)
        voices.append(voice)
        curves.append(_curve(voice_tone.difference(middle, own), apart) if own is not None and apart is not None else None)
    return tuple(voices), tuple(curves)


def _rooms(inspections: Sequence[Inspection]) -> tuple[Curve | None, ...]:
    """The shape of each room tone, whatever its level, against the middle of all."""
    shapes = [_room_shape(one.spectrum) for one in inspections]
    known = [shape for shape in shapes if shape is not None]
    if not known:
        return tuple(None for _ in shapes)
    middle = np.median(np.array(known), axis=0)

    def curve(shape: NDArray[np.float64] | None) -> Curve | None:
        return _curve(shape - middle, float(np.sqrt(np.mean((shape - middle) ** 2)))) if shape is not None else None

    return tuple(curve(shape) for shape in shapes)


def _room_shape(spectrum: Spectrum) -> NDArray[np.float64] | None:
    """Levels in dB about their mean, shape (21,); None where there is no room tone or its sample rate is too low."""
    if spectrum.room_tone_dbfs is None:
        return None
    known = {round(hz, 1): level for hz, level in zip(spectrum.centres_hz, spectrum.room_tone_dbfs, strict=False)}
    levels = [known.get(hz) for hz in ROOM_BANDS_HZ]
    if any(level is None for level in levels):
        return None
    found = np.array(levels, dtype=np.float64)
    return np.asarray(found - found.mean())


def _curve(db: NDArray[np.float64], apart: float) -> Curve:
    return Curve(db=tuple(round(float(value), 2) for value in db), apart_db=round(apart, 2))


def _of_measure(one: Compared, place: int, measures: Sequence[Compared]) -> str:
    """Why a recording stands apart in a quantity; empty where it does not, or where another says the same."""
    value = one.values[place]
    if place not in one.apart or value is None or one.middle is None:
        return ""
    if one.quantity == LOUDNESS and any(place in other.apart for other in measures if other.quantity == SPEECH):
        return ""
    off = value - one.middle
    return _SAID[one.quantity](off, value)


def _voice(off: float, _value: float) -> str:
    return f"voice {with_unit(abs(off), 'dB')} {'louder' if off > 0 else 'softer'}"


def _loudness(off: float, _value: float) -> str:
    return f"{with_unit(abs(off), 'LU')} {'louder' if off > 0 else 'softer'} as a whole"


def _room(off: float, _value: float) -> str:
    return f"room tone {with_unit(abs(off), 'dB')} {'louder' if off > 0 else 'quieter'}"


def _dynamics(off: float, _value: float) -> str:
    return f"{with_unit(abs(off), 'LU')} {'more' if off > 0 else 'less'} difference between soft and loud passages"


def _activity(off: float, _value: float) -> str:
    way = "more of the time: fewer or shorter pauses" if off > 0 else "less of the time: longer or more pauses"
    return f"speech {number(abs(off), 0)} % {way}"


def _pause(off: float, value: float) -> str:
    return f"a pause of {with_unit(value, 's')}" if off > 0 else f"no pause longer than {with_unit(value, 's')}"


_SAID: dict[str, Callable[[float, float], str]] = {
    SPEECH: _voice,
    LOUDNESS: _loudness,
    ROOM: _room,
    DYNAMICS: _dynamics,
    ACTIVITY: _activity,
    PAUSE: _pause,
}


def _tone_words(curve: Curve) -> str:
    """Where a voice's tone is another, and what that may come of; empty where no part of it is far enough off."""
    parts = [(_mean(curve, voice_tone.BANDS_HZ, low, high), where, ways) for low, high, where, ways in _TONE_PARTS]
    off, where, ways = max(parts, key=lambda part: abs(part[0]))
    if abs(off) < BAND_HEARD_DB:
        return ""
    return f"voice {with_unit(abs(off), 'dB')} {ways[0 if off > 0 else 1]} {where}: another microphone, or another distance?"


def _room_words(curve: Curve) -> str:
    off, where = max(((_mean(curve, ROOM_BANDS_HZ, low, high), where) for low, high, where in _ROOM_PARTS), key=lambda p: abs(p[0]))
    if abs(off) < BAND_HEARD_DB:
        return ""
    return f"room tone differs in colour by {with_unit(abs(off), 'dB')}, {'more' if off > 0 else 'less'} {where}: another room?"


def _mean(curve: Curve, bands: Sequence[float], low: float, high: float) -> float:
    return float(np.mean([db for db, hz in zip(curve.db, bands, strict=True) if low <= hz < high]))
