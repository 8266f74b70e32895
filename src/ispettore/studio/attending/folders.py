"""Watched folders as people handle them: having one watched, and no longer. What lies in them is `watching.py`'s."""

from collections.abc import Sequence
from pathlib import Path
from uuid import UUID

from sqlmodel import Session, col, func, select

from ispettore.core.errors import IspettoreError
from ispettore.core.text import cleaned, refuse
from ispettore.studio import events
from ispettore.studio.access.letting_in import access
from ispettore.studio.attending.looking import Folder
from ispettore.studio.attending.views import WatchedFileView, WatchedFolderView
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.locations import home, state
from ispettore.studio.settings import settings
from ispettore.studio.tables import Production, WatchedFile, WatchedFolder
from ispettore.studio.who import may, signed_in

SHOWN = 8
"""Files of a folder that are listed; all of them are in the production's inspection sheet."""
LONGEST = 4096


class FolderUnfit(IspettoreError):
    """The folder “{folder}” can't be watched: {reason}."""

    folder: str
    reason: str


class WatchedAlready(IspettoreError):
    """The folder “{folder}” is watched already, for “{production}”. Stop watching it first."""

    folder: str
    production: str


def watch(path: str, production_id: UUID, *, conform: bool, results: str = "", kept: bool = True) -> UUID:
    """Have a folder of this machine watched for a production. What is in it comes in, what lands there later does too; `conform`
    has each conformed once it is measured, and `results` names a folder for the files that come of that.

    Raises FolderUnfit, FolderAway, WatchedAlready and NotFound.
    """
    folder = _fit(path)
    Folder(folder).there(0.0)
    target = _fit(results) if results.strip() else None
    if target == folder:
        raise FolderUnfit(folder=str(folder), reason="results would come in again as recordings. Choose another folder for them")
    with transaction() as session:
        production = session.get(Production, production_id)
        if production is None or production.removed_at is not None:
            raise NotFound(what="production")
        rows = {Path(row.path): row for row in session.exec(select(WatchedFolder).with_for_update()).all()}
        found = rows.pop(folder, None)
        if found is not None and (found.kept or found.production_id != production_id):
            raise WatchedAlready(folder=str(folder), production=session.get_one(Production, found.production_id).name)
        taken = {Path(row.results): row for row in rows.values() if row.results}
        if folder in taken or target in rows:
            raise FolderUnfit(folder=str(folder), reason="results of one watched folder would come in through another")
        row = found or WatchedFolder(path=str(folder), production_id=production_id, conform=conform, results="", kept=kept)
        row.conform, row.results, row.kept, row.problem = conform, str(target or ""), kept, ""
        row.asked_by, row.certifies = signed_in(), may("certify")
        session.add(row)
        session.flush()
        tell(session, production_id)
        return row.id


def _fit(path: str) -> Path:
    """The folder a path names, if it may be watched or written to. Raises FolderUnfit and BadText."""
    text = refuse(path.strip()[:LONGEST], what="The folder")
    named = Path(text).expanduser()
    if not text or not named.is_absolute():
        raise FolderUnfit(folder=text, reason="name it by its whole path, from / on")
    folder = named.resolve()
    own = settings()
    store = [Path(own.store)] if "://" not in own.store else []
    places = (home(), state(), own.incoming, own.delivered, own.work, *store, *([own.keys] if own.keys else []))
    if any(folder == place.resolve() or place.resolve() in folder.parents for place in places):
        raise FolderUnfit(folder=str(folder), reason="Ispettore keeps its own files there")
    if own.watched is not None and own.watched.resolve() not in (folder, *folder.parents):
        raise FolderUnfit(folder=str(folder), reason=f"it is not inside {own.watched}, as this server asks for")
    if own.watched is None and access() == "accounts":
        raise FolderUnfit(folder=str(folder), reason="this server names no place for such folders (ISPETTORE_WATCHED)")
    return folder


def stop(folder_id: UUID) -> None:
    """Have a folder no longer watched. Its files and what came of them stay. Raises NotFound."""
    with transaction() as session:
        found = session.get(WatchedFolder, folder_id, with_for_update=True)
        if found is None:
            raise NotFound(what="watched folder")
        session.delete(found)
        tell(session, found.production_id)


def tell(session: Session, production_id: UUID) -> None:
    """Announce that a folder of a production changed."""
    events.tell(session, events.Notice(about="outside", production=production_id))


def listed(session: Session) -> list[WatchedFolderView]:
    """All of them, those longest watched first."""
    rows = session.exec(select(WatchedFolder).order_by(col(WatchedFolder.created_at))).all()
    names = dict(session.exec(select(Production.id, Production.name)).all())
    return [_view(session, row, names[row.production_id]) for row in rows]


def _view(session: Session, row: WatchedFolder, production: str) -> WatchedFolderView:
    of = WatchedFile.folder_id == row.id
    newest = select(WatchedFile).where(of).order_by(func.coalesce(WatchedFile.left_at, WatchedFile.came_at).desc()).limit(SHOWN)
    refused = func.count().filter(col(WatchedFile.problem) != "")
    counts = select(func.count(), func.count(col(WatchedFile.left_at)), refused).where(of)
    count, left, wrong = session.exec(counts).one()
    return WatchedFolderView(
        **row.model_dump(include={"id", "path", "production_id", "conform", "results", "kept", "problem"}),
        production_name=production,
        count=count,
        left=left,
        refused=wrong,
        files=_files(session.exec(newest).all()),
    )


def _files(rows: Sequence[WatchedFile]) -> list[WatchedFileView]:
    """As they are shown: names may hold characters that deceive, which is why their files were refused."""
    shown = [WatchedFileView.model_validate(row, from_attributes=True) for row in rows]
    return [one.model_copy(update={"name": cleaned(one.name)}) for one in shown]
