"""Treatments that are kept: those that ship as starting points, and those saved here, in versions that never change."""

from collections.abc import Sequence
from datetime import datetime
from uuid import UUID

import sqlalchemy
from sqlalchemy import func
from sqlmodel import Session, col, select

from ispettore.core import errors
from ispettore.core.spec.changes import Change
from ispettore.core.text import refuse
from ispettore.core.treat import changes, draft, keeping
from ispettore.core.treat import kept as kept_treatments
from ispettore.core.treat.draft import DraftStep
from ispettore.core.treat.keeping import Finish, KeptTreatment
from ispettore.core.treat.treatment import Step
from ispettore.studio import events
from ispettore.studio.catalogue import drafts
from ispettore.studio.catalogue.identifiers import free
from ispettore.studio.catalogue.treatment_views import (
    ReadTreatment,
    TreatmentSummary,
    TreatmentUse,
    TreatmentVersion,
    TreatmentView,
)
from ispettore.studio.database import transaction
from ispettore.studio.errors import BuiltIn, NotFound, TreatmentRefused, VersionChanged
from ispettore.studio.tables import Conforming, Production, Recording, TreatmentRecord, now

LONGEST_NAME = 80
MOST_USES = 500


def all_kept() -> list[TreatmentSummary]:
    """Every kept treatment in its newest version: ours by name, then those that ship."""
    with transaction() as session:
        newest = select(TreatmentRecord.identifier, func.max(TreatmentRecord.version)).where(
            col(TreatmentRecord.removed_at).is_(None)
        )
        found = [
            session.get_one(TreatmentRecord, key) for key in session.exec(newest.group_by(col(TreatmentRecord.identifier))).all()
        ]
        runs = _runs(session)
        ours = [(kept_treatments.kept_treatment(one.data), one.created_at) for one in found]
        ours.sort(key=lambda pair: pair[0].name.casefold())
        known = [*ours, *((one, None) for one in keeping.shipped().values())]
        return [_summary(of, created, runs) for of, created in known]


def view(identifier: str) -> TreatmentView:
    """The newest version as sentences, all versions, and where they were used. Raises NotFound."""
    with transaction() as session:
        records = _records(session, identifier)
        newest = _newest(session, identifier)
        read = examine(draft.of(newest))
        runs = _runs(session, identifier)
        dates: list[tuple[int, datetime | None]] = [(one.version, one.created_at) for one in records]
        return TreatmentView(
            treatment=newest,
            ships=not records,
            removed=bool(records) and records[-1].removed_at is not None,
            **read.model_dump(),
            versions=[
                TreatmentVersion(version=number, created_at=created, runs=runs.get((identifier, number), 0))
                for number, created in dates or [(newest.revision, None)]
            ],
            uses=_uses(session, identifier),
        )


def examine(steps: Sequence[DraftStep]) -> ReadTreatment:
    """Steps as they read without any recording."""
    read = draft.read(steps)
    ready = draft.ready(read)
    made = draft.treatment(steps).steps if ready else ()
    return ReadTreatment(steps=read, ready=ready, reference=keeping.lacks_reference(made))


def version(identifier: str, number: int) -> KeptTreatment:
    """One version. Raises NotFound."""
    with transaction() as session:
        return _version(session, identifier, number)


def newest(identifier: str, *, reference: bool = False) -> KeptTreatment:
    """The newest version, to be applied: with a reference level put in where one is missing, if that is asked for. Raises NotFound,
    and StepNotReady where one of its steps can't run."""
    with transaction() as session:
        found = _newest(session, identifier)
    steps = draft.treatment(draft.of(found)).steps
    return found.model_copy(update={"steps": keeping.with_reference(steps, found.voice_dbfs)}) if reference else found


def compare(identifier: str, before: int, after: int) -> list[Change]:
    """What one version changed against another. Raises NotFound."""
    with transaction() as session:
        return changes.changes(_version(session, identifier, before), _version(session, identifier, after))


def save(
    recording_id: UUID,
    *,
    name: str,
    description: str,
    finish: Finish,
    reference: bool,
    identifier: str | None = None,
    follows: int = 0,
) -> KeptTreatment:
    """Keep the draft of a recording for others: as a new treatment, or as the next version of one (`identifier`) that was at
    version `follows`. With `reference`, a reference level is put in where one is missing, at the level of this recording.

    Raises NotFound, StepNotReady, TreatmentRefused, BuiltIn and VersionChanged.
    """
    found, voice_dbfs = drafts.general(recording_id, finish)
    steps = keeping.with_reference(found.steps, voice_dbfs) if reference else found.steps
    level = round(voice_dbfs, 1) if keeping.lacks_reference(steps) is not None else None
    return keep(identifier, name=name, description=description, finish=finish, steps=steps, voice_dbfs=level, follows=follows)


def keep(
    identifier: str | None,
    *,
    name: str,
    description: str,
    finish: Finish,
    steps: Sequence[Step],
    voice_dbfs: float | None,
    follows: int = 0,
) -> KeptTreatment:
    """Keep steps as a new treatment, or as the next version of one that was at version `follows`; one that does the same is not
    kept twice. Raises NotFound, TreatmentRefused, BuiltIn, and VersionChanged where somebody else kept a version meanwhile."""
    shown = refuse(name.strip(), what="The treatment's name")
    said = refuse(description.strip(), what="The treatment's description", breaks=True)
    if not shown:
        raise TreatmentRefused(reason="It needs a name. Write one, then save it.")
    if not steps and finish == "given":
        raise TreatmentRefused(reason="It has no steps that hold for other recordings. Add one first.")
    if identifier is not None and identifier in keeping.shipped():
        raise BuiltIn(name=keeping.shipped()[identifier].name)
    with transaction() as session:
        _lock(session)
        before = _newest(session, identifier) if identifier is not None else None
        if before is not None and before.revision != follows:
            raise VersionChanged(name=before.name, version=before.revision)
        _free_name(session, shown, identifier)
        wanted = KeptTreatment(
            id=identifier or _free(session, shown),
            revision=follows + 1 if before is not None else 1,
            name=shown,
            description=said,
            finish=finish,
            steps=tuple(steps),
            voice_dbfs=voice_dbfs,
        )
        return before if before is not None and _same(before, wanted) else _add(session, wanted)


def copy(identifier: str, name: str) -> KeptTreatment:
    """One's own that starts as the newest version of another. Raises NotFound and TreatmentRefused."""
    with transaction() as session:
        source = _newest(session, identifier)
    told = source.model_dump(include={"description", "finish", "voice_dbfs"})
    return keep(None, name=name, steps=source.steps, **told)


def remove(identifier: str, *, removed: bool) -> None:
    """Take a treatment out of sight, or bring it back; its versions and what was made by them stay. Raises NotFound and BuiltIn."""
    if identifier in keeping.shipped():
        raise BuiltIn(name=keeping.shipped()[identifier].name)
    with transaction() as session:
        records = _records(session, identifier)
        if not records:
            raise NotFound(what="treatment")
        _mark(session, records, removed=removed)


def _mark(session: Session, records: list[TreatmentRecord], *, removed: bool) -> None:
    for record in records:
        record.removed_at = (record.removed_at or now()) if removed else None
        session.add(record)
    _tell(session, records[0].identifier)


def bring_in(text: bytes, *, file_name: str) -> KeptTreatment:
    """A treatment from its file. One that is known already is not added again; one that names another of ours follows it as its
    next version. Raises BadTreatment."""
    found = keeping.parse(text, name=file_name)
    if not found.name.strip():
        found = found.model_copy(update={"name": file_name.removesuffix(".json")[:LONGEST_NAME]})
    refuse(found.name, what="The treatment's name")
    refuse(found.description, what="The treatment's description", breaks=True)
    with transaction() as session:
        _lock(session)
        shipped = keeping.shipped().get(found.id)
        if shipped is not None:
            if _same(shipped, found):
                return shipped
            taken = f"its identifier is that of “{shipped.name}”, which is built in and does something else"
            raise errors.BadTreatment(file=file_name, reason=taken)
        records = _records(session, found.id) if found.id else []
        if records:
            _mark(session, records, removed=False)
        for record in reversed(records):
            known = kept_treatments.kept_treatment(record.data)
            if _same(known, found):
                return known
        number = records[-1].version + 1 if records else 1
        return _add(session, found.model_copy(update={"id": found.id or _free(session, found.name), "revision": number}))


def _summary(of: KeptTreatment, created: datetime | None, runs: dict[tuple[str, int], int]) -> TreatmentSummary:
    return TreatmentSummary(
        id=of.id,
        name=of.name,
        version=of.revision,
        description=of.description,
        ships=of.id in keeping.shipped(),
        finish=of.finish,
        steps=[changes.sentence(step) for step in of.steps if step.on],
        lacks_reference=examine(draft.of(of)).reference is not None,
        voice_dbfs=of.voice_dbfs,
        runs=sum(count for (identifier, _), count in runs.items() if identifier == of.id),
        created_at=created,
    )


def _runs(session: Session, identifier: str | None = None) -> dict[tuple[str, int], int]:
    """How many attempts were made by each version."""
    key = (col(Conforming.kept_id), col(Conforming.kept_version))
    rows = sqlalchemy.select(*key, func.count()).where(col(Conforming.kept_id).is_not(None)).group_by(*key)
    if identifier is not None:
        rows = rows.where(col(Conforming.kept_id) == identifier)
    return {(of, number): count for of, number, count in session.execute(rows).all()}


def _uses(session: Session, identifier: str) -> list[TreatmentUse]:
    """Where it was used, the newest attempt of each version and recording, the newest first."""
    certified = col(Conforming.certificate_id).is_not(None)
    asked = (Conforming.recording_id, Recording.name, Production.id, Production.name, Conforming.kept_version)
    rows = (
        sqlalchemy.select(*asked, col(Conforming.kept_changed), col(Conforming.created_at), certified)  # type: ignore[call-overload]
        .join(Recording, col(Recording.id) == Conforming.recording_id)
        .join(Production, col(Production.id) == Recording.production_id)
        .where(Conforming.kept_id == identifier, col(Recording.removed_at).is_(None))
        .distinct(col(Conforming.recording_id), col(Conforming.kept_version))
        .order_by(col(Conforming.recording_id), col(Conforming.kept_version), col(Conforming.created_at).desc())
    )
    names = tuple(TreatmentUse.model_fields)
    found = [TreatmentUse(**dict(zip(names, row, strict=True))) for row in session.execute(rows).all()]
    return sorted(found, key=lambda use: use.at, reverse=True)[:MOST_USES]


def _same(one: KeptTreatment, other: KeptTreatment) -> bool:
    return one.model_copy(update={"revision": 1, "id": ""}) == other.model_copy(update={"revision": 1, "id": ""})


def _free_name(session: Session, name: str, identifier: str | None) -> None:
    """Two treatments of one name could not be told apart where they are chosen. Raises TreatmentRefused."""
    names = {one.id: one.name for one in keeping.shipped().values()}
    for record in session.exec(select(TreatmentRecord).where(col(TreatmentRecord.removed_at).is_(None))).all():
        names[record.identifier] = record.data["name"]
    if any(known.casefold() == name.casefold() for of, known in names.items() if of != identifier):
        raise TreatmentRefused(
            reason=f"There is one called “{name}” already. Give it another name, or save it as that one's next version."
        )


def _lock(session: Session) -> None:
    """One writer at a time: versions are counted and identifiers are given out."""
    session.execute(select(func.pg_advisory_xact_lock(0x15BE78)))


def _add(session: Session, found: KeptTreatment) -> KeptTreatment:
    session.add(TreatmentRecord(identifier=found.id, version=found.revision, data=found.model_dump(mode="json")))
    session.flush()
    _tell(session, found.id)
    return found


def _tell(session: Session, identifier: str) -> None:
    events.tell(session, events.Notice(about="treatment", id=identifier))


def _records(session: Session, identifier: str) -> list[TreatmentRecord]:
    rows = select(TreatmentRecord).where(TreatmentRecord.identifier == identifier)
    return list(session.exec(rows.order_by(col(TreatmentRecord.version))).all())


def _newest(session: Session, identifier: str) -> KeptTreatment:
    records = _records(session, identifier)
    if records:
        return kept_treatments.kept_treatment(records[-1].data)
    if identifier not in keeping.shipped():
        raise NotFound(what="treatment")
    return keeping.shipped()[identifier]


def _version(session: Session, identifier: str, number: int) -> KeptTreatment:
    record = session.get(TreatmentRecord, (identifier, number))
    if record is not None:
        return kept_treatments.kept_treatment(record.data)
    shipped = keeping.shipped().get(identifier)
    if shipped is None or shipped.revision != number:
        raise NotFound(what="version of a treatment")
    return shipped


def _free(session: Session, name: str) -> str:
    taken = {*keeping.shipped(), *session.exec(select(TreatmentRecord.identifier).distinct()).all()}
    return free(name, taken, otherwise="treatment")
