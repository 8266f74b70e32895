"""The queue: procrastinate in the same PostgreSQL, in a schema of its own. Services ask with `works.ask`, never here."""

import contextlib
from functools import lru_cache
from uuid import UUID

import procrastinate
from procrastinate import exceptions

from ispettore.studio.database import plain_url

SCHEMA = "queue"
TASK = "work"
OPTIONS = f"-c search_path={SCHEMA}"


@lru_cache(maxsize=1)
def deferrer() -> procrastinate.App:
    """An app that only puts jobs in, for the web process and the command line."""
    app = procrastinate.App(connector=procrastinate.SyncPsycopgConnector(conninfo=plain_url(), kwargs={"options": OPTIONS}))
    app.open()
    return app


def put(work_id: UUID) -> None:
    """Queue a piece of work; a second time while it still waits does nothing."""
    app = deferrer()
    with contextlib.suppress(exceptions.AlreadyEnqueued):
        app.configure_task(TASK, queueing_lock=str(work_id), lock=str(work_id)).defer(work_id=str(work_id))
