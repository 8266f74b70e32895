"""Starting everything on this machine and stopping exactly that: database, web process, one worker for each core."""

import ctypes
import fcntl
import hashlib
import os
import secrets
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

import httpx
import structlog

from ispettore.core.errors import IspettoreError
from ispettore.studio import logs
from ispettore.studio.access import binding, start
from ispettore.studio.access.letting_in import access, alone
from ispettore.studio.catalogue import demonstration, specifications
from ispettore.studio.database import engine, migrate
from ispettore.studio.jobs import attempts
from ispettore.studio.locations import PACKAGE, state
from ispettore.studio.running.cluster import Cluster, free_port, reachable_folder
from ispettore.studio.settings import settings

PATIENCE_S = 4.0
log = structlog.get_logger()


class PortTaken(IspettoreError):
    """The port {port} is in use. Stop what uses it, or set ISPETTORE_PORT to another."""

    port: int


class RunsAlready(IspettoreError):
    """Ispettore is already running from this folder (process {process}) {where}. Open that address, or stop it with Ctrl-C
    first."""

    process: str
    where: str


class DidNotStart(IspettoreError):
    """The web process did not start within {patience:.0f} s. Its log is above."""

    patience: float


def own_cluster() -> Cluster:
    """The cluster of this installation, under a system folder where the server's user can't reach its own."""
    wanted = state() / "postgres"
    if "ISPETTORE_STATE" in os.environ:
        return Cluster(wanted)
    digest = hashlib.sha256(str(PACKAGE.parents[1]).encode()).hexdigest()[:12]
    return Cluster(reachable_folder(wanted, Path("/var/lib/ispettore") / digest))


@contextmanager
def only_one(folder: Path) -> Iterator[Callable[[str], None]]:
    """Holds a folder for this launcher; what is yielded notes the address it serves. Raises RunsAlready.

    The lock goes with the process, however it ends.
    """
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "launcher.lock").open("a+") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            file.seek(0)
            process, _, address = file.read().partition(" ")
            raise RunsAlready(process=process or "?", where=f"at {address}" if address else "and is just starting") from None

        def note(address: str) -> None:
            file.seek(0)
            file.truncate()
            file.write(f"{os.getpid()} {address}")
            file.flush()

        note("")
        yield note


def launch(*, demo: bool, open_to_all: bool, say: Callable[[str], None]) -> int:
    """Start everything, wait until told to stop, stop everything. `open_to_all` lets in whoever reaches it. Returns an exit status.
    Raises RunsAlready and what starting raises."""
    logs.configure()
    if open_to_all:
        os.environ["ISPETTORE_ACCESS"] = "open"
        settings.cache_clear()
    with only_one(state()) as note:
        return _launch(demo=demo, say=say, note=note)


def _launch(*, demo: bool, say: Callable[[str], None], note: Callable[[str], None]) -> int:
    cluster = None
    if "ISPETTORE_DATABASE_URL" not in os.environ:
        cluster = own_cluster()
        say("Starting the database …")
        cluster.start()
        os.environ["ISPETTORE_DATABASE_URL"] = cluster.url
        settings.cache_clear()
        engine.cache_clear()
    supervisor = Supervisor(cluster)
    for name in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(name, lambda *_: supervisor.ask_to_stop())
    try:
        migrate()
        if cluster is not None:
            cluster.hand_over("kept")
        binding.check()
        start.token()  # there before anything answers
        specifications.follow_shipped()
        attempts.sweep(settings().work)
        if demo:
            making = demonstration.ask_at_start()
            say("The demo productions are being made …" if making else "The demo data is there already.")
        port = settings().port
        if not _free(port):
            if "ISPETTORE_PORT" not in os.environ:
                port = free_port()
            elif not _gets_free(port):
                raise PortTaken(port=port)
        os.environ["ISPETTORE_PORT"] = str(port)
        if demo and not settings().desk:
            _keep_desk(supervisor)
        supervisor.keep("web", [sys.executable, "-m", "ispettore.web.serving"])
        for number in range(os.cpu_count() or 1):
            supervisor.keep(f"worker {number + 1}", [sys.executable, "-m", "ispettore.cli", "worker"])
        supervisor.keep("watch", [sys.executable, "-m", "ispettore.cli", "watch"])
        address = binding.address(settings(), port)
        supervisor.wait_for_web(port)
        note(address)
        say(f"\nIspettore is at {_to_open(address)}\nCtrl-C stops it.")
        supervisor.watch()
        return 0
    finally:
        say("\nStopping …")
        with ExitStack() as last:
            if cluster is not None:
                last.callback(cluster.stop)
            last.callback(engine().dispose)
            supervisor.stop()


def _to_open(address: str) -> str:
    """The address for a person to open: with the start token in it, where that is what lets them in."""
    return f"{address}start/{start.token()}" if access() == "start" else address


def _keep_desk(supervisor: "Supervisor") -> None:
    """A stand-in for an outlet, on loopback, sometimes busy: packages of the demo can be handed to it."""
    port = free_port()
    os.environ["ISPETTORE_DESK"] = f"http://127.0.0.1:{port}"
    os.environ["ISPETTORE_DESK_TOKEN"] = secrets.token_urlsafe(24)
    settings.cache_clear()
    desk = ["intake-desk", "--port", str(port), "--folder", str(settings().delivered.parent / "desk"), "--seed", str(DESK_SEED)]
    supervisor.keep("intake desk", [sys.executable, "-m", "ispettore.cli", *desk])


def _free(port: int) -> bool:
    import socket

    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((settings().host, port))
        except OSError:
            return False
        return True


def _gets_free(port: int) -> bool:
    """Whether a port is free within a few seconds: a launcher that was killed leaves its web process to end by itself."""
    end = time.monotonic() + PATIENCE_S
    while not _free(port):
        if time.monotonic() > end:
            return False
        time.sleep(LOOK_EVERY_S)
    return True


DESK_SEED = 7


LOOK_EVERY_S = 0.5
STEADY_S = 60.0
LONGEST_PAUSE_S = 30.0


def pause_s(falls: int) -> float:
    """How long to wait before what ended so many times in a row is started again, in seconds.

    >>> [pause_s(falls) for falls in range(8)]
    [0.0, 0.0, 1.0, 2.0, 4.0, 8.0, 16.0, 30.0]
    """
    return 0.0 if falls < 2 else min(2.0 ** (falls - 2), LONGEST_PAUSE_S)


class Supervisor:
    """Keeps processes running, and the database where it is ours: what dies is started again, until we stop."""

    def __init__(self, cluster: Cluster | None = None) -> None:
        self._cluster = cluster
        self._commands: dict[str, list[str]] = {}
        self._running: dict[str, subprocess.Popen[bytes]] = {}
        self._begun: dict[str, float] = {}
        self._falls: dict[str, int] = {}
        self._due: dict[str, float] = {}
        self._stopping = False

    def keep(self, name: str, command: list[str]) -> None:
        self._commands[name] = command
        self._begun[name] = time.monotonic()
        self._running[name] = _start(command)

    def process_id(self, name: str) -> int:
        """Process id of what runs under a name now."""
        return self._running[name].pid

    def ask_to_stop(self) -> None:
        self._stopping = True

    def wait_for_web(self, port: int, *, patience_s: float = 60) -> None:
        """Until the web process says that it is well, asked over this machine by a name it knows; what ends meanwhile is started
        again. Raises DidNotStart."""
        found = settings()
        here = found.host if found.host not in ("0.0.0.0", "::") else "127.0.0.1"
        name = "127.0.0.1" if alone(found.host) else found.allowed_hosts.split(",")[0].strip()
        address = f"{'https' if binding.encrypted(found) else 'http'}://{f'[{here}]' if ':' in here else here}:{port}/api/health"
        end = time.monotonic() + patience_s
        while not self._stopping:
            try:
                httpx.get(address, headers={"host": name}, timeout=2, verify=False, trust_env=False).raise_for_status()
                return
            except (OSError, httpx.HTTPError):
                if time.monotonic() > end:
                    raise DidNotStart(patience=patience_s) from None
                self._look()
                time.sleep(0.1)

    def watch(self) -> None:
        """Return when asked to stop."""
        while not self._stopping:
            self._look()
            time.sleep(LOOK_EVERY_S)

    def _look(self) -> None:
        """Start again what ended."""
        self._keep_database()
        for name, process in list(self._running.items()):
            if process.poll() is not None and not self._stopping:
                self._again(name, process.returncode)

    def _again(self, name: str, status: int) -> None:
        """Start something again that ended: at once, and ever later where it ends again and again."""
        now = time.monotonic()
        if name not in self._due:
            lived = now - self._begun.get(name, now)
            self._falls[name] = 0 if lived > STEADY_S else self._falls.get(name, 0) + 1
            wait = pause_s(self._falls[name])
            self._due[name] = now + wait
            log.warning("ended by itself; starting it again", process=name, status=status, lived_s=round(lived), in_s=wait)
        if now >= self._due[name]:
            del self._due[name]
            self._begun[name] = now
            self._running[name] = _start(self._commands[name])

    def _keep_database(self) -> None:
        if self._cluster is None or self._cluster.running():
            return
        log.warning("the database is gone; starting it again")
        try:
            self._cluster.start()
        except IspettoreError as error:
            log.error("the database could not be started; will try again", reason=error.sentence)

    def stop(self) -> None:
        """Ask each process to end, and end those that don't within a few seconds: work they leave is done by others."""
        self._stopping = True
        for process in self._running.values():
            if process.poll() is None:
                process.terminate()
        end = time.monotonic() + PATIENCE_S
        for process in self._running.values():
            try:
                process.wait(max(0.1, end - time.monotonic()))
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()


def _start(command: list[str]) -> subprocess.Popen[bytes]:
    # Sessions of their own, so that Ctrl-C reaches only us; and should we be killed, they end too.
    return subprocess.Popen(command, start_new_session=True, preexec_fn=_end_with_parent)


def _end_with_parent() -> None:
    ctypes.CDLL(None).prctl(1, signal.SIGTERM)
