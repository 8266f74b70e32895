"""The files of a production as they are delivered: which there are, what is missing, and having them made.

A deliverable is the file of an attempt, named, tagged, measured once more and certified. Where no attempt was written in the format
that is asked for, one is asked for first, in the manner of the one that counts; the deliverable waits for it (`go_on`).
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from sqlmodel import Session, col, select

from ispettore.core.audio.tagging import Tags
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.deliver import labels, naming
from ispettore.core.deliver.entries import Entry
from ispettore.core.measure import kept as kept_inspections
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan.encoding import Effect
from ispettore.core.spec import kept
from ispettore.core.spec.delivery import NotWritable, asked_in_words
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import LimitVerdict, Values, values
from ispettore.studio.catalogue import certificates, conformings, lookup, made, recordings, together, wholes
from ispettore.studio.catalogue.certificates import Subject
from ispettore.studio.catalogue.held import Held
from ispettore.studio.catalogue.made import Newest
from ispettore.studio.catalogue.views import AskedEach
from ispettore.studio.database import transaction
from ispettore.studio.delivering import asking
from ispettore.studio.delivering.views import DeliveryRow, Made
from ispettore.studio.errors import NamingRefused, NotFound, NotReady
from ispettore.studio.jobs import retrying, works
from ispettore.studio.tables import Conforming, DeliverableRecord, Production, Recording, Work, WorkKind, WorkState


@dataclass(frozen=True)
class Wanted:
    """What the file of a recording is to be: its name and what speaks against that, and all that it is to say of itself."""

    recording: Recording
    entry: Entry
    from_name: bool
    file_name: str
    problem: str
    form: OutputFormat
    tags: Tags
    cover: dict[str, Any] | None

    @property
    def asked(self) -> dict[str, Any]:
        """As a row keeps it."""
        return {
            "form": self.form.model_dump(mode="json"),
            "tags": self.tags.model_dump(mode="json"),
            "cover": self.cover,
        }


@dataclass(frozen=True)
class _Record:
    """What is kept of a deliverable, without what it measured."""

    id: UUID
    conforming_id: UUID
    made_for: tuple[str, int]
    made_for_name: str
    asked: dict[str, Any]
    file_name: str
    sha256: str | None
    size_bytes: int | None
    certified: bool
    effect: Effect | None
    missed: list[LimitVerdict]
    duration_s: float | None
    certificate: UUID | None


@dataclass(frozen=True)
class _Case:
    """One recording: what is wanted, the file that counts and as what it was written; the newest deliverable, with the newest work
    on it and on its attempt."""

    wanted: Wanted
    measured: bool
    newest: Newest | None
    form: OutputFormat | None
    record: _Record | None
    making: Work | None
    conforming: Work | None


def wanted(production: Production, there: Sequence[Recording], *, template: str | None = None) -> list[Wanted]:
    """What every file of a production is to be; `template` in place of its naming. Raises NotWritable."""
    said, form = asking.of(production), asking.form(production)
    if form is None:
        specification = kept.specification(production.specification)
        raise NotWritable(specification=specification.name, asked=asked_in_words(specification.limits))
    listed = wholes.listed(there)
    found = naming.names(
        said.naming if template is None else template,
        [entry for entry, _ in listed],
        production=production.name,
        narrator=said.labels.narrator,
        ending=form.written.endings[0],
    )
    return [
        Wanted(
            recording=recording,
            entry=entry,
            from_name=from_name,
            file_name=name.name,
            problem=name.problem,
            form=form,
            tags=labels.tags(entry, said.labels, production=production.name, track=place),
            cover=asking.cover_asked(production),
        )
        for place, (recording, (entry, from_name), name) in enumerate(zip(there, listed, found, strict=True), start=1)
    ]


def names(production_id: UUID, template: str) -> tuple[str, dict[UUID, naming.Name]]:
    """What a template would name every file, and what is wrong with it. Raises NotFound and NotWritable."""
    with transaction() as session:
        production = asking.there(session, production_id)
        found = wanted(production, recordings.current(session, production_id), template=template)
        return naming.parsed(template)[1], {one.recording.id: naming.Name(one.file_name, one.problem) for one in found}


def ready(session: Session, production: Production, chosen: Sequence[UUID] | None = None) -> list[UUID]:
    """The deliverables that are there as they are asked for, in the production's order; of some recordings, where these are named.
    Raises NotWritable."""
    found = rows(session, production)
    here = [row for row in found if chosen is None or row.recording in set(chosen)]
    return [row.deliverable for row in here if row.state == "made" and row.deliverable is not None]


_inspections: Held[UUID, Inspection] = Held(1_000)


def inspections(session: Session, made: Iterable[UUID]) -> dict[UUID, Inspection]:
    """What deliverables read, without the long lists; those that are made."""

    def inspected(missing: list[UUID]) -> dict[UUID, Inspection]:
        after = lookup.shortened(col(DeliverableRecord.outcome)["after"])
        found = session.exec(select(DeliverableRecord.id, after).where(col(DeliverableRecord.id).in_(missing))).all()
        return {identifier: kept_inspections.inspection(lookup.filled(data)) for identifier, data in found if data}

    return _inspections.of(made, inspected)


def read(session: Session, made: Sequence[DeliveryRow], specification: Specification) -> dict[UUID, Values]:
    """What a specification limits, as the files that are made read it; by recording."""
    of = {row.deliverable: row.recording for row in made if row.deliverable is not None}
    return {of[one]: values(inspection, specification) for one, inspection in inspections(session, of).items()}


def make(production_id: UUID, chosen: Sequence[UUID] | None = None) -> AskedEach:
    """Have the files of a production made, or those of some recordings; what is there already stays. Raises NotFound, NotWritable,
    and NamingRefused where any of their names can't be used."""
    with transaction() as session:
        production = asking.there(session, production_id)
        there = {one.recording.id: one for one in wanted(production, recordings.current(session, production_id))}
    ids = [of for of in there if chosen is None or of in set(chosen)]
    for one in (there[of] for of in ids):
        if one.problem:
            raise NamingRefused(reason=f"{one.recording.name}: {one.problem}")
    return together.each(ids, lambda of: _make(there[of]))


def _make(one: Wanted) -> tuple[UUID, bool]:
    with transaction() as session:
        recording = session.get(Recording, one.recording.id, with_for_update=True)
        if recording is None or recording.removed_at is not None:
            raise NotFound(what="recording")
        production = session.get_one(Production, recording.production_id)
        specification = kept.specification(production.specification)
        [case] = _cases(session, [one], specification)
        if not case.measured:
            raise NotReady(file=recording.name, reason="has not been inspected yet")
        state, _, _ = _state(case, specification)
        if case.record is not None and state in ("made", "making"):
            return case.record.id, False
        attempt = _attempt(session, case, specification)
        record = DeliverableRecord(
            recording_id=recording.id,
            conforming_id=attempt,
            specification=production.specification,
            asked=one.asked,
            file_name=one.file_name,
        )
        session.add(record)
        session.flush()
        if works.under_way(session, WorkKind.CONFORM, attempt):
            return record.id, True
        go_on(session, session.get_one(Conforming, attempt))
        return record.id, True


def _attempt(session: Session, case: _Case, specification: Specification) -> UUID:
    """The attempt whose file is delivered: the one that counts, where it will do; else a new one in its manner."""
    newest, one = case.newest, case.wanted
    if newest is not None and newest.counts is not None and _will_do(case, specification):
        return newest.counts
    before = newest.counts or newest.latest if newest is not None else None
    manner = conformings.manner(session.get_one(Conforming, before)) if before is not None else conformings.by_plan(session, None)
    attempt, _ = conformings.asked(session, one.recording.id, one.form, lambda *_: manner, again=False)
    return attempt


def _will_do(case: _Case, specification: Specification) -> bool:
    """Whether the file that counts meets the specification of now, and is written as is asked for."""
    file = case.newest.made if case.newest is not None else None
    asked = (specification.id, specification.version)
    return file is not None and file.passes and file.made_for == asked and case.form == case.wanted.form


def go_on(session: Session, conforming: Conforming) -> None:
    """Make what waits for an attempt, now that it has a file."""
    if conforming.sha256 is None or conforming.cleared_at is not None:
        return
    waiting = select(DeliverableRecord).where(
        DeliverableRecord.conforming_id == conforming.id, col(DeliverableRecord.sha256).is_(None)
    )
    for record in session.exec(waiting).all():
        if not works.under_way(session, WorkKind.DELIVER, record.id):
            works.ask(session, WorkKind.DELIVER, record.id, of=session.get_one(Recording, record.recording_id))


def certified(session: Session, record: DeliverableRecord, recording: Recording, content: dict[str, Any]) -> None:
    """Issue the certificate of a deliverable; those of the recording's earlier ones are superseded by it."""
    subject = Subject("deliverable", record.id, recording.production_id, recording.id)
    found = certificates.issue(session, content, subject)
    for before in certificates.of_earlier(session, found):
        earlier = session.get_one(DeliverableRecord, before.subject_id)
        certificates.end(session, before, "superseded", reason=_why_again(earlier, record), successor=found.sha256)


def _why_again(before: DeliverableRecord, record: DeliverableRecord) -> str:
    """Why a file was made in the place of another."""
    if before.specification != record.specification:
        return f"It was made again for {record.specification['name']}, version {record.specification['version']}"
    if before.conforming_id != record.conforming_id:
        return "It was conformed again"
    changed = {"form": "another format", "tags": "other tags", "cover": "another cover"}
    told = [words for name, words in changed.items() if before.asked.get(name) != record.asked.get(name)]
    told += ["another name"] if before.file_name != record.file_name else []
    return f"It was made again with {' and '.join(told)}" if told else "It was made again"


def rows(session: Session, production: Production) -> list[DeliveryRow]:
    """Every recording of a production as it will be delivered, or is. Raises NotWritable."""
    specification = kept.specification(production.specification)
    cases = _cases(session, wanted(production, recordings.current(session, production.id)), specification)
    attempts = [case.record.conforming_id for case in cases if case.record is not None]
    said = dict(
        session.exec(select(Conforming.id, col(Conforming.outcome)["corrections"]).where(col(Conforming.id).in_(attempts))).all()
    )
    return [_row(case, _state(case, specification), said) for case in cases]


def _row(case: _Case, state: tuple[Made, str, Work | None], said: dict[UUID, Any]) -> DeliveryRow:
    one, record = case.wanted, case.record
    there = record if record is not None and record.sha256 is not None else None
    return DeliveryRow(
        recording=one.recording.id,
        source=one.recording.name,
        entry=one.entry,
        from_name=one.from_name,
        file_name=one.file_name,
        problem=one.problem,
        state=state[0],
        reason=state[1],
        work=works.view(state[2]),
        deliverable=there.id if there is not None else None,
        format=OutputFormat.model_validate(there.asked["form"]).title if there is not None else "",
        size_bytes=there.size_bytes if there is not None else None,
        duration_s=there.duration_s if there is not None else None,
        sha256=there.sha256 if there is not None else None,
        certified=there is not None and there.certified,
        certificate=there.certificate if there is not None else None,
        listened="",
        effect=there.effect if there is not None else None,
        corrections=list(said.get(there.conforming_id) or []) if there is not None else [],
        missed=there.missed if there is not None else [],
    )


def _cases(session: Session, files: Sequence[Wanted], specification: Specification) -> list[_Case]:
    there = [one.recording for one in files]
    measured = lookup.keys(session, there)
    newest = made.newest(session, select(Recording.id).where(col(Recording.id).in_([one.id for one in there])), specification)
    counting = [found.counts for found in newest.values() if found.counts is not None]
    columns: tuple[Any, ...] = (
        Conforming.id, Conforming.container, Conforming.bit_depth, Conforming.bit_rate_kbps, Conforming.specification,
    )  # fmt: skip
    written = session.exec(select(*columns).where(col(Conforming.id).in_(counting))).all()
    forms = {identifier: conformings.form_of(*parts) for identifier, *parts in written}
    records = _records(session, [one.id for one in there])
    making = works.newest(session, WorkKind.DELIVER, [record.id for record in records.values()])
    conforming = works.newest(session, WorkKind.CONFORM, [record.conforming_id for record in records.values()])
    cases = []
    for one in files:
        found, record = newest.get(one.recording.id), records.get(one.recording.id)
        cases.append(
            _Case(
                wanted=one,
                measured=one.recording.id in measured,
                newest=found,
                form=forms.get(found.counts) if found is not None and found.counts is not None else None,
                record=record,
                making=making.get(record.id) if record is not None else None,
                conforming=conforming.get(record.conforming_id) if record is not None else None,
            )
        )
    return cases


def _records(session: Session, of: Sequence[UUID]) -> dict[UUID, _Record]:
    """The newest deliverable of each recording that has any."""
    asked, outcome = col(DeliverableRecord.specification), col(DeliverableRecord.outcome)
    columns: tuple[Any, ...] = (
        DeliverableRecord.recording_id,
        DeliverableRecord.id,
        DeliverableRecord.conforming_id,
        asked["id"].astext,
        asked["version"].as_integer(),
        asked["name"].astext,
        DeliverableRecord.asked,
        DeliverableRecord.file_name,
        DeliverableRecord.sha256,
        DeliverableRecord.size_bytes,
        col(DeliverableRecord.certificate_id).is_not(None),
        outcome["effect"],
        outcome["verdict"],
        outcome["after"]["facts"]["duration_s"].as_float(),
        DeliverableRecord.certificate_id,
    )
    newest = select(*columns).where(col(DeliverableRecord.recording_id).in_(of))
    rows = newest.distinct(col(DeliverableRecord.recording_id)).order_by(
        col(DeliverableRecord.recording_id), col(DeliverableRecord.created_at).desc()
    )
    return {recording: _record(*parts) for recording, *parts in session.exec(rows).all()}


def _record(
    identifier: UUID,
    conforming_id: UUID,
    specification: str,
    version: int,
    called: str,
    asked: dict[str, Any],
    file_name: str,
    sha256: str | None,
    size_bytes: int | None,
    certified: bool,
    effect: dict[str, Any] | None,
    verdict: dict[str, Any] | None,
    duration_s: float | None,
    certificate: UUID | None,
) -> _Record:
    """From the columns, in their order."""
    return _Record(
        id=identifier,
        conforming_id=conforming_id,
        made_for=(specification, version),
        made_for_name=called,
        asked=asked,
        file_name=file_name,
        sha256=sha256,
        size_bytes=size_bytes,
        certified=certified,
        effect=Effect.model_validate(effect) if effect else None,
        missed=kept.verdict(verdict).missed if verdict and not certified else [],
        duration_s=duration_s,
        certificate=certificate,
    )


def _state(case: _Case, specification: Specification) -> tuple[Made, str, Work | None]:
    """How the file of a recording stands, why, and the work on it that is under way or ended badly."""
    if not case.measured:
        return "unmeasured", "It is not measured yet.", None
    record = case.record
    if record is None:
        return "to make", "" if _will_do(case, specification) else _first(case), None
    if (changed := _changed(case, record, specification)) is not None:
        return ("to make again" if record.sha256 is not None else "to make"), changed, None
    for work in (case.making, case.conforming):
        if work is not None and work.state in retrying.UNFINISHED:
            return "making", "", work
    if record.sha256 is not None:
        if record.certified:
            return "made", "", None
        if not record.missed:
            return "to make again", "Its certificate was withdrawn.", None
        return "stuck", f"The finished file misses {' and '.join(limit.title for limit in record.missed)}.", None
    ended = case.making or case.conforming
    if ended is not None and ended.state == WorkState.CANCELLED:
        return "to make", "Cancelled.", None
    if ended is not None and ended.error:
        return "stuck", ended.error, None
    return "stuck", "No plan meets the specification; its bench says why.", None


def _first(case: _Case) -> str:
    """What has to be done before its file can be made."""
    if case.newest is None or case.newest.made is None:
        return "It will be conformed first."
    return f"It will be conformed again, as {case.wanted.form.title}."


def _changed(case: _Case, record: _Record, specification: Specification) -> str | None:
    """Why a deliverable is not what is asked for now, in a sentence; None where it is."""
    one, newest = case.wanted, case.newest
    if record.made_for != (specification.id, specification.version):
        return f"It was made for {record.made_for_name}, version {record.made_for[1]}."
    asked = one.asked
    if record.asked["form"] != asked["form"]:
        return f"It was made as {OutputFormat.model_validate(record.asked['form']).title}."
    counts = newest.counts if newest is not None else None
    if record.sha256 is not None and record.conforming_id != counts:
        return "It has been conformed again since."
    if record.asked["tags"] != asked["tags"]:
        return "Its tags have changed since."
    if record.asked["cover"] != asked["cover"]:
        return "The cover has changed since."
    if record.file_name != one.file_name:
        return f"Its name has changed since: it is still {record.file_name}."
    return None
