"""Who is next: fair between productions and the people who ask, and what somebody waits for before what goes on by itself.

Whoever asks for a thousand things stands in the line of their own; the lines take turns (start-time fair queueing, P. Goyal,
H. M. Vin, H. Cheng 1997): a piece of work gets the turn after the last of its line, or after the one that is being worked on where
its line is new. A line is everything that one person asks for in one production. Of each kind of work that somebody may be
looking at, the first two of a line at a time are urgent and go before all that is not: measuring, planning, conforming or checking
one file does not wait for a conform of everything, not even for one's own.
"""

from typing import Any

from sqlmodel import Session, col, func, select
from sqlmodel.sql.expression import SelectOfScalar

from ispettore.studio.tables import Work, WorkKind, WorkState

URGENT_AT_ONCE = 2
LOOKED_AT = frozenset({WorkKind.INSPECT, WorkKind.PLAN, WorkKind.CONFORM, WorkKind.RETAKE, WorkKind.BED, WorkKind.VERIFY})
UNFINISHED = (WorkState.WAITING, WorkState.RUNNING)
FIRST = 1 << 30


def give(session: Session, work: Work) -> None:
    """Give work its turn, as it is asked for."""
    line = (Work.production_id == work.production_id, Work.asked_by == work.asked_by, col(Work.state).in_(UNFINISHED))
    if WorkKind(work.kind) in LOOKED_AT:
        # A plan that somebody waits for is not held up by what they asked for of a hundred recordings just before.
        urgent = select(func.count()).select_from(Work).where(*line, col(Work.urgent), Work.kind == work.kind)
        work.urgent = session.exec(urgent).one() < URGENT_AT_ONCE
    last = None if work.urgent else session.exec(_turn(*line, ~col(Work.urgent), last=True)).first()
    work.turn = max(_now(session), last or 0) + 1


def _now(session: Session) -> int:
    """The turn that is being worked on: where nothing is, the one before the next."""
    running = session.exec(_turn(Work.state == WorkState.RUNNING, ~col(Work.urgent), last=True)).first()
    if running is not None:
        return running
    following = session.exec(_turn(Work.state == WorkState.WAITING, ~col(Work.urgent), last=False)).first()
    return following - 1 if following is not None else 0


def _turn(*which: Any, last: bool) -> SelectOfScalar[int]:
    """The first turn of some work, or the last: read off an index, however much there is."""
    return select(Work.turn).where(*which).order_by(col(Work.turn).desc() if last else col(Work.turn)).limit(1)


def priority(work: Work) -> int:
    """As the queue takes it: the highest first, then who came first."""
    return (FIRST if work.urgent else 0) - work.turn
