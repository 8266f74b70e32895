"""A process kept warm for rehearsing: it holds the kernels, and the recordings that were listened to last.

Who asks has a turn, a number that grows: as long as the process is busy, what was asked before a newer turn on the same matter is
dropped, so that a hundred changes in a row do not queue up. Where the process dies, the next question starts another.
"""

import ctypes
import os
import resource
import signal
import tempfile
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from multiprocessing.connection import Connection
from pathlib import Path
from threading import Lock
from typing import Any, TypeVar, cast
from uuid import uuid4

from pydantic import BaseModel

from ispettore.core.errors import IspettoreError
from ispettore.studio.jobs import answers, attempts, confinement, isolation

Request = TypeVar("Request", bound=BaseModel)
Answer = TypeVar("Answer")


class Overtaken(IspettoreError):
    """A newer change of the treatment of “{file}” is being worked on."""

    file: str


class RehearsalFailed(IspettoreError):
    """“{file}” could not be rehearsed: {reason}. Try again; if it fails once more, conform it to hear the result."""

    file: str
    reason: str


class Rehearser:
    """One child, asked by one thread at a time."""

    def __init__(self, *, memory_bytes: int, place: Path, read: Sequence[Path] = ()) -> None:
        """`place` is where its folder lies while it lives; all that it can read lies in `read`."""
        self._memory_bytes, self._place, self._read = memory_bytes, place, tuple(read)
        self._folder = ExitStack()
        self._busy = Lock()
        self._newest: dict[str, int] = {}
        self._child: Any = None
        self._pipe: Connection | None = None

    def ask(self, compute: Callable[[Request], Answer], request: Request, *, name: str, matter: str, turn: int) -> Answer:
        """What `compute(request)` returns in the child. Raises Overtaken, RehearsalFailed, and what the child raises."""
        self._newest[matter] = max(turn, self._newest.get(matter, 0))
        with self._busy:
            if turn < self._newest[matter]:
                raise Overtaken(file=name)
            pipe = self._started()
            try:
                pipe.send((compute, request))
                kind, content = answers.read(pipe.recv_bytes())
            except (EOFError, BrokenPipeError, ConnectionResetError):
                self._end()
                raise RehearsalFailed(file=name, reason="the process that does it ended") from None
        if kind == "error":
            if isinstance(content, IspettoreError):
                raise content
            raise RehearsalFailed(file=name, reason=str(content))
        return cast(Answer, content)

    def warm(self) -> None:
        """Have the child ready for the first question. Where it is busy it is."""
        if self._busy.acquire(blocking=False):
            try:
                self._started()
            finally:
                self._busy.release()

    def close(self) -> None:
        """End the child."""
        with self._busy:
            self._end()

    def _started(self) -> Connection:
        if self._child is not None and self._child.is_alive() and self._pipe is not None:
            return self._pipe
        self._end()
        context = isolation.context()
        here, there = context.Pipe()
        folder = self._folder.enter_context(attempts.own_folder(self._place / f"rehearsal-{uuid4().hex[:12]}"))
        self._child = context.Process(target=_main, args=(there, self._memory_bytes, folder, self._read), daemon=True)
        self._child.start()
        there.close()
        self._pipe = here
        return cast(Connection, here)

    def _end(self) -> None:
        if self._child is not None:
            self._child.kill()
            self._child.join()
        if self._pipe is not None:
            self._pipe.close()
        self._child, self._pipe = None, None
        self._folder.close()


def _main(pipe: Connection, memory_bytes: int, folder: Path, read: tuple[Path, ...]) -> None:
    ctypes.CDLL(None, use_errno=True).prctl(isolation.PR_SET_PDEATHSIG, signal.SIGKILL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_AS, (memory_bytes, memory_bytes))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    os.environ["TMPDIR"] = tempfile.tempdir = str(folder)
    confinement.confine(read=read, write=[folder])
    while True:
        try:
            compute, request = pipe.recv()
        except EOFError:
            return
        try:
            answer = ("result", compute(request))
        except IspettoreError as error:
            answer = ("error", error)
        except Exception as error:
            answer = ("error", f"{type(error).__name__}: {error}")
        try:
            pipe.send(answer)
        except BrokenPipeError:
            return
