"""The register of certificates: what was sealed stays for good. What ends one is a sealed notice beside it."""

from dataclasses import dataclass
from typing import Any, Literal
from uuid import UUID

from sqlmodel import Session, col, select

from ispettore.core.certify import seal
from ispettore.core.certify.certificate import Accepted, Known, hash_of, issuer
from ispettore.core.certify.forms import ProductionForm3
from ispettore.core.certify.forms import read as read_form
from ispettore.core.certify.keys import KeyFolder, default_folder
from ispettore.core.certify.notices import Ending, Notice
from ispettore.core.certify.wording import subject as subject_name
from ispettore.core.deliver.labels import Delivering
from ispettore.core.spec.methods import title_of_finding
from ispettore.studio.catalogue import acceptances
from ispettore.studio.database import after_commit
from ispettore.studio.settings import settings
from ispettore.studio.tables import CertificateRecord, Conforming, DeliverableRecord, Production, Recording, now
from ispettore.studio.who import signed_in

Of = Literal["attempt", "deliverable", "production"]
OFS: dict[str, Of] = {"attempt": "attempt", "deliverable": "deliverable", "production": "production"}


def keys() -> KeyFolder:
    """The folder with the keys of this installation."""
    return KeyFolder(settings().keys or default_folder())


@dataclass(frozen=True)
class Subject:
    """What a certificate is of: an attempt's file, a deliverable, or a production."""

    of: Of
    id: UUID
    production_id: UUID
    recording_id: UUID | None = None


def known(session: Session, recording: Recording, *, listening: str = "") -> Known:
    """What is known of a recording beside its measurement, as its certificate is to say."""
    production = session.get_one(Production, recording.production_id)
    accepted = tuple(
        Accepted(
            kind=one.row.kind,
            title=title_of_finding(one.row.kind),
            start_s=round(one.start_s, 3),
            end_s=round(one.end_s, 3),
            reason=one.row.reason,
        )
        for one in acceptances.reasons(session, recording)
    )
    return Known(certified_by=certified_by(production), accepted=accepted, listening=listening)


def certified_by(production: Production) -> str:
    """Who answers for a production's certificates: whoever asks for them, where they have an account; else as it was said."""
    return signed_in() or Delivering.model_validate(production.delivering or {}).certified_by


def issue(session: Session, content: dict[str, Any], subject: Subject) -> CertificateRecord:
    """Seal what a certificate is to say, and put it into the register; from now on it is the one of what it is of. Raises BadKey
    and KeyExposed."""
    sealed = seal.seal(content, keys().own())
    form, key = read_form(content), seal.sealing_key(sealed)
    record = CertificateRecord(
        sha256=hash_of(content),
        of=subject.of,
        subject_id=subject.id,
        production_id=subject.production_id,
        recording_id=subject.recording_id,
        name=subject_name(form),
        file_sha256=None if isinstance(form, ProductionForm3) else form.file.sha256,
        specification_id=form.specification.id,
        specification_version=form.specification.version,
        key_id=key.thumbprint() if key is not None else "",
        sealed=sealed,
        issued_at=form.issued,
    )
    session.add(record)
    session.flush()
    _hold(session, record, record.id)
    return record


def end(
    session: Session, record: CertificateRecord, ending: Ending, *, reason: str, by: str = "", successor: str | None = None
) -> None:
    """End a certificate with a sealed notice, which is put beside the keys as well, for the command line of this machine."""
    notice = Notice(
        certificate=record.sha256,
        ending=ending,
        when=now().replace(microsecond=0),
        reason=reason,
        by=by,
        successor=successor,
        issuer=issuer(),
    )
    record.ending, record.ended_at, record.reason, record.successor_sha256 = ending, notice.when, reason, successor
    record.notice = seal.seal(notice.model_dump(mode="json"), keys().own(), what="notice")
    session.add(record)
    sealed, meant = record.notice, record.sha256
    after_commit(session, lambda: keys().put_notice(sealed, meant))
    if ending == "withdrawn":
        _hold(session, record, None)


def _hold(session: Session, record: CertificateRecord, held: UUID | None) -> None:
    """Let what a certificate is of say which one counts for it."""
    row: Conforming | DeliverableRecord
    if record.of == "attempt":
        row = session.get_one(Conforming, record.subject_id)
    elif record.of == "deliverable":
        row = session.get_one(DeliverableRecord, record.subject_id)
    else:
        return
    if held is not None or row.certificate_id == record.id:
        row.certificate_id = held
        session.add(row)


def all_notices(session: Session) -> list[dict[str, Any]]:
    """Every sealed notice that was issued here."""
    rows = select(CertificateRecord.notice).where(col(CertificateRecord.ended_at).is_not(None))
    return [dict(notice) for notice in session.exec(rows).all() if notice]


def of_earlier(session: Session, record: CertificateRecord) -> list[CertificateRecord]:
    """The certificates of a recording's other deliverables that nothing ended."""
    rows = select(CertificateRecord).where(
        CertificateRecord.of == record.of,
        CertificateRecord.recording_id == record.recording_id,
        CertificateRecord.id != record.id,
        col(CertificateRecord.ended_at).is_(None),
    )
    return list(session.exec(rows).all())


def standing(session: Session, of: Of, subject_id: UUID) -> CertificateRecord | None:
    """The newest certificate of something that nothing ended."""
    rows = select(CertificateRecord).where(
        CertificateRecord.of == of, CertificateRecord.subject_id == subject_id, col(CertificateRecord.ended_at).is_(None)
    )
    return session.exec(rows.order_by(col(CertificateRecord.issued_at).desc()).limit(1)).first()
