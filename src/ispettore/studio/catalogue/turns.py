"""Passages of two voices in a recording: as they were found or corrected by hand, and brought to one another in the draft."""

from collections.abc import Callable, Sequence
from contextlib import ExitStack
from functools import partial
from uuid import UUID

from pydantic import BaseModel
from sqlmodel import Session

from ispettore.core.errors import Cancelled
from ispettore.core.measure import span_levels, voice_tone
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.spectrogram import never
from ispettore.core.measure.turns import Turn
from ispettore.core.plan import turning
from ispettore.core.plan.one_sound import SPEECH
from ispettore.core.plan.turning import Aim, Voice
from ispettore.core.treat import draft
from ispettore.core.treat.order import place_for
from ispettore.core.treat.treatment import Treatment
from ispettore.studio import events
from ispettore.studio.catalogue import deeds, drafts, edited, lookup, sounds
from ispettore.studio.catalogue.drawn import Drawn
from ispettore.studio.catalogue.held import Held
from ispettore.studio.catalogue.views import DraftView
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound, NothingToMatch, NotReady, TurnsRefused
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import InspectionRecord, Recording

SHORTEST_S = 0.1
_heard: Held[tuple[lookup.Key, str], list[Voice]] = Held(200)
"""How loud voices are in passages: the levels of three hours take a second to read."""


class TurnsView(BaseModel):
    """The passages of a recording, in order and without gaps; empty where one voice is heard. `by_hand` says that somebody
    corrected them; `voices` tells how long each speaks and how loud it is."""

    turns: list[Turn]
    by_hand: bool
    voices: list[Voice]


def view(recording_id: UUID, store: Store, *, cancelled: Callable[[], bool] = never) -> TurnsView:
    """The passages of a recording. Raises NotFound and NotReady."""
    with transaction() as session:
        recording, inspection, record = _known(session, recording_id)
        found = _turns(session, recording, inspection)
    if cancelled():
        raise Cancelled
    key = ((record.sha256, record.room_tone, record.methods_version), str(found))
    heard = _heard.of([key], lambda _: {key: _voices(recording, inspection, record, store, found, toned=False)}) if found else {}
    return TurnsView(turns=found, by_hand=recording.turns is not None, voices=heard.get(key, []))


def correct(recording_id: UUID, wanted: Sequence[Turn] | None) -> None:
    """Say who speaks when, or leave it to what was found (None). Neighbours of the same voice become one. Raises NotFound,
    NotReady, and TurnsRefused where passages leave gaps, overlap, or lie outside of the recording."""
    with transaction() as session:
        recording, inspection, _ = _known(session, recording_id, locked=True)
        told = None
        if wanted is not None:
            joined = _joined(recording, wanted, inspection.facts.duration_s)
            told = [turn.model_dump() for turn in _placed(joined, partial(edited.in_file, edited.line(session, recording)))]
        if recording.turns != told:
            deeds.note(session, recording, "Voices detected automatically." if told is None else "Voices set manually.")
        recording.turns = told
        session.add(recording)
        events.tell_of(session, recording)


def match(
    recording_id: UUID,
    store: Store,
    *,
    toward: int,
    tone: bool,
    like: UUID | None = None,
    follows: int,
    cancelled: Callable[[], bool] = never,
) -> DraftView:
    """Put steps into the draft that bring the other voice to the one named `toward`, or all to the recording `like`; what was put
    there by this before goes. Raises NotFound, NotReady, NothingToMatch where they are alike already, and what drafts raise."""
    with transaction() as session:
        recording, inspection, record = _known(session, recording_id)
        aim = _aim(session, like) if like is not None else None
        found = _turns(session, recording, inspection)
    heard = _voices(recording, inspection, record, store, found, toned=tone)
    if cancelled():
        raise Cancelled
    if aim is not None:
        steps = turning.steps_like(found, heard, inspection, aim, tone=tone)
    else:
        steps = turning.steps(found, heard, toward=toward, tone=tone)
    if not steps:
        raise NothingToMatch(file=recording.name)
    there = [one for one in drafts.steps_now(recording_id) if not one.reason.startswith(turning.MARK)]
    for step in draft.of(Treatment(steps=tuple(steps))):
        there.insert(place_for(step.kind, [one.kind for one in there]), step)
    return drafts.change(recording_id, there, follows=follows)


def _known(session: Session, recording_id: UUID, *, locked: bool = False) -> tuple[Recording, Inspection, InspectionRecord]:
    recording = session.get(Recording, recording_id, with_for_update=locked or None)
    if recording is None or recording.removed_at is not None:
        raise NotFound(what="recording")
    record = lookup.whole(session, recording, light=True)
    inspection = lookup.held(session, recording)
    if record is None or inspection is None:
        raise NotReady(file=recording.name, reason="has not been inspected yet")
    return recording, inspection, record


def _turns(session: Session, recording: Recording, inspection: Inspection) -> list[Turn]:
    if recording.turns is None:
        return list(inspection.turns)
    kept = [Turn.model_validate(turn) for turn in recording.turns]
    found = _placed(kept, partial(edited.heard, edited.line(session, recording)))
    # Edits may move the end by what is less than a frame, and leave nothing of one voice.
    return _joined(recording, found, found[-1].end_s) if found else []


def _placed(turns: Sequence[Turn], moved: Callable[[float, float], tuple[float, float] | None]) -> list[Turn]:
    """Passages in another time; those of which nothing is heard there are left out."""
    places = [(turn, moved(turn.start_s, turn.end_s)) for turn in turns]
    return [turn.model_copy(update={"start_s": times[0], "end_s": times[1]}) for turn, times in places if times is not None]


def _voices(
    recording: Recording, inspection: Inspection, record: InspectionRecord, store: Store, found: Sequence[Turn], *, toned: bool
) -> list[Voice]:
    if record.levels_sha256 is None:
        raise NotReady(file=recording.name, reason="has not been measured by the methods of now yet")
    with ExitStack() as opened:
        with Drawn(record.levels_sha256, recording.name, recording.id).whole():
            basis = span_levels.basis(inspection, opened.enter_context(store.open(record.levels_sha256, name=recording.name)))
        samples = opened.enter_context(sounds.opened(recording.id, store)) if toned else None
        return turning.voices(found, inspection, basis, samples)


def _aim(session: Session, recording_id: UUID) -> Aim:
    _, inspection, _ = _known(session, recording_id)
    tone = voice_tone.of(inspection.spectrum)
    return Aim(
        speech_dbfs=inspection.value(SPEECH),
        tone_db=tuple(round(float(level), 1) for level in tone) if tone is not None else (),
    )


def _joined(recording: Recording, wanted: Sequence[Turn], duration_s: float) -> list[Turn]:
    """In order, whole, and neighbours of the same voice as one."""
    found: list[Turn] = []
    at = 0.0
    for turn in wanted:
        if abs(turn.start_s - at) > SHORTEST_S or turn.end_s - turn.start_s < SHORTEST_S or turn.voice not in (0, 1):
            raise TurnsRefused(file=recording.name)
        at = turn.end_s
        if found and found[-1].voice == turn.voice:
            found[-1] = found[-1].model_copy(update={"end_s": turn.end_s})
        else:
            found.append(turn)
    if wanted and abs(at - duration_s) > SHORTEST_S:
        raise TurnsRefused(file=recording.name)
    return found if len(found) > 1 else []
