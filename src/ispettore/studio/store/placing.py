"""Files that are put in the store and named by a row a moment later, against files that are cleared away: never both at once.

A file is found again by its hash alone. Without this, the same bytes could be put where they stand already, cleared away because no
row names them any more, and named by a row just then.
"""

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import text

from ispettore.studio.database import engine

KEY = 0x1597_70E3
"""Of PostgreSQL's advisory locks; they end with the connection, so with the process."""


@contextmanager
def placing() -> Iterator[None]:
    """While files are put in the store and rows are written that name them; any number at once."""
    with _held("pg_advisory_lock_shared", "pg_advisory_unlock_shared"):
        yield


@contextmanager
def clearing() -> Iterator[None]:
    """While files that no row names are cleared away; alone."""
    with _held("pg_advisory_lock", "pg_advisory_unlock"):
        yield


@contextmanager
def _held(take: str, give: str) -> Iterator[None]:
    with engine().connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.execute(text(f"SELECT {take}(:key)"), {"key": KEY})
        try:
            yield
        finally:
            connection.execute(text(f"SELECT {give}(:key)"), {"key": KEY})
