"""Findings that somebody looked at and accepted, each with a reason. They stay findings; the record says why they may stand."""

from uuid import UUID

from sqlmodel import Session, col, select

from ispettore.core.figures import clock
from ispettore.core.measure.reading import Finding
from ispettore.core.spec.methods import title_of_finding
from ispettore.studio import events
from ispettore.studio.catalogue import deeds
from ispettore.studio.catalogue.views import FindingPlace
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound, ReasonMissing
from ispettore.studio.tables import Acceptance, Recording

Key = tuple[str, int, int]
"""Kind, start and end in milliseconds: what makes a finding the same one when a recording is measured again."""


def key(finding: Finding | FindingPlace | Acceptance) -> Key:
    return finding.kind, round(finding.start_s * 1000), round(finding.end_s * 1000)


def accept(recording_id: UUID, places: list[FindingPlace], reason: str) -> None:
    """Accept findings of a recording, again with another reason where they were. Raises NotFound and ReasonMissing."""
    if not reason.strip():
        raise ReasonMissing()
    with transaction() as session:
        recording = _recording(session, recording_id)
        known = {key(one): one for one in _all(session, recording_id)}
        for place in places:
            found = known.get(key(place)) or Acceptance(recording_id=recording_id, **place.model_dump(), reason="")
            if found.reason != reason.strip():
                deeds.note(session, recording, f"Accepted {_told(place)}: {reason.strip()}")
            found.reason = reason.strip()
            session.add(found)
        events.tell_of(session, recording)


def take_back(recording_id: UUID, places: list[FindingPlace]) -> None:
    """Findings that are not accepted any more. Raises NotFound."""
    with transaction() as session:
        recording = _recording(session, recording_id)
        gone = {key(place) for place in places}
        for found in _all(session, recording_id):
            if key(found) in gone:
                deeds.note(session, recording, f"Acceptance undone: {_told(found)}.")
                session.delete(found)
        events.tell_of(session, recording)


def reasons(session: Session, recording_id: UUID) -> dict[Key, str]:
    """Why each accepted finding of a recording may stand."""
    return {key(found): found.reason for found in _all(session, recording_id)}


def _told(of: FindingPlace | Acceptance) -> str:
    span = f"at {clock(of.start_s, 1)}" if of.end_s <= of.start_s else f"from {clock(of.start_s, 1)} to {clock(of.end_s, 1)}"
    return f"{title_of_finding(of.kind).lower()} {span}"


def _all(session: Session, recording_id: UUID) -> list[Acceptance]:
    return list(
        session.exec(select(Acceptance).where(Acceptance.recording_id == recording_id).order_by(col(Acceptance.created_at))).all()
    )


def _recording(session: Session, recording_id: UUID) -> Recording:
    recording = session.get(Recording, recording_id, with_for_update=True)
    if recording is None or recording.removed_at is not None:
        raise NotFound(what="recording")
    return recording
