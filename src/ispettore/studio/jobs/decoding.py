"""Samples of a stored file, taken out of it by small processes that can open nothing.

The process that serves pages holds keys and everybody's recordings, so it never takes foreign sound apart itself. A child that does
was given no file, no folder and no network (`confinement.py`): it asks for the bytes it wants, and gets them when they were held
against their checksums. Its answers are numbers and text, read as such. A few children are kept ready; between two questions each
remembers the file that it read last, so that a stretch is played on from without opening it again.
"""

import io
import os
import resource
import signal
import struct
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from itertools import count
from multiprocessing.connection import Connection
from socket import socketpair
from threading import BoundedSemaphore, Lock
from typing import BinaryIO, cast

import numpy as np
import soundfile
from numpy.typing import NDArray

from ispettore.core.audio.writing import Samples
from ispettore.core.errors import IspettoreError
from ispettore.studio.jobs import confinement
from ispettore.studio.store.seeking import Seekable

CHILDREN = 4
MEMORY_BYTES = 1024**3
PROCESSOR_S = 30
"""For one question."""
SILENT_S = 60
"""After which a child that says nothing is ended."""
MOST_CHANNELS = 64
BUFFER = 256 * 1024
ENVIRONMENT = ("PATH", "PYTHONPATH", "LANG", "ISPETTORE_CACHE")
_QUESTION = struct.Struct("<QQQQ")
"""Which file, its size in bytes, first frame, frames."""
_WANTED = struct.Struct("<QQ")
"""Bytes that the child wants: where, how many."""
_SHAPE = struct.Struct("<II")
"""Frames and channels of what it found, float32 behind."""


class NotDecoded(IspettoreError):
    """“{file}” can't be played: {reason}. If it plays elsewhere, export it afresh and bring it in again."""

    file: str
    reason: str


class _Broken(Exception):
    """A child ended, or said what no child of ours says."""


class _Child:
    """One process, asked by one thread at a time. `ready` says that it owes no answer: one that does is never asked again."""

    def __init__(self) -> None:
        here, there = socketpair()
        with there:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "ispettore.studio.jobs.decoding", str(there.fileno())],
                pass_fds=[there.fileno()],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,  # where it may be a log, somebody who took the child over could cut it
                env={name: os.environ[name] for name in ENVIRONMENT if name in os.environ} | {"OPENBLAS_NUM_THREADS": "1"},
            )
        self._pipe = Connection(here.detach())
        self.ready = True

    def samples(self, file: BinaryIO, key: int, size: int, start: int, frames: int) -> NDArray[np.float32] | str:
        """The samples, or why there are none. Raises _Broken, and what reading the file raises."""
        fault: Exception | None = None
        self.ready = False
        try:
            self._pipe.send_bytes(_QUESTION.pack(key, size, start, frames))
            while True:
                if not self._pipe.poll(SILENT_S):
                    raise EOFError
                said = self._pipe.recv_bytes(frames * MOST_CHANNELS * 4 + BUFFER)
                kind, content = said[:1], said[1:]
                if kind != b"r":
                    break
                at, wanted = _WANTED.unpack(content)
                if at + wanted > size or wanted > BUFFER:
                    raise ValueError("no part of the file")
                piece = b""
                if fault is None:
                    try:
                        piece = _read(file, at, wanted)
                    except (IspettoreError, OSError) as error:
                        # The library in C that reads there sees an end of the file, and the error waits here.
                        fault = error
                self._pipe.send_bytes(piece)
            found = _found(content, frames) if kind == b"s" else content.decode(errors="replace")
            self.ready = True
            if fault is not None:
                raise fault
            return found
        except (EOFError, OSError, struct.error, ValueError) as error:
            if error is fault:
                raise
            raise _Broken from None

    def end(self) -> None:
        self._pipe.close()
        self._process.kill()
        self._process.wait()


def _read(file: BinaryIO, at: int, size: int) -> bytes:
    file.seek(at)
    return file.read(size)


def _found(content: bytes, frames: int) -> NDArray[np.float32]:
    """Raises ValueError for what is not so many samples as it says, or more than were asked for."""
    found, channels = _SHAPE.unpack_from(content)
    if found > frames or not 1 <= channels <= MOST_CHANNELS:
        raise ValueError("not what was asked for")
    return np.frombuffer(content, dtype="<f4", offset=_SHAPE.size).reshape(found, channels).astype(np.float32)


class Decoders:
    """Children that are kept; at most so many at once, and who comes then waits for one to be free."""

    def __init__(self, most: int = CHILDREN) -> None:
        self._room, self._lock = BoundedSemaphore(most), Lock()
        self._idle: list[_Child] = []
        self._keys = count(1)

    def warm(self) -> None:
        """Have one ready."""
        with self._taken():
            pass

    def samples_of(self, file: BinaryIO, *, name: str) -> Samples:
        """Samples of an open file that seeks exactly, by first frame and frames, float32 of shape (frames, channels).

        What is returned raises NotDecoded, and what reading the file raises. The file is not closed.
        """
        key, size = next(self._keys), file.seek(0, io.SEEK_END)

        def samples(start: int, frames: int) -> NDArray[np.float32]:
            try:
                with self._taken() as child:
                    found = child.samples(file, key, size, max(start, 0), max(frames, 0))
            except _Broken:
                raise NotDecoded(file=name, reason="what takes its sound apart ended without an answer") from None
            if isinstance(found, str):
                raise NotDecoded(file=name, reason=f"its sound can't be taken apart ({found.strip(' .')})")
            return found

        return samples

    def close(self) -> None:
        """End those that are idle; the others end with this process."""
        with self._lock:
            idle, self._idle = self._idle, []
        for child in idle:
            child.end()

    @contextmanager
    def _taken(self) -> Iterator[_Child]:
        with self._room:
            with self._lock:
                child = self._idle.pop() if self._idle else None
            child = child or _Child()
            try:
                yield child
            finally:
                if child.ready:
                    with self._lock:
                        self._idle.append(child)
                else:
                    child.end()


@lru_cache(maxsize=1)
def decoders() -> Decoders:
    """Those of this process."""
    return Decoders()


class _Distant(Seekable):
    """A file whose bytes come over the pipe."""

    def __init__(self, pipe: Connection, size: int) -> None:
        super().__init__(size)
        self._pipe = pipe

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        wanted = min(len(buffer), self.size - self.at, BUFFER)
        if wanted <= 0:
            return 0
        try:
            self._pipe.send_bytes(b"r" + _WANTED.pack(self.at, wanted))
            found = self._pipe.recv_bytes()
        except (EOFError, BrokenPipeError):
            os._exit(0)  # nobody waits for it any more, and no error passes through the library in C
        buffer[: len(found)] = found
        self.at += len(found)
        return len(found)


def _main(pipe: Connection) -> None:
    """The child: ends when nobody can ask any more."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    confinement.confine(read=(), write=(), compiles=False)
    known = 0
    opened: soundfile.SoundFile | None = None
    while True:
        try:
            key, size, start, frames = _QUESTION.unpack(pipe.recv_bytes())
        except EOFError:
            return
        used = resource.getrusage(resource.RUSAGE_SELF)
        _, most = resource.getrlimit(resource.RLIMIT_CPU)
        end = int(used.ru_utime + used.ru_stime) + 1 + PROCESSOR_S
        resource.setrlimit(resource.RLIMIT_CPU, (end if most == resource.RLIM_INFINITY else min(end, most), most))
        try:
            if key != known or opened is None:
                known, opened = 0, None
                opened = soundfile.SoundFile(cast(BinaryIO, io.BufferedReader(_Distant(pipe, size), BUFFER)))
                known = key
            opened.seek(min(start, opened.frames))
            found = opened.read(frames, dtype="float32", always_2d=True)
            answer = b"s" + _SHAPE.pack(*found.shape) + found.astype("<f4").tobytes()
        except (RuntimeError, ValueError, OSError, MemoryError) as error:
            # What it read may have ended too early: the next question opens it anew.
            known, opened = 0, None
            answer = b"e" + str(error).encode(errors="replace")[:1000]
        try:
            pipe.send_bytes(answer)
        except BrokenPipeError:
            return


if __name__ == "__main__":
    _main(Connection(int(sys.argv[1])))
