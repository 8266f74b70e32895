"""Importing an archive: checked as a whole first, then its files put in the store, then its rows written in one transaction.

What it holds is here afterwards as it was where it was made, down to the identifiers and hashes. Seals count only by keys that are
trusted here: as long as one is unknown, nothing is imported, and the key is shown to be trusted by hand.
"""

from collections import Counter
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any
from uuid import UUID

from joserfc.jwk import OKPKey
from pydantic import ValidationError
from sqlmodel import Session, SQLModel, col, select

from ispettore.core.archive import checking, form
from ispettore.core.archive.checking import Archive, ArchiveTooNew
from ispettore.core.certify import forms, seal
from ispettore.core.certify.certificate import hash_of
from ispettore.core.certify.notices import Notice
from ispettore.core.errors import BadKey, Cancelled
from ispettore.core.measure import kept as kept_inspections
from ispettore.core.plan import kept as kept_outcomes
from ispettore.core.spec import kept
from ispettore.core.treat import kept as kept_treatments
from ispettore.studio import events
from ispettore.studio.archiving import rows
from ispettore.studio.archiving.making import Told
from ispettore.studio.archiving.views import Imported, ImportView, UnknownKey
from ispettore.studio.catalogue import certificates, disk_use, importings
from ispettore.studio.database import after_commit, transaction
from ispettore.studio.errors import ArchiveConflicts, NotFound
from ispettore.studio.jobs import works
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import (
    CertificateRecord,
    Conforming,
    DeliverableRecord,
    DraftState,
    Importing,
    InspectionRecord,
    Planning,
    Production,
    Recording,
    SpecificationRecord,
    TreatmentRecord,
    WorkKind,
)

Rows = dict[type[SQLModel], list[rows.Row]]
VERSIONED = (SpecificationRecord, TreatmentRecord)


def listed() -> list[ImportView]:
    """Every archive that came in and was not let go of, the newest first."""
    with transaction() as session:
        found = session.exec(select(Importing).order_by(col(Importing.created_at).desc())).all()
        running = works.newest(session, WorkKind.IMPORT, [one.id for one in found])
        return [
            ImportView(
                id=one.id,
                file_name=one.file_name,
                size_bytes=one.size_bytes,
                created_at=one.created_at,
                work=works.view(running.get(one.id)),
                outcome=Imported.model_validate(one.outcome) if one.outcome else None,
            )
            for one in found
        ]


def trust(importing_id: UUID, fingerprints: list[str], store: Store) -> None:
    """Trust these keys of an archive that came in, as somebody compared them, and import it. Raises NotFound, NotInStore, and as
    opening does."""
    importing = of(importing_id)
    name = importing.file_name
    with store.as_local(importing.sha256 or "", name=name) as path, checking.archive(path, name=name) as archive:
        for fingerprint in fingerprints:
            content = archive.package.read(f"{form.KEYS}/{fingerprint}.pem", 10_000)
            if content is None and fingerprint == archive.key.thumbprint():
                content = archive.key.as_pem(private=False)
            if content is None:
                raise NotFound(what="key")
            if certificates.keys().trust(content, name=f"{archive.head.production} {fingerprint[:8]}") != fingerprint:
                raise BadKey(file=f"{fingerprint}.pem", reason="it is another key than its name says")
    importings.again(importing_id)


def brought_in(path: Path, name: str, store: Store, told: Told) -> tuple[Imported, Rows]:
    """An archive, checked, with its files in the store; what is to be said of it, and the rows to be written (`write`), none where
    its production is here or keys are to be trusted first.

    Raises NotAnArchive, ArchiveChanged, ArchiveTooNew, ArchiveConflicts, NoRoomLeft and Cancelled.
    """

    def watched(stage: str, fraction: float) -> None:
        if told(stage, fraction):
            raise Cancelled()

    with checking.archive(path, name=name) as archive:
        checking.check(archive, watched)
        found = {model: list(_read(archive, model)) for model in rows.TABLES}
        _whole(archive, found)
        stored = _stored(archive, found)
        unknown = _unknown(archive, found)
        head = archive.head
        if unknown:
            return Imported(name=head.production, unknown=unknown), {}
        with transaction() as session:
            before = session.get(Production, head.id) is not None
            if not before:
                _alike(session, archive, found)
        missing = {sha256: member for sha256, member in stored.items() if not before or not store.has(sha256)}
        disk.room_for(sum(archive.package.size(member) for member in missing.values()), store.folder, file=name)
        for place, member in enumerate(missing.values()):
            watched("importing files", place / len(missing))
            store.put(archive.pieces(member), name=member)
    told_of = Imported(production=head.id, name=head.production, recordings=head.recordings, files=len(missing), before=before)
    return told_of, {} if before else found


def write(session: Session, found: Rows) -> None:
    """Write every row of a production that came in, in this transaction."""
    for model, of_it in found.items():
        if of_it:
            _write(session, model, of_it)
    for one in found.get(Production, ()):
        events.tell(session, events.Notice(about="production", id=str(one["id"]), production=one["id"]))
    if found.get(SpecificationRecord) or found.get(TreatmentRecord):
        events.tell(session, events.Notice(about="everything"))
    ended = [(one["notice"], one["sha256"]) for one in found.get(CertificateRecord, ()) if one["notice"]]

    def put() -> None:
        for notice, meant in ended:
            certificates.keys().put_notice(notice, meant)

    after_commit(session, put)


def _write(session: Session, model: type[SQLModel], of_it: list[rows.Row]) -> None:
    table = rows.table(model)
    if model is InspectionRecord or model in VERSIONED:
        # Another production may have brought the very same.
        there = set(session.execute(select(*table.primary_key.columns)).tuples())
        of_it = [one for one in of_it if tuple(one[column.name] for column in table.primary_key.columns) not in there]
    if model is Recording:
        # What took the place of another comes first: that one points to it.
        later = {one["id"]: one["replaced_by"] for one in of_it}
        of_it = sorted(of_it, key=lambda one: len(list(_followed(one["id"], later))))
    for start in range(0, len(of_it), rows.AT_ONCE):
        session.execute(table.insert(), of_it[start : start + rows.AT_ONCE])


def _followed(one: Any, later: Mapping[Any, Any]) -> Iterator[Any]:
    """Those that took the place of a recording, one after the other."""
    seen = {one}
    while (after := later.get(one)) is not None and after not in seen:
        seen.add(after)
        yield after
        one = after


def _read(archive: Archive, model: type[SQLModel]) -> Iterator[rows.Row]:
    """The rows of a table in an archive, each of which could be kept here."""
    member = f"{form.ROWS}/{model.__tablename__}.jsonl"
    if member not in archive.sums:
        return
    for number, text in enumerate(_split(archive, member), 1):
        try:
            row = rows.read(text, model)
            _readable(model, row)
        except KeyError as error:
            raise ArchiveTooNew(file=archive.name, reason=f"“{member}” holds {error}, which is not known here") from error
        except (ValueError, TypeError, AttributeError, ValidationError) as error:
            said = "it can't be read" if isinstance(error, ValidationError) else str(error)
            raise archive.changed(f"line {number} of “{member}” can't be used: {said}.") from error
        yield row


def _split(archive: Archive, member: str) -> Iterator[bytes]:
    """The lines of a file."""
    left = b""
    for piece in archive.pieces(member):
        *whole, left = (left + piece).split(b"\n")
        yield from whole
    if left:
        yield left


def _readable(model: type[SQLModel], row: rows.Row) -> None:
    """Whether the documents in a row are such as are read here. Raises ValueError, ValidationError and what else their readers
    raise."""
    if "specification" in row:
        kept.specification(row["specification"])
    if model is SpecificationRecord:
        kept.specification(row["data"])
    elif model is TreatmentRecord:
        kept_treatments.kept_treatment(row["data"])
    elif model is InspectionRecord:
        kept_inspections.inspection(row["data"])
    elif model is Conforming:
        if row["outcome"]:
            kept_outcomes.conformed(row["outcome"])
        if row["treatment"]:
            kept_treatments.kept_treatment(row["treatment"])
    elif model is Planning and row["treatment"]:
        kept_treatments.kept_treatment(row["treatment"])
    elif model is DeliverableRecord and row["outcome"]:
        kept_inspections.inspection(row["outcome"]["after"])
    elif model is DraftState:
        kept_treatments.treatment({"steps": row["steps"]})
    elif model is CertificateRecord:
        _certificate(row)


def _certificate(row: rows.Row) -> None:
    """Whether a certificate is to the letter what was sealed, and its row says what it says. Raises ValueError."""
    for sealed, what in ((row["sealed"], "the certificate"), (row["notice"], "the notice about it")):
        if sealed:
            key = seal.sealing_key(sealed)
            if key is None or not seal.intact(sealed, key):
                raise ValueError(f"{what} of “{row['name']}” is not what was sealed")
    content = row["sealed"]["certificate"]
    stated = forms.read(content)
    same = {
        "sha256": hash_of(content),
        "issued_at": stated.issued,
        "specification_id": stated.specification.id,
        "specification_version": stated.specification.version,
        "file_sha256": None if isinstance(stated, forms.ProductionForm3) else stated.file.sha256,
    }
    other = [name for name, value in same.items() if row[name] != value]
    notice = Notice.model_validate(row["notice"]["notice"]) if row["notice"] else None
    if notice is not None and (notice.certificate, notice.ending) != (row["sha256"], row["ending"]):
        other.append("notice")
    if other or (row["ending"] is not None and notice is None):
        raise ValueError(
            f"what is noted of the certificate of “{row['name']}” is not what it says ({', '.join(other) or 'ending'})"
        )


def _whole(archive: Archive, found: Rows) -> None:
    """Whether all rows are of the one production, and point to what is there. Raises ArchiveChanged."""
    productions, recordings = ({one["id"] for one in found[model]} for model in (Production, Recording))
    if productions != {archive.head.id}:
        raise archive.changed("it holds another production than its head says.")
    for model, of_it in found.items():
        for row in of_it:
            of, recording = row.get("production_id", archive.head.id), row.get("recording_id")
            if of != archive.head.id or (recording is not None and recording not in recordings):
                raise archive.changed(f"“{form.ROWS}/{model.__tablename__}.jsonl” speaks of another production.")


def _stored(archive: Archive, found: Rows) -> dict[str, str]:
    """Where each file is that goes into the store, by its hash. Raises ArchiveChanged where one is missing that a row names."""
    there = {sha256: member for member, sha256 in archive.sums.items() if member.split("/")[0] in form.STORED}
    for model, columns in disk_use.NAMING.items():
        for row in found[model]:
            if model is Conforming and row["cleared_at"] is not None:
                row = {**row, "sha256": None}
            for column in columns:
                if row[column] is not None and row[column] not in there:
                    raise archive.changed(f"the file with SHA-256 {row[column]} is missing from it.")
    return there


def _unknown(archive: Archive, found: Rows) -> list[UnknownKey]:
    """Keys that sealed something in it and are not trusted here."""
    sealing: list[OKPKey | None] = [archive.key]
    sealed = Counter[str]()
    for row in found[CertificateRecord]:
        for one in (row["sealed"], row["notice"]):
            key = seal.sealing_key(one) if one else None
            sealing.append(key)
            sealed[key.thumbprint() if key is not None else ""] += one is row["sealed"]
    trusted = certificates.keys().known().keys
    unknown = {key.thumbprint() for key in sealing if key is not None} - set(trusted)
    return [
        UnknownKey(fingerprint=one, certificates=sealed[one], sealed_archive=one == archive.key.thumbprint())
        for one in sorted(unknown, key=lambda one: (one != archive.key.thumbprint(), one))
    ]


def _alike(session: Session, archive: Archive, found: Rows) -> None:
    """Whether what is kept here under the same name is the same. Raises ArchiveConflicts."""
    for model in VERSIONED:
        for row in found[model]:
            here = session.get(model, (row["identifier"], row["version"]))
            if isinstance(here, VERSIONED) and here.data != row["data"]:
                what = "specification" if model is SpecificationRecord else "treatment"
                raise ArchiveConflicts(file=archive.name, what=what, name=str(row["data"].get("name", "")), version=row["version"])


def of(importing_id: UUID) -> Importing:
    """An archive that came in. Raises NotFound."""
    with transaction() as session:
        found = session.get(Importing, importing_id)
        if found is None:
            raise NotFound(what="archive")
        return found
