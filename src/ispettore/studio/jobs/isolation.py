"""Running one computation in a child of its own, with limits on memory and time.

Decoding foreign files may crash, hang or swell; then only the child dies and the work ends with a sentence. It reaches nothing but
what it was given (`confinement.py`). Children come from a
fork server that has the heavy libraries loaded (15 ms a child). When the worker dies, however it dies, the fork server ends with it
and takes its children along.
"""

import ctypes
import multiprocessing
import os
import resource
import signal
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, TypeVar, cast

from pydantic import BaseModel

from ispettore.core.errors import Cancelled, IspettoreError
from ispettore.core.progress import Progress
from ispettore.studio.jobs import answers, confinement
from ispettore.studio.store import disk

POLL_S = 0.2
LOOK_AT_DISK_S = 1.0
PR_SET_PDEATHSIG = 1
Request = TypeVar("Request", bound=BaseModel)
Answer = TypeVar("Answer", bound=BaseModel)


class ChildDied(IspettoreError):
    """“{file}” couldn't be processed: decoding it used more than {limit}. If it plays elsewhere, export it afresh."""

    file: str
    limit: str


class ChildNeverBegan(IspettoreError):
    """“{file}” couldn't be processed: the program that does it ended before it began, as when its own files were changed while it
    ran. Nothing is lost: stop Ispettore, start it again, and try once more."""

    file: str


def context() -> Any:
    """Where children come from: a fork server with the kernels loaded."""
    found = multiprocessing.get_context("forkserver")
    found.set_forkserver_preload(["ispettore.studio.worker.warm"])
    return found


@dataclass(frozen=True)
class Limits:
    """What one computation may take; `disk_bytes` counts what is temporary."""

    memory_bytes: int
    cpu_s: int
    disk_bytes: int


def run(
    compute: Callable[[Request, Progress], Answer],
    request: Request,
    *,
    name: str,
    folder: Path,
    limits: Limits,
    progress: Progress,
    cancelled: Callable[[], bool],
) -> Answer:
    """Call `compute(request, progress)` in a child and return its answer; both are frozen models, and picklable.

    Everything temporary lies in `folder`. `progress` is called here for what the child reports; `cancelled` is asked several times
    a second. Raises what the child raises, Cancelled, TooMuchDisk, ChildDied or ChildNeverBegan.
    """
    server = context()
    here, there = server.Pipe()
    child = server.Process(target=_main, args=(there, compute, request, name, str(folder), limits), daemon=True)
    child.start()
    there.close()
    looked = time.monotonic()
    try:
        while True:
            if here.poll(POLL_S):
                try:
                    kind, content = answers.read(here.recv_bytes())
                except EOFError:
                    raise _died(child, name, limits) from None
                if kind == "progress":
                    progress(*content)
                elif kind == "result":
                    return cast(Answer, content)
                else:
                    raise cast(BaseException, content)
            elif not child.is_alive() and not here.poll(0):
                raise _died(child, name, limits)
            if cancelled():
                raise Cancelled
            if time.monotonic() - looked > LOOK_AT_DISK_S:
                looked = time.monotonic()
                if disk.used_by(folder, child.pid) > limits.disk_bytes:
                    raise disk.TooMuchDisk(file=name, limit_gb=limits.disk_bytes / 1024**3)
    finally:
        if child.is_alive():
            child.kill()
        child.join()
        here.close()


def _died(child: Any, name: str, limits: Limits) -> IspettoreError:
    child.join()
    if child.exitcode > 0:  # not by a signal, and without a word
        return ChildNeverBegan(file=name)
    limit = f"{limits.cpu_s / 60:.0f} minutes" if child.exitcode == -signal.SIGXCPU else _gigabytes(limits)
    return ChildDied(file=name, limit=limit)


def _gigabytes(limits: Limits) -> str:
    return f"{limits.memory_bytes / 1024**3:.0f} GB of memory"


def _main(
    pipe: Connection, compute: Callable[[Request, Progress], Answer], request: Request, name: str, folder: str, limits: Limits
) -> None:
    ctypes.CDLL(None, use_errno=True).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_AS, (limits.memory_bytes, limits.memory_bytes))
    resource.setrlimit(resource.RLIMIT_CPU, (limits.cpu_s, limits.cpu_s + 5))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    os.environ["TMPDIR"] = tempfile.tempdir = folder
    with suppress(OSError):  # where a machine runs out of memory, this goes and not the worker or the database
        Path("/proc/self/oom_score_adj").write_text("1000")

    def report(stage: str, fraction: float) -> None:
        pipe.send(("progress", (stage, fraction)))

    try:
        confinement.confine(read=confinement.paths_in(request), write=[Path(folder)])
        pipe.send(("result", compute(request, report)))
    except MemoryError:
        pipe.send(("error", ChildDied(file=name, limit=_gigabytes(limits))))
    except IspettoreError as error:
        pipe.send(("error", error))
    except BrokenPipeError:
        pass
    except OSError as error:
        pipe.send(("error", disk.told(error, name) or RuntimeError(f"{type(error).__name__}: {error}")))
    except BaseException as error:
        pipe.send(("error", RuntimeError(f"{type(error).__name__}: {error}")))
    finally:
        pipe.close()
