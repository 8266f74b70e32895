"""The demo productions, asked for by somebody who has nothing here yet."""

from uuid import UUID

from sqlmodel import Session, func, select

from ispettore.studio.database import transaction
from ispettore.studio.jobs import works
from ispettore.studio.jobs.works import WorkView
from ispettore.studio.tables import Production, WorkKind

_THE_DEMO = UUID(int=1)


def ask() -> None:
    """Have them made. Under way already, they are not asked for twice."""
    with transaction() as session:
        _ask(session)


def ask_at_start() -> bool:
    """Have them made where nothing is here yet; whether they are being made."""
    with transaction() as session:
        if session.exec(select(Production.id).limit(1)).first() is None:
            _ask(session)
        return works.under_way(session, WorkKind.DEMO, _THE_DEMO)


def _ask(session: Session) -> None:
    session.execute(select(func.pg_advisory_xact_lock(_THE_DEMO.int)))
    if not works.under_way(session, WorkKind.DEMO, _THE_DEMO):
        works.ask(session, WorkKind.DEMO, _THE_DEMO, of=None)


def state() -> WorkView | None:
    """How far that is; None where nobody asked."""
    with transaction() as session:
        return works.view(works.newest(session, WorkKind.DEMO, [_THE_DEMO]).get(_THE_DEMO))
