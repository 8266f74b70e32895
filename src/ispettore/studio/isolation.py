"""Running one computation in a child of its own, with limits on memory and time.

Decoding foreign files may crash, hang or swell; then only the child dies and the work ends with a sentence. Children come from a
fork server that has the heavy libraries loaded (15 ms a child). When the worker dies, however it dies, the fork server ends with it
and takes its children along.
"""

import ctypes
import multiprocessing
import resource
import signal
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any, cast

from ispettore.core.errors import Cancelled, IspettoreError

POLL_S = 0.2
PR_SET_PDEATHSIG = 1


class ChildDied(IspettoreError):
    """“{file}” could not be worked on: decoding it used more than {limit}. If it plays elsewhere, export it afresh."""


def _context() -> Any:
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["ispettore.studio.warm"])
    return context


def run(
    function: Callable[..., Any],
    *arguments: Any,
    name: str,
    memory_bytes: int,
    cpu_s: int,
    progress: Callable[[str, float], None],
    cancelled: Callable[[], bool],
) -> Any:
    """Call `function(*arguments, progress=…)` in a child and return what it returns (picklable).

    `progress` is called here for what the child reports; `cancelled` is asked several times a second. Raises what the child raises,
    Cancelled, or ChildDied.
    """
    context = _context()
    here, there = context.Pipe()
    child = context.Process(target=_main, args=(there, function, arguments, memory_bytes, cpu_s), daemon=True)
    child.start()
    there.close()
    try:
        while True:
            if here.poll(POLL_S):
                try:
                    kind, content = here.recv()
                except EOFError:
                    raise _died(child, name, memory_bytes, cpu_s) from None
                if kind == "progress":
                    progress(*content)
                elif kind == "result":
                    return content
                else:
                    raise cast(BaseException, content)
            elif not child.is_alive() and not here.poll(0):
                raise _died(child, name, memory_bytes, cpu_s)
            if cancelled():
                raise Cancelled
    finally:
        if child.is_alive():
            child.kill()
        child.join()
        here.close()


def _died(child: Any, name: str, memory_bytes: int, cpu_s: int) -> ChildDied:
    child.join()
    limit = f"{cpu_s / 60:.0f} minutes" if child.exitcode == -signal.SIGXCPU else f"{memory_bytes / 1024**3:.0f} GB of memory"
    return ChildDied(file=name, limit=limit)


def _main(pipe: Connection, function: Callable[..., Any], arguments: tuple[Any, ...], memory_bytes: int, cpu_s: int) -> None:
    ctypes.CDLL(None, use_errno=True).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_AS, (memory_bytes, memory_bytes))
    resource.setrlimit(resource.RLIMIT_CPU, (cpu_s, cpu_s + 5))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))

    def report(stage: str, fraction: float) -> None:
        pipe.send(("progress", (stage, fraction)))

    try:
        pipe.send(("result", function(*arguments, progress=report)))
    except MemoryError:
        pipe.send(("error", ChildDied(file="The file", limit=f"{memory_bytes / 1024**3:.0f} GB of memory")))
    except IspettoreError as error:
        pipe.send(("error", error))
    except BrokenPipeError:
        pass
    except BaseException as error:
        pipe.send(("error", RuntimeError(f"{type(error).__name__}: {error}")))
    finally:
        pipe.close()
