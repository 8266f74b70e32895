"""The keys that seal here and those that are trusted: shown, handed out, taken in, rolled over."""

from sqlmodel import col, func, select

from ispettore.core.text import refuse
from ispettore.studio import events
from ispettore.studio.catalogue import certificates
from ispettore.studio.certifying.views import KeysView, KeyView
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.tables import CertificateRecord


def view() -> KeysView:
    """All keys whose seals count, the one in use first; it is made here, if there is none yet. Raises KeyExposed and BadKey."""
    folder = certificates.keys()
    folder.own()
    with transaction() as session:
        rows = select(CertificateRecord.key_id, func.count()).group_by(col(CertificateRecord.key_id))
        sealed = dict(session.exec(rows).all())
    keys = [
        KeyView(
            fingerprint=key.fingerprint,
            role=key.role,
            name=key.name,
            since=key.since,
            certificates=sealed.get(key.fingerprint, 0),
        )
        for key in folder.listed()
    ]
    return KeysView(keys=keys, problems=list(folder.known().problems))


def public(fingerprint: str) -> tuple[str, bytes]:
    """A public key as PEM, and what its file is called. Raises NotFound."""
    for key in certificates.keys().listed():
        if key.fingerprint == fingerprint:
            return f"{'ispettore' if key.role != 'trusted' else key.name} {fingerprint[:8]}.pem", key.pem
    raise NotFound(what="key")


def trust(content: bytes, *, name: str) -> str:
    """Count the seals of somebody's key; its fingerprint. Raises BadKey and BadText."""
    found = certificates.keys().trust(content, name=refuse(name.strip() or "key", what="The name"))
    _tell()
    return found


def distrust(fingerprint: str) -> None:
    """Count the seals of somebody's key no more. Raises NotFound, for one of this installation as well."""
    if not certificates.keys().distrust(fingerprint):
        raise NotFound(what="key of somebody else")
    _tell()


def roll() -> str:
    """Seal with a new key from now on; its fingerprint. Raises KeyExposed and BadKey."""
    found = certificates.keys().roll()
    _tell()
    return found


def _tell() -> None:
    with transaction() as session:
        events.tell(session, events.Notice(about="keys", id=""))
