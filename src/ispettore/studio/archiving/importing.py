"""Importing an archive: checked as a whole first, then its files put in the store, then its rows written in one transaction.

What it holds is here afterwards as it was where it was made, down to the identifiers and hashes. Seals count only by keys that are
trusted here: as long as one is unknown, nothing is imported, and the key is shown to be trusted by hand.
"""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from itertools import islice
from typing import Any
from uuid import UUID

from sqlmodel import Session, SQLModel, col, select

from ispettore.core.archive import checking, form
from ispettore.core.archive.checking import Archive
from ispettore.core.errors import BadKey, Cancelled
from ispettore.studio import events
from ispettore.studio.archiving import examining, rows
from ispettore.studio.archiving.making import Told
from ispettore.studio.archiving.views import Imported, ImportView
from ispettore.studio.catalogue import certificates, importings
from ispettore.studio.database import after_commit, transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.jobs import works
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import Store
from ispettore.studio.store.placing import placing
from ispettore.studio.tables import (
    CertificateRecord,
    Importing,
    InspectionRecord,
    Production,
    Recording,
    WorkKind,
)


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


def brought_in(archive: Archive, store: Store, told: Told) -> Imported:
    """An archive, checked, with its files in the store: what is to be said of it. Its rows are to be written (`write`), unless its
    production was here before, or keys are to be trusted first.

    Raises ArchiveChanged, ArchiveTooNew, ArchiveConflicts, NoRoomLeft and Cancelled.
    """

    def watched(stage: str, fraction: float) -> None:
        if told(stage, fraction):
            raise Cancelled()

    checking.check(archive, watched)
    found, head = examining.examine(archive, watched), archive.head
    if unknown := examining.unknown(archive, found):
        return Imported(name=head.production, unknown=unknown)
    with transaction() as session:
        before = session.get(Production, head.id) is not None
        if not before:
            examining.alike(session, archive, found)
    missing = {sha256: member for sha256, member in archive.stored.items() if not before or not store.has(sha256)}
    disk.room_for(sum(archive.package.size(member) for member in missing.values()), store.folder, file=archive.name)
    for place, member in enumerate(missing.values()):
        watched("Importing files", place / len(missing))
        store.put(archive.pieces(member), name=member)
    return Imported(production=head.id, name=head.production, recordings=head.recordings, files=len(missing), before=before)


@contextmanager
def settled(archive: Archive, store: Store) -> Iterator[None]:
    """While its rows are written, every file of an archive is in the store: what was cleared away meanwhile, as no row named it
    yet, is put there again."""
    with placing():
        for sha256, member in archive.stored.items():
            if not store.has(sha256):
                store.put(archive.pieces(member), name=member)
        yield


def write(session: Session, archive: Archive) -> None:
    """Write every row of an archive that was examined, in this transaction."""
    ended = []
    for model in rows.TABLES:
        for some in _written(session, archive, model):
            session.execute(rows.table(model).insert(), some)
            if model is CertificateRecord:
                ended += [(one["notice"], one["sha256"]) for one in some if one["notice"]]

    def put() -> None:
        for notice, meant in ended:
            certificates.keys().put_notice(notice, meant)

    after_commit(session, put)
    events.tell(session, events.Notice(about="everything"))


def _written(session: Session, archive: Archive, model: type[SQLModel]) -> Iterator[list[rows.Row]]:
    """The rows of a table that are not here yet, some at a time."""
    key = list(rows.table(model).primary_key.columns)
    of_it = examining.read(archive, model)
    if model is InspectionRecord or model in examining.VERSIONED:
        # Another production may have brought the very same.
        there = set(session.execute(select(*key)).tuples())
        of_it = (one for one in of_it if tuple(one[column.name] for column in key) not in there)
    if model is Recording:
        # What took the place of another comes first: that one points to it.
        every = list(of_it)
        later = {one["id"]: one["replaced_by"] for one in every}
        of_it = iter(sorted(every, key=lambda one: len(list(_followed(one["id"], later)))))
    while some := list(islice(of_it, rows.AT_ONCE)):
        yield some


def _followed(one: Any, later: Mapping[Any, Any]) -> Iterator[Any]:
    """Those that took the place of a recording, one after the other."""
    seen = {one}
    while (after := later.get(one)) is not None and after not in seen:
        seen.add(after)
        yield after
        one = after


def of(importing_id: UUID) -> Importing:
    """An archive that came in. Raises NotFound."""
    with transaction() as session:
        return importings.there(session, importing_id)
