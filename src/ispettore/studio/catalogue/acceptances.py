"""Findings that somebody looked at and accepted, each with a reason. They stay findings; the record says why they may stand."""

from dataclasses import dataclass
from uuid import UUID

from sqlmodel import Session, col, select

from ispettore.core.figures import clock
from ispettore.core.measure.reading import Finding
from ispettore.core.spec.methods import title_of_finding
from ispettore.studio import events
from ispettore.studio.catalogue import deeds, edited
from ispettore.studio.catalogue.views import FindingPlace
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound, ReasonMissing
from ispettore.studio.tables import Acceptance, Recording

NEAR_S, MOVED_NEAR_S = 0.0005, 0.006
"""So near is a finding the one that was accepted when a recording is measured again; once edits have moved it by what is no whole
cell of the meters, so near."""


@dataclass(frozen=True)
class Reason:
    """An accepted finding as it is heard now, and why it may stand."""

    row: Acceptance
    start_s: float
    end_s: float
    near_s: float

    def of(self, place: Finding | FindingPlace) -> bool:
        """Whether it is about this finding."""
        apart = max(abs(place.start_s - self.start_s), abs(place.end_s - self.end_s))
        return place.kind == self.row.kind and apart <= self.near_s


def accept(recording_id: UUID, places: list[FindingPlace], reason: str) -> None:
    """Accept findings of a recording, again with another reason where they were. Raises NotFound and ReasonMissing."""
    if not reason.strip():
        raise ReasonMissing()
    with transaction() as session:
        recording = _recording(session, recording_id)
        known, line = reasons(session, recording), edited.line(session, recording)
        for place in places:
            there = next((one.row for one in known if one.of(place)), None)
            start_s, end_s = edited.in_file(line, place.start_s, place.end_s)
            found = there or Acceptance(recording_id=recording_id, kind=place.kind, start_s=start_s, end_s=end_s, reason="")
            if found.reason != reason.strip():
                deeds.note(session, recording, f"Accepted {_told(place)}: {reason.strip()}")
            found.reason = reason.strip()
            session.add(found)
        events.tell_of(session, recording)


def take_back(recording_id: UUID, places: list[FindingPlace]) -> None:
    """Findings that are not accepted any more. Raises NotFound."""
    with transaction() as session:
        recording = _recording(session, recording_id)
        for found in reasons(session, recording):
            place = next((one for one in places if found.of(one)), None)
            if place is not None:
                deeds.note(session, recording, f"Acceptance undone: {_told(place)}.")
                session.delete(found.row)
        events.tell_of(session, recording)


def reasons(session: Session, recording: Recording) -> list[Reason]:
    """Why each accepted finding of a recording may stand, in the order of time; those left out by edits wait for these to go."""
    line = edited.line(session, recording)
    near = NEAR_S if line is None else MOVED_NEAR_S
    places = [(row, edited.heard(line, row.start_s, row.end_s)) for row in _all(session, recording.id)]
    found = [Reason(row, times[0], times[1], near) for row, times in places if times is not None]
    return sorted(found, key=lambda one: one.start_s)


def _told(of: FindingPlace) -> str:
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
