"""What a production is as a whole, held against the limits on it: how far its recordings differ, and what the package holds."""

from collections.abc import Mapping, Sequence
from uuid import UUID

from sqlmodel import Session, col, select

from ispettore.core.deliver import entries
from ispettore.core.deliver import whole as packages
from ispettore.core.deliver.entries import Entry
from ispettore.core.deliver.whole import File
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, Values, Whole, judge_production
from ispettore.studio.catalogue.standings import Standing
from ispettore.studio.tables import DeliverableRecord, Recording


def judged(
    session: Session, found: Sequence[Standing], specification: Specification, files: Mapping[UUID, Values] | None = None
) -> list[LimitVerdict]:
    """Every limit on a production of these recordings; none where nothing is measured. What `files` of recordings read counts in
    place of what these read as they came in."""
    read = [(files or {}).get(one.recording.id, one.judged.read) for one in found if one.judged is not None]
    return list(judge_production(read, specification, _whole(session, found, specification))) if read else []


def _whole(session: Session, found: Sequence[Standing], specification: Specification) -> Whole:
    if not any(limit.about.of_package for limit in specification.limits):
        return {}
    files = _files(session, [one.recording.id for one in found])
    told = []
    for one, (entry, _) in zip(found, listed([one.recording for one in found]), strict=True):
        size, duration_s = files.get(one.recording.id, (None, None))
        if duration_s is None and one.judged is not None:
            duration_s = one.judged.duration_s
        told.append(File(entry, duration_s, size))
    return packages.whole(told)


def _files(session: Session, of: Sequence[UUID]) -> dict[UUID, tuple[int | None, float | None]]:
    """Size and length of the newest delivered file of each recording that has any."""
    record, after = DeliverableRecord, col(DeliverableRecord.outcome)["after"]["facts"]["duration_s"].as_float()
    rows = select(record.recording_id, record.size_bytes, after).where(
        col(record.recording_id).in_(of), col(record.sha256).is_not(None)
    )
    # The newest last, so that it stays.
    return {of: (size, seconds) for of, size, seconds in session.exec(rows.order_by(col(record.created_at))).all()}


def listed(here: Sequence[Recording]) -> list[tuple[Entry, bool]]:
    """The entry of each of a production's recordings, and whether number, part and title are what its file name says."""
    read = entries.read([recording.name for recording in here])
    found = []
    for recording, said in zip(here, read, strict=True):
        entry = Entry.model_validate(recording.entry) if recording.entry is not None else said
        found.append((entry, entry.model_copy(update={"narrator": ""}) == said))
    return found
