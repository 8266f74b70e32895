"""A worker process: takes work from the queue, one piece at a time, and rescues what dead workers left."""

import asyncio
from uuid import UUID

import procrastinate
import structlog
from procrastinate import exceptions
from procrastinate.jobs import Status

from ispettore.studio import logs, queue, works
from ispettore.studio.database import plain_url
from ispettore.studio.doing import do
from ispettore.studio.queue import OPTIONS, TASK
from ispettore.studio.settings import settings
from ispettore.studio.store import Store

log = structlog.get_logger()


def build() -> procrastinate.App:
    """The app that a worker runs."""
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=plain_url(), kwargs={"options": OPTIONS}))
    store = Store(settings().store)

    @app.task(name=TASK, pass_context=True)
    def work(context: procrastinate.JobContext, work_id: str) -> None:
        do(UUID(work_id), store, stopping=context.should_abort)

    return app


async def rescue(app: procrastinate.App, *, stalled_after_s: float) -> int:
    """Hand the jobs of workers without a heartbeat to others, and queue work that never reached the queue. Returns how many."""
    manager = app.job_manager
    stalled = list(await manager.get_stalled_jobs(seconds_since_heartbeat=stalled_after_s))
    for job in stalled:
        log.warning("rescuing the work of a dead worker", job=job.id)
        try:
            await manager.retry_job(job)
        except exceptions.UniqueViolation:
            # The same work was queued anew already; this job only stands in its way.
            await manager.finish_job(job, status=Status.FAILED, delete_job=True)
    for work_id in await asyncio.to_thread(works.waiting, older_than_s=stalled_after_s):
        queued = await manager.list_jobs_async(lock=str(work_id))
        if not any(job.status in (Status.TODO.value, Status.DOING.value) for job in queued):
            log.warning("queueing work that was noted but never queued", work=str(work_id))
            await asyncio.to_thread(queue.put, work_id)
    return len(stalled)


async def _rescue_for_ever(app: procrastinate.App, every_s: float, stalled_after_s: float) -> None:
    while True:
        try:
            await rescue(app, stalled_after_s=stalled_after_s)
        except Exception:
            log.exception("could not look for stalled work; will try again")
        await asyncio.sleep(every_s)


async def main() -> None:
    """Run until told to stop."""
    app, limits = build(), settings()
    async with app.open_async():
        rescuer = asyncio.create_task(_rescue_for_ever(app, limits.heartbeat_s, limits.stalled_after_s))
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
    """Run a worker in this process."""
    logs.configure()
    asyncio.run(main())
