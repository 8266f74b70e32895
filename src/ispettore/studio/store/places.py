"""Where everything lies on this machine, and how much disk it takes."""

import shutil
from collections.abc import Iterator
from pathlib import Path

from pydantic import BaseModel
from sqlalchemy import make_url, text

from ispettore.studio.database import transaction
from ispettore.studio.settings import settings
from ispettore.studio.store import disk
from ispettore.studio.store.blobs import Store


class DataPlace(BaseModel):
    """What lies where: `size_bytes` is what it takes, None where that can't be told; `free_bytes` what is free on its disk."""

    title: str
    where: str
    size_bytes: int | None
    free_bytes: int | None


def everything(keys: Path) -> list[DataPlace]:
    """All places there are; `keys` is the folder of the keys."""
    return list(_places(keys))


def _places(keys: Path) -> Iterator[DataPlace]:
    own = settings()
    store = Store(own.store)
    yield _folder("Recordings, masters and delivered files", store.folder) if store.folder else _elsewhere(own.store)
    with transaction() as session:
        size = session.connection().execute(text("SELECT pg_database_size(current_database())")).scalar_one()
    yield DataPlace(title="Readings, certificates, notes", where=_without_password(), size_bytes=size, free_bytes=None)
    yield _folder("Uploads under way", own.incoming)
    yield _folder("Packages written to a folder", own.delivered)
    yield _folder("Work under way", own.work)
    yield _folder("Keys", keys)


def _folder(title: str, folder: Path) -> DataPlace:
    there = folder.exists()
    return DataPlace(
        title=title,
        where=str(folder),
        size_bytes=disk.used_by(folder, None) if there else 0,
        free_bytes=shutil.disk_usage(folder).free if there else None,
    )


def _elsewhere(url: str) -> DataPlace:
    return DataPlace(title="Recordings, masters and delivered files", where=url, size_bytes=None, free_bytes=None)


def _without_password() -> str:
    """The database's address as it may be shown."""
    return make_url(settings().database_url).render_as_string(hide_password=True).replace("+psycopg", "")
