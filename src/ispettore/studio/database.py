"""The one door to the database."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import lru_cache

import structlog
from alembic import command
from alembic.config import Config
from psycopg.conninfo import make_conninfo
from sqlalchemy import Engine, create_engine, text
from sqlalchemy.exc import InterfaceError, OperationalError
from sqlmodel import Session

from ispettore.studio.locations import MIGRATIONS
from ispettore.studio.settings import settings

GONE = (OperationalError, InterfaceError)
"""What is raised while the database is away."""
CONNECT_S = 20
"""A server that is gone refuses at once: only one on a machine with much else to do needs so long."""
KEPT_ALIVE = {"keepalives_idle": 10, "keepalives_interval": 5, "keepalives_count": 3, "tcp_user_timeout": 25_000}
"""A server that went without a word (its machine, or a network between) is missed within half a minute, not after two hours
(tcp(7), libpq's connection parameters)."""
_BEFORE, _AFTER = "before commit", "after commit"

log = structlog.get_logger()


@lru_cache(maxsize=1)
def engine() -> Engine:
    # What is in the rows stays out of error messages and so out of the log.
    return create_engine(
        settings().database_url,
        pool_pre_ping=True,
        pool_size=10,
        max_overflow=20,
        hide_parameters=True,
        connect_args={"connect_timeout": CONNECT_S, **KEPT_ALIVE},
    )


def answers() -> bool:
    """Whether the database is there."""
    try:
        with engine().connect() as connection:
            connection.execute(text("SELECT 1"))
    except GONE:
        return False
    return True


@contextmanager
def transaction() -> Iterator[Session]:
    """A session that commits when left normally and rolls back on any error; what `after_commit` was given follows a commit."""
    with Session(engine(), expire_on_commit=False) as session:
        with session.begin():
            yield session
            session.flush()  # what is written is known to whoever has the last word
            for last in session.info.pop(_BEFORE, []):
                last()
        for action in session.info.pop(_AFTER, []):
            try:
                action()
            except Exception:
                log.exception("what was to follow a commit failed; what was committed stays")


@contextmanager
def snapshot() -> Iterator[Session]:
    """A session to read in that sees everything as it was at one moment, whatever is committed meanwhile."""
    with Session(engine(), expire_on_commit=False) as session, session.begin():
        session.connection(execution_options={"isolation_level": "REPEATABLE READ"})
        yield session


def before_commit(session: Session, action: Callable[[], None]) -> None:
    """Have something done as the last of this transaction, and not where it is rolled back."""
    session.info.setdefault(_BEFORE, []).append(action)


def after_commit(session: Session, action: Callable[[], None]) -> None:
    """Have something done once this transaction has committed, and not where it is rolled back. Its errors go to the log alone."""
    session.info.setdefault(_AFTER, []).append(action)


def plain_url() -> str:
    """The database's address as psycopg and procrastinate take it."""
    address = settings().database_url.replace("postgresql+psycopg://", "postgresql://", 1)
    return make_conninfo(address, **KEPT_ALIVE)


def alembic_config() -> Config:
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.set_main_option("sqlalchemy.url", settings().database_url.replace("%", "%%"))
    return config


def migrate(revision: str = "head") -> None:
    """Bring the schema up to date."""
    command.upgrade(alembic_config(), revision)
