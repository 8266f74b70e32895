"""Doing a piece of background work: once, wholly, or not at all.

A worker may die at any line. Nothing shows before the last transaction, which writes the result and ends the work together; a blob
that was stored before it is named by its hash and simply stored again by whoever does the work next.
"""

import shutil
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from uuid import UUID

import structlog
from sqlalchemy.exc import InterfaceError, OperationalError
from sqlmodel import Session

from ispettore.core.certify.certificate import issuer
from ispettore.core.certify.keys import default_folder
from ispettore.core.errors import Cancelled, IspettoreError
from ispettore.core.measure.inspection import METHODS_VERSION
from ispettore.studio import computing, conformings, events, isolation, lookup
from ispettore.studio.database import transaction
from ispettore.studio.settings import settings
from ispettore.studio.store import Blob, Store
from ispettore.studio.tables import Conforming, InspectionRecord, Recording, Verifying, Work, WorkKind, WorkState, now

TELL_EVERY_S = 0.25
MOST_ATTEMPTS = 5
DATABASE_GONE = (OperationalError, InterfaceError)
log = structlog.get_logger()


def do(work_id: UUID, store: Store, *, stopping: Callable[[], bool] = lambda: False) -> None:
    """Do one piece of work, unless it is done already. Errors meant for a person end it as failed, with their sentence.

    Where `stopping` turns true, the work is left to wait for another worker. Raises what the database raised where it went away for
    longer than a report of progress; the work then waits to be taken up again.
    """
    with transaction() as session:
        work = session.get(Work, work_id, with_for_update=True)
        if work is None or work.state not in (WorkState.WAITING, WorkState.RUNNING):
            return
        work.attempts += 1
        if work.attempts > MOST_ATTEMPTS:
            _end(
                session,
                work,
                WorkState.FAILED,
                error="Gave up: the worker was stopped each time it tried. Try again, or report it.",
            )
            return
        work.state, work.stage, work.fraction = WorkState.RUNNING, "starting", 0.0
        session.add(work)
        _tell(session, work)
    log.info("work started", work=str(work_id), kind=work.kind, attempt=work.attempts)
    folder = Path(tempfile.gettempdir()) / f"ispettore-work-{work_id}"
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(mode=0o700)
    try:
        _KINDS[WorkKind(work.kind)](work, store, folder, stopping)
    except Cancelled:
        if stopping():
            _wait_again(work_id)
        else:
            _finish(work_id, WorkState.CANCELLED)
    except IspettoreError as error:
        _finish(work_id, WorkState.FAILED, error=error.sentence)
    except DATABASE_GONE:
        # Not the work's fault: it stays noted as running, and is taken up again once the database answers.
        raise
    except Exception:
        log.exception("work failed", work=str(work_id))
        _finish(work_id, WorkState.FAILED, error="Something went wrong that should not have; the log has the details. Try again.")
    finally:
        shutil.rmtree(folder, ignore_errors=True)


class _Watch:
    """Passes progress on to whoever looks, not too often, and notices that cancelling was asked for."""

    def __init__(self, work: Work) -> None:
        self._id = work.id
        self._told = 0.0
        self._stage = ""
        self._cancel = False

    def progress(self, stage: str, fraction: float) -> None:
        if stage == self._stage and time.monotonic() - self._told < TELL_EVERY_S:
            return
        self._stage = stage
        self._update(stage, fraction)

    def cancelled(self) -> bool:
        if time.monotonic() - self._told >= TELL_EVERY_S:
            self._update(None, 0.0)
        return self._cancel

    def _update(self, stage: str | None, fraction: float) -> None:
        self._told = time.monotonic()
        try:
            self._note(stage, fraction)
        except DATABASE_GONE:
            log.warning("the database does not answer; the work goes on", work=str(self._id))

    def _note(self, stage: str | None, fraction: float) -> None:
        with transaction() as session:
            work = session.get_one(Work, self._id)
            self._cancel = work.cancel_asked
            if stage is not None:
                work.stage, work.fraction = stage, fraction
                session.add(work)
                _tell(session, work)


def _child(stopping: Callable[[], bool], work: Work, name: str, function: Any, *arguments: Any) -> Any:
    watch, limits = _Watch(work), settings()
    return isolation.run(
        function,
        *arguments,
        name=name,
        memory_bytes=limits.job_memory_bytes,
        cpu_s=limits.job_cpu_s,
        progress=watch.progress,
        cancelled=lambda: stopping() or watch.cancelled(),
    )


def _inspect(work: Work, store: Store, folder: Path, stopping: Callable[[], bool]) -> None:
    with transaction() as session:
        recording = session.get_one(Recording, work.subject_id)
        record = lookup.exact(session, recording)
        # One from before there were tiles and levels is measured once more, to have them.
        known = record is not None and record.levels_sha256 is not None
    result = None
    if not known:
        with store.as_local(recording.sha256) as path:
            result = _child(
                stopping, work, recording.name, computing.inspected, str(path), recording.name, recording.room_tone, str(folder)
            )
    zoomed = store.put_file(Path(result.pyramid)) if result is not None else None
    levels = store.put_file(Path(result.levels)) if result is not None else None
    listening = store.put_file(Path(result.listening)) if result is not None and result.listening else None
    with transaction() as session:
        record = session.get(InspectionRecord, (recording.sha256, METHODS_VERSION, recording.room_tone))
        if record is not None and zoomed is not None and levels is not None:
            record.pyramid_sha256, record.levels_sha256 = zoomed.sha256, levels.sha256
            session.add(record)
        if result is not None and record is None:
            session.add(
                InspectionRecord(
                    sha256=recording.sha256,
                    methods_version=result.methods_version,
                    room_tone=recording.room_tone,
                    data=result.data,
                    ribbon=result.ribbon,
                    tracks=result.tracks,
                    pyramid_sha256=zoomed.sha256 if zoomed else None,
                    levels_sha256=levels.sha256 if levels else None,
                    listening_sha256=listening.sha256 if listening else None,
                )
            )
        _end(session, session.get_one(Work, work.id), WorkState.DONE)


def _conform(work: Work, store: Store, folder: Path, stopping: Callable[[], bool]) -> None:
    with transaction() as session:
        conforming = session.get_one(Conforming, work.subject_id)
        recording = session.get_one(Recording, conforming.recording_id)
    file_name = conformings.deliverable_name(recording.name, conforming.container)
    with store.as_local(recording.sha256) as path:
        result = _child(
            stopping,
            work,
            recording.name,
            computing.conformed,
            str(path),
            recording.name,
            recording.sha256,
            recording.room_tone,
            conforming.specification,
            conforming.preference,
            conforming.container,
            str(folder / file_name),
            str(settings().keys or default_folder()),
            now().replace(microsecond=0),
            issuer(),
        )
    blob: Blob | None = store.put_file(Path(result.path)) if result.path else None
    zoomed = store.put_file(Path(result.pyramid)) if result.pyramid else None
    with transaction() as session:
        conforming = session.get_one(Conforming, conforming.id)
        conforming.outcome = result.outcome
        conforming.certificate = result.certificate
        conforming.ribbon, conforming.tracks, conforming.reduction = result.ribbon, result.tracks, result.reduction
        conforming.pyramid_sha256 = zoomed.sha256 if zoomed else None
        if blob is not None:
            conforming.file_name, conforming.sha256, conforming.size_bytes = file_name, blob.sha256, blob.size_bytes
        session.add(conforming)
        _end(session, session.get_one(Work, work.id), WorkState.DONE)


def _verify(work: Work, store: Store, _folder: Path, stopping: Callable[[], bool]) -> None:
    with transaction() as session:
        verifying = session.get_one(Verifying, work.subject_id)
    with store.as_local(verifying.sha256 or "") as path:
        report = _child(
            stopping,
            work,
            verifying.file_name,
            computing.verified,
            str(path),
            verifying.file_name,
            verifying.certificate,
            verifying.certificate_name,
            str(settings().keys or default_folder()),
        )
    with transaction() as session:
        verifying = session.get_one(Verifying, verifying.id)
        verifying.report = report
        session.add(verifying)
        _end(session, session.get_one(Work, work.id), WorkState.DONE)


_KINDS = {WorkKind.INSPECT: _inspect, WorkKind.CONFORM: _conform, WorkKind.VERIFY: _verify}


def _wait_again(work_id: UUID) -> None:
    with transaction() as session:
        work = session.get_one(Work, work_id)
        work.state, work.stage, work.fraction = WorkState.WAITING, "", 0.0
        work.attempts -= 1
        session.add(work)
        _tell(session, work)


def _finish(work_id: UUID, state: WorkState, *, error: str | None = None) -> None:
    with transaction() as session:
        _end(session, session.get_one(Work, work_id), state, error=error)


def _end(session: Session, work: Work, state: WorkState, *, error: str | None = None) -> None:
    work.state, work.error, work.finished_at = state, error, now()
    work.stage, work.fraction = "", 1.0 if state == WorkState.DONE else work.fraction
    session.add(work)
    _tell(session, work)


def _tell(session: Session, work: Work) -> None:
    events.tell(
        session,
        work.kind,
        work.subject_id,
        production_id=work.production_id,
        state=str(work.state),
        stage=work.stage,
        fraction=round(work.fraction, 3),
        work=str(work.id),
    )
