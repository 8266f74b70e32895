"""The demo productions, asked for by somebody who has nothing here yet."""

from uuid import UUID

from sqlmodel import func, select

from ispettore.studio.database import transaction
from ispettore.studio.jobs import works
from ispettore.studio.jobs.works import WorkView
from ispettore.studio.tables import WorkKind

_THE_DEMO = UUID(int=1)


def ask() -> None:
    """Have them made. Under way already, they are not asked for twice."""
    with transaction() as session:
        session.execute(select(func.pg_advisory_xact_lock(_THE_DEMO.int)))
        if not works.under_way(session, WorkKind.DEMO, _THE_DEMO):
            works.ask(session, WorkKind.DEMO, _THE_DEMO, of=None)


def state() -> WorkView | None:
    """How far that is; None where nobody asked."""
    with transaction() as session:
        return works.view(works.newest(session, WorkKind.DEMO, [_THE_DEMO]).get(_THE_DEMO))
