"""One sound for a whole production: what its recordings are to have in common, so that each meets its limits and all are alike.

The level of the voice: one active speech level that every recording's limits on its level allow (how much somebody pauses moves the
RMS level of a whole file against it), as near to what they have as may be, and low enough that few peaks have to be limited. The
room: the highest noise floor at that level from which, within the bounds, as many recordings as can be come to lie within a few
decibels; those quieter still stay so, as nothing quietens the others so far. The tone: of each voice, the middle of its own
recordings, or the one that was named as reference. Voices are told apart by their fundamentals.

All of it is read from inspections; nothing is measured again.
"""

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict

from ispettore.core.measure import voice_tone
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import offering
from ispettore.core.plan.bounds import Bounds, Obstacle
from ispettore.core.plan.window import COMPARED, limits
from ispettore.core.spec.specification import Limit, Specification
from ispettore.core.spec.verdict import reading_for
from ispettore.core.treat import keeping, tone_match
from ispettore.core.treat.keeping import KeptTreatment
from ispettore.core.treat.tone_match import ToneMatch
from ispettore.core.treat.treatment import Step

SPEECH, ROOM = COMPARED
SPEECH_WITHIN_DB, ROOM_WITHIN_DB = 0.4, 2.5
"""So near recordings are planned to come; a little nearer than they have to."""

LIMIT_RESERVE_DB, EASY_LIMITING_DB = 0.5, 3.0
TONE_APART_DB = 1.0
"""A voice that is nearer to its tone than this keeps its own."""


class Likeness(BaseModel):
    """What one recording is to be like, in dBFS: its active speech level, and its noise floor at the most; None where that is left
    to its plan."""

    model_config = ConfigDict(frozen=True)

    speech_dbfs: float | None = None
    room_dbfs: float | None = None


class Matched(BaseModel):
    """One recording's part in the sound of all: its likeness, its tone to come towards (empty where it keeps its own), which voice
    it is of, and how far its tone is from that voice's now."""

    model_config = ConfigDict(frozen=True)

    likeness: Likeness
    voice_db: tuple[float, ...] = ()
    voice: int | None = None
    tone_apart_db: float | None = None
    tone_expected_db: float | None = None
    """How far it will be, as far as its curve goes."""


def matched(
    inspections: Sequence[Inspection],
    specification: Specification,
    *,
    bounds: Bounds,
    steps: Sequence[Step] = (),
    tone: bool = True,
    reference: int | None = None,
) -> list[Matched]:
    """What each of these recordings is to be like, in their order. `steps` come before, in each of them; with `tone`, tones are
    brought together; `reference` is the place of the recording whose level, room and tone the others come towards, where there is
    one."""
    speech = _speech(inspections, specification, reference)
    room = _room(inspections, specification, speech, bounds, _quieter_by(steps), reference) if speech is not None else None
    found = []
    for inspection, (voice, voice_db, apart) in zip(inspections, tones(inspections, reference), strict=True):
        spoken = _speaks(inspection)
        likeness = Likeness(speech_dbfs=speech if spoken else None, room_dbfs=room if spoken else None)
        wanted = tone and apart is not None and apart > TONE_APART_DB
        expected = _after(inspection, voice_db) if wanted else apart
        found.append(
            Matched(
                likeness=likeness,
                voice_db=voice_db if wanted else (),
                voice=voice,
                tone_apart_db=apart,
                tone_expected_db=expected,
            )
        )
    return found


def _after(inspection: Inspection, voice_db: tuple[float, ...]) -> float | None:
    """How far a recording's tone will be from another once it was matched."""
    own = voice_tone.of(inspection.spectrum)
    if own is None:
        return None
    curve = tone_match.curve(ToneMatch(voice_db=voice_db), own)
    return round(voice_tone.apart(own + curve, voice_db), 2)


def shaped(treatment: KeptTreatment | None, matching: Matched) -> KeptTreatment | None:
    """The treatment with its tone match, where the recording is to have one."""
    if not matching.voice_db:
        return treatment
    step = Step(kind="tone-match", settings={"voice_db": list(matching.voice_db)})
    if treatment is None:
        return KeptTreatment(finish="planned", steps=(step,))
    early, late = keeping.parted(treatment.steps)
    level = [one for one in late if one.kind == "reference-level"][:1]
    rest = [one for one in late if one not in level]
    return treatment.model_copy(update={"steps": (*early, *level, step, *rest)})


def asked(specification: Specification, likeness: Likeness) -> Specification:
    """The specification with a likeness as limits of its own: what a plan is made for. Verdicts are by the specification itself."""
    wanted = []
    if likeness.speech_dbfs is not None:
        level = likeness.speech_dbfs
        wanted.append(Limit(quantity=SPEECH, low=level - SPEECH_WITHIN_DB, high=level + SPEECH_WITHIN_DB))
    if likeness.room_dbfs is not None:
        wanted.append(Limit(quantity=ROOM, high=likeness.room_dbfs))
    kept = []
    for limit in specification.limits:
        same = next((one for one in wanted if one.quantity == limit.quantity and limit.applies_to != "production"), None)
        if same is None:
            kept.append(limit)
            continue
        wanted.remove(same)
        kept.append(_both(limit, same))
    return specification.model_copy(update={"limits": (*kept, *wanted)})


def nearer(likeness: Likeness, obstacles: Sequence[Obstacle]) -> Iterator[Likeness]:
    """What is left to ask, where no plan is like this: a room as quiet as can be had, then any room, then any level, in turn."""
    if not obstacles:
        return
    short = max((one.shortfall_db for one in obstacles if ROOM in one.limits), default=0.0)
    if likeness.room_dbfs is not None:
        if short > 0:
            yield likeness.model_copy(update={"room_dbfs": round(likeness.room_dbfs + short + 0.1, 1)})
        yield likeness.model_copy(update={"room_dbfs": None})
    if likeness.speech_dbfs is not None:
        yield Likeness()


def _both(limit: Limit, other: Limit) -> Limit:
    """What both allow; where that is nothing, the limit alone."""
    lows = [one.low for one in (limit, other) if one.low is not None]
    highs = [one.high for one in (limit, other) if one.high is not None]
    low, high = max(lows, default=None), min(highs, default=None)
    if low is not None and high is not None and low > high:
        return limit
    return limit.model_copy(update={"low": low, "high": high, "severity": "must"})


def _speaks(inspection: Inspection) -> bool:
    """Whether anybody speaks in it: noise has a level of activity too."""
    return inspection.value(SPEECH) is not None and inspection.spectrum.speech_dbfs is not None


def _speech(inspections: Sequence[Inspection], specification: Specification, reference: int | None) -> float | None:
    """The active speech level for all, to a tenth; None where nobody speaks."""
    spoken = [one for one in inspections if _speaks(one)]
    if not spoken:
        return None
    levels = np.array([one.value(SPEECH) for one in spoken])
    lows, highs = [-np.inf], [np.inf]
    for limit in limits(specification):
        if not limit.about.is_level:
            continue
        for inspection, level in zip(spoken, levels, strict=True):
            reading = reading_for(limit.quantity, inspection, specification)
            if isinstance(reading, float):
                lows.append(-np.inf if limit.low is None else limit.low - reading + level)
                highs.append(np.inf if limit.high is None else limit.high - reading + level)
    inset = SPEECH_WITHIN_DB + LIMIT_RESERVE_DB
    low, high = max(lows) + inset, min(highs) - inset
    ceiling = offering.ceiling(specification) + EASY_LIMITING_DB
    free = min(ceiling - (one.value("true_peak_dbtp") or 0.0) + float(level) for one, level in zip(spoken, levels, strict=True))
    named = inspections[reference].value(SPEECH) if reference is not None else None
    wanted = float(np.median(levels)) if named is None else named
    target = (low + high) / 2 if low > high else min(max(min(wanted, free), low), high)
    return round(target, 1)


def _room(
    inspections: Sequence[Inspection],
    specification: Specification,
    speech: float,
    bounds: Bounds,
    quieter_db: float,
    reference: int | None,
) -> float | None:
    """The highest noise floor that is asked of all, to a tenth; None where no room is heard."""
    levels = [
        noise - voice + speech - quieter_db
        for noise, voice in ((one.value(ROOM), one.value(SPEECH)) for one in inspections if _speaks(one))
        if noise is not None and voice is not None
    ]
    if not levels:
        return None
    rooms = np.array(levels)
    limit = min((one.high for one in limits(specification) if one.quantity == ROOM and one.high is not None), default=np.inf)
    highest = limit - LIMIT_RESERVE_DB
    named = inspections[reference] if reference is not None else None
    if named is not None and (noise := named.value(ROOM)) is not None and (voice := named.value(SPEECH)) is not None:
        return round(min(noise - voice + speech - quieter_db + ROOM_WITHIN_DB / 2, highest), 1)
    reach = bounds.noise_reduction_db
    candidates = np.minimum(np.concatenate((rooms, rooms + ROOM_WITHIN_DB, rooms - reach)), highest)
    counts = [_alike(rooms, float(room), reach) for room in candidates]
    best = max(counts)
    return round(max(float(room) for room, count in zip(candidates, counts, strict=True) if count == best), 1)


def _alike(rooms: NDArray[np.float64], highest: float, reach_db: float) -> int:
    """How many rooms can come to lie just below a level: no quieter than that by nature, and no louder than cleaning reaches."""
    return int(np.sum((rooms >= highest - ROOM_WITHIN_DB - 1e-9) & (rooms - reach_db <= highest + 1e-9)))


def _quieter_by(steps: Sequence[Step]) -> float:
    """By how much steps lower every room against its voice."""
    names = {"noise-reduction": "amount_db", "expander": "range_db"}
    return float(sum(step.typed.model_dump()[names[step.kind]] for step in steps if step.on and step.kind in names))


def tones(inspections: Sequence[Inspection], reference: int | None) -> list[tuple[int | None, tuple[float, ...], float | None]]:
    """For each recording its voice, that voice's tone, and how far its own is from that."""
    tones = [voice_tone.of(one.spectrum) for one in inspections]
    known = [place for place, tone in enumerate(tones) if tone is not None]
    of_voice = dict(zip(known, voice_tone.voices([inspections[place].spectrum.fundamental_hz for place in known]), strict=True))
    middles: dict[int, NDArray[np.float64]] = {}
    for voice in set(of_voice.values()):
        own = [tones[place] for place in known if of_voice[place] == voice]
        named = reference is not None and of_voice.get(reference) == voice
        middles[voice] = np.asarray(tones[reference] if named and reference is not None else np.median(np.array(own), axis=0))
    found: list[tuple[int | None, tuple[float, ...], float | None]] = []
    for place, tone in enumerate(tones):
        if tone is None:
            found.append((None, (), None))
            continue
        middle = middles[of_voice[place]]
        aimed = tuple(round(float(level), 1) for level in middle - middle.mean())
        found.append((of_voice[place], aimed, round(voice_tone.apart(tone, middle), 2)))
    return found
