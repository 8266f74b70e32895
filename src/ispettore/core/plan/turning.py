"""Two voices or two sessions in one recording, brought to one another: in level, and on request in tone, where the one speaks.

How loud each is and how it sounds is read where that voice speaks, from the kept levels and from the sound itself. What comes of it
are steps like any others: spot gain over its passages, and a tone match in them.
"""

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.figures import number, with_unit
from ispettore.core.measure import decibels, spectrum, voice_tone
from ispettore.core.measure.basis import Basis
from ispettore.core.measure.grid import CELLS_PER_SECOND
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Span
from ispettore.core.measure.spectrum import Spectrum
from ispettore.core.measure.turns import Turn
from ispettore.core.plan.one_sound import SPEECH, TONE_APART_DB
from ispettore.core.treat.treatment import Step

MOST_DB, LEAST_DB = 20.0, 0.3
"""A voice is moved by no more, and for less nothing is moved."""

MARK = "Where one voice speaks:"
"""The reasons of these steps begin so: brought together anew, they take the place of those from before."""

FADE_S = 0.15
LISTENED_S, SHORTEST_S = 60.0, 0.3
"""So much of a voice is enough to tell its tone; shorter pieces of speech say little of it."""

Samples = Callable[[int, int], NDArray[np.float32]]
"""(first frame, frames) → shape (frames, channels)."""


class Voice(BaseModel):
    """One of the voices of a recording: how long it speaks, how loud (the mean square of its speech, in dBFS), and its tone in
    third-octaves (`voice_tone.BANDS_HZ`, about their mean; empty where it is not known)."""

    model_config = ConfigDict(frozen=True)

    voice: int
    seconds: float
    speech_dbfs: float | None
    tone_db: tuple[float, ...] = ()


class Aim(BaseModel):
    """A recording that voices are brought to: its active speech level and its voice's tone."""

    model_config = ConfigDict(frozen=True)

    speech_dbfs: float | None
    tone_db: tuple[float, ...] = ()


def spoken(turns: Sequence[Turn], voice: int, inspection: Inspection) -> list[Span]:
    """Where a voice speaks: the speech that lies in its passages."""
    found = []
    for turn in turns:
        if turn.voice != voice:
            continue
        for span in inspection.speech:
            start, end = max(span.start_s, turn.start_s), min(span.end_s, turn.end_s)
            if end > start:
                found.append(Span(start_s=start, end_s=end))
    return found


def voices(turns: Sequence[Turn], inspection: Inspection, basis: Basis, samples: Samples | None = None) -> list[Voice]:
    """Each of the voices; with their tones where `samples` of the recording can be read."""
    found = []
    for voice in sorted({turn.voice for turn in turns}):
        spans = spoken(turns, voice, inspection)
        seconds = sum(span.length_s for span in spans)
        tone = _tone(spans, inspection, samples) if samples is not None else ()
        found.append(Voice(voice=voice, seconds=round(seconds, 2), speech_dbfs=_level(spans, basis), tone_db=tone))
    return found


def _level(spans: Sequence[Span], basis: Basis) -> float | None:
    mask = np.zeros(basis.power.shape[-1], dtype=bool)
    for span in spans:
        mask[round(span.start_s * CELLS_PER_SECOND) : round(span.end_s * CELLS_PER_SECOND)] = True
    if not mask.any():
        return None
    return round(float(decibels.levels(np.array([basis.power[..., mask].mean(dtype=np.float64)]), floor_db=-140.0)[0]), 2)


def _tone(spans: Sequence[Span], inspection: Inspection, samples: Samples) -> tuple[float, ...]:
    """From the longest pieces of its speech."""
    rate, total, heard = inspection.facts.sample_rate_hz, None, 0.0
    for span in sorted(spans, key=lambda one: -one.length_s):
        if heard >= LISTENED_S or span.length_s < SHORTEST_S:
            break
        first = round(span.start_s * rate)
        sound = samples(first, round(min(span.length_s, LISTENED_S) * rate))
        power = 10 ** (np.array(spectrum.of_samples(sound, sample_rate_hz=rate)) / 10) * len(sound)
        total = power if total is None else total + power
        heard += len(sound) / rate
    if total is None or heard <= 0:
        return ()
    found = spectrum.levels_of(total / (heard * rate))
    tone = voice_tone.of(Spectrum(centres_hz=inspection.spectrum.centres_hz, speech_dbfs=found))
    return tuple(round(float(level), 1) for level in tone) if tone is not None else ()


def steps(turns: Sequence[Turn], of: Sequence[Voice], *, toward: int, tone: bool) -> list[Step]:
    """What brings the other voice to the one named `toward`; empty where they are alike already."""
    aim = next((one for one in of if one.voice == toward), None)
    if aim is None:
        return []
    others = [one for one in of if one.voice != toward]
    return _brought(turns, [(one, aim.speech_dbfs, aim.tone_db) for one in others], "the other voice’s", tone=tone)


def steps_like(turns: Sequence[Turn], of: Sequence[Voice], inspection: Inspection, like: Aim, *, tone: bool) -> list[Step]:
    """What brings every voice to another recording. Its level is an active speech level (ITU-T P.56); what that is against the mean
    square of speech is taken from this recording."""
    own, known = inspection.value(SPEECH), [one for one in of if one.speech_dbfs is not None]
    level = None
    if like.speech_dbfs is not None and own is not None and known:
        weights = [one.seconds for one in known]
        power = np.average([10 ** ((one.speech_dbfs or 0.0) / 10) for one in known], weights=weights)
        level = like.speech_dbfs - own + 10 * float(np.log10(power))
    return _brought(turns, [(one, level, like.tone_db) for one in of], "the other recording’s", tone=tone)


def _brought(
    turns: Sequence[Turn], wanted: Sequence[tuple[Voice, float | None, tuple[float, ...]]], whose: str, *, tone: bool
) -> list[Step]:
    spots: list[dict[str, float]] = []
    toned: list[Step] = []
    moved: list[str] = []
    for voice, level, aimed in wanted:
        own = [turn for turn in turns if turn.voice == voice.voice]
        if level is not None and voice.speech_dbfs is not None and abs(level - voice.speech_dbfs) >= LEAST_DB:
            gain = round(float(np.clip(level - voice.speech_dbfs, -MOST_DB, MOST_DB)), 1)
            spots += [{**_ends(turn), "gain_db": gain, "fade_s": _fade(turn)} for turn in own]
            moved.append(f"{with_unit(abs(gain), 'dB')} {'up' if gain > 0 else 'down'} in {_counted(len(own))}")
        if tone and aimed and voice.tone_db and voice_tone.apart(voice.tone_db, aimed) > TONE_APART_DB:
            far = with_unit(voice_tone.apart(voice.tone_db, aimed), "dB")
            passages = [_ends(turn) for turn in own]
            settings = {"voice_db": list(aimed), "own_db": list(voice.tone_db), "passages": passages}
            toned.append(Step(kind="tone-match", settings=settings, reason=f"{MARK} its tone is {far} from {whose}."))
    found = list(toned)
    if spots:
        spots.sort(key=lambda spot: spot["start_s"])
        reason = f"{MARK} matched to {whose} level, {' and '.join(moved)}."
        found.append(Step(kind="spot-gain", settings={"spots": spots}, reason=reason))
    return found


def _ends(turn: Turn) -> dict[str, float]:
    return {"start_s": round(turn.start_s, 3), "end_s": round(turn.end_s, 3)}


def _fade(turn: Turn) -> float:
    return round(min(FADE_S, (turn.end_s - turn.start_s) / 4), 3)


def _counted(count: int) -> str:
    return f"{number(count, 0)} passage{'' if count == 1 else 's'}"
