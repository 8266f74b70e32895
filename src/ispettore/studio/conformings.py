"""Attempts to conform a recording: asking for one, what came of it, its deliverable and certificate."""

from pathlib import PurePath
from typing import Any
from uuid import UUID

from sqlalchemy.orm import defer
from sqlmodel import Session, col, select

from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan.conform import Conformed
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import Verdict, judge
from ispettore.studio import lookup, queue, works
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound, NotReady
from ispettore.studio.tables import Conforming, Production, Recording, Work, WorkKind
from ispettore.studio.views import ConformingView, ResultView


def ask(recording_id: UUID, *, preference: str = "balanced", container: str | None = None) -> UUID:
    """Have an inspected recording conformed to its production's specification. Raises NotFound or NotReady."""
    with transaction() as session:
        recording = session.get(Recording, recording_id)
        if recording is None or recording.removed_at is not None:
            raise NotFound(what="recording")
        if lookup.whole(session, recording) is None:
            raise NotReady(file=recording.name, reason="has not been inspected yet")
        production = session.get_one(Production, recording.production_id)
        specification = Specification.model_validate(production.specification)
        conforming = Conforming(
            recording_id=recording.id,
            specification=production.specification,
            preference=preference,
            container=container or usual_container(specification),
        )
        session.add(conforming)
        session.flush()
        work = works.ask(session, WorkKind.CONFORM, conforming.id, production_id=recording.production_id)
        conforming_id, work_id = conforming.id, work.id
    queue.put(work_id)
    return conforming_id


def usual_container(specification: Specification) -> str:
    """The format a specification names for what is handed over; MP3 where it names none."""
    limit = specification.limit("container")
    return limit.one_of[0] if limit and limit.one_of else "mp3"


def deliverable_name(recording_name: str, container: str) -> str:
    """The recording's name with the deliverable's ending.

    >>> deliverable_name("02 February.wav", "mp3")
    '02 February.mp3'
    """
    return f"{PurePath(recording_name).stem}.{container}"


def of_recording(session: Session, recording_id: UUID) -> list[ConformingView]:
    """Every attempt for a recording, newest first."""
    found = session.exec(
        select(Conforming).where(Conforming.recording_id == recording_id).order_by(col(Conforming.created_at).desc())
    ).all()
    running = works.newest(session, WorkKind.CONFORM, [conforming.id for conforming in found])
    return [view(conforming, running.get(conforming.id)) for conforming in found]


def newest(session: Session, recording_ids: list[UUID]) -> dict[UUID, ConformingView]:
    """The newest attempt for each recording that has one. The inspections in their outcomes come without their long lists."""
    light = select(Conforming, lookup.without_lists(col(Conforming.outcome), "before", "after", drop="ledger")).options(
        defer(Conforming.outcome),  # type: ignore[arg-type]
        defer(Conforming.ribbon),  # type: ignore[arg-type]
        defer(Conforming.tracks),  # type: ignore[arg-type]
        defer(Conforming.reduction),  # type: ignore[arg-type]
    )
    rows = session.exec(
        light.where(col(Conforming.recording_id).in_(recording_ids))
        .distinct(col(Conforming.recording_id))
        .order_by(col(Conforming.recording_id), col(Conforming.created_at).desc())
    ).all()
    running = works.newest(session, WorkKind.CONFORM, [conforming.id for conforming, _ in rows])
    found = {}
    for conforming, outcome in rows:
        if outcome is not None:
            for key in ("before", "after"):
                outcome[key] = lookup.filled(outcome[key]) if outcome[key] else None
        found[conforming.recording_id] = _view(conforming, outcome, running.get(conforming.id))
    return found


def view(conforming: Conforming, work: Work | None) -> ConformingView:
    return _view(conforming, conforming.outcome, work, readings=True)


def _view(conforming: Conforming, data: dict[str, Any] | None, work: Work | None, *, readings: bool = False) -> ConformingView:
    outcome = Conformed.model_validate(data) if data else None
    return ConformingView(
        id=conforming.id,
        recording_id=conforming.recording_id,
        created_at=conforming.created_at,
        preference=conforming.preference,
        container=conforming.container,
        work=works.view(work),
        passes=outcome.passes if outcome else None,
        steps=[step for step in outcome.treatment.steps if step.on] if outcome else [],
        touch=outcome.touch if outcome else None,
        window=outcome.window if outcome else None,
        obstacles=list(outcome.obstacles) if outcome else [],
        ledger=list(outcome.ledger) if outcome and readings else [],
        out_of_order=list(outcome.out_of_order) if outcome else [],
        before=_before(outcome.before, conforming, outcome) if outcome else None,
        after=outcome.verdict if outcome else None,
        rounds=outcome.rounds if outcome else 0,
        file_name=conforming.file_name,
        size_bytes=conforming.size_bytes,
        sha256=conforming.sha256,
        certified=conforming.certificate is not None,
        result=_result(outcome.after, readings=readings) if outcome and outcome.after else None,
    )


def _result(after: Inspection, *, readings: bool) -> ResultView:
    return ResultView(
        sample_rate_hz=after.facts.sample_rate_hz,
        frames=after.facts.frames,
        head_s=after.value("head_s"),
        integrated_loudness_lufs=after.value("integrated_loudness_lufs"),
        readings=after.readings if readings else {},
    )


def _before(inspection: Inspection, conforming: Conforming, outcome: Conformed) -> Verdict:
    return judge(inspection, Specification.model_validate(conforming.specification), role=outcome.role)


def get(conforming_id: UUID) -> Conforming:
    """One attempt. Raises NotFound."""
    with transaction() as session:
        conforming = session.get(Conforming, conforming_id)
        if conforming is None:
            raise NotFound(what="attempt")
        return conforming
