"""The certificates of this installation: listed, looked at, withdrawn, and issued again with what is known by now."""

from collections.abc import Sequence
from typing import Any
from uuid import UUID

from sqlalchemy import func
from sqlmodel import Session, col, select

from ispettore.core.certify import forms
from ispettore.core.certify.certificate import issuer
from ispettore.core.certify.forms import CertificateForm3, ProductionForm3
from ispettore.core.certify.wording import tell
from ispettore.core.measure import methods_history, ribbon
from ispettore.core.text import refuse
from ispettore.studio import events
from ispettore.studio.catalogue import certificates
from ispettore.studio.catalogue.certificates import OFS, Of, Subject
from ispettore.studio.catalogue.views import RibbonView, SpecificationName
from ispettore.studio.certifying.views import CertificateList, CertificateRow, CertificateView, PartView, Stands
from ispettore.studio.database import transaction
from ispettore.studio.delivering import listenings
from ispettore.studio.errors import AlreadyErased, CertificateEnded, CertificateTooOld, EndingWithoutReason, NotFound
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import CertificateRecord, Conforming, DeliverableRecord, Production, Recording, now
from ispettore.studio.who import signed_in

MOST = 200
LONGEST_REASON = 1_000
_content = col(CertificateRecord.sealed)["certificate"]
_COLUMNS: tuple[Any, ...] = (
    CertificateRecord.id,
    CertificateRecord.sha256,
    CertificateRecord.of,
    CertificateRecord.name,
    CertificateRecord.production_id,
    Production.name,
    CertificateRecord.recording_id,
    CertificateRecord.specification_id,
    _content["specification"]["name"].astext,
    CertificateRecord.specification_version,
    CertificateRecord.issued_at,
    func.coalesce(_content["certified_by"].astext, ""),
    CertificateRecord.key_id,
    CertificateRecord.ending,
    CertificateRecord.ended_at,
    CertificateRecord.reason,
    CertificateRecord.successor_sha256,
    _content["methods_version"].as_integer(),
)


def listed(
    *,
    production: UUID | None = None,
    of: Of | None = None,
    stands: Stands | None = None,
    search: str = "",
    start: int = 0,
    count: int = MOST,
) -> CertificateList:
    """The certificates that match, the newest first: of one production, by what they are of, how they stand, and what is in their
    name or hash."""
    wanted: list[Any] = [CertificateRecord.of == of] if of is not None else []
    if production is not None:
        wanted.append(CertificateRecord.production_id == production)
    if stands is not None:
        wanted.append(col(CertificateRecord.ending).is_(None) if stands == "stands" else CertificateRecord.ending == stands)
    if search.strip():
        said = search.strip()
        in_name = col(CertificateRecord.name).icontains(said, autoescape=True)
        wanted.append(in_name | col(CertificateRecord.sha256).startswith(said, autoescape=True))
    with transaction() as session:
        rows = select(*_COLUMNS).join(Production, col(Production.id) == CertificateRecord.production_id).where(*wanted)
        standing_first = col(CertificateRecord.ended_at).desc().nulls_first()
        newest_first = (
            col(CertificateRecord.issued_at).desc(),
            col(CertificateRecord.name),
            standing_first,
            col(CertificateRecord.id),
        )
        found = session.exec(rows.order_by(*newest_first).offset(start).limit(min(count, MOST))).all()
        total = session.exec(select(func.count()).select_from(CertificateRecord).where(*wanted)).one()
        having = select(CertificateRecord.production_id).distinct()
        named = session.exec(select(Production.id, Production.name).where(col(Production.id).in_(having))).all()
        return CertificateList(rows=_rows(session, found), total=total, productions=dict(sorted(named, key=lambda one: one[1])))


def _rows(session: Session, found: Sequence[Any]) -> list[CertificateRow]:
    known = _known(session, [row[-2] for row in found if row[-2]])
    return [_row(*row, known=known) for row in found]


def _row(
    identifier: UUID, sha256: str, of: str, name: str, production: UUID, production_name: str, recording: UUID | None,
    specification: str, called: str, version: int, issued_at: Any, certified_by: str, key: str, ending: str | None, ended_at: Any,
    reason: str, successor: str | None, methods: int, *, known: dict[str, UUID],
) -> CertificateRow:  # fmt: skip
    """From the columns, in their order."""
    return CertificateRow(
        id=identifier,
        sha256=sha256,
        of=OFS[of],
        name=name,
        production=production,
        production_name=production_name,
        recording=recording,
        specification=SpecificationName(id=specification, name=called, version=version),
        issued_at=issued_at,
        certified_by=certified_by,
        key=key,
        stands=_stands(ending),
        ended_at=ended_at,
        reason=reason,
        successor=known.get(successor or ""),
        older_methods=methods < methods_history.current(),
    )


def _stands(ending: str | None) -> Stands:
    return "stands" if ending is None else "withdrawn" if ending == "withdrawn" else "superseded"


def _known(session: Session, hashes: Sequence[str]) -> dict[str, UUID]:
    """Which of these certificates are here, by their hashes."""
    rows = select(CertificateRecord.sha256, CertificateRecord.id).where(col(CertificateRecord.sha256).in_(hashes))
    return dict(session.exec(rows).all())


def there(session: Session, certificate_id: UUID, *, lock: bool = False) -> CertificateRecord:
    """A certificate. Raises NotFound."""
    record = session.get(CertificateRecord, certificate_id, with_for_update=lock or None)
    if record is None:
        raise NotFound(what="certificate")
    return record


def view(certificate_id: UUID) -> CertificateView:
    """One certificate, as its print shows it. Raises NotFound."""
    with transaction() as session:
        record = there(session, certificate_id)
        rows = select(*_COLUMNS).join(Production, col(Production.id) == CertificateRecord.production_id)
        row = _rows(session, session.exec(rows.where(CertificateRecord.id == certificate_id)).all())[0]
        form = forms.read(record.sealed["certificate"])
        told = tell(record.sealed, form, listened=heard(record))
        drawn = ribbon_of(session, record)
        before = record.sealed["certificate"].get("supersedes")
        roles = {key.fingerprint: key.role for key in certificates.keys().listed()}
        return CertificateView(
            row=row,
            title=told.title,
            met=told.met,
            statement=form.statement,
            lines=list(told.lines),
            limits=list(told.limits),
            steps=list(told.steps) if told.steps is not None else None,
            accepted=list(told.accepted),
            files=_parts(session, form) if isinstance(form, ProductionForm3) else [],
            ribbon=RibbonView.of(drawn) if drawn is not None else None,
            methods="Its readings were taken by older methods; it is genuine all the same." if row.older_methods else "",
            replaces=_known(session, [before]).get(before) if before else None,
            key_role=roles.get(record.key_id),
        )


def heard(record: CertificateRecord) -> str:
    """How far the certified file was listened to by now, in words."""
    return listenings.told(record.file_sha256) if record.file_sha256 else ""


def ribbon_of(session: Session, record: CertificateRecord) -> ribbon.Ribbon | None:
    """The miniature of a certified file, where it is kept."""
    attempt = record.subject_id
    if record.of == "deliverable":
        attempt = session.get_one(DeliverableRecord, record.subject_id).conforming_id
    elif record.of != "attempt":
        return None
    packed = session.get_one(Conforming, attempt).ribbon
    return ribbon.unpacked(packed) if packed else None


def _parts(session: Session, form: ProductionForm3) -> list[PartView]:
    meant = [part.certificate for part in form.files]
    columns: tuple[Any, ...] = (CertificateRecord.sha256, CertificateRecord.id, CertificateRecord.ending)
    rows = session.exec(select(*columns).where(col(CertificateRecord.sha256).in_(meant))).all()
    here = {sha256: (identifier, _stands(ending)) for sha256, identifier, ending in rows}
    found = []
    for part in form.files:
        certificate, stands = here.get(part.certificate, (None, None))
        told = {name: getattr(part, name) for name in ("name", "size_bytes", "sha256", "listening")}
        found.append(PartView(**told, certificate=certificate, stands=stands))
    return found


def withdraw(certificate_id: UUID, *, reason: str, by: str = "") -> None:
    """Withdraw a certificate for good. Raises NotFound, EndingWithoutReason, BadText, and CertificateEnded where it was
    withdrawn before."""
    who = signed_in() or refuse(by.strip(), what="The name")
    with transaction() as session:
        record = there(session, certificate_id, lock=True)
        said = _said(reason, record.name)
        if record.ending == "withdrawn":
            raise CertificateEnded(file=record.name, ending=record.ending)
        certificates.end(session, record, "withdrawn", reason=said, by=who)
        tell_of(session, record)


def issue_again(certificate_id: UUID, store: Store, *, reason: str) -> UUID:
    """Issue a file's certificate again, with what is known beside its measurement by now (who answers for it, accepted findings,
    how far it was listened to); the one before is superseded by it. The file is hashed first. Raises NotFound, EndingWithoutReason,
    BadText, CertificateEnded, CertificateTooOld for one of an earlier form, AlreadyErased, NotInStore and ContentChanged."""
    with transaction() as session:
        before = there(session, certificate_id)
        of = session.get(Recording, before.recording_id) if before.recording_id is not None else None
        if of is not None and of.erased_at is not None:
            raise AlreadyErased(name=before.name)
    if before.file_sha256 and before.ending is None:
        store.check(before.file_sha256, name=before.name)
    with transaction() as session:
        record = there(session, certificate_id, lock=True)
        said = _said(reason, record.name)
        if record.ending is not None:
            raise CertificateEnded(file=record.name, ending=record.ending)
        content = record.sealed["certificate"]
        if record.recording_id is None or not isinstance(forms.read(content), CertificateForm3):
            raise CertificateTooOld(file=record.name)
        known = certificates.known(session, session.get_one(Recording, record.recording_id), listening=heard(record))
        anew = {
            **content,
            **known.model_dump(mode="json"),
            "issued": now().replace(microsecond=0).isoformat().replace("+00:00", "Z"),
            "issuer": issuer(),
            "supersedes": record.sha256,
        }
        subject = Subject(OFS[record.of], record.subject_id, record.production_id, record.recording_id)
        found = certificates.issue(session, anew, subject)
        certificates.end(session, record, "superseded", reason=said, by=known.certified_by, successor=found.sha256)
        tell_of(session, record)
        return found.id


def _said(reason: str, name: str) -> str:
    if not reason.strip():
        raise EndingWithoutReason(file=name)
    return refuse(reason.strip()[:LONGEST_REASON], what="The reason")


def tell_of(session: Session, record: CertificateRecord) -> None:
    """Have pages ask again for what shows a certificate."""
    if record.recording_id is not None:
        events.tell_of(session, session.get_one(Recording, record.recording_id))
    events.tell(session, events.Notice(about="production", id=str(record.production_id), production=record.production_id))
