"""Editing a recording: every change of its edits is kept, so that it can be undone, and the recording is measured as it is then."""

from collections.abc import Sequence
from typing import Annotated, Literal
from uuid import UUID

from pydantic import BaseModel, ConfigDict, Field
from sqlmodel import Session, col, delete, select

from ispettore.core.edit import edits as editing
from ispettore.core.edit import making
from ispettore.core.edit.edits import Edits
from ispettore.core.edit.making import PauseRule
from ispettore.core.edit.timeline import Timeline
from ispettore.core.measure import repeats
from ispettore.core.measure.inspection import Inspection
from ispettore.core.treat.retake import Matched
from ispettore.studio import events
from ispettore.studio.catalogue import deeds, edited, lookup, recordings
from ispettore.studio.catalogue.held import Held
from ispettore.studio.database import transaction
from ispettore.studio.errors import EditsChanged, FileBreaksOff, NobodySpeaks, NoEditToUndo, NotFound, NothingToEdit, NotReady
from ispettore.studio.jobs import works
from ispettore.studio.jobs.works import WorkView
from ispettore.studio.tables import EditList, EditState, Recording, TakeRecord, Work, WorkKind, WorkState

LONGEST_S = 1e7
EDGE_S = 0.02
_bare: Held[tuple[str, int, str, str], Edits | None] = Held(200)
"""Files without edits: by hash, what they were measured by and with, and the room tone chosen."""
Moment = Annotated[float, Field(ge=0, le=LONGEST_S, allow_inf_nan=False)]
Length = Annotated[float, Field(ge=0.05, le=making.LONGEST_ROOM_S, allow_inf_nan=False)]


class _Wished(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Place(_Wished):
    """A stretch, in the time of the recording as it is edited by now."""

    start_s: Moment
    end_s: Moment


class CutOut(Place):
    """A stretch is left out."""

    what: Literal["cut"]


class Fill(Place):
    """Room tone stands in the place of a stretch."""

    what: Literal["fill"]


class PutIn(_Wished):
    """Room tone is put in at a moment."""

    what: Literal["put-in"]
    at_s: Moment
    length_s: Length


class SetPauses(_Wished):
    """Pauses between words, of a stretch or everywhere, that are longer become `longest_s` long, those that are shorter
    `shortest_s`."""

    what: Literal["pauses"]
    longest_s: Length | None = None
    shortest_s: Length | None = None
    start_s: Moment | None = None
    end_s: Moment | None = None


class SetEnds(_Wished):
    """The head, the tail or both become so long."""

    what: Literal["ends"]
    head_s: Length | None = None
    tail_s: Length | None = None


class TakeBack(_Wished):
    """Some edits are taken back: their numbers as they are shown."""

    what: Literal["take-back"]
    numbers: Annotated[list[Annotated[int, Field(ge=1, le=editing.MOST)]], Field(max_length=editing.MOST)]


class CutMisread(_Wished):
    """Words that are read again are left out, with what lies between, at several places at once."""

    what: Literal["misread"]
    spans: Annotated[list[Place], Field(min_length=1, max_length=editing.MOST)]


EditWish = Annotated[CutOut | CutMisread | Fill | PutIn | SetEnds | SetPauses | TakeBack, Field(discriminator="what")]


class TakeView(BaseModel):
    """A retake by its file's name, and what was done to it in words."""

    id: UUID
    name: str
    told: str
    work: WorkView | None


class EditView(BaseModel):
    """One edit: what it does in words, where it is heard (from `at_s`, what was put in for `put_s`), and which stretch of the file
    it leaves out; `take` is the retake in it, if there is one."""

    number: int
    told: str
    at_s: float
    put_s: float
    take: TakeView | None
    file_start_s: float
    file_end_s: float


class EditsView(BaseModel):
    """All edits of a recording at a state, and what they do to its length. `undo` and `redo` name what would be undone and done
    again; empty where there is nothing. `next` is what the recording behind it in its
    production is called, `coming` are retakes that are being prepared, or that nothing came of."""

    number: int
    edits: list[EditView]
    file_s: float
    length_s: float
    change: str
    undo: str
    redo: str
    next: str
    coming: list[TakeView]


class EditsForeseen(BaseModel):
    """What a wish would do: how many edits there would be more, and to the length."""

    count: int
    length_s: float
    change: str


def view(recording_id: UUID) -> EditsView:
    """The edits of a recording. Raises NotFound and NotReady."""
    with transaction() as session:
        return _view(session, recording_of(session, recording_id))


def foreseen(recording_id: UUID, wish: EditWish) -> EditsForeseen:
    """What a wish would do, without doing it. Raises as `change` does."""
    with transaction() as session:
        recording = recording_of(session, recording_id)
        before = now_of(session, recording)
        after = _wished(session, recording, before, wish)
        here = set(before.edits)
        count = sum(one not in here for one in after.edits)
        change = editing.summed((after.length - before.length) / after.sample_rate_hz)
        return EditsForeseen(count=count, length_s=after.seconds(after.length), change=change)


def change(recording_id: UUID, wish: EditWish, *, follows: int) -> EditsView:
    """Edit a recording and have it measured. `follows` is the state that was changed. Raises NotFound, NotReady, FileBreaksOff,
    EditsChanged where that is not the newest any more, NothingToEdit, and what `making` raises."""
    with transaction() as session:
        recording = recording_of(session, recording_id, locked=True)
        if recording.edits != follows:
            raise EditsChanged(file=recording.name)
        before = now_of(session, recording)
        after = _wished(session, recording, before, wish)
        return follow(session, recording, before, after)


def follow(session: Session, recording: Recording, before: Edits, after: Edits) -> EditsView:
    """The recording with other edits from now on, as its next state. Raises NothingToEdit where they are the same."""
    told = editing.change(before, after)
    if not told:
        raise NothingToEdit(file=recording.name)
    number = recording.edits + 1
    session.exec(delete(EditState).where(col(EditState.recording_id) == recording.id, col(EditState.number) >= number))
    known_as = after.known_as(recording.sha256) if after.edits else ""
    if known_as and session.get(EditList, (known_as, recording.id)) is None:
        session.add(EditList(edited=known_as, recording_id=recording.id, edits=after.model_dump(mode="json")))
    session.add(EditState(recording_id=recording.id, number=number, edited=known_as, told=told))
    session.flush()
    return _at(session, recording, number, known_as, f"Edited: {told[:1].lower()}{told[1:]}.")


def undo(recording_id: UUID, *, follows: int) -> EditsView:
    """Go back to the edits before. Raises NotFound, EditsChanged and NoEditToUndo."""
    return _go(recording_id, -1, follows, "undo")


def redo(recording_id: UUID, *, follows: int) -> EditsView:
    """Go on to the edits that were undone. Raises NotFound, EditsChanged and NoEditToUndo."""
    return _go(recording_id, 1, follows, "redo")


def _go(recording_id: UUID, by: int, follows: int, what: str) -> EditsView:
    with transaction() as session:
        recording = recording_of(session, recording_id, locked=True)
        if recording.edits != follows:
            raise EditsChanged(file=recording.name)
        number = recording.edits + by
        state = session.get(EditState, (recording.id, number))
        if number < 0 or (number > 0 and state is None):
            raise NoEditToUndo(what=what, file=recording.name)
        left = state if by > 0 else session.get_one(EditState, (recording.id, recording.edits))
        assert left is not None
        said = f"Edit {'undone' if by < 0 else 'done again'}: {left.told[:1].lower()}{left.told[1:]}."
        return _at(session, recording, number, state.edited if state is not None else "", said)


def _at(session: Session, recording: Recording, number: int, known_as: str, said: str) -> EditsView:
    """The recording with these edits from now on."""
    recording.edits, recording.edited = number, known_as
    deeds.note(session, recording, said)
    session.add(recording)
    events.tell_of(session, recording)
    session.flush()
    if lookup.exact(session, recording) is None:
        works.ask(session, WorkKind.INSPECT, recording.id, of=recording)
    return _view(session, recording)


def now_of(session: Session, recording: Recording) -> Edits:
    """The edits of a recording as it is; room tone that they put in is that of now. Raises NotReady and FileBreaksOff."""
    record = edited.of_file(session, recording)
    if record is None:
        raise NotReady(file=recording.name, reason="has not been inspected yet")
    key = (recording.sha256, record.methods_version, record.room_tone, recording.room_tone)
    none = _bare.of([key], lambda _: {key: _unedited(lookup.inspection(record), recording)})[key]
    if none is None:
        raise FileBreaksOff(file=recording.name)
    line = edited.line(session, recording)
    return none if line is None else line.edits.model_copy(update={"tone": none.tone or line.edits.tone})


def _unedited(inspection: Inspection, recording: Recording) -> Edits | None:
    """A recording as it came in, with the room tone that it has; None where its file breaks off."""
    if any(finding.kind == "broken-off" for finding in inspection.findings):
        return None
    chosen = edited.tone_read(recording.room_tone)
    room = [chosen] if chosen is not None else inspection.room_tone
    facts, places = inspection.facts, [(span.start_s, span.end_s) for span in room]
    return making.unedited(sample_rate_hz=facts.sample_rate_hz, frames=facts.frames, room=places)


def _wished(session: Session, recording: Recording, before: Edits, wish: EditWish) -> Edits:
    file = recording.name
    match wish:
        case CutOut():
            return making.cut(before, wish.start_s, wish.end_s, file=file)
        case CutMisread():
            return making.cuts(before, [(one.start_s, one.end_s) for one in wish.spans], file=file, why="misread")
        case Fill():
            return making.replaced(before, wish.start_s, wish.end_s, file=file)
        case PutIn():
            return making.lengthened(before, wish.at_s, wish.length_s, file=file)
        case TakeBack():
            return making.without(before, [number - 1 for number in wish.numbers])
        case SetEnds():
            return _ended(session, recording, before, wish)
        case SetPauses():
            return _paused(session, recording, before, wish)


def _paused(session: Session, recording: Recording, before: Edits, wish: SetPauses) -> Edits:
    inspection = _as_edited(session, recording)
    first = wish.start_s if wish.start_s is not None else 0.0
    last = wish.end_s if wish.end_s is not None else LONGEST_S
    end = inspection.facts.duration_s - EDGE_S
    marks = [one for one in inspection.findings if one.kind in repeats.MARKS]
    pauses = [
        (one.start_s, one.end_s)
        for one in inspection.pauses
        if one.start_s > EDGE_S and one.end_s < end and first <= (one.start_s + one.end_s) / 2 <= last
        # What was marked goes with what was misread, not with the pause.
        if not any(mark.start_s < one.end_s and mark.end_s > one.start_s for mark in marks)
    ]
    rule = PauseRule(longest_s=wish.longest_s, shortest_s=wish.shortest_s)
    breaths = [(one.start_s, one.end_s) for one in inspection.findings if one.kind == "breath"]
    return making.paused(before, pauses, rule, sounds=breaths, file=recording.name)


def _ended(session: Session, recording: Recording, before: Edits, wish: SetEnds) -> Edits:
    inspection = _as_edited(session, recording)
    head, tail = (inspection.readings[quantity].value for quantity in ("head_s", "tail_s"))
    if head is None or tail is None:
        raise NobodySpeaks(file=recording.name)
    return making.ended(
        before,
        head=(head, wish.head_s) if wish.head_s is not None else None,
        tail=(tail, wish.tail_s) if wish.tail_s is not None else None,
        file=recording.name,
    )


def _as_edited(session: Session, recording: Recording) -> Inspection:
    inspection = lookup.held(session, recording)
    if inspection is None:
        raise NotReady(file=recording.name, reason="is being measured after the last edit")
    return inspection


def _view(session: Session, recording: Recording) -> EditsView:
    edits = now_of(session, recording)
    line, rate = Timeline(edits), edits.sample_rate_hz
    made = {one.start: one.at for one in reversed(line.segments) if one.made}
    takes = _takes(session, recording)
    by = {take.prepared_sha256: take for take in takes}
    here, behind = session.get(EditState, (recording.id, recording.edits)), recordings.following(session, recording)
    after = session.get(EditState, (recording.id, recording.edits + 1))
    return EditsView(
        number=recording.edits,
        edits=[
            EditView(
                number=number,
                told=editing.told(one, sample_rate_hz=rate),
                at_s=made.get(one.end, line.to_recording(one.end)) / rate,
                put_s=(one.room + one.taken) / rate,
                take=next((_take(by[put.take], None) for put in one.put if put.take in by), None),
                file_start_s=one.start / rate,
                file_end_s=one.end / rate,
            )
            for number, one in enumerate(edits.edits, 1)
        ],
        file_s=edits.frames / rate,
        length_s=edits.length / rate,
        change=editing.summed((edits.length - edits.frames) / rate),
        undo=here.told if here is not None else "",
        redo=after.told if after is not None else "",
        next=behind.name if behind is not None else "",
        coming=_coming(session, takes),
    )


def _takes(session: Session, recording: Recording) -> list[TakeRecord]:
    rows = select(TakeRecord).where(TakeRecord.recording_id == recording.id)
    return list(session.exec(rows.order_by(col(TakeRecord.created_at))).all())


def _coming(session: Session, takes: Sequence[TakeRecord]) -> list[TakeView]:
    """Those that are on their way, or that nothing came of last."""
    works_of = works.newest(session, WorkKind.RETAKE, [take.id for take in takes])
    return [_take(take, work) for take in takes if (work := works_of.get(take.id)) is not None and work.state != WorkState.DONE]


def _take(take: TakeRecord, work: Work | None) -> TakeView:
    matched = Matched.model_validate(take.matched) if take.matched else None
    told = matched.told if matched else "as it is" if take.prepared_sha256 else ""
    return TakeView(id=take.id, name=take.name, told=told, work=works.view(work))


def recording_of(session: Session, recording_id: UUID, *, locked: bool = False) -> Recording:
    """A recording to be edited. Raises NotFound."""
    recording = session.get(Recording, recording_id, with_for_update=locked or None)
    if recording is None or recording.removed_at is not None:
        raise NotFound(what="recording")
    return recording
