"""A worker process: takes work from the queue, one piece at a time, and looks for what others left."""

import asyncio
import time
from collections.abc import Callable
from uuid import UUID

import procrastinate
import psycopg
import structlog
from procrastinate import exceptions
from procrastinate.worker import Worker

from ispettore.studio import logs
from ispettore.studio.database import plain_url
from ispettore.studio.jobs import attempts, retrying
from ispettore.studio.jobs.queue import OPTIONS, QUEUES, TASK
from ispettore.studio.jobs.retrying import Hands
from ispettore.studio.settings import keep_to_oneself, settings
from ispettore.studio.store.blobs import Store
from ispettore.studio.worker import doing

log = structlog.get_logger()
START_OVER_S = 1.0
TIDY_EVERY_S = 30.0


def build(hands: Hands, *, do: Callable[[UUID, Callable[[], bool]], None] | None = None) -> procrastinate.App:
    """The app that a worker runs; what it does with a piece of work can be put in the place of doing it."""
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=plain_url(), kwargs={"options": OPTIONS}))
    done = do or _doer()

    @app.task(name=TASK, pass_context=True)
    def work(context: procrastinate.JobContext, work_id: str) -> None:
        with hands.holding(context.job):
            done(UUID(work_id), context.should_abort)

    return app


def _doer() -> Callable[[UUID, Callable[[], bool]], None]:
    store = Store(settings().store)
    return lambda work_id, stopping: doing.do(work_id, store, stopping=stopping)


async def main() -> None:
    """Run until told to stop."""
    hands, limits = Hands(), settings()
    app = build(hands)
    async with app.open_async():
        worker = Worker(
            app,
            queues=QUEUES,
            concurrency=1,
            update_heartbeat_interval=limits.heartbeat_s,
            stalled_worker_timeout=limits.stalled_after_s,
            shutdown_graceful_timeout=0.5,
            fetch_job_polling_interval=1.0,
            install_signal_handlers=True,
            delete_jobs="successful",
        )
        beside = (
            asyncio.create_task(retrying.show_up(hands, lambda: worker.worker_id)),
            asyncio.create_task(retrying.rescue_for_ever(app, hands)),
            asyncio.create_task(tidy_for_ever(Store(limits.store))),
        )
        try:
            await worker.run()  # type: ignore[no-untyped-call]
        finally:
            for task in beside:
                task.cancel()


async def tidy_for_ever(store: Store) -> None:
    """Let go of what processes left in the store that were killed while they wrote, as long as this one lives."""
    while True:
        await asyncio.sleep(TIDY_EVERY_S)
        try:
            await asyncio.to_thread(store.sweep)
        except OSError as error:
            log.warning("the store could not be tidied; will try again", reason=str(error))


def run() -> None:
    """Run a worker in this process until it is told to stop. Where the queue lets it down, it starts over."""
    logs.configure()
    attempts.sweep(settings().work)
    keep_to_oneself()
    attempts.keep_temporary()
    while True:
        try:
            asyncio.run(main())
            return
        except (exceptions.ConnectorException, psycopg.Error):
            log.warning("the queue does not answer; starting over")
            time.sleep(START_OVER_S)
