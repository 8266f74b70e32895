"""Checking certificates against files, in the background like all measuring."""

import base64
from collections.abc import Sequence
from uuid import UUID

from ispettore.core.certify import notices, pdf, seal
from ispettore.core.errors import NotACertificate
from ispettore.core.text import refuse
from ispettore.studio.certifying.views import Verified, VerifyingView
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.jobs import works
from ispettore.studio.store.blobs import Blob
from ispettore.studio.tables import Verifying, WorkKind

PDF = "data:application/pdf;base64,"
"""How a printed certificate is kept as text (RFC 2397)."""


def create(file_name: str | None, certificate_name: str, certificate: str, told: Sequence[str] = ()) -> UUID:
    """Note a check; its file follows, where it has one (`file_name`), else the certificate alone is checked. `certificate` is JSON,
    or a PDF as a data URL; `told` are notices handed in with it.

    Raises NotACertificate at once where something plainly is none.
    """
    for shown, what in ((file_name or "", "The file's name"), (certificate_name, "The certificate's name")):
        refuse(shown, what=what)
    if not certificate.startswith(PDF):
        seal.parse(certificate.encode(), name=certificate_name)
    elif not pdf.is_pdf(content(certificate)):
        raise NotACertificate(file=certificate_name, reason="it is no PDF")
    given = [notices.parse(text.encode(), name="the notice") for text in told]
    with transaction() as session:
        verifying = Verifying(
            file_name=file_name or certificate_name,
            certificate_name=certificate_name,
            certificate=certificate,
            given=file_name is not None,
            notices=given,
        )
        session.add(verifying)
        session.flush()
        if file_name is None:
            works.ask(session, WorkKind.VERIFY, verifying.id, of=None)
        return verifying.id


def content(certificate: str) -> bytes:
    """A certificate's file as it was handed in. Raises NotACertificate."""
    if not certificate.startswith(PDF):
        return certificate.encode()
    try:
        return base64.b64decode(certificate.removeprefix(PDF), validate=True)
    except ValueError as error:
        raise NotACertificate(file="the certificate", reason="it is no PDF") from error


def attach(verifying_id: UUID, blob: Blob) -> None:
    """Give a check its stored file, and have it done. Raises NotFound."""
    with transaction() as session:
        verifying = session.get(Verifying, verifying_id)
        if verifying is None:
            raise NotFound(what="check")
        verifying.sha256 = blob.sha256
        session.add(verifying)
        works.ask(session, WorkKind.VERIFY, verifying.id, of=None)


def view(verifying_id: UUID) -> VerifyingView:
    """One check and its report. Raises NotFound."""
    with transaction() as session:
        verifying = session.get(Verifying, verifying_id)
        if verifying is None:
            raise NotFound(what="check")
        work = works.newest(session, WorkKind.VERIFY, [verifying_id]).get(verifying_id)
        report = verifying.report
        return VerifyingView(
            id=verifying.id,
            file_name=verifying.file_name,
            certificate_name=verifying.certificate_name,
            work=works.view(work),
            report=Verified.model_validate(report) if report else None,
        )
