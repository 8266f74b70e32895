"""A whole application for tests: a database of its own on loopback, a store and keys in a folder that goes away.

The database server is started once for a process; each class of tests gets a copy of an empty database.
"""

import atexit
import os
import shutil
import ssl
import subprocess
import sys
import tempfile
import threading
import time
import unittest
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from functools import cache
from pathlib import Path
from typing import Any
from uuid import UUID

from psycopg import sql
from psycopg.errors import DeadlockDetected, LockNotAvailable
from sqlalchemy import text
from sqlalchemy.exc import OperationalError
from sqlmodel import SQLModel, select

from ispettore.studio.database import engine, migrate, transaction
from ispettore.studio.jobs import queue
from ispettore.studio.running.cluster import ADMINISTRATOR, NAME, Cluster, free_port
from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import Work


@cache
def cluster() -> Cluster:
    """The one database server of this process, made when it is first needed, with an empty database of the newest schema to
    copy."""
    held = tempfile.TemporaryDirectory(prefix="ispettore-cluster-")
    folder = Path(held.name)
    folder.chmod(0o755)  # the database's user must reach its part of it
    made = Cluster(folder / "postgres", fast=True)
    atexit.register(held.cleanup)
    atexit.register(made.stop, mode="immediate")
    made.start()
    with in_environment(ISPETTORE_DATABASE_URL=made.url):
        migrate()
        engine().dispose()
    return made


@contextmanager
def in_environment(**chosen: str) -> Iterator[None]:
    """These settings, and what is made from settings, for a while."""
    before = {name: os.environ.get(name) for name in chosen}
    os.environ.update(chosen)
    _forget()
    try:
        yield
    finally:
        for name, value in before.items():
            if value is None:
                os.environ.pop(name, None)
            else:
                os.environ[name] = value
        _forget()


def _forget() -> None:
    for cached in (settings, engine, queue.deferrer):
        cached.cache_clear()


class Application:
    """Started once for a class of tests, on a database of its own; its settings are in the environment while it runs."""

    count = 0

    def __init__(self) -> None:
        self._held = tempfile.TemporaryDirectory(prefix="ispettore-test-")
        self.folder = Path(self._held.name)
        self.cluster = cluster()
        Application.count += 1
        self.database = f"test_{Application.count}"
        self.processes: list[subprocess.Popen[bytes]] = []
        self._chosen = ExitStack()

    def start(self) -> "Application":
        self._manage("CREATE DATABASE {} TEMPLATE {} OWNER {}", self.database, NAME, NAME)
        chosen = {
            "ISPETTORE_DATABASE_URL": self.cluster.url.rsplit("/", 1)[0] + f"/{self.database}",
            "ISPETTORE_STORE": str(self.folder / "store"),
            "ISPETTORE_INCOMING": str(self.folder / "incoming"),
            "ISPETTORE_WORK": str(self.folder / "work"),
            "ISPETTORE_DELIVERED": str(self.folder / "delivered"),
            "ISPETTORE_KEYS": str(self.folder / "keys"),
            "ISPETTORE_STATE": str(self.folder / "state"),
            "ISPETTORE_ACCESS": "open",
            "ISPETTORE_HEARTBEAT_S": "0.5",
            "ISPETTORE_STALLED_AFTER_S": "2",
            "ISPETTORE_PORT": str(free_port()),
        }
        # Children's fork server keeps a folder in the temporary folder until this process ends: only processes get ours.
        (self.folder / "tmp").mkdir(mode=0o700)
        self._chosen.enter_context(in_environment(**chosen))
        return self

    def stop(self) -> None:
        for process in self.processes:
            end(process)
        engine().dispose()
        queue.deferrer().close()
        self._chosen.close()
        self._manage("DROP DATABASE {} WITH (FORCE)", self.database)
        self._held.cleanup()

    def empty(self) -> None:
        """Take every row out of every table, and let go of what was on its way in, as if nothing had been done yet."""
        kept = {"trail"}  # the database takes nothing out of it
        names = ", ".join(f'"{table.name}"' for table in SQLModel.metadata.sorted_tables if table.name not in kept)
        until(lambda: self._emptied(names), what="every table to be let go of for a moment")
        for path in settings().incoming.glob("*"):
            if path.is_dir():
                shutil.rmtree(path)
            else:
                path.unlink()

    @staticmethod
    def _emptied(names: str) -> bool:
        """Whether the tables could be emptied: while a page or a worker reads them, this gives way before the database has to end
        one of the two, which it does after a second."""
        try:
            with transaction() as session:
                session.execute(text("SET LOCAL lock_timeout = '200ms'"))
                session.execute(text(f"TRUNCATE {names} CASCADE"))
        except OperationalError as error:
            if isinstance(error.orig, LockNotAvailable | DeadlockDetected):
                return False
            raise
        return True

    def _manage(self, command: str, *names: str) -> None:
        with self.cluster._connect(ADMINISTRATOR) as connection:
            connection.execute(sql.SQL(command).format(*map(sql.Identifier, names)))

    @property
    def store(self) -> Store:
        return Store(settings().store)

    @property
    def address(self) -> str:
        return f"{'https' if settings().tls_key else 'http'}://127.0.0.1:{settings().port}/"

    def worker(self) -> subprocess.Popen[bytes]:
        return self._process([sys.executable, "-m", "ispettore.cli", "worker"])

    def web(self, *, trusted: ssl.SSLContext | None = None) -> subprocess.Popen[bytes]:
        process = self._process([sys.executable, "-m", "ispettore.web.serving"])
        until(
            lambda: process.poll() is not None or answers(f"{self.address}api/health", trusted=trusted),
            what="the web process to answer",
        )
        if process.poll() is not None:
            raise AssertionError(f"the web process ended with status {process.returncode}")
        return process

    def _process(self, command: list[str]) -> subprocess.Popen[bytes]:
        environment = {**os.environ, "TMPDIR": str(self.folder / "tmp")}
        with (self.folder / "processes.log").open("ab") as log:
            process = subprocess.Popen(command, stdout=log, stderr=log, start_new_session=True, env=environment)
        self.processes.append(process)
        return process

    def log(self) -> str:
        path = self.folder / "processes.log"
        return path.read_text(errors="replace") if path.exists() else ""


class ApplicationCase(unittest.TestCase):
    """Tests of one application, which is started once for all of a class."""

    application: Application

    @classmethod
    def setUpClass(cls) -> None:
        cls.application = Application().start()
        cls.addClassCleanup(cls.application.stop)


def end(process: subprocess.Popen[bytes]) -> None:
    """Terminate, then kill."""
    if process.poll() is None:
        process.terminate()
        try:
            process.wait(5)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


def answers(address: str | urllib.request.Request, *, trusted: ssl.SSLContext | None = None) -> bool:
    try:
        with urllib.request.urlopen(address, timeout=2, context=trusted):
            return True
    except OSError:
        return False


def until(condition: Callable[[], Any], *, what: str, timeout_s: float = 90) -> Any:
    """Wait for a condition, asking often; fail with what was waited for."""
    pause = threading.Event()
    limit = time.monotonic() + timeout_s
    while True:
        found = condition()
        if found:
            return found
        if time.monotonic() > limit:
            raise AssertionError(f"waited {timeout_s:.0f} s in vain for {what}")
        pause.wait(0.05)


def work_for(subject_id: UUID) -> Work:
    """The newest work about a subject."""
    with transaction() as session:
        return session.exec(select(Work).where(Work.subject_id == subject_id).order_by(Work.created_at.desc())).first()
