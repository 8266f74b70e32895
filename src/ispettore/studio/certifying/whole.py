"""The certificate of a production: issued when every file is made as it was asked for and the limits on the production are met."""

from dataclasses import dataclass
from uuid import UUID

from sqlmodel import Session, col, select

from ispettore.core.certify.certificate import CertifiedPart, certify_production, issuer
from ispettore.core.measure import methods_history
from ispettore.core.spec import kept
from ispettore.core.spec.delivery import NotWritable
from ispettore.core.spec.verdict import LimitVerdict
from ispettore.core.text import refuse
from ispettore.studio.catalogue import certificates, sheets
from ispettore.studio.catalogue.certificates import Subject
from ispettore.studio.certifying import register
from ispettore.studio.certifying.views import ProductionCertified
from ispettore.studio.database import snapshot, transaction
from ispettore.studio.delivering import asking, deliverables, listenings
from ispettore.studio.delivering.views import DeliveryRow
from ispettore.studio.errors import NotCertified
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import CertificateRecord, DeliverableRecord, Production, now
from ispettore.studio.who import signed_in

NAMED = 3


@dataclass(frozen=True)
class _Ready:
    """The files of a production as they would be certified, the limits on it, and what speaks against certifying it."""

    parts: list[CertifiedPart]
    limits: list[LimitVerdict]
    problem: str


def state(production_id: UUID) -> ProductionCertified:
    """Whether a production is certified, and could be. Raises NotFound."""
    with snapshot() as session:
        production = asking.there(session, production_id)
        found, record = _ready(session, production), certificates.standing(session, "production", production_id)
        if record is None or found.problem:
            return ProductionCertified(certificate=record.id if record else None, current=False, more=False, problem=found.problem)
        current = _same(record, production, found)
        more = current and not _says_all(record, production, found)
        return ProductionCertified(certificate=record.id, current=current, more=more, problem="")


def certify(production_id: UUID, store: Store, *, reason: str = "") -> UUID:
    """Certify a production; the certificate that stands where it says just this already. One of other files or limits is
    superseded. Every file is hashed first.

    Raises NotFound, BadText, NotInStore, ContentChanged, and NotCertified with what is missing.
    """
    hashed: set[str] = set()
    with snapshot() as session:
        parts = _ready(session, asking.there(session, production_id)).parts
    _hash(parts, store, hashed)
    with transaction() as session:
        production = asking.there(session, production_id, lock=True)
        found, before = _ready(session, production), certificates.standing(session, "production", production_id)
        if before is not None and not found.problem and _says_all(before, production, found):
            return before.id
        certificate = (
            None
            if found.problem
            else certify_production(
                production.name,
                found.parts,
                found.limits,
                kept.specification(production.specification),
                issued=now().replace(microsecond=0),
                issuer=issuer(),
                methods_version=methods_history.current(),
                certified_by=certificates.certified_by(production),
                supersedes=before.sha256 if before is not None else None,
            )
        )
        _hash(found.parts, store, hashed)  # those that were made meanwhile
        if certificate is None:
            raise NotCertified(production=production.name, reason=found.problem)
        record = certificates.issue(session, certificate.plain(), Subject("production", production_id, production_id))
        if before is not None:
            said = refuse(reason.strip(), what="The reason") or _why(before, found)
            certificates.end(session, before, "superseded", reason=said, by=certificate.certified_by, successor=record.sha256)
        register.tell_of(session, record)
        return record.id


def _hash(parts: list[CertifiedPart], store: Store, hashed: set[str]) -> None:
    """Hold each file against its hash, unless that was done. Raises NotInStore and ContentChanged."""
    for part in parts:
        if part.sha256 not in hashed:
            store.check(part.sha256, name=part.name)
            hashed.add(part.sha256)


def _ready(session: Session, production: Production) -> _Ready:
    specification = kept.specification(production.specification)
    try:
        rows = deliverables.rows(session, production)
    except NotWritable as error:
        return _Ready([], [], error.sentence)
    made = [row for row in rows if row.state == "made"]
    limits = sheets.whole(session, production, deliverables.read(session, made, specification))
    return _Ready(_parts(session, made), limits, _problem(rows, limits))


def _parts(session: Session, made: list[DeliveryRow]) -> list[CertifiedPart]:
    columns = (DeliverableRecord.id, CertificateRecord.sha256)
    held = select(*columns).join(CertificateRecord, col(CertificateRecord.id) == DeliverableRecord.certificate_id)
    of = dict(session.exec(held.where(col(DeliverableRecord.id).in_([row.deliverable for row in made]))).all())
    heard = listenings.in_words(session, [row.sha256 for row in made if row.sha256])
    return [
        CertifiedPart(
            name=row.file_name,
            sha256=row.sha256,
            size_bytes=row.size_bytes,
            entry=row.entry,
            certificate=of[row.deliverable],
            listening=heard.get(row.sha256, ""),
        )
        for row in made
        if row.sha256 is not None and row.size_bytes is not None and row.deliverable in of
    ]


def _problem(rows: list[DeliveryRow], limits: list[LimitVerdict]) -> str:
    """What speaks against certifying, in a sentence; empty where nothing does."""
    missing = [row.file_name for row in rows if row.state != "made"]
    if not rows:
        return "There are no recordings in it."
    if missing:
        return f"{len(missing)} of {len(rows)} files {'is' if len(missing) == 1 else 'are'} not made yet: {_named(missing)}."
    missed = [limit.title for limit in limits if limit.severity == "must" and not limit.passes]
    return f"It misses {' and '.join(missed)}." if missed else ""


def _same(record: CertificateRecord, production: Production, found: _Ready) -> bool:
    """Whether a certificate is of just the files there are now, for the specification of now."""
    content, specification = record.sealed["certificate"], production.specification
    asked = (specification["id"], specification["version"])
    stated = (content["specification"]["id"], content["specification"]["version"])
    return asked == stated and [part["certificate"] for part in content["files"]] == [part.certificate for part in found.parts]


def _says_all(record: CertificateRecord, production: Production, found: _Ready) -> bool:
    """Whether a certificate says of a production all that one issued now would. Where people have accounts, it names whoever
    certified it, and not who looks."""
    content = record.sealed["certificate"]
    by = content["certified_by"] if signed_in() else certificates.certified_by(production)
    named = (content["production"], content["certified_by"]) == (production.name, by)
    told = content["files"] == [part.model_dump(mode="json") for part in found.parts]
    return named and told and _same(record, production, found)


def _why(before: CertificateRecord, found: _Ready) -> str:
    """Why a certificate is issued in the place of another, where nobody said so."""
    was = {part["name"]: part["sha256"] for part in before.sealed["certificate"]["files"]}
    now_ = {part.name: part.sha256 for part in found.parts}
    changed = [name for name in now_ if was.get(name) != now_[name]] + [name for name in was if name not in now_]
    return f"Files changed since: {_named(changed)}." if changed else "It was certified again, with what is known by now."


def _named(files: list[str]) -> str:
    """The first of them by name, and how many more there are."""
    return ", ".join(files[:NAMED]) + (f" and {len(files) - NAMED} more" if len(files) > NAMED else "")
