"""Recordings: bringing them in, looking at them, and having them conformed."""

from collections.abc import Iterator
from pathlib import PurePath
from uuid import UUID

from sqlmodel import Session, col, func, select

from ispettore.core.measure import ribbon, tracks
from ispettore.core.measure.inspection import METHODS_VERSION, Inspection
from ispettore.core.measure.reading import Finding
from ispettore.core.plan.planner import gain_window
from ispettore.core.plan.remedies import advice
from ispettore.core.spec.breaches import breaches
from ispettore.core.spec.methods import title_of_finding
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import judge, role_of
from ispettore.studio import conformings, events, queue, works
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound
from ispettore.studio.store import Blob
from ispettore.studio.tables import InspectionRecord, Production, Recording, WorkKind, now
from ispettore.studio.views import FindingView, RecordingDetail, RecordingView, RibbonView


def add(production_id: UUID, name: str, blob: Blob) -> UUID:
    """Add a stored file to a production as a recording and have it inspected."""
    with transaction() as session:
        if session.get(Production, production_id) is None:
            raise NotFound(what="production")
        last = session.exec(select(func.max(Recording.position)).where(Recording.production_id == production_id)).one()
        recording = Recording(
            production_id=production_id,
            position=(last or 0) + 1,
            name=PurePath(name.replace("\\", "/")).name or "recording",
            sha256=blob.sha256,
            size_bytes=blob.size_bytes,
        )
        session.add(recording)
        session.flush()
        work = works.ask(session, WorkKind.INSPECT, recording.id, production_id=production_id)
        recording_id, work_id = recording.id, work.id
    queue.put(work_id)
    return recording_id


def remove(recording_id: UUID) -> None:
    """Take a recording out of its production. The file and all that was measured stay in the store."""
    with transaction() as session:
        recording = _get(session, recording_id)
        recording.removed_at = now()
        session.add(recording)
        events.tell(session, "production", recording.production_id, production_id=recording.production_id)


def inspect_again(recording_id: UUID) -> None:
    """Have a recording inspected once more, after it failed or was cancelled."""
    with transaction() as session:
        recording = _get(session, recording_id)
        work = works.ask(session, WorkKind.INSPECT, recording.id, production_id=recording.production_id)
        work_id = work.id
    queue.put(work_id)


def rows(session: Session, production_id: UUID, specification: Specification) -> list[RecordingView]:
    """The recordings of a production in order, each judged against the specification."""
    found = session.exec(
        select(Recording)
        .where(Recording.production_id == production_id, col(Recording.removed_at).is_(None))
        .order_by(col(Recording.position))
    ).all()
    return list(_views(session, list(found), specification))


def detail(recording_id: UUID) -> RecordingDetail:
    """One recording with everything known about it. Raises NotFound."""
    with transaction() as session:
        recording = _get(session, recording_id)
        production = session.get_one(Production, recording.production_id)
        specification = Specification.model_validate(production.specification)
        [row] = _views(session, [recording], specification)
        record = _inspections(session, [recording.sha256]).get(recording.sha256)
        parsed = Inspection.model_validate(record.data) if record else None
        run = tracks.unpacked(record.tracks) if record and record.tracks else None
        return RecordingDetail(
            **row.model_dump(),
            specification=specification,
            production_name=production.name,
            inspection=parsed,
            findings=[_finding(finding) for finding in parsed.findings] if parsed else [],
            breaches=breaches(row.verdict, parsed, run) if parsed and row.verdict else [],
            window=gain_window(parsed, specification) if parsed else None,
            conformings=conformings.of_recordings(session, [recording.id]).get(recording.id, []),
        )


def _finding(finding: Finding) -> FindingView:
    return FindingView(**finding.model_dump(), title=title_of_finding(finding.kind), advice=advice(finding.kind))


def _get(session: Session, recording_id: UUID) -> Recording:
    recording = session.get(Recording, recording_id)
    if recording is None or recording.removed_at is not None:
        raise NotFound(what="recording")
    return recording


def _inspections(session: Session, hashes: list[str]) -> dict[str, InspectionRecord]:
    found = session.exec(
        select(InspectionRecord).where(
            col(InspectionRecord.sha256).in_(hashes), InspectionRecord.methods_version == METHODS_VERSION
        )
    ).all()
    return {record.sha256: record for record in found}


def _views(session: Session, recordings: list[Recording], specification: Specification) -> Iterator[RecordingView]:
    identifiers = [recording.id for recording in recordings]
    inspections = _inspections(session, [recording.sha256 for recording in recordings])
    inspecting = works.newest(session, WorkKind.INSPECT, identifiers)
    attempts = conformings.of_recordings(session, identifiers)
    for recording in recordings:
        record = inspections.get(recording.sha256)
        inspection = Inspection.model_validate(record.data) if record else None
        verdict = judge(inspection, specification, role=role_of(inspection)) if inspection else None
        tried = attempts.get(recording.id, [])
        yield RecordingView(
            id=recording.id,
            production_id=recording.production_id,
            position=recording.position,
            name=recording.name,
            created_at=recording.created_at,
            size_bytes=recording.size_bytes,
            sha256=recording.sha256,
            work=works.view(inspecting.get(recording.id)),
            facts=inspection.facts if inspection else None,
            verdict=verdict,
            ribbon=_ribbon(record.ribbon) if record else None,
            conforming=tried[0] if tried else None,
        )


def _ribbon(packed: bytes) -> RibbonView:
    found = ribbon.unpacked(packed)
    return RibbonView(rms_dbfs=found.rms_dbfs.round(1).tolist(), peak_dbfs=found.peak_dbfs.round(1).tolist())
