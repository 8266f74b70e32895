"""Background work as the services see it: asking for it, following it, cancelling it. What each kind does stands in `worker/`."""

import time
from collections.abc import Sequence
from uuid import UUID

from pydantic import BaseModel
from sqlalchemy import ColumnElement
from sqlmodel import Session, col, select

from ispettore.studio.database import after_commit, transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.jobs import queue, retrying, turns
from ispettore.studio.tables import Recording, Work, WorkKind, WorkState
from ispettore.studio.who import may, signed_in

LOOK_S = 0.2
"""How often is looked whether work has ended."""


class WorkView(BaseModel):
    """One piece of background work: what it is, how far it is, and what went wrong."""

    id: UUID
    kind: WorkKind
    state: WorkState
    stage: str
    fraction: float
    error: str | None


def ask(session: Session, kind: WorkKind, subject_id: UUID, *, of: Recording | None, production_id: UUID | None = None) -> None:
    """Note a piece of work in this transaction, `of` a recording or of a production where it is of one; it is queued once that has
    committed.

    Should the process end between the two, or the queue not answer, `retrying.rescue` queues it.
    """
    work = Work(kind=kind, subject_id=subject_id, production_id=production_id, asked_by=signed_in(), certifies=may("certify"))
    if of is not None:
        work.recording_id, work.production_id = of.id, of.production_id
    turns.give(session, work)
    session.add(work)
    retrying.tell(session, work)
    after_commit(session, lambda: queue.put(work))


def newest(session: Session, kind: WorkKind, subjects: list[UUID]) -> dict[UUID, Work]:
    """The newest work of a kind for each subject that has one."""
    rows = session.exec(
        select(Work).where(Work.kind == kind, col(Work.subject_id).in_(subjects)).order_by(col(Work.created_at))
    ).all()
    return {work.subject_id: work for work in rows}


def states(session: Session, kind: WorkKind, production_id: UUID) -> dict[UUID, WorkState]:
    """How the newest work of a kind stands, for each subject of a production that has any."""
    rows = (
        select(Work.subject_id, Work.state)
        .where(Work.production_id == production_id, Work.kind == kind)
        .distinct(col(Work.subject_id))
        .order_by(col(Work.subject_id), col(Work.created_at).desc())
    )
    return {subject: WorkState(state) for subject, state in session.exec(rows).all()}


def busy(session: Session, production_id: UUID) -> set[UUID]:
    """The recordings of a production for which anything waits or runs."""
    rows = select(Work.recording_id).where(Work.production_id == production_id, col(Work.state).in_(retrying.UNFINISHED))
    return {recording for recording in session.exec(rows).all() if recording is not None}


def under_way(session: Session, kind: WorkKind, subject: UUID) -> bool:
    """Whether the newest work of a kind for a subject waits or runs."""
    work = newest(session, kind, [subject]).get(subject)
    return work is not None and work.state in retrying.UNFINISHED


def view(work: Work | None) -> WorkView | None:
    if work is None:
        return None
    return WorkView.model_validate(work, from_attributes=True)


def unfinished(session: Session, which: ColumnElement[bool]) -> Sequence[UUID]:
    """Which of this work waits or runs, the last first."""
    rows = select(Work.id).where(which, col(Work.state).in_(retrying.UNFINISHED))
    return session.exec(rows.order_by(col(Work.created_at).desc())).all()


def cancel_unfinished(which: ColumnElement[bool]) -> int:
    """Cancel all of this work that waits or runs; how much that was."""
    with transaction() as session:
        found = unfinished(session, which)
    for work_id in found:  # the last first, so that none begins because one before it went
        cancel(work_id)
    return len(found)


def wait_until_ended(which: ColumnElement[bool], *, at_most_s: float) -> None:
    """Wait until none of this work waits or runs any more, or as long as is said."""
    until = time.monotonic() + at_most_s
    while time.monotonic() < until:
        with transaction() as session:
            if not unfinished(session, which):
                return
        time.sleep(LOOK_S)


def cancel(work_id: UUID) -> None:
    """Cancel: at once where it still waits, within a second where it runs. Work that has ended stays as it is."""
    with transaction() as session:
        work = session.get(Work, work_id, with_for_update=True)
        if work is None:
            raise NotFound(what="work")
        if work.state == WorkState.WAITING:
            retrying.move(session, work, WorkState.CANCELLED)
        elif work.state == WorkState.RUNNING:
            work.cancel_asked = True
            session.add(work)
            retrying.tell(session, work)
