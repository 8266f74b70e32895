"""One recording as several, and two as one: both are edits, so no file is written, and undoing brings back what there was."""

from collections.abc import Sequence
from pathlib import PurePath
from uuid import UUID

from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import update
from sqlmodel import Session, col, select

from ispettore.core.edit import making
from ispettore.core.edit.edits import Edits, Put
from ispettore.core.edit.timeline import Timeline
from ispettore.core.figures import clock
from ispettore.core.text import refuse
from ispettore.studio import events
from ispettore.studio.catalogue import chapters, deeds, edited, editings, recordings
from ispettore.studio.catalogue.editings import EditsView, Moment
from ispettore.studio.database import transaction
from ispettore.studio.errors import EditsChanged, NotAlike, NothingToJoin, NotReady
from ispettore.studio.tables import Acceptance, NoteRecord, Recording, TakeRecord, now


class SplitAt(BaseModel):
    """A moment at which a recording ends and another begins, and what that is called; without a title it is a numbered part."""

    model_config = ConfigDict(extra="forbid")

    at_s: Moment
    title: str = Field("", max_length=chapters.LONGEST_TITLE)


def split(recording_id: UUID, at: Sequence[SplitAt], *, follows: int) -> list[UUID]:
    """Let a recording end at the first of some moments, and others follow it with the rest, each up to the next moment: which
    those are. Accepted findings, notes and chapter marks go with what they are about. Raises NotFound, NotReady, FileBreaksOff,
    EditsChanged, BadText, and SpanNotEditable where a part would hold next to nothing."""
    at = sorted(at, key=lambda one: one.at_s)
    with transaction() as session:
        first, before = _opened(session, recording_id, follows)
        length_s, line = before.seconds(before.length), edited.line(session, first)
        starts = [0.0, *(one.at_s for one in at)]
        parts = [_only(before, *times, file=first.name) for times in zip(starts, [*starts[1:], length_s], strict=True)]
        behind = (col(Recording.production_id) == first.production_id, col(Recording.position) > first.position)
        session.exec(update(Recording).where(*behind).values(position=Recording.position + len(at)))
        made = [first]
        for number, (one, edits) in enumerate(zip(at, parts[1:], strict=True), 1):
            file_s, _ = edited.in_file(line, one.at_s, one.at_s)
            made.append(_part(session, first, number, one.title, before, edits))
            _hand_on(session, made[-2], made[-1], file_s)
            deeds.note(session, made[-1], f"Split off “{first.name}” at {clock(one.at_s, 2)}.")
        editings.follow(session, first, before, parts[0])
        _tell(session, first)
        return [one.id for one in made[1:]]


def _only(edits: Edits, start_s: float, end_s: float, *, file: str) -> Edits:
    """What is heard of a recording from one moment to another, and nothing else."""
    outside = [(0.0, start_s), (end_s, edits.seconds(edits.length))]
    return making.cuts(edits, [(start, end) for start, end in outside if end > start], file=file)


def _part(session: Session, first: Recording, number: int, title: str, before: Edits, edits: Edits) -> Recording:
    """A recording of the same file with edits of its own, so many places behind the one it is split off."""
    part = Recording(
        production_id=first.production_id,
        position=first.position + number,
        name=_free_name(session, first, title),
        sha256=first.sha256,
        size_bytes=first.size_bytes,
        room_tone=first.room_tone,
        turns=first.turns,
    )
    session.add(part)
    session.flush()
    editings.follow(session, part, before, edits)
    return part


def _hand_on(session: Session, one: Recording, other: Recording, file_s: float) -> None:
    """What is kept with a recording is kept with another of the same file too, and notes from a moment of it on there alone."""
    for accepted in session.exec(select(Acceptance).where(Acceptance.recording_id == one.id)).all():
        values = accepted.model_dump(exclude={"id", "recording_id", "created_at"})
        session.add(Acceptance(recording_id=other.id, **values))
    own = (col(NoteRecord.recording_id) == one.id, col(NoteRecord.of) == "recording", col(NoteRecord.sha256) == one.sha256)
    moved = update(NoteRecord).where(*own, col(NoteRecord.at_s) >= file_s)
    session.exec(moved.values(recording_id=other.id, subject_id=other.id))
    for take in session.exec(select(TakeRecord).where(TakeRecord.recording_id == one.id)).all():
        session.add(TakeRecord(recording_id=other.id, **take.model_dump(exclude={"id", "recording_id"})))
    for mark in chapters.marks(session, one):
        chapters.copy(session, mark, other, mark.at_s)


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


def _free_name(session: Session, recording: Recording, title: str) -> str:
    """What a part is called that none is called yet: by its title, or the recording's name, with a number where that is taken."""
    taken = {one.name for one in recordings.current(session, recording.production_id)}
    path = PurePath(recording.name)
    wanted = refuse(title.strip(), what="The title").replace("/", "-").replace("\\", "-")
    if wanted and f"{wanted}{path.suffix}" not in taken:
        return f"{wanted}{path.suffix}"
    stem = wanted or path.stem.partition(", part ")[0][:200]
    number = 2
    while (found := f"{stem}, part {number}{path.suffix}") in taken:
        number += 1
    return found


def _tell(session: Session, recording: Recording) -> None:
    production = recording.production_id
    events.tell(session, events.Notice(about="production", id=str(production), production=production))
