"""Attempts to conform a recording: asking for one, what came of it, its deliverable and certificate."""

from collections.abc import Sequence
from importlib.metadata import version
from pathlib import PurePath
from typing import Any
from uuid import UUID

from sqlalchemy.orm import defer
from sqlmodel import Session, col, select

from ispettore.core.audio.formats import WRITABLE, FormatName
from ispettore.core.audio.writing import OutputFormat
from ispettore.core.measure import methods_history
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import kept as kept_outcomes
from ispettore.core.plan.conform import Conformed
from ispettore.core.plan.preferences import Preference
from ispettore.core.plan.proposing import role_for
from ispettore.core.spec import delivery, kept
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import Role, judge
from ispettore.core.text import LONGEST_NAME_BYTES
from ispettore.core.treat import kept as kept_treatments
from ispettore.core.treat.bed import Mix
from ispettore.core.treat.treatment import Treatment
from ispettore.studio import events
from ispettore.studio.catalogue import beds, deeds, defaults, lookup, made
from ispettore.studio.catalogue.manner import Decided, KeptUse, Manner
from ispettore.studio.catalogue.views import ConformingView, KeptUseView, ResultView, SpecificationName
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound, NotReady
from ispettore.studio.jobs import retrying, works
from ispettore.studio.tables import Conforming, Production, Recording, Work, WorkKind, now

_LONG = (Conforming.outcome, Conforming.ribbon, Conforming.tracks, Conforming.reduction, Conforming.lowered)
LIGHT = [defer(column) for column in _LONG]  # type: ignore[arg-type]
"""An attempt without what makes up most of its row."""


def ask(
    recording_id: UUID,
    *,
    preference: Preference | None = None,
    container: FormatName | None = None,
    decided: Decided | None = None,
) -> UUID:
    """Have an inspected recording conformed to its production's specification: by a plan of a preference (None: the usual
    one), or as is `decided`. What is under way already is not begun twice.

    Raises NotFound, NotReady, NotWritable where the specification asks for a file that can't be made, and what `decided` raises.
    """
    with transaction() as session:
        attempt, _ = asked(session, recording_id, container, decided or (lambda *_: by_plan(session, preference)), again=True)
        return attempt


def by_plan(session: Session, preference: Preference | None) -> Manner:
    """By a plan of a preference, or of that which is usual here."""
    return Manner(preference or defaults.of(session).preference)


def ask_unless_made(recording_id: UUID, decided: Decided, *, container: FormatName | None = None) -> tuple[UUID, bool]:
    """The same, unless the newest attempt was made just so and brought something: the attempt, and whether it is a new one."""
    with transaction() as session:
        return asked(session, recording_id, container, decided, again=False)


def asked(
    session: Session, recording_id: UUID, wanted: FormatName | OutputFormat | None, decided: Decided, *, again: bool
) -> tuple[UUID, bool]:
    """The attempt, and whether it is a new one; in this transaction. `wanted` is a format, or exactly as what it is to be written.
    `again` makes a new one of what has ended, even where nothing has changed since. Raises as `ask` does."""
    recording = session.get(Recording, recording_id, with_for_update=True)
    if recording is None or recording.removed_at is not None:
        raise NotFound(what="recording")
    if lookup.whole(session, recording, light=True) is None:
        raise NotReady(file=recording.name, reason="has not been inspected yet")
    production = session.get_one(Production, recording.production_id)
    form = wanted or delivery.asked_for(kept.specification(production.specification)).container
    manner = decided(session, recording).within(defaults.bounds(session))
    conforming = _wanted(recording, production, form, manner)
    if (same := _same(session, conforming, again=again)) is not None:
        return same, False
    session.add(conforming)
    session.flush()
    works.ask(session, WorkKind.CONFORM, conforming.id, of=recording)
    return conforming.id, True


def made_so(
    session: Session, production: Production, manners: Sequence[tuple[Recording, Manner]], *, container: FormatName | None = None
) -> set[UUID]:
    """Those recordings of a production whose newest attempt was made in just this manner, and brought something."""
    specification = kept.specification(production.specification)
    asked = container or delivery.asked_for(specification).container
    ids = select(Recording.id).where(col(Recording.id).in_([recording.id for recording, _ in manners]))
    newest = made.newest(session, ids, specification)
    latest = [found.latest for found in newest.values()]
    columns: tuple[Any, ...] = (Conforming.id, *(getattr(Conforming, name) for name in SAME))
    there = {identifier: parts for identifier, *parts in session.exec(select(*columns).where(col(Conforming.id).in_(latest))).all()}
    running = works.newest(session, WorkKind.CONFORM, latest)
    found = set()
    bounds = defaults.bounds(session)
    for recording, manner in manners:
        wanted, last = _wanted(recording, production, asked, manner.within(bounds)), newest.get(recording.id)
        if last is None or last.attempt is None or last.attempt.methods != methods_history.current():
            continue
        under_way = last.latest in running and running[last.latest].state in retrying.UNFINISHED
        if not under_way and there[last.latest] == [getattr(wanted, name) for name in SAME]:
            found.add(recording.id)
    return found


def _wanted(recording: Recording, production: Production, form: FormatName | OutputFormat, manner: Manner) -> Conforming:
    """An attempt as it would be asked for."""
    container = form.container if isinstance(form, OutputFormat) else form
    usual = delivery.chosen(container, kept.specification(production.specification))
    exactly = form if isinstance(form, OutputFormat) and form != usual else None
    return Conforming(
        recording_id=recording.id,
        specification=production.specification,
        container=container,
        bit_depth=exactly.bit_depth if exactly is not None else None,
        bit_rate_kbps=exactly.bit_rate_kbps if exactly is not None else None,
        **manner.kept_as(),
        draft=manner.draft,
        kept_id=manner.kept.id if manner.kept else None,
        kept_version=manner.kept.version if manner.kept else None,
        kept_changed=manner.kept is not None and manner.kept.changed,
        room_tone=recording.room_tone,
        edited=recording.edited,
        laid=beds.text(production, recording),
        software=version("ispettore"),
    )


SAME = (
    "specification",
    "preference",
    "container",
    "bit_depth",
    "bit_rate_kbps",
    "treatment",
    "likeness",
    "bounds",
    "room_tone",
    "edited",
    "laid",
    "software",
)
"""Where all of these are as they were, an attempt would come to the same."""


def form(conforming: Conforming) -> OutputFormat:
    """As what exactly an attempt was written, or is to be."""
    return form_of(conforming.container, conforming.bit_depth, conforming.bit_rate_kbps, conforming.specification)


def form_of(container: FormatName, bit_depth: int | None, bit_rate_kbps: int | None, specification: dict[str, Any]) -> OutputFormat:
    """The same from what a row keeps of it: as the specification makes of the format, where nothing else was said."""
    if bit_depth is None and bit_rate_kbps is None:
        return delivery.chosen(container, kept.specification(specification))
    return OutputFormat(container=container, bit_depth=bit_depth, bit_rate_kbps=bit_rate_kbps)


def manner(conforming: Conforming) -> Manner:
    """In which manner an attempt was made."""
    kept_id, version = conforming.kept_id, conforming.kept_version
    return Manner(
        preference=conforming.preference,
        **Manner.parts(conforming),
        kept=KeptUse(kept_id, version, conforming.kept_changed) if kept_id is not None and version is not None else None,
        draft=conforming.draft,
    )


def _same(session: Session, wanted: Conforming, *, again: bool) -> UUID | None:
    """The newest attempt, where it was asked for just so and has not ended; unless `again`, also where it has brought something."""
    newest = session.exec(
        select(Conforming)
        .where(Conforming.recording_id == wanted.recording_id)
        .order_by(col(Conforming.created_at).desc())
        .limit(1)
    ).first()
    if newest is None or any(getattr(newest, name) != getattr(wanted, name) for name in SAME):
        return None
    if works.under_way(session, WorkKind.CONFORM, newest.id):
        return newest.id
    return newest.id if newest.outcome and not again and _methods(newest) == methods_history.current() else None


def _methods(conforming: Conforming) -> int | None:
    """By which methods the recording was measured for an attempt."""
    return ((conforming.outcome or {}).get("before") or {}).get("methods_version")


def last_treatment(session: Session, recording_id: UUID) -> tuple[Treatment | None, str]:
    """What made the newest file of a recording, without what it learned, None where none was made; and what the recording was known
    by with its edits then."""
    treatment = col(Conforming.outcome)["treatment"]
    rows = select(treatment, Conforming.edited).where(Conforming.recording_id == recording_id, col(Conforming.sha256).is_not(None))
    found = session.exec(rows.order_by(col(Conforming.created_at).desc()).limit(1)).first()
    return (kept_treatments.treatment(found[0]), found[1]) if found else (None, "")


def deliverable_name(recording_name: str, container: str) -> str:
    """The recording's name with the deliverable's ending.

    >>> deliverable_name("02 February.wav", "mp3")
    '02 February.mp3'
    """
    ending = f".{container}"
    stem = PurePath(recording_name).stem
    while len(stem.encode()) + len(ending) > LONGEST_NAME_BYTES:
        stem = stem[:-1]
    return f"{stem}{ending}"


def of_recording(session: Session, recording: Recording, chosen: Specification) -> list[ConformingView]:
    """Every attempt for a recording, newest first, judged by a specification."""
    found = session.exec(
        select(Conforming).where(Conforming.recording_id == recording.id).order_by(col(Conforming.created_at).desc())
    ).all()
    running = works.newest(session, WorkKind.CONFORM, [conforming.id for conforming in found])
    laid = beds.text(session.get_one(Production, recording.production_id), recording)
    return [
        _view(
            one,
            one.outcome,
            running.get(one.id),
            chosen,
            readings=True,
            number=len(found) - place,
            as_edited=one.edited == recording.edited and one.laid == laid,
        )
        for place, one in enumerate(found)
    ]


def shown(
    session: Session, recording_ids: Sequence[UUID], chosen: Specification
) -> tuple[dict[UUID, ConformingView], dict[UUID, ConformingView]]:
    """For each recording that has any the newest attempt, and the attempt whose file counts; judged by a specification. The
    inspections in their outcomes come without their long lists."""
    known = made.newest(session, select(Recording.id).where(col(Recording.id).in_(recording_ids)), chosen)
    views = _light(session, {one for found in known.values() for one in (found.latest, found.counts) if one is not None}, chosen)
    return (
        {recording: views[found.latest] for recording, found in known.items()},
        {recording: views[found.counts] for recording, found in known.items() if found.counts is not None},
    )


def _light(session: Session, identifiers: set[UUID], chosen: Specification) -> dict[UUID, ConformingView]:
    light = select(Conforming, lookup.without_lists(col(Conforming.outcome), "before", "after", drop="ledger")).options(*LIGHT)
    rows = session.exec(light.where(col(Conforming.id).in_(identifiers))).all()
    running = works.newest(session, WorkKind.CONFORM, list(identifiers))
    found = {}
    for conforming, outcome in rows:
        if outcome is not None:
            for key in ("before", "after"):
                outcome[key] = lookup.filled(outcome[key]) if outcome[key] else None
        found[conforming.id] = _view(conforming, outcome, running.get(conforming.id), chosen)
    return found


def _view(
    conforming: Conforming,
    data: dict[str, Any] | None,
    work: Work | None,
    chosen: Specification,
    *,
    readings: bool = False,
    number: int = 0,
    as_edited: bool = True,
) -> ConformingView:
    outcome = kept_outcomes.conformed(data) if data else None
    made_for = conforming.specification
    name = SpecificationName(id=made_for["id"], name=made_for["name"], version=made_for["version"])
    current = (name.id, name.version) == (chosen.id, chosen.version)
    as_what = role(conforming, outcome, chosen)
    after = judge(outcome.after, chosen, role=as_what) if outcome and outcome.after else None
    return ConformingView(
        id=conforming.id,
        made_for=name,
        current=current,
        certificate=conforming.certificate_id,
        certificate_for=name if conforming.certificate_id is not None else None,
        refused=outcome is not None and conforming.sha256 is None,
        older_methods=bool(outcome and outcome.after and outcome.after.methods_version < methods_history.current()),
        recording_id=conforming.recording_id,
        created_at=conforming.created_at,
        preference=conforming.preference,
        container=conforming.container,
        work=works.view(work),
        passes=after.passes if after else None,
        own=_own(conforming),
        made_by=made_by(conforming),
        one_sound=conforming.likeness is not None,
        kept=_kept_use(conforming),
        draft=conforming.draft,
        closing=outcome.closing if outcome and current else None,
        steps=[step for step in outcome.treatment.steps if step.on] if outcome else [],
        touch=outcome.touch if outcome else None,
        window=outcome.window if outcome and current else None,
        obstacles=list(outcome.obstacles) if outcome and current else [],
        ledger=list(outcome.ledger) if outcome and readings else [],
        mix=_mix(outcome) if outcome else None,
        under=outcome.under if outcome and current else None,
        out_of_order=list(outcome.out_of_order) if outcome else [],
        before=judge(outcome.before, chosen, role=as_what) if outcome else None,
        after=after,
        rounds=outcome.rounds if outcome else 0,
        file_name=conforming.file_name,
        size_bytes=conforming.size_bytes,
        sha256=conforming.sha256,
        certified=conforming.certificate_id is not None and current,
        handed_over_at=conforming.handed_over_at,
        chosen_at=conforming.chosen_at,
        cleared_at=conforming.cleared_at,
        number=number,
        as_edited=as_edited,
        result=_result(outcome.after, readings=readings) if outcome and outcome.after else None,
    )


def mix(conforming: Conforming) -> Mix | None:
    """Voice, bed and mix of an attempt that ended; None where nothing lies under the voice."""
    return _mix(kept_outcomes.conformed(conforming.outcome)) if conforming.outcome else None


def _mix(outcome: Conformed) -> Mix | None:
    """Voice, bed and mix as they were written; of what was not written as they were mixed."""
    if outcome.mix is None or outcome.after is None:
        return outcome.mix
    return outcome.mix.delivered(outcome.after.value("integrated_loudness_lufs"))


def _kept_use(conforming: Conforming) -> KeptUseView | None:
    if conforming.kept_id is None or conforming.kept_version is None:
        return None
    name = (conforming.treatment or {}).get("name", "")
    return KeptUseView(id=conforming.kept_id, version=conforming.kept_version, changed=conforming.kept_changed, name=name)


def made_by(conforming: Conforming) -> str:
    """By what an attempt was made, in words."""
    use = _kept_use(conforming)
    if use is not None:
        said = use.name if use.changed else f"{use.name}, version {use.version}"
    else:
        said = "own treatment" if _own(conforming) else f"{conforming.preference} plan"
    said = said if conforming.likeness is None else f"{said}, one sound"
    return said if beds.read(conforming.laid) is None else f"{said}, with a bed"


def _own(conforming: Conforming) -> bool:
    """Whether it was by no plan."""
    return conforming.treatment is not None and conforming.treatment.get("finish") != "planned"


def role(conforming: Conforming, outcome: Conformed | None, chosen: Specification) -> Role:
    """What the written file is by the specification of now: a format may be asked for by one and not by another."""
    if conforming.container in WRITABLE:
        return role_for(OutputFormat(container=conforming.container), chosen)
    return outcome.role if outcome else "deliverable"


def _result(after: Inspection, *, readings: bool) -> ResultView:
    return ResultView(
        sample_rate_hz=after.facts.sample_rate_hz,
        frames=after.facts.frames,
        head_s=after.value("head_s"),
        integrated_loudness_lufs=after.value("integrated_loudness_lufs"),
        readings=after.readings if readings else {},
    )


def get(conforming_id: UUID) -> Conforming:
    """One attempt. Raises NotFound."""
    with transaction() as session:
        conforming = session.get(Conforming, conforming_id)
        if conforming is None:
            raise NotFound(what="attempt")
        return conforming


def hand_over(recording_id: UUID, *, delivered: bool) -> tuple[UUID, bool]:
    """Note that the file that counts for a recording was delivered, or take that back. The attempt, and whether this changed
    anything. Raises NotFound, and NotReady where no file meets the specification of now."""
    with transaction() as session:
        recording = session.get(Recording, recording_id, with_for_update=True)
        if recording is None or recording.removed_at is not None:
            raise NotFound(what="recording")
        specification = kept.specification(session.get_one(Production, recording.production_id).specification)
        found = made.newest(session, select(Recording.id).where(Recording.id == recording_id), specification).get(recording_id)
        file = found.made if found is not None else None
        asked = (specification.id, specification.version)
        if found is None or found.counts is None or file is None or not file.passes or file.made_for != asked:
            raise NotReady(file=recording.name, reason=f"has no file yet that meets {specification.name}")
        if found.handed_over == delivered:
            return found.counts, False
        conforming = session.get_one(Conforming, found.counts)
        conforming.handed_over_at = now() if delivered else None
        said = f"“{conforming.file_name}” was marked as delivered"
        deeds.note(session, recording, f"{said}." if delivered else f"Undone: {said}.")
        session.add(conforming)
        events.tell_of(session, recording)
        return found.counts, True
