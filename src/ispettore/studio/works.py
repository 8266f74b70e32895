"""Background work: asking for it, following it, cancelling it. What each kind does stands in `doing.py`."""

from uuid import UUID

from sqlmodel import Session, col, select

from ispettore.studio import events
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.tables import Work, WorkKind, WorkState, now
from ispettore.studio.views import WorkView


def ask(session: Session, kind: WorkKind, subject_id: UUID, *, production_id: UUID | None) -> Work:
    """Note a piece of work in this transaction. Call `queue.put` with its id once the transaction has committed."""
    work = Work(kind=kind, subject_id=subject_id, production_id=production_id)
    session.add(work)
    events.tell(session, kind, subject_id, production_id=production_id)
    return work


def newest(session: Session, kind: WorkKind, subjects: list[UUID]) -> dict[UUID, Work]:
    """The newest work of a kind for each subject that has one."""
    rows = session.exec(
        select(Work).where(Work.kind == kind, col(Work.subject_id).in_(subjects)).order_by(col(Work.created_at))
    ).all()
    return {work.subject_id: work for work in rows}


def under_way(session: Session, kind: WorkKind, subject: UUID) -> bool:
    """Whether the newest work of a kind for a subject waits or runs."""
    work = newest(session, kind, [subject]).get(subject)
    return work is not None and work.state in (WorkState.WAITING, WorkState.RUNNING)


def view(work: Work | None) -> WorkView | None:
    if work is None:
        return None
    return WorkView.model_validate(work, from_attributes=True)


def cancel(work_id: UUID) -> None:
    """Cancel: at once where it still waits, within a second where it runs. Work that has ended stays as it is."""
    with transaction() as session:
        work = session.get(Work, work_id, with_for_update=True)
        if work is None:
            raise NotFound(what="work")
        if work.state == WorkState.WAITING:
            work.state, work.finished_at = WorkState.CANCELLED, now()
        elif work.state == WorkState.RUNNING:
            work.cancel_asked = True
        session.add(work)
        events.tell(session, work.kind, work.subject_id, production_id=work.production_id)


def unfinished(*, older_than_s: float = 0.0) -> list[UUID]:
    """Work that waits or runs. What of it has no job was lost between two writes of a crash, and is to be queued again."""
    with transaction() as session:
        rows = session.exec(
            select(Work).where(col(Work.state).in_((WorkState.WAITING, WorkState.RUNNING))).order_by(col(Work.created_at))
        ).all()
        return [work.id for work in rows if (now() - work.created_at).total_seconds() >= older_than_s]
