"""One recording as two, and two as one: both are edits, so no file is written, and undoing brings back what there was."""

from pathlib import PurePath
from uuid import UUID

from sqlalchemy import update
from sqlmodel import Session, col, select

from ispettore.core.edit import making
from ispettore.core.edit.edits import Edits, Put
from ispettore.core.edit.timeline import Timeline
from ispettore.core.figures import clock
from ispettore.studio import events
from ispettore.studio.catalogue import deeds, edited, editings, recordings
from ispettore.studio.catalogue.editings import EditsView
from ispettore.studio.database import transaction
from ispettore.studio.errors import EditsChanged, NotAlike, NothingToJoin, NotReady
from ispettore.studio.tables import Acceptance, NoteRecord, Recording, TakeRecord, now

SHORTEST_S = 0.5


def split(recording_id: UUID, at_s: float, *, follows: int) -> UUID:
    """Let a recording end at a moment, and another follow it with the rest: which one that is. Accepted findings and notes go with
    what they are about. Raises NotFound, NotReady, FileBreaksOff, EditsChanged and SpanNotEditable."""
    with transaction() as session:
        first, before = _opened(session, recording_id, follows)
        length_s = before.seconds(before.length)
        # Which of both is too short is told alike.
        head = making.cut(before, at_s, length_s, file=first.name)
        tail = making.cut(before, 0.0, at_s, file=first.name)
        file_s, _ = edited.in_file(edited.line(session, first), at_s, at_s)
        behind = (col(Recording.production_id) == first.production_id, col(Recording.position) > first.position)
        session.exec(update(Recording).where(*behind).values(position=Recording.position + 1))
        second = Recording(
            production_id=first.production_id,
            position=first.position + 1,
            name=_free_name(session, first),
            sha256=first.sha256,
            size_bytes=first.size_bytes,
            room_tone=first.room_tone,
            turns=first.turns,
        )
        session.add(second)
        session.flush()
        for accepted in session.exec(select(Acceptance).where(Acceptance.recording_id == first.id)).all():
            values = accepted.model_dump(exclude={"id", "recording_id", "created_at"})
            session.add(Acceptance(recording_id=second.id, **values))
        own = (col(NoteRecord.recording_id) == first.id, col(NoteRecord.of) == "recording", col(NoteRecord.sha256) == first.sha256)
        moved = update(NoteRecord).where(*own, col(NoteRecord.at_s) >= file_s)
        session.exec(moved.values(recording_id=second.id, subject_id=second.id))
        for take in session.exec(select(TakeRecord).where(TakeRecord.recording_id == first.id)).all():
            session.add(TakeRecord(recording_id=second.id, **take.model_dump(exclude={"id", "recording_id"})))
        editings.follow(session, first, before, head)
        editings.follow(session, second, before, tail)
        deeds.note(session, second, f"Split off “{first.name}” at {clock(at_s, 2)}.")
        _tell(session, first)
        return second.id


def join(recording_id: UUID, *, follows: int) -> EditsView:
    """Put the next recording of the production behind this one and take it out of the production, from where it can be restored.
    Raises NotFound, NotReady, FileBreaksOff, EditsChanged, NothingToJoin, and NotAlike where rate or channels differ."""
    with transaction() as session:
        first, before = _opened(session, recording_id, follows)
        second = recordings.following(session, first)
        if second is None:
            raise NothingToJoin(file=first.name)
        other = editings.now_of(session, second)
        one, two = edited.of_file(session, first), edited.of_file(session, second)
        if one is None or two is None:
            raise NotReady(file=second.name, reason="has not been inspected yet")
        channels = tuple(edited.facts_of(session, record).channels for record in (one, two))
        if before.sample_rate_hz != other.sample_rate_hz or channels[0] != channels[1]:
            raise NotAlike(file=second.name, other=first.name)
        sound = two.listening_sha256 or second.sha256
        put = _all_of(other, sound)
        take = TakeRecord(
            recording_id=first.id,
            name=second.name,
            sha256=second.sha256,
            size_bytes=second.size_bytes,
            start_s=before.seconds(before.frames),
            end_s=before.seconds(before.frames),
            prepared_sha256=sound,
        )
        session.add(take)
        session.flush()
        after = making.joined_with(before, put, file=first.name)
        deeds.note(session, second, f"Joined to “{first.name}”, and removed from the production.")
        second.removed_at = now()
        session.add(second)
        view = editings.follow(session, first, before, after)
        _tell(session, first)
        return view


def _all_of(edits: Edits, sound: str) -> tuple[Put, ...]:
    """Everything that is heard of a recording, piece by piece, as another puts it in."""
    return tuple(one.put or Put(frames=one.frames, take=sound, start=one.start) for one in Timeline(edits).segments)


def _opened(session: Session, recording_id: UUID, follows: int) -> tuple[Recording, Edits]:
    recording = editings.recording_of(session, recording_id, locked=True)
    if recording.edits != follows:
        raise EditsChanged(file=recording.name)
    return recording, editings.now_of(session, recording)


def _free_name(session: Session, recording: Recording) -> str:
    """The recording's name with the number of a part that none has yet."""
    taken = {one.name for one in recordings.current(session, recording.production_id)}
    path = PurePath(recording.name)
    stem = path.stem.partition(", part ")[0][:200]
    number = 2
    while (found := f"{stem}, part {number}{path.suffix}") in taken:
        number += 1
    return found


def _tell(session: Session, recording: Recording) -> None:
    production = recording.production_id
    events.tell(session, events.Notice(about="production", id=str(production), production=production))
