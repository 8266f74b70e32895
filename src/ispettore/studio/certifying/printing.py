"""Certificates as files: the sealed JSON in its canonical form, the print that carries it, and the notice that ends it."""

import io
from uuid import UUID

import rfc8785

from ispettore.core import errors
from ispettore.core.certify import report
from ispettore.core.certify.notices import Notice
from ispettore.core.certify.report import Beside
from ispettore.core.deliver import naming
from ispettore.studio.catalogue import certificates
from ispettore.studio.catalogue.certificates import Of
from ispettore.studio.certifying import register
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.tables import Conforming, DeliverableRecord


def document(certificate_id: UUID) -> tuple[str, bytes]:
    """The sealed certificate, and what its file is called. Raises NotFound."""
    with transaction() as session:
        record = register.there(session, certificate_id)
        return f"{record.name}{naming.BESIDE}", rfc8785.dumps(record.sealed) + b"\n"


def printed(certificate_id: UUID) -> tuple[str, bytes]:
    """Its print, with the certificate inside. Raises NotFound."""
    with transaction() as session:
        record = register.there(session, certificate_id)
        drawn = register.ribbon_of(session, record)
    notice = Notice.model_validate(record.notice["notice"]) if record.notice else None
    page = io.BytesIO()
    try:
        key = certificates.keys().own()
    except errors.IspettoreError:
        key = None  # the page is not sealed then, and says so when it is checked; what counts is inside
    report.write(record.sealed, drawn, page, beside=Beside(listened=register.heard(record), notice=notice), key=key)
    return f"{record.name}.certificate.pdf", page.getvalue()


def notice(certificate_id: UUID) -> tuple[str, bytes]:
    """The sealed notice that ended it. Raises NotFound where nothing did."""
    with transaction() as session:
        record = register.there(session, certificate_id)
    if record.notice is None:
        raise NotFound(what="notice")
    return f"{record.name}.notice.json", rfc8785.dumps(record.notice) + b"\n"


def of(what: Of, subject_id: UUID) -> UUID:
    """The certificate that counts for an attempt or a deliverable. Raises NotFound."""
    with transaction() as session:
        row: Conforming | DeliverableRecord | None
        row = session.get(Conforming, subject_id) if what == "attempt" else session.get(DeliverableRecord, subject_id)
        if row is None or row.certificate_id is None:
            raise NotFound(what="certificate")
        return row.certificate_id
