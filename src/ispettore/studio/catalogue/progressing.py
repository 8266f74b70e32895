"""How far the work of a production is as a whole, and how long it will take still.

Work is counted from when the oldest of what is unfinished was asked for: what ended since belongs to the same lot. Time left goes
by bytes: those of the recordings that are left, against those that were done in the time since, for each kind of work by itself.
"""

from collections.abc import Iterable
from datetime import datetime
from uuid import UUID

from sqlmodel import Session, col, select

from ispettore.studio.catalogue.views import LotView
from ispettore.studio.jobs import retrying
from ispettore.studio.tables import Recording, Work, WorkState, now

SOONEST_S = 2.0
"""Before that nothing is said of the time left."""


def lot(session: Session, production_id: UUID) -> LotView | None:
    """The lot that is under way, or None where nothing is."""
    of_it = select(Work).where(Work.production_id == production_id)
    unfinished = session.exec(of_it.where(col(Work.state).in_(retrying.UNFINISHED))).all()
    if not unfinished:
        return None
    began = min(work.created_at for work in unfinished)
    ended = session.exec(of_it.where(col(Work.finished_at) >= began, col(Work.state).not_in(retrying.UNFINISHED))).all()
    sizes = _sizes(session, [*unfinished, *ended])
    failed = sum(work.state == WorkState.FAILED for work in ended)
    return LotView(
        total=len(unfinished) + len(ended),
        done=len(ended),
        failed=failed,
        fraction=_share(unfinished, ended, sizes),
        left_s=_left(unfinished, ended, sizes, began),
    )


def _sizes(session: Session, works: Iterable[Work]) -> dict[UUID, int]:
    """The size of every recording that work is of."""
    wanted = {work.recording_id for work in works}
    return dict(session.exec(select(Recording.id, Recording.size_bytes).where(col(Recording.id).in_(wanted))).all())


def _size(work: Work, sizes: dict[UUID, int]) -> int:
    return sizes.get(work.recording_id, 0) if work.recording_id is not None else 0


def _done(work: Work, sizes: dict[UUID, int]) -> float:
    share = work.fraction if work.state in retrying.UNFINISHED else 1.0
    return share * _size(work, sizes)


def _share(unfinished: Iterable[Work], ended: Iterable[Work], sizes: dict[UUID, int]) -> float:
    every = [*unfinished, *ended]
    total = sum(_size(work, sizes) for work in every)
    return min(1.0, sum(_done(work, sizes) for work in every) / total) if total else 0.0


def _left(unfinished: Iterable[Work], ended: Iterable[Work], sizes: dict[UUID, int], began: datetime) -> float | None:
    """In seconds; None as long as nothing of a kind has been done."""
    since_s = (now() - began).total_seconds()
    left_s = 0.0
    for kind in {work.kind for work in unfinished}:
        waiting = [work for work in unfinished if work.kind == kind]
        done = sum(_done(work, sizes) for work in (*waiting, *(work for work in ended if work.kind == kind)))
        left = sum(_size(work, sizes) - _done(work, sizes) for work in waiting)
        if done <= 0 or since_s < SOONEST_S:
            return None
        left_s += left * since_s / done
    return left_s
