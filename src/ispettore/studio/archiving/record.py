"""The record of a production: what was done to which recording when, read from the rows that tell of it."""

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlmodel import Session, col, select

from ispettore.core.archive import record
from ispettore.core.archive.record import Deed, Topic
from ispettore.core.deliver import listening
from ispettore.core.deliver.listening import NOTE_KINDS, Heard
from ispettore.core.figures import clock
from ispettore.core.plan.bounds import Obstacle
from ispettore.core.treat import kept as kept_treatments
from ispettore.core.treat import wording
from ispettore.studio.archiving.views import RecordView
from ispettore.studio.catalogue import conformings
from ispettore.studio.database import snapshot
from ispettore.studio.delivering import asking, handing_over
from ispettore.studio.tables import (
    CertificateRecord,
    Conforming,
    DeedRecord,
    DeliverableRecord,
    Delivery,
    Listening,
    NoteRecord,
    Production,
    Recording,
    Work,
    WorkKind,
    WorkState,
)

MOST = 500
_content = col(CertificateRecord.sealed)["certificate"]


def view(
    production_id: UUID, *, recording: UUID | None = None, topic: Topic | None = None, start: int = 0, count: int = MOST
) -> RecordView:
    """The deeds that match, the newest first. Raises NotFound."""
    with snapshot() as session:
        production = asking.there(session, production_id)
        deeds = whole(session, production)
    matching = [deed for deed in reversed(deeds) if recording in (None, deed.recording) and topic in (None, deed.topic)]
    named = {deed.recording: deed.name for deed in deeds if deed.recording is not None}
    return RecordView(
        id=production.id,
        name=production.name,
        deeds=matching[start : start + min(count, MOST)],
        total=len(matching),
        recordings=dict(sorted(named.items(), key=lambda one: one[1])),
        topics=record.TOPICS,
    )


def document(production_id: UUID, form: str) -> tuple[str, str]:
    """The whole record, for programs ("json") or to be read ("txt"), and the name of its production. Raises NotFound."""
    with snapshot() as session:
        production = asking.there(session, production_id)
        deeds = whole(session, production)
    written = record.as_json if form == "json" else record.as_text
    return production.name, written(production.name, deeds)


def whole(session: Session, production: Production) -> list[Deed]:
    """Every deed, from the first to the last."""
    recordings = session.exec(select(Recording).where(Recording.production_id == production.id)).all()
    names = {one.id: one.name for one in recordings}
    found = [
        *_brought_in(recordings),
        *_decided(session, production.id, names),
        *_conformed(session, names),
        *_made(session, names),
        *_certified(session, production.id, names),
        *_handed_over(session, production.id),
        *_heard(session, names),
        *_noted(session, names),
    ]
    return record.in_order(found)


def _brought_in(recordings: Sequence[Recording]) -> Iterator[Deed]:
    for one in recordings:
        told = f"Added as “{one.name}”, {one.size_bytes:,} bytes."
        yield Deed(
            at=one.created_at, topic="recording", text=told, recording=one.id, name=one.name, file=one.name, sha256=one.sha256
        )


def _decided(session: Session, production_id: UUID, names: dict[UUID, str]) -> Iterator[Deed]:
    for row in session.exec(select(DeedRecord).where(DeedRecord.production_id == production_id)).all():
        of = row.recording_id
        yield Deed(at=row.at, topic="decision", text=row.text, recording=of, name=names[of] if of is not None else "")


def _conformed(session: Session, names: dict[UUID, str]) -> Iterator[Deed]:
    """Attempts that ended, in whatever way, and files that were cleared away."""
    outcome = col(Conforming.outcome)
    rows = select(Conforming, outcome["treatment"], outcome["obstacles"]).options(*conformings.LIGHT)
    ended = _ended(session, WorkKind.CONFORM, list(names))
    for attempt, done, obstacles in session.exec(rows.where(col(Conforming.recording_id).in_(names))).all():
        file = attempt.file_name or ""
        common: dict[str, Any] = {"topic": "file", "recording": attempt.recording_id, "name": names[attempt.recording_id]}
        common |= {"file": file, "sha256": attempt.sha256 or ""}
        if attempt.id in ended:
            at, state, error = ended[attempt.id]
            specification = attempt.specification
            what = f"for {specification['name']}, version {specification['version']}, by {conformings.made_by(attempt)}"
            if state == WorkState.DONE and file:
                steps = [step for step in kept_treatments.treatment(done or {}).steps if step.on]
                details = tuple(wording.numbered(steps)) or ("No processing, only conversion.",)
                yield Deed(at=at, text=f"Conformed {what}: “{file}”.", details=details, **common)
            elif state == WorkState.DONE:
                yield Deed(at=at, text=f"Not conformed {what}: no file met its limits.", details=_against(obstacles), **common)
            else:
                yield Deed(at=at, text=f"Conforming {what}, {_why(state, error)}", **common)
        if attempt.cleared_at is not None:
            told = f"“{file}” was cleared; its readings and steps are kept."
            yield Deed(at=attempt.cleared_at, text=told, **common)


def _against(obstacles: Any) -> tuple[str, ...]:
    """What stood against conforming, and what to do."""
    return tuple(Obstacle.model_validate(one).told for one in obstacles or ())


def _why(state: str, error: str | None) -> str:
    return "was cancelled." if state == WorkState.CANCELLED else f"failed: {error or 'no reason is known.'}"


def _made(session: Session, names: dict[UUID, str]) -> Iterator[Deed]:
    """Files that were named and tagged as they are delivered."""
    columns: tuple[Any, ...] = (
        DeliverableRecord.id,
        DeliverableRecord.recording_id,
        DeliverableRecord.file_name,
        DeliverableRecord.sha256,
    )
    rows = session.exec(select(*columns).where(col(DeliverableRecord.recording_id).in_(names))).all()
    ended = _ended(session, WorkKind.DELIVER, list(names))
    for identifier, of, file_name, sha256 in rows:
        if identifier not in ended:
            continue
        at, state, error = ended[identifier]
        told = f"Named and tagged to be delivered: “{file_name}”."
        if state != WorkState.DONE:
            told = f"Naming and tagging “{file_name}” {_why(state, error)}"
        yield Deed(at=at, topic="file", text=told, recording=of, name=names[of], file=file_name, sha256=sha256 or "")


def _ended(session: Session, kind: WorkKind, recordings: list[UUID]) -> dict[UUID, tuple[datetime, str, str | None]]:
    """When and how the work of a kind on these recordings ended, for each attempt or deliverable."""
    columns: tuple[Any, ...] = (Work.subject_id, Work.finished_at, Work.state, Work.error)
    rows = select(*columns).where(Work.kind == kind, col(Work.recording_id).in_(recordings), col(Work.finished_at).is_not(None))
    return {subject: (at, state, error) for subject, at, state, error in session.exec(rows.order_by(col(Work.finished_at))).all()}


def _certified(session: Session, production_id: UUID, names: dict[UUID, str]) -> Iterator[Deed]:
    columns: tuple[Any, ...] = (
        CertificateRecord.id,
        CertificateRecord.subject_id,
        CertificateRecord.recording_id,
        CertificateRecord.name,
        CertificateRecord.sha256,
        _content["specification"]["name"].astext,
        CertificateRecord.specification_version,
        CertificateRecord.issued_at,
        CertificateRecord.ending,
        CertificateRecord.ended_at,
        CertificateRecord.reason,
        CertificateRecord.file_sha256,
    )
    rows = session.exec(select(*columns).where(CertificateRecord.production_id == production_id)).all()
    made = {**_ended(session, WorkKind.CONFORM, list(names)), **_ended(session, WorkKind.DELIVER, list(names))}
    for identifier, subject, of, name, sha256, specification, version, issued, ending, ended, reason, file_sha256 in rows:
        named = names.get(of, "")
        common = {"topic": "certificate", "recording": of, "name": named, "certificate": identifier, "sha256": file_sha256 or ""}
        seal = (f"Certificate {sha256}",)
        # It is sealed while its file is being made, and there when that is.
        at = max(issued, made[subject][0]) if subject in made else issued
        yield Deed(at=at, text=f"“{name}” was certified for {specification}, version {version}.", details=seal, **common)
        if ended is not None:
            yield Deed(at=ended, text=f"The certificate of “{name}” was {ending}: {reason}", details=seal, **common)


def _handed_over(session: Session, production_id: UUID) -> Iterator[Deed]:
    for one in session.exec(select(Delivery).where(Delivery.production_id == production_id)).all():
        if one.done_at is None:
            continue
        details = tuple(f"{file['name']}  {file['sha256']}" for file in one.files)
        count = f"{len(one.deliverables)} file{'s' if len(one.deliverables) != 1 else ''}"
        if one.way == handing_over.FOLDER:
            told = f"{count} written into the folder “{one.place}”."
        else:
            accepted = sum(bool(file["accepted"]) for file in (one.answer or {}).get("files", []))
            answer = "accepted" if (one.answer or {}).get("accepted") else f"not accepted ({accepted} of its files were)"
            told = f"{count} handed to the intake desk at {one.place}, for “{one.requirements}”: {answer}."
        yield Deed(at=one.done_at, topic="delivery", text=told, details=details)


def _heard(session: Session, names: dict[UUID, str]) -> Iterator[Deed]:
    for one in session.exec(select(Listening).where(col(Listening.recording_id).in_(names))).all():
        said = listening.said([Heard.model_validate(span) for span in one.spans], duration_s=one.duration_s, who=one.who)
        told = f"{said[:1].upper()}{said[1:]}."
        yield Deed(
            at=one.ended_at,
            topic="listening",
            text=told,
            recording=one.recording_id,
            name=names[one.recording_id],
            sha256=one.sha256,
        )


def _noted(session: Session, names: dict[UUID, str]) -> Iterator[Deed]:
    kinds: dict[str, str] = {str(kind): word for kind, word in NOTE_KINDS.items()}
    for one in session.exec(select(NoteRecord).where(col(NoteRecord.recording_id).in_(names))).all():
        by = f" by {one.who}" if one.who else ""
        text = f": {one.text}" if one.text else ""
        told = f"{kinds.get(one.kind, one.kind)} at {clock(one.at_s, 1)}{text}"
        common: dict[str, Any] = {"topic": "listening", "recording": one.recording_id, "name": names[one.recording_id]}
        yield Deed(at=one.created_at, text=f"Noted{by}: {told}", sha256=one.sha256, **common)
        for at, what in ((one.done_at, "Ticked off"), (one.removed_at, "Removed")):
            if at is not None:
                yield Deed(at=at, text=f"{what}: {told}", **common)
