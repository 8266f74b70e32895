"""A worker process: takes work from the queue, one piece at a time, and rescues what dead workers left."""

import asyncio
import contextlib
import time
from collections.abc import Iterator
from contextlib import contextmanager
from uuid import UUID

import procrastinate
import psycopg
import structlog
from procrastinate import exceptions, jobs
from procrastinate.jobs import Status

from ispettore.studio import attempts, logs, queue, works
from ispettore.studio.database import plain_url
from ispettore.studio.doing import do
from ispettore.studio.queue import OPTIONS, TASK
from ispettore.studio.settings import settings
from ispettore.studio.store import Store

log = structlog.get_logger()
START_OVER_S = 1.0


class Hands:
    """What this process has in hand, against what the queue believes it has.

    Where the database goes away just as a job ends, the queue goes on counting it as being done by a worker that is alive.
    """

    def __init__(self) -> None:
        self.worker_id: int | None = None
        self._held: set[int | None] = set()
        self._missed: set[int | None] = set()

    @contextmanager
    def holding(self, job: jobs.Job) -> Iterator[None]:
        self.worker_id = job.worker_id
        self._held.add(job.id)
        try:
            yield
        finally:
            self._held.discard(job.id)

    def holds(self, job: jobs.Job) -> bool:
        """Whether a job is in hand here."""
        return job.id in self._held

    def forgotten(self, counted: list[jobs.Job]) -> list[jobs.Job]:
        """Those of the jobs counted as this worker's that it has not had in hand, now nor when last asked."""
        missing = {job.id for job in counted} - self._held
        found = [job for job in counted if job.id in missing & self._missed]
        self._missed = missing
        return found


def build(hands: Hands) -> procrastinate.App:
    """The app that a worker runs."""
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=plain_url(), kwargs={"options": OPTIONS}))
    store = Store(settings().store)

    @app.task(name=TASK, pass_context=True)
    def work(context: procrastinate.JobContext, work_id: str) -> None:
        with hands.holding(context.job):
            do(UUID(work_id), store, stopping=context.should_abort)

    return app


async def rescue(app: procrastinate.App, hands: Hands, *, stalled_after_s: float) -> int:
    """Hand on the jobs of workers without a heartbeat and those forgotten here, and queue unfinished work that has no job.

    A lost job is taken away and its work queued as another: a worker that was only asleep may still end the first, and must not end
    what somebody else has in hand. Returns how many were handed on.
    """
    manager = app.job_manager
    if hands.worker_id is not None:
        await manager.update_heartbeat(hands.worker_id)
    stalled = await manager.get_stalled_jobs(seconds_since_heartbeat=stalled_after_s)
    lost = [job for job in stalled if not hands.holds(job)]
    if hands.worker_id is not None:
        lost += hands.forgotten(list(await manager.list_jobs_async(status=Status.DOING.value, worker_id=hands.worker_id)))
    for job in lost:
        log.warning("rescuing work that nobody has in hand", job=job.id)
        with contextlib.suppress(exceptions.ConnectorException):  # its worker ended it just now
            await manager.finish_job(job, status=Status.FAILED, delete_job=True)
        await asyncio.to_thread(queue.put, UUID(str(job.task_kwargs["work_id"])))
    for work_id in await asyncio.to_thread(works.unfinished, older_than_s=stalled_after_s):
        queued = await manager.list_jobs_async(lock=str(work_id))
        if not any(job.status in (Status.TODO.value, Status.DOING.value) for job in queued):
            log.warning("queueing work that has no job", work=str(work_id))
            await asyncio.to_thread(queue.put, work_id)
    return len(lost)


async def _rescue_for_ever(app: procrastinate.App, hands: Hands, every_s: float, stalled_after_s: float) -> None:
    while True:
        before = time.time()
        await asyncio.sleep(every_s)
        if time.time() - before > every_s + stalled_after_s / 2:
            continue  # this process was asleep, and so perhaps were the others: they are given time to say that they live
        try:
            await rescue(app, hands, stalled_after_s=stalled_after_s)
        except Exception:
            log.exception("could not look for stalled work; will try again")


async def main() -> None:
    """Run until told to stop."""
    hands, limits = Hands(), settings()
    app = build(hands)
    async with app.open_async():
        rescuer = asyncio.create_task(_rescue_for_ever(app, hands, limits.heartbeat_s, limits.stalled_after_s))
        try:
            await app.run_worker_async(
                concurrency=1,
                update_heartbeat_interval=limits.heartbeat_s,
                stalled_worker_timeout=limits.stalled_after_s,
                shutdown_graceful_timeout=0.5,
                fetch_job_polling_interval=1.0,
                install_signal_handlers=True,
                delete_jobs="successful",
            )
        finally:
            rescuer.cancel()


def run() -> None:
    """Run a worker in this process until it is told to stop. Where the queue lets it down, it starts over."""
    logs.configure()
    attempts.sweep(settings().work)
    while True:
        try:
            asyncio.run(main())
            return
        except (exceptions.ConnectorException, psycopg.Error):
            log.warning("the queue does not answer; starting over")
            time.sleep(START_OVER_S)
