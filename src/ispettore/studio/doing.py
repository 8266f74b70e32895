"""Doing a piece of background work: once, wholly, or not at all.

A worker may die at any line. Nothing shows before the last transaction, which writes the result and ends the work together; a blob
that was stored before it is named by its hash and simply stored again by whoever does the work next.
"""

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from uuid import UUID, uuid4

import structlog
from sqlmodel import Session

from ispettore.core.certify.certificate import issuer
from ispettore.core.certify.keys import default_folder
from ispettore.core.errors import Cancelled, ContentChanged, IspettoreError
from ispettore.core.measure import methods_history
from ispettore.studio import computing, conformings, disk, events, isolation, lookup
from ispettore.studio.attempts import Attempt, Superseded
from ispettore.studio.database import GONE, transaction
from ispettore.studio.errors import GivenUp, Unexpected
from ispettore.studio.settings import settings
from ispettore.studio.store import Blob, Store
from ispettore.studio.tables import Conforming, InspectionRecord, Recording, Verifying, Work, WorkKind, WorkState, now

TELL_EVERY_S = 0.25
MOST_ATTEMPTS = 5

log = structlog.get_logger()


def do(work_id: UUID, store: Store, *, stopping: Callable[[], bool] = lambda: False) -> None:
    """Do one piece of work, unless it is done already. Errors meant for a person end it as failed, with their sentence.

    Where `stopping` turns true, the work is left to wait for another worker. Raises what the database raised where it went away for
    longer than a report of progress; the work then waits to be taken up again.
    """
    attempt = _take(work_id)
    if attempt is None:
        return
    log.info("work started", work=str(work_id), kind=attempt.work.kind, attempt=attempt.work.attempts)
    try:
        with attempt.in_folder():
            _KINDS[WorkKind(attempt.work.kind)](attempt, store, stopping)
    except (Superseded, Cancelled, IspettoreError, OSError) as error:
        _ended(attempt, error, stopping)
    except GONE:
        # Not the work's fault: it stays noted as running, and is taken up again once the database answers.
        raise
    except Exception:
        log.exception("work failed", work=str(work_id))
        _ended(attempt, Unexpected(), stopping)


def _take(work_id: UUID) -> Attempt | None:
    """Make the work this attempt's, unless it has ended or has been tried too often."""
    with transaction() as session:
        work = session.get(Work, work_id, with_for_update=True)
        if work is None or work.state not in (WorkState.WAITING, WorkState.RUNNING):
            return None
        work.attempts += 1
        if work.attempts > MOST_ATTEMPTS:
            _end(session, work, WorkState.FAILED, error=GivenUp().sentence)
            return None
        token = uuid4()
        work.state, work.stage, work.fraction, work.token = WorkState.RUNNING, "starting", 0.0, token
        session.add(work)
        _tell(session, work)
        return Attempt(work, token, settings().work)


def _ended(attempt: Attempt, error: Exception, stopping: Callable[[], bool]) -> None:
    """Note how an attempt ended that brought nothing. One that holds the work no more leaves it alone."""
    try:
        if isinstance(error, Superseded):
            raise error
        if isinstance(error, Cancelled) and stopping():
            _wait_again(attempt)
        elif isinstance(error, Cancelled):
            _finish(attempt, WorkState.CANCELLED)
        elif isinstance(error, IspettoreError):
            _finish(attempt, WorkState.FAILED, error=error.sentence)
        elif isinstance(error, OSError):
            said = disk.told(error, "the result") or Unexpected()
            log.exception("work failed", work=str(attempt.work.id))
            _finish(attempt, WorkState.FAILED, error=said.sentence)
    except Superseded:
        log.warning("another attempt has taken this work up; this one ends", work=str(attempt.work.id))
        attempt.give_back()


class _Watch:
    """Passes progress on to whoever looks, not too often, and notices that cancelling was asked for or the work is another's."""

    def __init__(self, attempt: Attempt) -> None:
        self._attempt = attempt
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
        except GONE:
            log.warning("the database does not answer; the work goes on", work=str(self._attempt.work.id))

    def _note(self, stage: str | None, fraction: float) -> None:
        with transaction() as session:
            work = self._attempt.held(session)
            self._cancel = work.cancel_asked
            if stage is not None:
                work.stage, work.fraction = stage, fraction
                session.add(work)
                _tell(session, work)


def _child(attempt: Attempt, stopping: Callable[[], bool], name: str, function: Any, *arguments: Any) -> Any:
    watch, limits = _Watch(attempt), settings()
    return isolation.run(
        function,
        *arguments,
        name=name,
        folder=attempt.folder,
        limits=isolation.Limits(memory_bytes=limits.job_memory_bytes, cpu_s=limits.job_cpu_s, disk_bytes=limits.job_disk_bytes),
        progress=watch.progress,
        cancelled=lambda: stopping() or watch.cancelled(),
    )


def _inspect(attempt: Attempt, store: Store, stopping: Callable[[], bool]) -> None:
    with transaction() as session:
        recording = session.get_one(Recording, attempt.work.subject_id)
        record = lookup.exact(session, recording)
        # One from before there were tiles and levels is measured once more, to have them.
        known = record is not None and record.levels_sha256 is not None
    result = None
    if not known:
        with store.as_local(recording.sha256, name=recording.name, folder=attempt.folder) as path:
            result = _child(
                attempt,
                stopping,
                recording.name,
                computing.inspected,
                str(path),
                recording.name,
                recording.sha256,
                recording.room_tone,
                str(attempt.folder),
            )
    zoomed = store.put_file(Path(result.pyramid)) if result is not None else None
    levels = store.put_file(Path(result.levels)) if result is not None else None
    listening = store.put_file(Path(result.listening)) if result is not None and result.listening else None
    with transaction() as session:
        work = attempt.held(session)
        record = session.get(InspectionRecord, (recording.sha256, methods_history.current(), recording.room_tone))
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
        _end(session, work, WorkState.DONE)


def _conform(attempt: Attempt, store: Store, stopping: Callable[[], bool]) -> None:
    with transaction() as session:
        conforming = session.get_one(Conforming, attempt.work.subject_id)
        recording = session.get_one(Recording, conforming.recording_id)
    file_name = conformings.deliverable_name(recording.name, conforming.container)
    with store.as_local(recording.sha256, name=recording.name, folder=attempt.folder) as path:
        result = _child(
            attempt,
            stopping,
            recording.name,
            computing.conformed,
            str(path),
            recording.name,
            recording.sha256,
            recording.room_tone,
            conforming.specification,
            conforming.preference,
            conforming.container,
            str(attempt.folder),
            file_name,
            str(settings().keys or default_folder()),
            now().replace(microsecond=0),
            issuer(),
        )
    blob: Blob | None = store.put_file(Path(result.path)) if result.path else None
    if blob is not None and result.certificate and result.certificate["certificate"]["file"]["sha256"] != blob.sha256:
        raise ContentChanged(file=file_name)
    zoomed = store.put_file(Path(result.pyramid)) if result.pyramid else None
    with transaction() as session:
        work = attempt.held(session)
        conforming = session.get_one(Conforming, conforming.id)
        conforming.outcome = result.outcome
        conforming.certificate = result.certificate
        conforming.ribbon, conforming.tracks, conforming.reduction = result.ribbon, result.tracks, result.reduction
        conforming.pyramid_sha256 = zoomed.sha256 if zoomed else None
        if blob is not None:
            conforming.file_name, conforming.sha256, conforming.size_bytes = file_name, blob.sha256, blob.size_bytes
        session.add(conforming)
        _end(session, work, WorkState.DONE)


def _verify(attempt: Attempt, store: Store, stopping: Callable[[], bool]) -> None:
    with transaction() as session:
        verifying = session.get_one(Verifying, attempt.work.subject_id)
    with store.as_local(verifying.sha256 or "", name=verifying.file_name, folder=attempt.folder) as path:
        report = _child(
            attempt,
            stopping,
            verifying.file_name,
            computing.verified,
            str(path),
            verifying.file_name,
            verifying.certificate,
            verifying.certificate_name,
            str(settings().keys or default_folder()),
        )
    with transaction() as session:
        work = attempt.held(session)
        verifying = session.get_one(Verifying, verifying.id)
        verifying.report = report
        session.add(verifying)
        _end(session, work, WorkState.DONE)


_KINDS = {WorkKind.INSPECT: _inspect, WorkKind.CONFORM: _conform, WorkKind.VERIFY: _verify}


def _wait_again(attempt: Attempt) -> None:
    with transaction() as session:
        work = attempt.held(session)
        work.state, work.stage, work.fraction = WorkState.WAITING, "", 0.0
        work.attempts -= 1
        session.add(work)
        _tell(session, work)


def _finish(attempt: Attempt, state: WorkState, *, error: str | None = None) -> None:
    with transaction() as session:
        _end(session, attempt.held(session), state, error=error)


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
