"""Listening a file through: what was really heard of which file, by whom and how fast, and the notes made on the way."""

from collections.abc import Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import timedelta
from typing import Any
from uuid import UUID

from sqlmodel import Session, col, select

from ispettore.core.audio.cues import Mark
from ispettore.core.audio.virtual_wav import VirtualWav
from ispettore.core.audio.writing import Samples
from ispettore.core.deliver import listening
from ispettore.core.deliver.listening import Heard, Note, NoteKind
from ispettore.core.edit import edits
from ispettore.core.edit.edits import Edits
from ispettore.core.edit.timeline import Timeline
from ispettore.core.measure import ribbon
from ispettore.core.measure.reading import Span
from ispettore.core.text import refuse
from ispettore.studio import events
from ispettore.studio.catalogue import edited, lookup, recordings, sounds
from ispettore.studio.catalogue.views import RibbonView
from ispettore.studio.database import transaction
from ispettore.studio.delivering import deliverables
from ispettore.studio.delivering.listening_views import ListenChoice, ListeningView, ListenView, Neighbour, NoteView, Of, TaskView
from ispettore.studio.errors import FileCleared, NotFound, NotReady
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import Conforming, DeliverableRecord, EditState, Listening, NoteRecord, Production, Recording, now

MINIATURE = 400


@dataclass(frozen=True)
class _File:
    """One file of a recording: what it is, which bytes, from which it is heard, and its facts."""

    of: Of
    id: UUID
    title: str
    recording: Recording
    sha256: str
    heard_from: str
    line: Timeline | None
    frames: int
    channels: int
    sample_rate_hz: int
    ribbon: bytes | None

    @property
    def duration_s(self) -> float:
        return self.frames / self.sample_rate_hz


def view(of: Of, subject: UUID) -> ListenView:
    """A file to listen to. Raises NotFound, NotReady where it is not measured, and FileCleared."""
    with transaction() as session:
        file = _file(session, of, subject)
        recording = file.recording
        production = session.get_one(Production, recording.production_id)
        heard = session.exec(
            select(Listening).where(Listening.recording_id == recording.id).order_by(col(Listening.began_at).desc())
        ).all()
        noted = _notes(session, recording)
        choices = _choices(session, recording, heard)
        titles = {(one.of, one.id): one.title for one in choices}
        before, after = _neighbours(session, file, production)
    mine = [span for one in heard if one.sha256 == file.sha256 for span in _spans(one)]
    packed = ribbon.unpacked(file.ribbon) if file.ribbon else None
    drawn = ribbon.coarser(packed, MINIATURE) if packed is not None else None
    return ListenView(
        of=file.of,
        id=file.id,
        title=file.title,
        recording=recording.id,
        name=recording.name,
        production=production.id,
        production_name=production.name,
        sha256=file.sha256,
        duration_s=file.duration_s,
        ribbon=RibbonView.of(drawn) if drawn is not None else None,
        choices=choices,
        before=before,
        after=after,
        share=listening.share(mine, duration_s=file.duration_s),
        covered=[Span(start_s=start, end_s=end) for start, end in listening.covered(mine)],
        listenings=[_listened(one, titles, file.sha256) for one in heard],
        notes=[_noted(one, titles, file.sha256) for one in noted],
    )


def sound(of: Of, subject: UUID, store: Store, *, marks: bool = False) -> tuple[VirtualWav, str, str]:
    """A file as WAV, what identifies it, and its name; with its notes as marks, if wanted. Raises as `view` does."""
    with transaction() as session:
        file = _file(session, of, subject)
        noted = _notes(session, file.recording) if marks else []

    def opened() -> AbstractContextManager[Samples]:
        return sounds.spans(file.heard_from, store, name=file.recording.name, line=file.line)

    wav = VirtualWav(
        opened,
        frames=file.frames,
        channels=file.channels,
        sample_rate_hz=file.sample_rate_hz,
        marks=[Mark(one.at_s, _note(one, "").told) for one in noted if one.on == file.sha256],
    )
    return wav, file.sha256, f"{file.recording.name.rpartition('.')[0] or file.recording.name}.wav"


def report(listening_id: UUID, of: Of, subject: UUID, *, who: str, spans: Sequence[Heard]) -> None:
    """Note what was heard in a sitting since it was last told; told again, nothing counts twice. Raises as `view` does, and
    BadText."""
    name = refuse(who.strip(), what="The listener's name")
    with transaction() as session:
        file = _file(session, of, subject)
        row = session.get(Listening, listening_id, with_for_update=True)
        if row is None:
            row = Listening(
                id=listening_id,
                recording_id=file.recording.id,
                of=of,
                subject_id=subject,
                sha256=file.sha256,
                duration_s=file.duration_s,
                who=name,
                spans=[],
                began_at=now() - timedelta(seconds=sum((one.end_s - one.start_s) / one.speed for one in spans)),
            )
        elif row.sha256 != file.sha256:
            raise NotFound(what="sitting")
        inside = [
            one.model_copy(update={"end_s": min(one.end_s, file.duration_s)}) for one in spans if one.start_s < file.duration_s
        ]
        row.spans = [one.model_dump() for one in listening.merged([*_spans(row), *inside])]
        row.who, row.ended_at = name, now()
        session.add(row)
        events.tell_of(session, file.recording, about="listening")


def note(of: Of, subject: UUID, *, at_s: float, kind: NoteKind, text: str, who: str) -> UUID:
    """Note something at a time of a file. Raises as `view` does, and BadText."""
    said, name = refuse(text.strip(), what="The note", breaks=True), refuse(who.strip(), what="The listener's name")
    with transaction() as session:
        file = _file(session, of, subject)
        at = max(0.0, min(at_s, file.duration_s))
        row = NoteRecord(
            recording_id=file.recording.id,
            of=of,
            subject_id=subject,
            sha256=file.recording.sha256 if of == "recording" else file.sha256,
            at_s=edited.in_file(file.line, at, at)[0],
            kind=kind,
            text=said,
            who=name,
        )
        session.add(row)
        session.flush()
        events.tell_of(session, file.recording, about="listening")
        return row.id


def change_note(
    note_id: UUID, *, kind: NoteKind | None = None, text: str | None = None, done: bool | None = None, removed: bool | None = None
) -> None:
    """Change what is given of a note: tick it off, take it away, or bring it back. Raises NotFound and BadText."""
    with transaction() as session:
        row = session.get(NoteRecord, note_id, with_for_update=True)
        if row is None:
            raise NotFound(what="note")
        if kind is not None:
            row.kind = kind
        if text is not None:
            row.text = refuse(text.strip(), what="The note", breaks=True)
        if done is not None:
            row.done_at = (row.done_at or now()) if done else None
        if removed is not None:
            row.removed_at = (row.removed_at or now()) if removed else None
        session.add(row)
        events.tell_of(session, session.get_one(Recording, row.recording_id), about="listening")


def notes_of(of: Of, subject: UUID) -> tuple[str, list[Note], float]:
    """The notes on a file, with the recording's name and how long the file is. Raises as `view` does."""
    with transaction() as session:
        file = _file(session, of, subject)
        rows = _notes(session, file.recording)
    return file.recording.name, [_note(one, file.title) for one in rows if one.on == file.sha256], file.duration_s


def notes_of_production(production_id: UUID) -> tuple[str, list[tuple[str, Note]]]:
    """Every note on the recordings of a production, in its order, with their names. Raises NotFound."""
    with transaction() as session:
        production = session.get(Production, production_id)
        if production is None:
            raise NotFound(what="production")
        found = []
        for recording in recordings.current(session, production_id):
            rows = _notes(session, recording)
            titles = {(one.of, one.id): one.title for one in _choices(session, recording, [])} if rows else {}
            found += [(recording.name, _note(one, titles.get(one.of, "an earlier file"))) for one in rows]
        return production.name, found


def tasks(recording_id: UUID) -> list[TaskView]:
    """Every note on the files of a recording as something to do in that: where it is heard now, and what was edited there since.
    Raises NotFound."""
    with transaction() as session:
        recording = session.get(Recording, recording_id)
        if recording is None or recording.removed_at is not None:
            raise NotFound(what="recording")
        titles = {(one.of, one.id): one.title for one in _choices(session, recording, [])}
        line = edited.line(session, recording)
        found = []
        for placed in _notes(session, recording):
            row = placed.row
            at_s, before = _in_file(session, recording, row)
            rate = line.edits.sample_rate_hz if line is not None else 1
            edit = edits.since(before, line.edits if line is not None else None, round(at_s * rate))
            said = _note(placed, titles.get(placed.of, "an earlier file"))
            found.append(
                TaskView(
                    id=row.id,
                    at_s=edited.join_of(line, at_s),
                    kind=said.kind,
                    text=row.text,
                    who=row.who,
                    title=said.file,
                    corrected=edits.told(edit, sample_rate_hz=rate) if edit is not None else "",
                    done_at=row.done_at,
                )
            )
        return sorted(found, key=lambda one: one.at_s)


def _in_file(session: Session, recording: Recording, row: NoteRecord) -> tuple[float, Edits | None]:
    """Which moment of the recording's file a note is about, and the edits that were heard when it was made."""
    if row.of == "recording":
        there = (col(EditState.recording_id) == recording.id, col(EditState.number) <= recording.edits)
        states = select(EditState.edited).where(*there, col(EditState.created_at) <= row.created_at)
        known_as = session.exec(states.order_by(col(EditState.number).desc()).limit(1)).first() or ""
        line = edited.line(session, recording, known_as)
        return row.at_s, line.edits if line is not None else None
    made = row.subject_id
    if row.of == "deliverable":
        made = session.get_one(DeliverableRecord, row.subject_id).conforming_id
    head = [col(Conforming.outcome)[when]["readings"]["head_s"]["value"].as_float() for when in ("before", "after")]
    steps = col(Conforming.outcome)["treatment"]["steps"]
    columns: tuple[Any, ...] = (Conforming.edited, steps, *head)
    known_as, done, before_s, after_s = session.exec(select(*columns).where(Conforming.id == made)).one()
    reshaped = any(step["kind"] == "head-and-tail" and step.get("on", True) for step in done or ())
    later = after_s - before_s if reshaped and None not in (before_s, after_s) else 0.0
    line = edited.line(session, recording, known_as)
    at_s = max(row.at_s - later, 0.0)
    return edited.in_file(line, at_s, at_s)[0], line.edits if line is not None else None


def in_words(session: Session, hashes: Sequence[str]) -> dict[str, str]:
    """How far files were listened to, by their hashes: of the sitting that heard most of each; those that nobody heard are left
    out."""
    rows = session.exec(select(Listening).where(col(Listening.sha256).in_(hashes))).all()
    best: dict[str, tuple[float, str]] = {}
    for row in rows:
        spans = _spans(row)
        part = listening.share(spans, duration_s=row.duration_s)
        if part > best.get(row.sha256, (0.0, ""))[0]:
            best[row.sha256] = (part, listening.said(spans, duration_s=row.duration_s, who=row.who))
    return {sha256: said for sha256, (_, said) in best.items()}


def told(sha256: str) -> str:
    """How far one file was listened to, in words; empty where nobody heard it."""
    with transaction() as session:
        return in_words(session, [sha256]).get(sha256, "")


def _file(session: Session, of: Of, subject: UUID) -> _File:
    if of == "recording":
        return _source(session, subject)
    record = session.get(DeliverableRecord, subject) if of == "deliverable" else None
    conforming = session.get(Conforming, record.conforming_id if record is not None else subject)
    if conforming is None or (of == "deliverable" and record is None):
        raise NotFound(what="file")
    recording = session.get_one(Recording, conforming.recording_id)
    made: DeliverableRecord | Conforming = record if record is not None else conforming
    if made.sha256 is None or made.outcome is None:
        raise NotReady(file=recording.name, reason="has no such file yet")
    if record is None and conforming.cleared_at is not None:
        raise FileCleared(file=conforming.file_name or recording.name)
    title = "delivered file" if record is not None else f"version {_number(session, conforming)}"
    heard_from = conforming.listening_sha256 or made.sha256
    return _as_file(of, subject, title, recording, (made.sha256, heard_from), made.outcome["after"]["facts"], conforming.ribbon)


def _source(session: Session, recording_id: UUID) -> _File:
    recording, inspection = sounds.inspected(session, recording_id)
    sha256, line = sounds.heard_from(session, recording, inspection)
    facts, hashes = inspection.data["facts"], (recording.known_as, sha256)
    return _as_file("recording", recording_id, _title(recording), recording, hashes, facts, inspection.ribbon, line)


def _title(recording: Recording) -> str:
    return "edited recording" if recording.edited else "recording as it came in"


def _as_file(
    of: Of,
    identifier: UUID,
    title: str,
    recording: Recording,
    hashes: tuple[str, str],
    facts: dict[str, Any],
    drawn: bytes | None,
    line: Timeline | None = None,
) -> _File:
    """A file by its hash and that from which it is heard."""
    return _File(
        of=of,
        id=identifier,
        title=title,
        recording=recording,
        sha256=hashes[0],
        heard_from=hashes[1],
        line=line,
        frames=facts["frames"],
        channels=facts["channels"],
        sample_rate_hz=facts["sample_rate_hz"],
        ribbon=drawn,
    )


def _number(session: Session, conforming: Conforming) -> int:
    """Which version an attempt is, counted from the first."""
    earlier = select(Conforming.id).where(
        Conforming.recording_id == conforming.recording_id, col(Conforming.created_at) <= conforming.created_at
    )
    return len(session.exec(earlier).all())


def _choices(session: Session, recording: Recording, heard: Sequence[Listening]) -> list[ListenChoice]:
    """Every file of a recording that can be listened to, what is delivered first."""

    def choice(of: Of, identifier: UUID, title: str, sha256: str, duration_s: float) -> ListenChoice:
        spans = [span for one in heard if one.sha256 == sha256 for span in _spans(one)]
        return ListenChoice(of=of, id=identifier, title=title, share=listening.share(spans, duration_s=duration_s))

    found = []
    record, after = DeliverableRecord, col(DeliverableRecord.outcome)["after"]["facts"]["duration_s"].as_float()
    columns: tuple[Any, ...] = (record.id, record.sha256, after)
    made = select(*columns).where(record.recording_id == recording.id, col(record.sha256).is_not(None))
    for place, (identifier, sha256, seconds) in enumerate(session.exec(made.order_by(col(record.created_at).desc())).all()):
        found.append(
            choice("deliverable", identifier, "delivered file" if place == 0 else "an earlier delivered file", sha256, seconds)
        )
    attempt, after = Conforming, col(Conforming.outcome)["after"]["facts"]["duration_s"].as_float()
    of_versions: tuple[Any, ...] = (attempt.id, attempt.sha256, attempt.cleared_at, after)
    versions = session.exec(
        select(*of_versions).where(attempt.recording_id == recording.id).order_by(col(attempt.created_at))
    ).all()
    for number, (identifier, sha256, cleared, seconds) in reversed(list(enumerate(versions, start=1))):
        if sha256 is not None and cleared is None:
            found.append(choice("attempt", identifier, f"version {number}", sha256, seconds))
    inspection = lookup.whole(session, recording)
    if inspection is not None:
        seconds = inspection.data["facts"]["duration_s"]
        found.append(choice("recording", recording.id, _title(recording), recording.known_as, seconds))
    return found


def _neighbours(session: Session, file: _File, production: Production) -> tuple[Neighbour | None, Neighbour | None]:
    """The same sort of file of the recordings before and after this."""
    if file.of == "deliverable":
        there = [
            (row.recording, Neighbour(of="deliverable", id=row.deliverable, name=row.file_name))
            for row in deliverables.rows(session, production)
            if row.deliverable is not None
        ]
    else:
        there = [
            (one.id, Neighbour(of="recording", id=one.id, name=one.name)) for one in recordings.current(session, production.id)
        ]
    places = [place for place, (recording, _) in enumerate(there) if recording == file.recording.id]
    if not places:
        return None, None
    at = places[0]
    return (there[at - 1][1] if at > 0 else None), (there[at + 1][1] if at + 1 < len(there) else None)


@dataclass(frozen=True)
class _Placed:
    """A note where it is heard now: `on` is what that file or sound is known by. One on the recording itself follows its edits;
    what was left out around it leaves it at the join."""

    row: NoteRecord
    at_s: float
    on: str

    @property
    def of(self) -> tuple[Of, UUID]:
        return _of(self.row.of), self.row.subject_id


def _notes(session: Session, recording: Recording) -> list[_Placed]:
    here = (NoteRecord.recording_id == recording.id, col(NoteRecord.removed_at).is_(None))
    rows = session.exec(select(NoteRecord).where(*here).order_by(col(NoteRecord.created_at))).all()
    line = edited.line(session, recording)
    found = []
    for row in rows:
        if row.of == "recording" and row.sha256 == recording.sha256:
            found.append(_Placed(row, edited.join_of(line, row.at_s), recording.known_as))
        else:
            found.append(_Placed(row, row.at_s, row.sha256))
    return sorted(found, key=lambda one: one.at_s)


def _spans(row: Listening) -> list[Heard]:
    return [Heard.model_validate(span) for span in row.spans]


def _of(name: str) -> Of:
    return "deliverable" if name == "deliverable" else "attempt" if name == "attempt" else "recording"


def _note(placed: _Placed, file: str) -> Note:
    row = placed.row
    kind: NoteKind = next((kind for kind in listening.NOTE_KINDS if kind == row.kind), "other")
    return Note(at_s=placed.at_s, kind=kind, text=row.text, who=row.who, file=file, done_at=row.done_at)


def _noted(placed: _Placed, titles: dict[tuple[Of, UUID], str], sha256: str) -> NoteView:
    row, said = placed.row, _note(placed, titles.get(placed.of, "an earlier file"))
    return NoteView(
        id=row.id,
        at_s=placed.at_s,
        kind=said.kind,
        text=row.text,
        who=row.who,
        title=said.file,
        this=placed.on == sha256,
        created_at=row.created_at,
        done_at=row.done_at,
    )


def _listened(row: Listening, titles: dict[tuple[Of, UUID], str], sha256: str) -> ListeningView:
    spans = _spans(row)
    return ListeningView(
        id=row.id,
        who=row.who,
        title=titles.get((_of(row.of), row.subject_id), "an earlier file"),
        this=row.sha256 == sha256,
        began_at=row.began_at,
        ended_at=row.ended_at,
        share=listening.share(spans, duration_s=row.duration_s),
        fastest=max((span.speed for span in spans), default=1.0),
        spans=spans,
        said=listening.said(spans, duration_s=row.duration_s, who=row.who),
    )
