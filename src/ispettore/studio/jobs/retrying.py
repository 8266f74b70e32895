"""How work gets done although anything may die: its states, how often it is tried, and how what was lost is found again.

| from    | to        | when                                                                                              |
| ------- | --------- | ------------------------------------------------------------------------------------------------- |
| –       | waiting   | a service asked for it (`works.ask`); it is queued when the transaction commits                    |
| waiting | running   | a worker takes it (`take`): that is one try                                                       |
| running | running   | its worker is gone or asleep, and another takes it up (`rescue`, then `take`): one more try        |
| running | waiting   | its worker was told to stop (`wait_again`): the try does not count                                |
| running | waiting   | this machine could not just now, as on a full disk (`wait_for`): the try counts                   |
| running | done      | its result and this are written in one transaction                                                |
| running | failed    | its try ended with a sentence for a person; trying again is theirs to ask for                      |
| waiting, running | failed | it was tried `MOST_TRIES` times, and its worker died or the machine could not each time    |
| waiting, running | cancelled | somebody cancelled it                                                                    |

What ended stays as it is. A try that was overtaken (`attempts.Superseded`) does not count either (`give_back`). A worker counts as
gone when its heartbeat, every `ISPETTORE_HEARTBEAT_S`, is missing for `ISPETTORE_STALLED_AFTER_S`; each worker looks for such
work as often as it beats. Memory, time and disk of one try are bounded by `ISPETTORE_JOB_…` (`settings.py`, `isolation.py`).
"""

import asyncio
import contextlib
import socket
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import timedelta
from uuid import UUID, uuid4

import procrastinate
import structlog
from procrastinate import exceptions, jobs
from procrastinate.jobs import Status
from sqlmodel import Session, col, delete, func, select

from ispettore.core.certify.certificate import issuer
from ispettore.studio import events
from ispettore.studio.database import GONE, after_commit, transaction
from ispettore.studio.errors import GivenUp
from ispettore.studio.jobs import queue, turns
from ispettore.studio.jobs.attempts import Attempt
from ispettore.studio.settings import settings
from ispettore.studio.tables import FORM, Work, WorkerProcess, WorkKind, WorkState, now

MOST_TRIES = 20
"""A worker that dies says little about the work it had in hand: what could be too much for a process runs in a child, which is the
first that the system ends (`isolation.py`) and whose end is the work's. With what lies between two tries, three minutes or more."""
WAIT_S = 10
UNFINISHED = turns.UNFINISHED
FORGOTTEN_AFTER = timedelta(days=1)
LOOK_FOR_NUMBER_S = 0.1
MOVES: dict[WorkState, frozenset[WorkState]] = {
    WorkState.WAITING: frozenset({WorkState.RUNNING, WorkState.FAILED, WorkState.CANCELLED}),
    WorkState.RUNNING: frozenset(WorkState),
    WorkState.DONE: frozenset(),
    WorkState.FAILED: frozenset(),
    WorkState.CANCELLED: frozenset(),
}
"""The table above: where each state may lead."""

log = structlog.get_logger()


def move(session: Session, work: Work, state: WorkState, *, error: str | None = None) -> None:
    """Bring work into another state, and tell whoever looks. Raises ValueError for a way that is not in the table."""
    if state not in MOVES[WorkState(work.state)]:
        raise ValueError(f"work that is {work.state} can't become {state}")
    work.state, work.error, work.stage = state, error, ""
    if state in UNFINISHED:
        work.fraction = 0.0
    else:
        work.finished_at = now()
        work.fraction = 1.0 if state == WorkState.DONE else work.fraction
    session.add(work)
    tell(session, work)


def take(work_id: UUID) -> Attempt | None:
    """Make the work this try's, unless it has ended or has been tried too often."""
    with transaction() as session:
        work = session.get(Work, work_id, with_for_update=True)
        if work is None or work.state not in UNFINISHED:
            return None
        work.attempts += 1
        if work.attempts > MOST_TRIES:
            move(session, work, WorkState.FAILED, error=GivenUp().sentence)
            return None
        token = uuid4()
        work.token = token
        move(session, work, WorkState.RUNNING)
        note_progress(session, work, "Starting", 0.0)
        return Attempt(work, token, settings().work)


def note_progress(session: Session, work: Work, stage: str, fraction: float) -> None:
    """Write down and tell how far work is."""
    work.stage, work.fraction = stage, fraction
    session.add(work)
    tell(session, work)


def end(attempt: Attempt, state: WorkState, *, error: str | None = None) -> None:
    """End work that brought nothing. Raises Superseded where it is this try's no more."""
    with transaction() as session:
        move(session, attempt.held(session), state, error=error)


def wait_again(attempt: Attempt) -> None:
    """Leave work to another worker. Raises Superseded where it is this try's no more."""
    with transaction() as session:
        work = attempt.held(session)
        work.attempts -= 1
        move(session, work, WorkState.WAITING)


def wait_for(attempt: Attempt, what: str) -> bool:
    """Leave work to be tried once more in a while, saying what it waits for; False where that was its last try. Raises Superseded
    where it is this try's no more."""
    with transaction() as session:
        work = attempt.held(session)
        if work.attempts >= MOST_TRIES:
            return False
        move(session, work, WorkState.WAITING)
        note_progress(session, work, what, 0.0)
        after_commit(session, lambda: queue.put(work, in_s=WAIT_S))
    return True


def give_back(attempt: Attempt) -> None:
    """A try that was overtaken did not fail: it does not count."""
    with transaction() as session:
        work = session.get(Work, attempt.work.id, with_for_update=True)
        if work is not None:
            work.attempts = max(0, work.attempts - 1)
            session.add(work)


def tell(session: Session, work: Work) -> None:
    """Announce how work stands when this transaction commits."""
    events.tell(
        session,
        events.Notice(
            about=WorkKind(work.kind),
            id=str(work.subject_id),
            production=work.production_id,
            recording=work.recording_id,
            state=WorkState(work.state),
            stage=work.stage,
            fraction=round(work.fraction, 3),
            work=work.id,
        ),
    )


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


async def rescue(app: procrastinate.App, hands: Hands, *, stalled_after_s: float) -> int:
    """Hand on the jobs of workers without a heartbeat and those forgotten here, and queue unfinished work that has no job.

    A lost job is taken away and its work queued as another: a worker that was only asleep may still end the first, and must not end
    what somebody else has in hand. Returns how many were handed on.
    """
    manager = app.job_manager
    if hands.worker_id is not None:
        await manager.update_heartbeat(hands.worker_id)
    await asyncio.to_thread(_show_up, hands.worker_id)
    stalled = await manager.get_stalled_jobs(seconds_since_heartbeat=stalled_after_s)
    lost = [job for job in stalled if not hands.holds(job)]
    if hands.worker_id is not None:
        lost += hands.forgotten(list(await manager.list_jobs_async(status=Status.DOING.value, worker_id=hands.worker_id)))
    for job in lost:
        log.warning("rescuing work that nobody has in hand", job=job.id)
        with contextlib.suppress(exceptions.ConnectorException):  # its worker ended it just now
            await manager.finish_job(job, status=Status.FAILED, delete_job=True)
        await asyncio.to_thread(_put_again, UUID(str(job.task_kwargs["work_id"])))
    for work_id in await asyncio.to_thread(unfinished, older_than_s=stalled_after_s):
        queued = await manager.list_jobs_async(lock=str(work_id))
        if not any(job.status in (Status.TODO.value, Status.DOING.value) for job in queued):
            log.warning("queueing work that has no job", work=str(work_id))
            await asyncio.to_thread(_put_again, work_id)
    return len(lost)


def _show_up(number: int | None) -> None:
    """Note where this worker is and what it understands, as soon as it has a number, and forget those that were not seen for long.
    What waits and is not understood here is said."""
    with transaction() as session:
        if number is not None:
            here = WorkerProcess(number=number, machine=socket.gethostname(), software=issuer(), form=FORM, seen_at=now())
            session.merge(here)
            session.execute(delete(WorkerProcess).where(col(WorkerProcess.seen_at) < now() - FORGOTTEN_AFTER))
        count = newer_than_this(session)
    if count:
        log.warning("work waits that this version does not understand; update this worker", works=count, software=issuer())


def newer_than_this(session: Session) -> int:
    """How much work waits that a newer version asked for."""
    newer = select(func.count()).select_from(Work).where(Work.state == WorkState.WAITING, Work.form > FORM)
    return session.exec(newer).one()


def _put_again(work_id: UUID) -> None:
    with transaction() as session:
        work = session.get(Work, work_id)
    if work is not None:
        queue.put(work)


async def show_up(hands: Hands, number: Callable[[], int | None]) -> None:
    """Be seen as soon as the queue gave this worker its number, and not with its first work."""
    while (known := number()) is None:
        await asyncio.sleep(LOOK_FOR_NUMBER_S)
    hands.worker_id = known
    with contextlib.suppress(*GONE):  # the rescuer does it with its next heartbeat
        await asyncio.to_thread(_show_up, known)


async def rescue_for_ever(app: procrastinate.App, hands: Hands) -> None:
    """Look for lost work as often as this worker's heart beats."""
    every_s, stalled_after_s = settings().heartbeat_s, settings().stalled_after_s
    while True:
        before = time.time()
        await asyncio.sleep(every_s)
        if time.time() - before > every_s + stalled_after_s / 2:
            continue  # this process was asleep, and so perhaps were the others: they are given time to say that they live
        try:
            await rescue(app, hands, stalled_after_s=stalled_after_s)
        except Exception:
            log.exception("could not look for stalled work; will try again")


def unfinished(*, older_than_s: float = 0.0) -> list[UUID]:
    """Work that waits or runs. What of it has no job was lost between two writes of a crash, and is to be queued again."""
    with transaction() as session:
        rows = session.exec(select(Work).where(col(Work.state).in_(UNFINISHED)).order_by(col(Work.created_at))).all()
        return [work.id for work in rows if (now() - work.created_at).total_seconds() >= older_than_s]
