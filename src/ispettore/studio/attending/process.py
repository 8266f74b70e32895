"""The process that looks after what lies outside: watched folders, and addresses that are told how recordings stand.

It looks into folders every second and hears what changes meanwhile. Two of them do nothing twice: each folder, and the sending of
messages, is held by a lock of the database that ends with the process.
"""

import json
import signal
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from uuid import UUID

import psycopg
import structlog
from sqlmodel import col, select

from ispettore.studio import logs
from ispettore.studio.attending import messages, sending
from ispettore.studio.attending.watching import Said, Watcher
from ispettore.studio.database import GONE, plain_url, transaction
from ispettore.studio.events import CHANNEL
from ispettore.studio.settings import keep_to_oneself, settings
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import WatchedFolder

LOOK_EVERY_S = 1.0
COMPARE_EVERY_S = 60.0
START_OVER_S = 1.0
FOLDERS, SENDING = 0x1597_70E5, 0x1597_70E6
"""Of PostgreSQL's advisory locks; that of folders with the folder."""

log = structlog.get_logger()


@dataclass
class Heard:
    """What changed since this was last asked: productions, or anything at all."""

    productions: set[UUID] = field(default_factory=set)
    everything: bool = True

    def taken(self) -> "Heard":
        found = Heard(self.productions, self.everything)
        self.productions, self.everything = set(), False
        return found

    def note(self, payload: str) -> None:
        """One announcement; what was told about folders and webhooks themselves is of no account."""
        notice = json.loads(payload)
        if notice.get("about") == "everything":
            self.everything = True
        elif notice.get("about") != "outside" and notice.get("production"):
            self.productions.add(UUID(notice["production"]))


class Attending:
    """All that is watched here, or `only` one folder; `said` is told what happens in folders."""

    def __init__(self, *, only: UUID | None = None, said: Said = lambda _: None) -> None:
        self._only, self._said = only, said
        self._store = Store(settings().store)
        self._watchers: dict[UUID, Watcher] = {}
        self._heard = Heard()
        self._sends = False
        self._compared_at = float("-inf")
        self._stop = threading.Event()

    def stop(self) -> None:
        self._stop.set()

    def run(self) -> None:
        """Until told to stop; starts over where the database goes away."""
        while not self._stop.is_set():
            try:
                with psycopg.connect(plain_url(), autocommit=True) as connection:
                    connection.execute(f"LISTEN {CHANNEL}")
                    self._watchers, self._heard, self._sends = {}, Heard(), False
                    self._attend(connection)
            except (psycopg.OperationalError, *GONE):
                log.warning("the database does not answer; trying again")
                self._stop.wait(START_OVER_S)

    def _attend(self, connection: psycopg.Connection) -> None:
        while not self._stop.is_set() and (self._only is None or self._there(self._only)):
            heard = self._heard.taken()
            for folder, production in self._folders(connection):
                self._look(folder, stirred=heard.everything or production in heard.productions)
            self._sends = self._sends or (self._only is None and _taken(connection, SENDING, ""))
            if self._sends:
                with _by_itself("webhooks could not be told"):
                    self._tell(heard)
            for notice in connection.notifies(timeout=LOOK_EVERY_S):
                self._heard.note(notice.payload)
                if self._stop.is_set():
                    break

    def _there(self, folder: UUID) -> bool:
        with transaction() as session:
            return session.get(WatchedFolder, folder) is not None

    def _folders(self, connection: psycopg.Connection) -> list[tuple[UUID, UUID]]:
        """Those that are looked after here, with their productions; of what is no longer watched the lock is let go."""
        rows = select(WatchedFolder.id, WatchedFolder.production_id)
        rows = rows.where(WatchedFolder.id == self._only) if self._only else rows.where(col(WatchedFolder.kept))
        with transaction() as session:
            wanted = dict(session.exec(rows).all())
        for gone in set(self._watchers) - set(wanted):
            del self._watchers[gone]
            connection.execute("SELECT pg_advisory_unlock(%s, hashtext(%s))", [FOLDERS, str(gone)])
        for folder in wanted:
            if folder not in self._watchers and _taken(connection, FOLDERS, str(folder)):
                self._watchers[folder] = Watcher(folder, self._store, self._said)
        return [(folder, wanted[folder]) for folder in self._watchers]

    def _look(self, folder: UUID, *, stirred: bool) -> None:
        with _by_itself("a watched folder could not be looked after", folder=str(folder)):
            self._watchers[folder].look(time.monotonic(), stirred=stirred)

    def _tell(self, heard: Heard) -> None:
        if heard.everything or time.monotonic() - self._compared_at > COMPARE_EVERY_S:
            self._compared_at = time.monotonic()
            messages.write()
            with transaction() as session:
                messages.forget(session)
        elif heard.productions:
            messages.write(heard.productions)
        sending.send_due()


@contextmanager
def _by_itself(what: str, **about: str) -> Iterator[None]:
    """What nobody thought of is logged and takes nothing from the rest. Raises what a database raises that is away."""
    try:
        yield
    except GONE:
        raise
    except Exception:
        log.exception(what, **about)


def _taken(connection: psycopg.Connection, key: int, of: str) -> bool:
    """Whether a lock is this connection's now; taken once, it is until the connection ends."""
    row = connection.execute("SELECT pg_try_advisory_lock(%s, hashtext(%s))", [key, of]).fetchone()
    return row is not None and bool(row[0])


def run() -> None:
    """Look after everything in this process until it is told to stop."""
    logs.configure()
    keep_to_oneself()
    attending = Attending()
    for name in (signal.SIGINT, signal.SIGTERM):
        signal.signal(name, lambda *_: attending.stop())
    attending.run()
