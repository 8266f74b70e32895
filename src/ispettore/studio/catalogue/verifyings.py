"""Checking certificates against files, in the background like all measuring."""

from uuid import UUID

from ispettore.core.certify import seal
from ispettore.core.text import refuse
from ispettore.studio.catalogue.views import Verified, VerifyingView
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.jobs import works
from ispettore.studio.store.blobs import Blob
from ispettore.studio.tables import Verifying, WorkKind


def create(file_name: str, certificate_name: str, certificate: str) -> UUID:
    """Note a check; its file follows. Raises NotACertificate at once where it plainly is none."""
    for shown, what in ((file_name, "The file's name"), (certificate_name, "The certificate's name")):
        refuse(shown, what=what)
    seal.parse(certificate.encode(), name=certificate_name)
    with transaction() as session:
        verifying = Verifying(file_name=file_name, certificate_name=certificate_name, certificate=certificate)
        session.add(verifying)
        return verifying.id


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
