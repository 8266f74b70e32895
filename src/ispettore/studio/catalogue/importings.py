"""Archives that came in: noted, asked to be imported, and let go of."""

from uuid import UUID

from sqlmodel import Session, select

from ispettore.studio import events
from ispettore.studio.catalogue import naming
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound, NotReady
from ispettore.studio.jobs import works
from ispettore.studio.store.blobs import Blob, Store
from ispettore.studio.store.placing import clearing
from ispettore.studio.tables import Importing, WorkKind


def add(name: str, blob: Blob) -> UUID:
    """Note an archive that is in the store, and have it imported. The same one is there once; where it brought nothing it is tried
    again."""
    with transaction() as session:
        there = session.exec(select(Importing).where(Importing.sha256 == blob.sha256).with_for_update()).first()
        if there is None:
            there = Importing(file_name=name, sha256=blob.sha256, size_bytes=blob.size_bytes)
            session.add(there)
            session.flush()
        _ask(session, there)
        return there.id


def again(importing_id: UUID) -> None:
    """Try once more. Raises NotFound."""
    with transaction() as session:
        _ask(session, there(session, importing_id))


def discard(importing_id: UUID, store: Store) -> None:
    """Let go of an archive that came in; what was imported of it stays. Raises NotFound, and NotReady while it is read."""
    with clearing(), transaction() as session:
        importing = there(session, importing_id)
        if works.under_way(session, WorkKind.IMPORT, importing.id):
            raise NotReady(file=importing.file_name, reason="is being imported")
        session.delete(importing)
        session.flush()
        if importing.sha256 is not None:
            naming.remove_unnamed(session, {importing.sha256}, store)
        _tell(session, importing)


def drop_file(importing_id: UUID, store: Store) -> None:
    """Let go of the file of an archive whose production is here now."""
    with clearing(), transaction() as session:
        importing = session.get(Importing, importing_id, with_for_update=True)
        if importing is None or importing.sha256 is None or not (importing.outcome or {}).get("production"):
            return
        gone, importing.sha256 = importing.sha256, None
        session.add(importing)
        session.flush()
        naming.remove_unnamed(session, {gone}, store)


def _ask(session: Session, importing: Importing) -> None:
    if importing.sha256 is not None and not works.under_way(session, WorkKind.IMPORT, importing.id):
        works.ask(session, WorkKind.IMPORT, importing.id, of=None)


def there(session: Session, importing_id: UUID) -> Importing:
    """An archive that came in, held for writing to. Raises NotFound."""
    importing = session.get(Importing, importing_id, with_for_update=True)
    if importing is None:
        raise NotFound(what="archive")
    return importing


def _tell(session: Session, importing: Importing) -> None:
    events.tell(session, events.Notice(about=WorkKind.IMPORT, id=str(importing.id)))
