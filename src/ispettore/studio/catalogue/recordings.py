"""Recordings: bringing them in, looking at them, and having them conformed."""

from collections.abc import Iterator, Mapping, Sequence
from pathlib import PurePath
from typing import Any
from uuid import UUID

from sqlalchemy import ColumnElement
from sqlmodel import Session, col, func, select
from sqlmodel.sql.expression import SelectOfScalar

from ispettore.core.audio.formats import WRITABLE
from ispettore.core.certify.certificate import issuer
from ispettore.core.certify.recording_report import RecordingReport
from ispettore.core.measure import methods_history, ribbon, tracks
from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Finding
from ispettore.core.plan import summary
from ispettore.core.plan.remedies import advice
from ispettore.core.plan.window import gain_window
from ispettore.core.spec import delivery, kept
from ispettore.core.spec.breaches import breaches
from ispettore.core.spec.methods import title_of_finding
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import judge, role_of
from ispettore.core.text import refuse
from ispettore.studio import events
from ispettore.studio.catalogue import acceptances, conformings, deeds, lookup, plannings
from ispettore.studio.catalogue.views import (
    EarlierVersion,
    FindingView,
    FormatView,
    Named,
    PlanningView,
    RecordingDetail,
    RecordingView,
    RibbonView,
)
from ispettore.studio.database import transaction
from ispettore.studio.errors import AlreadyErased, NameMissing, NoLongerReplaceable, NotFound, NotReady
from ispettore.studio.jobs import retrying, works
from ispettore.studio.store.blobs import Blob
from ispettore.studio.tables import Production, Recording, WorkKind, WorkState, now

MINIATURE = 132
"""Columns of a row's ribbon: as many as it is drawn wide."""


def add(production_id: UUID, name: str, blob: Blob, *, entry: dict[str, Any] | None = None) -> UUID:
    """Add a stored file to a production as a recording and have it inspected; `entry` is what it is, where its name does not say.

    The same file under the same name is there already and not added again: its recording is what is returned. Raises NotFound and
    AlreadyErased.
    """
    with transaction() as session:
        _open(session, production_id, locked=True)
        shown = shown_name(name)
        for there in session.exec(_current(production_id).where(Recording.sha256 == blob.sha256)).all():
            if there.name == shown:
                return there.id
        last = session.exec(select(func.max(Recording.position)).where(Recording.production_id == production_id)).one()
        return _put_in(session, production_id, (last or 0) + 1, shown, blob, entry=entry)


def replace(recording_id: UUID, name: str, blob: Blob) -> UUID:
    """Put a newer file in the place of a recording; the older stays, with all that was made of it. What somebody said of its number
    and title holds for the newer, and what lies under its voice. The same bytes change nothing.

    Raises NotFound, and NoLongerReplaceable where the recording was removed or replaced meanwhile.
    """
    with transaction() as session:
        older = _replaceable(session, recording_id)
        if older.sha256 == blob.sha256:
            return older.id
        older.replaced_by = _put_in(
            session, older.production_id, older.position, shown_name(name), blob, entry=older.entry, bed=older.bed
        )
        deeds.note(session, older, f"Replaced by a newer file: “{shown_name(name)}”.")
        session.add(older)
        return older.replaced_by


def expected(production_id: UUID, replaces: UUID | None) -> None:
    """Whether a file can come in as a recording or in the place of one. Raises as `add` and `replace` do."""
    with transaction() as session:
        _open(session, production_id)
        if replaces is not None:
            _replaceable(session, replaces)


def _open(session: Session, production_id: UUID, *, locked: bool = False) -> None:
    """Whether anything can come into a production."""
    production = session.get(Production, production_id, with_for_update=locked)
    if production is None:
        raise NotFound(what="production")
    if production.erased_at is not None:
        raise AlreadyErased(name=production.name)


def _replaceable(session: Session, recording_id: UUID) -> Recording:
    older = session.get(Recording, recording_id, with_for_update=True)
    if older is None:
        raise NotFound(what="recording")
    if older.removed_at is not None or older.replaced_by is not None:
        raise NoLongerReplaceable(file=older.name)
    return older


def _put_in(
    session: Session,
    production_id: UUID,
    position: int,
    name: str,
    blob: Blob,
    *,
    entry: dict[str, Any] | None,
    bed: str = "",
) -> UUID:
    recording = Recording(
        production_id=production_id,
        position=position,
        name=name,
        sha256=blob.sha256,
        size_bytes=blob.size_bytes,
        entry=entry,
        bed=bed,
    )
    session.add(recording)
    session.flush()
    works.ask(session, WorkKind.INSPECT, recording.id, of=recording)
    return recording.id


def shown_name(name: str) -> str:
    """What a file that comes in is called here. Raises BadText."""
    return refuse(PurePath(name.replace("\\", "/")).name or "recording", what="The file's name")


def remove(recording_ids: list[UUID]) -> None:
    """Take recordings out of their productions. The files and all that was measured stay; `restore` brings them back."""
    _mark(recording_ids, removed=True)


def restore(recording_ids: list[UUID]) -> None:
    """Bring removed recordings back where they were. Raises NotFound and AlreadyErased."""
    _mark(recording_ids, removed=False)


def _mark(recording_ids: list[UUID], *, removed: bool) -> None:
    with transaction() as session:
        for recording_id in recording_ids:
            recording = session.get(Recording, recording_id, with_for_update=True)
            if recording is None:
                raise NotFound(what="recording")
            if recording.erased_at is not None and not removed:
                raise AlreadyErased(name=recording.name)
            if removed != (recording.removed_at is not None):
                deeds.note(session, recording, "Removed from the production." if removed else "Restored to the production.")
            recording.removed_at = (recording.removed_at or now()) if removed else None
            session.add(recording)
            events.tell(
                session, events.Notice(about="production", id=str(recording.production_id), production=recording.production_id)
            )


def rename(recording_id: UUID, name: str) -> None:
    """Call a recording something else; its ending stays. Raises NotFound, NameMissing and BadText."""
    if not name.strip():
        raise NameMissing(what="recording")
    with transaction() as session:
        recording = _get(session, recording_id)
        ending = PurePath(recording.name).suffix
        shown = shown_name(name.strip())
        shown = shown if shown.lower().endswith(ending.lower()) else f"{shown}{ending}"
        if shown != recording.name:
            deeds.note(session, recording, f"Renamed from “{recording.name}” to “{shown}”.")
            recording.name = shown
            session.add(recording)
            events.tell_of(session, recording)


def use_again(recording_id: UUID) -> None:
    """Give a replaced recording its place back; what stands there now becomes the replaced one. Raises NotFound."""
    with transaction() as session:
        older = _get(session, recording_id)
        newest = older
        while newest.replaced_by is not None:
            newest = session.get_one(Recording, newest.replaced_by)
        if newest.id == older.id:
            return
        # The chain is closed behind it: whatever was replaced by it is now replaced by what follows.
        for one in session.exec(select(Recording).where(Recording.replaced_by == older.id)).all():
            one.replaced_by = older.replaced_by
            session.add(one)
        older.replaced_by, older.position = None, newest.position
        newest.replaced_by = older.id
        deeds.note(session, older, f"Switched back to this version from “{newest.name}”.")
        session.add_all([older, newest])
        events.tell(session, events.Notice(about="production", id=str(older.production_id), production=older.production_id))


def _earlier(session: Session, recording: Recording) -> list[Recording]:
    """Those whose place it took, the newest first."""
    found: list[Recording] = []
    waiting = [recording.id]
    while waiting:
        before = session.exec(select(Recording).where(col(Recording.replaced_by).in_(waiting))).all()
        found += before
        waiting = [one.id for one in before]
    return sorted(found, key=lambda one: one.created_at, reverse=True)


def _current(production_id: UUID) -> SelectOfScalar[Recording]:
    """What stands in a production now, in order."""
    return select(Recording).where(*_is_current(production_id)).order_by(col(Recording.position))


def _is_current(production_id: UUID) -> tuple[ColumnElement[bool], ...]:
    return col(Recording.production_id) == production_id, col(Recording.removed_at).is_(None), col(Recording.replaced_by).is_(None)


def current_ids(production_id: UUID) -> SelectOfScalar[UUID]:
    """Which these are, as a query."""
    return select(Recording.id).where(*_is_current(production_id))


def current(session: Session, production_id: UUID) -> list[Recording]:
    """The recordings of a production in order: not those removed or replaced."""
    return list(session.exec(_current(production_id)).all())


def following(session: Session, recording: Recording) -> Recording | None:
    """The recording behind one in its production."""
    behind = _current(recording.production_id).where(Recording.position > recording.position)
    return session.exec(behind.limit(1)).first()


def inspect_again(recording_id: UUID) -> None:
    """Have a recording inspected once more, after it failed or was cancelled. While it waits or is measured nothing changes."""
    with transaction() as session:
        recording = _get(session, recording_id)
        if works.under_way(session, WorkKind.INSPECT, recording.id):
            return
        works.ask(session, WorkKind.INSPECT, recording.id, of=recording)


def catch_up() -> None:
    """Have measured what was measured by older methods only, so that every recording shows what the page can show now."""
    with transaction() as session:
        there = session.exec(select(Recording).where(col(Recording.removed_at).is_(None))).all()
        known = lookup.measured(session)
        asked = works.newest(session, WorkKind.INSPECT, [recording.id for recording in there])
        for recording in there:
            work = asked.get(recording.id)
            if recording.known_as not in known and work is not None and work.state == WorkState.DONE:
                works.ask(session, WorkKind.INSPECT, recording.id, of=recording)


def rows(
    session: Session, production_id: UUID, specification: Specification, *, only: Sequence[UUID] | None = None
) -> list[RecordingView]:
    """The recordings of a production in order, each judged; or `only` those of them, in that order."""
    found = current(session, production_id)
    twins = _twins(found)
    if only is not None:
        there = {recording.id: recording for recording in found}
        found = [there[one] for one in only if one in there]
    return list(_views(session, found, specification, lookup.short(session, found), twins))


def some(production_id: UUID, wanted: Sequence[UUID]) -> list[RecordingView]:
    """These recordings of a production as rows of its sheet; those that are not there any more are left out. Raises NotFound."""
    with transaction() as session:
        production = session.get(Production, production_id)
        if production is None:
            raise NotFound(what="production")
        return rows(session, production_id, kept.specification(production.specification), only=wanted)


def _twins(found: Sequence[Recording]) -> dict[UUID, str]:
    """For each recording whose sound came in before under another name in its production, that name."""
    first: dict[str, str] = {}
    twins = {}
    for recording in found:
        if recording.known_as in first:
            twins[recording.id] = first[recording.known_as]
        first.setdefault(recording.known_as, recording.name)
    return twins


def detail(recording_id: UUID) -> RecordingDetail:
    """One recording with everything known about it. Raises NotFound."""
    with transaction() as session:
        recording = _get(session, recording_id)
        production = session.get_one(Production, recording.production_id)
        specification = kept.specification(production.specification)
        record = lookup.whole(session, recording)
        parsed = lookup.inspection(record) if record else None
        run = tracks.unpacked(record.tracks) if record and record.tracks else None
        [row] = _views(session, [recording], specification, {recording.id: parsed} if parsed else {}, {})
        reasons = acceptances.reasons(session, recording)
        planning = plannings.of_recording(session, recording, specification, parsed)
        return RecordingDetail(
            stands=_stands(row, specification, planning),
            reference=_reference(session, production, recording),
            planning=planning,
            kept_plans=plannings.by_kept(session, recording, specification, parsed),
            **row.model_dump(exclude={"ribbon"}),
            ribbon=_ribbon(record.ribbon) if record else None,
            specification=specification,
            production_name=production.name,
            room_tone_chosen=bool(recording.room_tone),
            replaced_by=recording.replaced_by,
            replaced_by_name=session.get_one(Recording, recording.replaced_by).name if recording.replaced_by else "",
            earlier=[EarlierVersion.model_validate(one, from_attributes=True) for one in _earlier(session, recording)],
            inspection=parsed,
            findings=[_finding(finding, reasons) for finding in parsed.findings] if parsed else [],
            breaches=breaches(row.verdict, parsed, run) if parsed and row.verdict else [],
            window=gain_window(parsed, specification) if parsed else None,
            conformings=conformings.of_recording(session, recording, specification),
            formats=formats(specification),
        )


def known_as(recording_id: UUID) -> str:
    """What a recording's sound is known by now. Raises NotFound."""
    with transaction() as session:
        return _get(session, recording_id).known_as


def _reference(session: Session, production: Production, recording: Recording) -> Named | None:
    found = session.get(Recording, production.reference_id) if production.reference_id is not None else None
    if found is None or found.id == recording.id or found.removed_at is not None:
        return None
    return Named(id=found.id, name=found.name)


def _stands(row: RecordingView, specification: Specification, planning: PlanningView | None) -> str:
    """Where a recording stands and what to do next; empty where it is not measured."""
    if row.verdict is None:
        return ""
    made = row.delivered if row.delivered and row.delivered.current and row.delivered.passes else None
    stage: summary.Stage | None = None
    if made is not None:
        stage = "certified" if made.certified else "written"
    elif planning is not None and planning.work is not None:
        stage = "planning" if planning.work.state in retrying.UNFINISHED else None
    return summary.told(
        row.verdict,
        specification.name,
        stage=stage,
        file=made.file_name or "" if made else "",
        plans=[plan.preference for plan in planning.plans] if planning else [],
        obstacles=planning.obstacles if planning else [],
    )


def formats(specification: Specification) -> list[FormatView]:
    """The formats a deliverable or master can be written in: what the specification asks for, then all others."""
    try:
        asked = delivery.asked_for(specification)
    except delivery.NotWritable:
        asked = None
    found = [] if asked is None else [FormatView(name="", title=asked.title, meets=True)]
    for name in WRITABLE:
        form = delivery.chosen(name, specification)
        if form != asked:
            found.append(FormatView(name=name, title=form.title, meets=delivery.fitting(name, specification) is not None))
    return found


def report(recording_id: UUID) -> RecordingReport:
    """What is told of a recording on paper. Raises NotFound, and NotReady where it is not measured."""
    found = detail(recording_id)
    if found.inspection is None or found.verdict is None or found.ribbon is None:
        raise NotReady(file=found.name, reason="has not been inspected yet")
    return RecordingReport(
        # Two recordings of the same bytes share an inspection; the report bears this one's name.
        inspection=found.inspection.model_copy(update={"name": found.name}),
        verdict=found.verdict,
        specification=found.specification,
        ribbon=found.ribbon.drawn(),
        breaches=found.breaches,
        accepted=tuple(finding.accepted for finding in found.findings),
        production=found.production_name,
        issued=now(),
        issuer=issuer(),
    )


def _finding(finding: Finding, reasons: Sequence[acceptances.Reason]) -> FindingView:
    return FindingView(
        **finding.model_dump(),
        title=title_of_finding(finding.kind),
        advice=advice(finding.kind),
        accepted=next((one.row.reason for one in reasons if one.of(finding)), ""),
    )


def _get(session: Session, recording_id: UUID) -> Recording:
    recording = session.get(Recording, recording_id)
    if recording is None or recording.removed_at is not None:
        raise NotFound(what="recording")
    return recording


def _views(
    session: Session,
    recordings: Sequence[Recording],
    specification: Specification,
    inspections: Mapping[UUID, Inspection],
    twins: Mapping[UUID, str],
) -> Iterator[RecordingView]:
    identifiers = [recording.id for recording in recordings]
    ribbons = lookup.ribbons(session, recordings)
    inspecting = works.newest(session, WorkKind.INSPECT, identifiers)
    newest, delivered = conformings.shown(session, identifiers, specification)
    for recording in recordings:
        inspection = inspections.get(recording.id)
        verdict = judge(inspection, specification, role=role_of(inspection)) if inspection else None
        yield RecordingView(
            id=recording.id,
            production_id=recording.production_id,
            position=recording.position,
            name=recording.name,
            created_at=recording.created_at,
            size_bytes=recording.size_bytes,
            sha256=recording.sha256,
            known_as=recording.known_as,
            edited=bool(recording.edited),
            same_as=twins.get(recording.id),
            work=works.view(inspecting.get(recording.id)),
            facts=inspection.facts if inspection else None,
            verdict=verdict,
            ribbon=_ribbon(ribbons[recording.known_as], columns=MINIATURE) if recording.known_as in ribbons else None,
            conforming=newest.get(recording.id),
            delivered=delivered.get(recording.id),
            older_methods=inspection is not None and inspection.methods_version < methods_history.current(),
        )


def _ribbon(packed: bytes, *, columns: int = ribbon.COLUMNS) -> RibbonView:
    return RibbonView.of(ribbon.coarser(ribbon.unpacked(packed), columns))
