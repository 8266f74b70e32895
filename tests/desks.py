"""A real intake desk on loopback, in this process, for tests."""

import threading
import time
from collections.abc import Callable
from pathlib import Path

import uvicorn

from ispettore.desk.faults import Faults
from ispettore.desk.service import build

TOKEN = "secret"


def served(folder: Path, clean_up: Callable[..., object], faults: Faults | None = None) -> str:
    """The address of a desk that keeps what it is handed in a folder; `clean_up` is told how it ends."""
    server = uvicorn.Server(uvicorn.Config(build(folder, TOKEN, faults or Faults(None)), port=0, log_level="critical"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    clean_up(thread.join)
    clean_up(setattr, server, "should_exit", True)
    return f"http://127.0.0.1:{server.servers[0].sockets[0].getsockname()[1]}"
