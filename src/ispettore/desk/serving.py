"""The desk's process."""

import logging
from pathlib import Path

import uvicorn

from ispettore.desk.faults import Faults
from ispettore.desk.service import build


def serve(*, host: str, port: int, folder: Path, token: str, seed: int | None) -> None:
    """Serve until told to stop."""
    logging.getLogger("uvicorn.error").addFilter(lambda record: "dropped, as drawn" not in str(record.exc_info))
    uvicorn.run(
        build(folder, token, Faults(seed)),
        host=host,
        port=port,
        log_level="warning",
        timeout_graceful_shutdown=1,
        server_header=False,
    )
