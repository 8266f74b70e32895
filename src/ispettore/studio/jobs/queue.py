"""The queue: procrastinate in the same PostgreSQL, in a schema of its own. Services ask with `works.ask`, never here."""

import contextlib
from functools import lru_cache

import procrastinate
from procrastinate import exceptions

from ispettore.studio.database import plain_url
from ispettore.studio.jobs import turns
from ispettore.studio.tables import FORM, Work

SCHEMA = "queue"
TASK = "work"
QUEUES = ["default", *(f"work-{form}" for form in range(22, FORM + 1))]
"""One for each form of work that this version understands; a worker looks into no other."""
OPTIONS = f"-c search_path={SCHEMA}"


@lru_cache(maxsize=1)
def deferrer() -> procrastinate.App:
    """An app that only puts jobs in, for the web process and the command line."""
    app = procrastinate.App(connector=procrastinate.SyncPsycopgConnector(conninfo=plain_url(), kwargs={"options": OPTIONS}))
    app.open()
    return app


def put(work: Work, *, in_s: int = 0) -> None:
    """Queue a piece of work, to be taken in so many seconds; a second time while it still waits does nothing."""
    app, key = deferrer(), str(work.id)
    when = {"seconds": in_s} if in_s else None
    task = app.configure_task(
        TASK, queue=f"work-{work.form}", priority=turns.priority(work), queueing_lock=key, lock=key, schedule_in=when
    )
    with contextlib.suppress(exceptions.AlreadyEnqueued):
        task.defer(work_id=key)
