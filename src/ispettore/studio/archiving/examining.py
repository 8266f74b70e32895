"""Examining an archive: every row of it as it could be kept here, one at a time, and whether all of them make one production.

What is needed of a row for that is kept, and no more: an archive may hold more than fits into memory.
"""

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from uuid import UUID

from pydantic import ValidationError
from sqlmodel import Session, SQLModel

from ispettore.core.archive import form
from ispettore.core.archive.checking import Archive, ArchiveTooNew
from ispettore.core.certify import forms, seal
from ispettore.core.certify.certificate import hash_of
from ispettore.core.certify.notices import Notice
from ispettore.core.edit.edits import Edits
from ispettore.core.measure import kept as kept_inspections
from ispettore.core.measure import methods_history
from ispettore.core.plan import kept as kept_outcomes
from ispettore.core.progress import Progress
from ispettore.core.spec import kept
from ispettore.core.treat import kept as kept_treatments
from ispettore.studio.archiving import rows
from ispettore.studio.archiving.views import UnknownKey
from ispettore.studio.catalogue import certificates, naming
from ispettore.studio.errors import ArchiveConflicts
from ispettore.studio.tables import (
    CertificateRecord,
    Conforming,
    DeliverableRecord,
    DraftState,
    EditList,
    InspectionRecord,
    Planning,
    Production,
    Recording,
    SpecificationRecord,
    TreatmentRecord,
)

VERSIONED = (SpecificationRecord, TreatmentRecord)


@dataclass
class Examined:
    """What the rows of an archive say: of which production and recordings they are, which files they name by their hashes, what was
    written in versions, and which keys sealed how many certificates."""

    productions: set[UUID] = field(default_factory=set)
    recordings: set[UUID] = field(default_factory=set)
    pointing: list[tuple[str, UUID | None, UUID | None]] = field(default_factory=list)
    named: set[str] = field(default_factory=set)
    versions: list[tuple[type[SQLModel], rows.Row]] = field(default_factory=list)
    sealed: Counter[str] = field(default_factory=Counter)


def examine(archive: Archive, progress: Progress) -> Examined:
    """Read every row of an archive. Raises ArchiveChanged, ArchiveTooNew and Cancelled."""
    found = Examined()
    found.sealed[archive.key.thumbprint()] += 0
    for place, model in enumerate(rows.TABLES):
        for row in read(archive, model, examined=True):
            progress("Reading the data", place / len(rows.TABLES))
            _note(found, model, row)
    if found.productions != {archive.head.id}:
        raise archive.changed("it holds another production than its head says.")
    for table, production, recording in found.pointing:
        if production not in (None, archive.head.id) or (recording is not None and recording not in found.recordings):
            raise archive.changed(f"“{form.ROWS}/{table}.jsonl” speaks of another production.")
    if missing := sorted(found.named - set(archive.stored)):
        raise archive.changed(f"the file with SHA-256 {missing[0]} is missing from it.")
    return found


def _note(found: Examined, model: type[SQLModel], row: rows.Row) -> None:
    if model is Production:
        found.productions.add(row["id"])
    elif model is Recording:
        found.recordings.add(row["id"])
    found.pointing.append((str(model.__tablename__), row.get("production_id"), row.get("recording_id")))
    found.named |= naming.of_row(model, row)
    if model in VERSIONED:
        found.versions.append((model, row))
    if model is CertificateRecord:
        for sealed in (row["sealed"], row["notice"]):
            key = seal.sealing_key(sealed) if sealed else None
            if key is not None:
                found.sealed[key.thumbprint()] += sealed is row["sealed"]


def unknown(archive: Archive, found: Examined) -> list[UnknownKey]:
    """Keys that sealed something in it and are not trusted here, that of the archive first."""
    own, trusted = archive.key.thumbprint(), certificates.keys().known().keys
    return [
        UnknownKey(fingerprint=one, certificates=found.sealed[one], sealed_archive=one == own)
        for one in sorted(set(found.sealed) - set(trusted), key=lambda one: (one != own, one))
    ]


def alike(session: Session, archive: Archive, found: Examined) -> None:
    """Whether what is kept here under the same name is the same. Raises ArchiveConflicts."""
    for model, row in found.versions:
        here = session.get(model, (row["identifier"], row["version"]))
        if isinstance(here, VERSIONED) and here.data != row["data"]:
            what = "specification" if model is SpecificationRecord else "treatment"
            raise ArchiveConflicts(file=archive.name, what=what, name=str(row["data"].get("name", "")), version=row["version"])


def read(archive: Archive, model: type[SQLModel], *, examined: bool = False) -> Iterator[rows.Row]:
    """The rows of a table in an archive; each `examined`, whether its documents could be kept here. Raises ArchiveChanged and
    ArchiveTooNew."""
    member = f"{form.ROWS}/{model.__tablename__}.jsonl"
    if member not in archive.sums:
        return
    for number, text in enumerate(_split(archive, member), 1):
        try:
            row = rows.read(text, model)
            if examined:
                _readable(model, row)
        except rows.UnknownColumn as error:
            raise ArchiveTooNew(file=archive.name, reason=f"“{member}” holds “{error}”, which is not known here") from error
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            plain = isinstance(error, ValueError) and not isinstance(error, ValidationError)
            said = str(error) if plain else "it can't be read"
            raise archive.changed(f"line {number} of “{member}” can't be used: {said}.") from error
        if model is InspectionRecord and row["methods_version"] > methods_history.current():
            raise ArchiveTooNew(file=archive.name, reason=f"it was measured by methods of version {row['methods_version']}")
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
    elif model is EditList:
        Edits.model_validate(row["edits"])
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
