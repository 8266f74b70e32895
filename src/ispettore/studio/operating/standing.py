"""Whether what work needs is there, and how work stands."""

import shutil
import tempfile
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from uuid import UUID

from alembic.script import ScriptDirectory
from sqlalchemy import text
from sqlalchemy.orm import aliased
from sqlmodel import Session, col, func, select

from ispettore.core.errors import IspettoreError
from ispettore.studio.database import GONE, alembic_config, transaction
from ispettore.studio.errors import NotFailed, NotFound
from ispettore.studio.jobs import retrying, works
from ispettore.studio.operating import scrubbing
from ispettore.studio.operating.views import Failure, Operation, Part, QueueLine, Ready, WorkerLine
from ispettore.studio.settings import settings
from ispettore.studio.store.blobs import Store
from ispettore.studio.tables import FORM, Production, Recording, Work, WorkerProcess, WorkKind, WorkState, now

LEAST_FREE = 2 * 1024**3
"""Less room than this is told before it is none."""
MOST_FAILURES = 100


def ready() -> Ready:
    """Whether everything is there, part by part; the database first, as without it little else can be told."""
    parts = [_database()]
    if parts[0].fine:
        parts += [_looked("Versions", _versions), _looked("Queue", _queue_answers), _looked("Workers", _workers_there)]
    parts += [_looked("Store", _store), _looked("Disk", _disk)]
    return Ready(ready=all(part.fine for part in parts), parts=parts)


def operation() -> Operation:
    """How everything stands."""
    found = ready()
    if not found.parts[0].fine:
        return Operation(parts=found.parts, queue=[], workers=[], failures=[], more_failures=0)
    with transaction() as session:
        failures, count = failed(session)
        return Operation(
            parts=[*found.parts, files()],
            queue=queue(session),
            workers=workers(session),
            failures=failures,
            more_failures=max(0, count - len(failures)),
        )


def files() -> Part:
    """What the last check of the whole store found. Whatever needs no wrong file goes on, so this is nothing to wait for."""
    found = scrubbing.last()
    if found is None:
        return Part(name="Files", fine=True, told="Not checked as a whole yet: “ispettore check-store” does it while work goes on.")
    when = f"{found.at:%-d %B %Y}"
    lasting = [wrong for wrong in found.wrong if not wrong.mended]
    if not lasting:
        return Part(name="Files", fine=True, told=f"All {found.files} as they came in, by the check of {when}.")
    are = "1 file is" if len(lasting) == 1 else f"{len(lasting)} files are"
    among = lasting[0].of[0] + (" among them" if len(lasting) > 1 else "")
    return Part(name="Files", fine=False, told=f"{are} damaged or missing, by the check of {when}: {among}. Add it again.")


def queue(session: Session) -> list[QueueLine]:
    """What waits and runs, by kind."""
    waits, runs = (func.count().filter(col(Work.state) == state) for state in (WorkState.WAITING, WorkState.RUNNING))
    since = func.min(Work.created_at).filter(col(Work.state) == WorkState.WAITING)
    rows = select(Work.kind, waits, runs, since).where(col(Work.state).in_(retrying.UNFINISHED)).group_by(col(Work.kind))
    found = [
        QueueLine(kind=WorkKind(kind), waiting=waiting, running=running, waiting_since=first)
        for kind, waiting, running, first in session.exec(rows).all()
    ]
    return sorted(found, key=lambda line: list(WorkKind).index(line.kind))


def workers(session: Session) -> list[WorkerLine]:
    """Every worker that was not seen to end."""
    late = timedelta(seconds=settings().stalled_after_s)
    rows = session.connection().execute(text("SELECT id, last_heartbeat FROM queue.procrastinate_workers ORDER BY id")).all()
    known = {one.number: one for one in session.exec(select(WorkerProcess)).all()}
    nobody = WorkerProcess(number=0, machine="", software="", form=FORM)
    return [
        WorkerLine(
            id=number,
            machine=known.get(number, nobody).machine,
            software=known.get(number, nobody).software,
            older=known.get(number, nobody).form < FORM,
            heard_at=heard,
            alive=now() - heard < late,
        )
        for number, heard in rows
    ]


def failed(session: Session) -> tuple[list[Failure], int]:
    """The newest work that failed and was not asked for again since, and how much there is in all."""
    newer = aliased(Work)
    since = select(newer.id).where(newer.subject_id == Work.subject_id, newer.kind == Work.kind)
    rows: Any = (
        select(Work, Recording.name, Production.name)
        .join(Recording, col(Recording.id) == Work.recording_id, isouter=True)
        .join(Production, col(Production.id) == Work.production_id, isouter=True)
        .where(
            Work.state == WorkState.FAILED,
            ~since.where(col(newer.created_at) > Work.created_at).exists(),
            col(Recording.removed_at).is_(None),
            col(Production.removed_at).is_(None),
        )
    )
    count = session.exec(select(func.count()).select_from(rows.subquery())).one()
    found = session.exec(rows.order_by(col(Work.finished_at).desc()).limit(MOST_FAILURES)).all()
    return [_failure(*row) for row in found], count


def again(work_id: UUID) -> None:
    """Ask once more for work that failed. Raises NotFound, and NotFailed where it did not or was asked for already."""
    with transaction() as session:
        work = session.get(Work, work_id, with_for_update=True)
        if work is None:
            raise NotFound(what="work")
        newest = works.newest(session, WorkKind(work.kind), [work.subject_id])[work.subject_id]
        if work.state != WorkState.FAILED or newest.id != work.id:
            raise NotFailed()
        recording = session.get(Recording, work.recording_id) if work.recording_id else None
        works.ask(session, WorkKind(work.kind), work.subject_id, of=recording, production_id=work.production_id)


def _failure(work: Work, recording: str | None, production: str | None) -> Failure:
    return Failure(
        work=work.id,
        kind=WorkKind(work.kind),
        recording=work.recording_id,
        recording_name=recording or "",
        production=work.production_id,
        production_name=production or "",
        finished_at=work.finished_at or work.created_at,
        error=work.error or "",
    )


def _looked(name: str, look: Callable[[], Part]) -> Part:
    try:
        return look()
    except (*GONE, OSError, IspettoreError) as error:
        return Part(name=name, fine=False, told=getattr(error, "sentence", "It could not be looked at."))


def _database() -> Part:
    try:
        with transaction() as session:
            size = session.connection().execute(text("SELECT pg_database_size(current_database())")).scalar_one()
    except GONE:
        return Part(name="Database", fine=False, told="It does not answer.")
    return Part(name="Database", fine=True, told=f"It answers, and holds {_size(size)}.")


def _versions() -> Part:
    wanted = ScriptDirectory.from_config(alembic_config()).get_current_head()
    with transaction() as session:
        there = session.connection().execute(text("SELECT version_num FROM alembic_version")).scalar_one_or_none()
    told = f"The schema is {there}" + ("." if there == wanted else f"; this software needs {wanted}. Start it again.")
    return Part(name="Versions", fine=there == wanted, told=told)


def _queue_answers() -> Part:
    with transaction() as session:
        waiting, first = session.exec(select(func.count(), func.min(Work.created_at)).where(Work.state == WorkState.WAITING)).one()
    return Part(name="Queue", fine=True, told=f"{waiting} waiting{_since(first)}.")


def _workers_there() -> Part:
    with transaction() as session:
        found = [worker for worker in workers(session) if worker.alive]
        count = retrying.newer_than_this(session)
    told = f"{len(found)} at work." if found else "None is at work: nothing is measured or conformed."
    if older := [worker for worker in found if worker.older]:
        where = ", ".join(sorted({worker.machine for worker in older}))
        told += f" Of an older version, and so taking nothing new: {len(older)}. Update {where}."
    if count:
        told += f" {count} piece{'s' if count > 1 else ''} of work {'were' if count > 1 else 'was'} asked for by a newer version."
    return Part(name="Workers", fine=len(found) > len(older), told=told)


def _store() -> Part:
    store = Store(settings().store)
    folder = store.folder
    if folder is None:
        store.has("0" * 64)
        return Part(name="Store", fine=True, told=f"It answers, at {settings().store}.")
    with tempfile.TemporaryFile(dir=folder / "incoming") as file:
        file.write(b"written")
    return Part(name="Store", fine=True, told="It can be written to.")


def _disk() -> Part:
    folders = [path for path in (Store(settings().store).folder, settings().incoming, settings().work) if path is not None]
    free = min(shutil.disk_usage(_there(folder)).free for folder in folders)
    fine = free >= LEAST_FREE
    return Part(name="Disk", fine=fine, told=f"{_size(free)} free{'.' if fine else ': too little for much. Make room.'}")


def _there(folder: Path) -> Path:
    return folder if folder.exists() else _there(folder.parent)


def _since(first: datetime | None) -> str:
    return f", the first for {round((now() - first).total_seconds())} s" if first else ""


def _size(count: int) -> str:
    return f"{count / 1e9:.1f} GB" if count >= 1e9 else f"{count / 1e6:.0f} MB"
