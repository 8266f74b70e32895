"""A whole application for tests: a database of its own on loopback, a store and keys in a folder that goes away."""

import os
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any
from uuid import UUID

from sqlmodel import select

from ispettore.studio import queue
from ispettore.studio.cluster import Cluster, free_port
from ispettore.studio.database import engine, migrate, transaction
from ispettore.studio.settings import settings
from ispettore.studio.store import Store
from ispettore.studio.tables import Work


class Application:
    """Started once for a module of tests; its settings are in the environment while it runs."""

    def __init__(self) -> None:
        self._held = tempfile.TemporaryDirectory(prefix="ispettore-test-")
        self.folder = Path(self._held.name)
        self.folder.chmod(0o755)  # the database's user must reach its part of it
        self.cluster = Cluster(self.folder / "postgres", fast=True)
        self.processes: list[subprocess.Popen[bytes]] = []
        self._before: dict[str, str | None] = {}

    def start(self) -> "Application":
        self.cluster.start()
        chosen = {
            "ISPETTORE_DATABASE_URL": self.cluster.url,
            "ISPETTORE_STORE": str(self.folder / "store"),
            "ISPETTORE_INCOMING": str(self.folder / "incoming"),
            "ISPETTORE_WORK": str(self.folder / "work"),
            "ISPETTORE_KEYS": str(self.folder / "keys"),
            "ISPETTORE_HEARTBEAT_S": "0.5",
            "ISPETTORE_STALLED_AFTER_S": "2",
            "ISPETTORE_PORT": str(free_port()),
        }
        # Children's fork server keeps a folder in the temporary folder until this process ends: only processes get ours.
        (self.folder / "tmp").mkdir(mode=0o700)
        for name, value in chosen.items():
            self._before[name] = os.environ.get(name)
            os.environ[name] = value
        self._forget()
        migrate()
        return self

    def stop(self) -> None:
        for process in self.processes:
            end(process)
        engine().dispose()
        queue.deferrer().close()
        self.cluster.stop(mode="immediate")
        for name, value in self._before.items():
            if value is None:
                os.environ.pop(name, None)
            else:
                os.environ[name] = value
        self._forget()
        self._held.cleanup()

    @staticmethod
    def _forget() -> None:
        for cached in (settings, engine, queue.deferrer):
            cached.cache_clear()

    @property
    def store(self) -> Store:
        return Store(settings().store)

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{settings().port}/"

    def worker(self) -> subprocess.Popen[bytes]:
        return self._process([sys.executable, "-m", "ispettore.cli", "worker"])

    def web(self) -> subprocess.Popen[bytes]:
        process = self._process([sys.executable, "-m", "ispettore.web.serving"])
        until(lambda: answers(f"{self.address}api/health"), what="the web process to answer")
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


def end(process: subprocess.Popen[bytes]) -> None:
    """Terminate, then kill."""
    if process.poll() is None:
        process.terminate()
        try:
            process.wait(5)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


def answers(address: str) -> bool:
    try:
        with urllib.request.urlopen(address, timeout=2):
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
