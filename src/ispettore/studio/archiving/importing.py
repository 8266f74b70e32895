"""Importing an archive: checked as a whole first, then its files put in the store, then its rows written in one transaction.

What it holds is here afterwards as it was where it was made, down to the identifiers and hashes. Seals count only by keys that are
trusted here: as long as one is unknown, nothing is imported, and the key is shown to be trusted by hand.
"""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from itertools import islice
from typing import Any
from uuid import UUID

from sqlalchemy import not_
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, SQLModel, col, select

from ispettore.core.archive import checking, form
from ispettore.core.archive.checking import Archive
from ispettore.core.errors import BadKey, Cancelled
from ispettore.studio import events
from ispettore.studio.archiving import examining, rows
from ispettore.studio.archiving.making import Told
from ispettore.studio.archiving.views import Imported, ImportView
from ispettore.studio.catalogue import certificates, importings, naming
from ispettore.studio.database import after_commit, transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.jobs import works
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import Store
from ispettore.studio.store.placing import placing
from ispettore.studio.tables import (
    CertificateRecord,
    DraftRecord,
    DraftState,
    EditState,
    Importing,
    InspectionRecord,
    Production,
    Recording,
    WorkKind,
)

WHICH_COUNTS = "certificate_id"
AS_A_WHOLE: tuple[type[SQLModel], ...] = (DraftRecord, DraftState, EditState)
"""Tables whose rows of a recording are one history: what is written takes the place of all of it."""


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
        here = session.get(Production, head.id)
        before = here is not None and here.erased_at is None
        if not before:
            examining.alike(session, archive, found)
        wanted = naming.among(session, set(archive.stored)) if before else set(archive.stored)
    missing = {one: member for one, member in archive.stored.items() if one in wanted and not (before and store.has(one))}
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
    """Write every row of an archive that was examined, in this transaction. Where its production was erased here, what the archive
    holds takes the place of what is still known of it; certificates that were ended since stay ended. Raises ArchiveChanged where a
    row would take the place of one of another production."""
    ended = []
    here = session.get(Production, archive.head.id)
    again = here is not None and here.erased_at is not None
    for model in AS_A_WHOLE if again else ():
        session.execute(rows.table(model).delete().where(rows.TABLES[model](archive.head.id)))
    for model in rows.TABLES:
        for some in _written(session, archive, model):
            if again:
                _of_it(session, archive, model, some)
            session.execute(_in_place(model) if again else rows.table(model).insert(), some)
            if model is CertificateRecord:
                ended += [(one["notice"], one["sha256"]) for one in some if one["notice"]]

    def put() -> None:
        for notice, meant in ended:
            certificates.keys().put_notice(notice, meant)

    after_commit(session, put)
    events.tell(session, events.Notice(about="everything"))


def _of_it(session: Session, archive: Archive, model: type[SQLModel], some: Sequence[rows.Row]) -> None:
    key = rows.table(model).primary_key.columns
    if [column.name for column in key] == ["id"]:
        same = key["id"].in_([one["id"] for one in some])
        if session.execute(select(key["id"]).where(same, not_(rows.TABLES[model](archive.head.id))).limit(1)).first() is not None:
            raise archive.changed(f"“{form.ROWS}/{model.__tablename__}.jsonl” speaks of another production.")


def _in_place(model: type[SQLModel]) -> Any:
    """How a row is written where one of the same key may be here already. What became of certificates is known better here, and so
    is which one counts for a file."""
    table = rows.table(model)
    written, key = insert(table), list(table.primary_key.columns)
    if model is CertificateRecord:
        return written.on_conflict_do_nothing(index_elements=key)
    other = [column.name for column in table.columns if not column.primary_key and column.name != WHICH_COUNTS]
    return written.on_conflict_do_update(index_elements=key, set_={name: written.excluded[name] for name in other})


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
