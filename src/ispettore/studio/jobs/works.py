"""Background work as the services see it: asking for it, following it, cancelling it. What each kind does stands in `worker/`."""

from uuid import UUID

from pydantic import BaseModel
from sqlalchemy import ColumnElement
from sqlmodel import Session, col, select

from ispettore.studio.database import after_commit, transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.jobs import queue, retrying
from ispettore.studio.tables import Work, WorkKind, WorkState


class WorkView(BaseModel):
    """One piece of background work: what it is, how far it is, and what went wrong."""

    id: UUID
    kind: WorkKind
    state: WorkState
    stage: str
    fraction: float
    error: str | None


def ask(session: Session, kind: WorkKind, subject_id: UUID, *, production_id: UUID | None) -> None:
    """Note a piece of work in this transaction; it is queued once that has committed.

    Should the process end between the two, or the queue not answer, `retrying.rescue` queues it.
    """
    work = Work(kind=kind, subject_id=subject_id, production_id=production_id)
    session.add(work)
    retrying.tell(session, work)
    after_commit(session, lambda: queue.put(work.id))


def newest(session: Session, kind: WorkKind, subjects: list[UUID]) -> dict[UUID, Work]:
    """The newest work of a kind for each subject that has one."""
    rows = session.exec(
        select(Work).where(Work.kind == kind, col(Work.subject_id).in_(subjects)).order_by(col(Work.created_at))
    ).all()
    return {work.subject_id: work for work in rows}


def under_way(session: Session, kind: WorkKind, subject: UUID) -> bool:
    """Whether the newest work of a kind for a subject waits or runs."""
    work = newest(session, kind, [subject]).get(subject)
    return work is not None and work.state in retrying.UNFINISHED


def view(work: Work | None) -> WorkView | None:
    if work is None:
        return None
    return WorkView.model_validate(work, from_attributes=True)


def cancel_unfinished(which: ColumnElement[bool]) -> int:
    """Cancel all of this work that waits or runs; how much that was."""
    with transaction() as session:
        unfinished = select(Work.id).where(which, col(Work.state).in_(retrying.UNFINISHED))
        found = session.exec(unfinished.order_by(col(Work.created_at).desc())).all()
    for work_id in found:  # the last first, so that none begins because one before it went
        cancel(work_id)
    return len(found)


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
