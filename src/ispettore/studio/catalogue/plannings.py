"""Plans for a recording: asked for once for each specification, measurement, room tone and kept treatment, and kept."""

from collections.abc import Sequence
from typing import Any
from uuid import UUID

from pydantic import ValidationError
from sqlalchemy import ColumnElement
from sqlmodel import Session, col, func, select
from sqlmodel.sql.expression import SelectOfScalar

from ispettore.core.measure import methods_history
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import foretold
from ispettore.core.plan.bedded import UnderVoice
from ispettore.core.plan.bounds import Obstacle
from ispettore.core.plan.planner import Plan
from ispettore.core.plan.preferences import Preference
from ispettore.core.plan.window import Learned
from ispettore.core.spec import kept
from ispettore.core.spec.specification import Specification
from ispettore.core.treat import draft
from ispettore.core.treat import kept as kept_treatments
from ispettore.core.treat.keeping import KeptTreatment
from ispettore.studio.catalogue import beds, defaults, lookup
from ispettore.studio.catalogue.held import Held
from ispettore.studio.catalogue.manner import Manner
from ispettore.studio.catalogue.views import KeptUseView, PlanningView, PlanView
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound, NotReady
from ispettore.studio.jobs import works
from ispettore.studio.tables import Planning, Production, Recording, Work, WorkKind, WorkState


def ask(recording_id: UUID, manner: Manner | None = None) -> UUID:
    """Have an inspected recording planned for its production's specification, by each preference or in one manner. Plans that are
    there, or under way, are not made again. Raises NotFound and NotReady."""
    with transaction() as session:
        recording = session.get(Recording, recording_id, with_for_update=True)
        if recording is None or recording.removed_at is not None:
            raise NotFound(what="recording")
        if lookup.whole(session, recording, light=True) is None:
            raise NotReady(file=recording.name, reason="has not been inspected yet")
        specification = session.get_one(Production, recording.production_id).specification
        manner = (manner or EACH).within(defaults.bounds(session))
        planning = in_manner(session, recording, kept.specification(specification), manner)
        if planning is None:
            planning = Planning(
                recording_id=recording.id,
                specification=specification,
                methods_version=methods_history.current(),
                room_tone=recording.room_tone,
                edited=recording.edited,
                laid=beds.of(session, recording),
                **_asked(manner),
            )
            session.add(planning)
            session.flush()
        elif _plans(planning) is not None or works.under_way(session, WorkKind.PLAN, planning.id):
            return planning.id
        works.ask(session, WorkKind.PLAN, planning.id, of=recording)
        return planning.id


def of_recording(
    session: Session, recording: Recording, specification: Specification, inspection: Inspection | None
) -> PlanningView | None:
    """The plans for a recording as it stands and reads (`inspection`) now; None where none were asked for."""
    planning = _current(session, recording, specification)
    return told(session, planning, specification, inspection) if planning is not None and inspection is not None else None


def by_kept(
    session: Session, recording: Recording, specification: Specification, inspection: Inspection | None
) -> list[PlanningView]:
    """The newest plan for each kept treatment that one was asked for, those asked for first first."""
    if inspection is None:
        return []
    newest, usual = {}, _usual(session)
    for planning in session.exec(_of(session, recording, specification).order_by(col(Planning.created_at))).all():
        if planning.treatment is not None and planning.treatment["id"] and not planning.likeness and planning.bounds == usual:
            newest[planning.treatment["id"]] = planning
    views = (told(session, planning, specification, inspection) for planning in newest.values())
    return [view for view in views if view is not None]


def readable(planning: Planning | None) -> bool:
    """Whether it is there, and what came of it, if anything did yet, can be read by this version."""
    return planning is not None and (planning.outcome is None or _plans(planning) is not None)


_conform: Held[UUID, bool] = Held(20_000)
"""Whether a planning came to a plan that conforms."""


def planned(session: Session, recordings: SelectOfScalar[UUID], specification: Specification) -> set[UUID]:
    """Those of the recordings for which the newest plans for a specification, by the methods of now and as they are heard now,
    conform."""
    joined = (Planning.recording_id == Recording.id, Recording.production_id == Production.id)
    as_heard = (
        Planning.edited == Recording.edited,
        Planning.room_tone == Recording.room_tone,
        col(Planning.laid) == beds.counting(),
    )
    rows = session.exec(
        select(Planning.id, Planning.recording_id)
        .where(col(Planning.recording_id).in_(recordings), *joined, *as_heard, *_for(specification))
        .order_by(col(Planning.created_at))
    ).all()
    known = _conform.of([identifier for identifier, _ in rows], lambda missing: _conforming(session, missing))
    newest = {recording: known[identifier] for identifier, recording in rows if identifier in known}
    return {recording for recording, conforms in newest.items() if conforms}


def _conforming(session: Session, identifiers: Sequence[UUID]) -> dict[UUID, bool]:
    obstacles = col(Planning.outcome)["plans"][0]["plan"]["obstacles"]
    rows = select(Planning.id, func.jsonb_array_length(obstacles))
    wanted = (col(Planning.id).in_(identifiers), lookup.holds_something(col(Planning.outcome)))
    return {identifier: not count for identifier, count in session.exec(rows.where(*wanted)).all()}


def told(session: Session, planning: Planning, specification: Specification, inspection: Inspection) -> PlanningView | None:
    """How a planning stands and what came of it; None where it can't be read."""
    return told_with(works.newest(session, WorkKind.PLAN, [planning.id]).get(planning.id), planning, specification, inspection)


def told_with(work: Work | None, planning: Planning, specification: Specification, inspection: Inspection) -> PlanningView | None:
    """The same, where its newest work is known."""
    plans = _plans(planning)
    if plans is None and (work is None or work.state == WorkState.DONE):
        return None  # kept by a version whose plans this one can't read
    good = [(preference, plan) for preference, plan in plans or [] if not plan.obstacles]
    obstacles: tuple[Obstacle, ...] = plans[0][1].obstacles if plans and not good else ()
    return PlanningView(
        work=works.view(work),
        plans=[_view(preference, plan, specification, inspection) for preference, plan in good],
        obstacles=list(obstacles),
        kept=_kept_use(planning),
    )


def _kept_use(planning: Planning) -> KeptUseView | None:
    if planning.treatment is None:
        return None
    of = kept_treatments.kept_treatment(planning.treatment)
    return KeptUseView(id=of.id, version=of.revision, changed=False, name=of.name)


def chosen(session: Session, recording: Recording, specification: Specification, preference: Preference) -> Plan | None:
    """The plan that was made by a preference; None where there is none."""
    planning = _current(session, recording, specification)
    return dict(_plans(planning) or []).get(preference) if planning else None


def chosen_kept(
    session: Session, recording: Recording, specification: Specification, identifier: str
) -> tuple[KeptTreatment, Plan] | None:
    """The kept treatment as it was planned with, and the plan; None where there is none."""
    found = _of(session, recording, specification).where(col(Planning.treatment)["id"].astext == identifier)
    rows = session.exec(found.where(_none(Planning.likeness)).order_by(col(Planning.created_at).desc())).all()
    usual = _usual(session)
    planning = next((row for row in rows if row.bounds == usual), None)
    plans = _plans(planning) if planning else None
    if planning is None or planning.treatment is None or not plans or plans[0][1].obstacles:
        return None
    return kept_treatments.kept_treatment(planning.treatment), plans[0][1]


def under(session: Session, recording: Recording, specification: Specification) -> UnderVoice | None:
    """What a bed does to the first plan for a recording, with voice, bed and mix as they are expected in the file; None where it
    has none, or nothing was planned yet."""
    planning = _current(session, recording, specification)
    plans = _plans(planning) if planning else None
    if not plans or (found := plans[0][1].under) is None:
        return None
    mix = found.mix.delivered(plans[0][1].predicted.get("integrated_loudness_lufs"))
    return found.model_copy(update={"mix": mix})


def encoding(session: Session, recording: Recording, specification: Specification) -> Learned | None:
    """What encoding does to the readings of a recording, as planning found out; None where it was not planned."""
    planning = _current(session, recording, specification)
    plans = _plans(planning) if planning else None
    return plans[0][1].encoding if plans else None


def _current(session: Session, recording: Recording, specification: Specification) -> Planning | None:
    return in_manner(session, recording, specification, None)


def in_manner(session: Session, recording: Recording, specification: Specification, manner: Manner | None) -> Planning | None:
    """What was planned in just this manner, or by each preference; None where nothing was."""
    return in_manners(session, [(recording, manner)], specification).get(recording.id)


def in_manners(
    session: Session, wanted: Sequence[tuple[Recording, Manner | None]], specification: Specification
) -> dict[UUID, Planning]:
    """The same for many recordings, each with its manner; those for which something was planned so."""
    columns: tuple[Any, ...] = (
        Planning.id,
        Planning.recording_id,
        Planning.room_tone,
        Planning.edited,
        Planning.laid,
        *(getattr(Planning, name) for name in MANNER),
    )
    rows = select(*columns).where(col(Planning.recording_id).in_([recording.id for recording, _ in wanted]), *_for(specification))
    there: dict[UUID, list[tuple[UUID, list[Any]]]] = {}
    for identifier, of, *parts in session.exec(rows.order_by(col(Planning.created_at).desc())).all():
        there.setdefault(of, []).append((identifier, parts))
    chosen, bounds = [], defaults.bounds(session)
    laid = beds.each(session, [recording for recording, _ in wanted])
    for recording, manner in wanted:
        asked = _asked((manner or EACH).within(bounds))
        parts = [recording.room_tone, recording.edited, laid[recording.id], *(asked[name] for name in MANNER)]
        chosen += [identifier for identifier, found in there.get(recording.id, []) if found == parts][:1]
    found = session.exec(select(Planning).where(col(Planning.id).in_(chosen))).all()
    return {planning.recording_id: planning for planning in found}


EACH = Manner(each=True)
"""Planned by each preference."""
MANNER = ("preference", "treatment", "likeness", "bounds")
"""What tells plans of a recording apart, beside what it was measured to be."""


def _asked(manner: Manner) -> dict[str, Any]:
    """As a row keeps it: one that plans by each preference names none."""
    return manner.kept_as() | ({"preference": ""} if manner.each else {})


def _usual(session: Session) -> dict[str, Any] | None:
    """The bounds of plans that name none, as a row keeps them."""
    return EACH.within(defaults.bounds(session)).kept_as()["bounds"]  # type: ignore[no-any-return]


def _none(column: Any) -> ColumnElement[bool]:
    """Whether a JSON column holds no object: SQL's null or JSON's own."""
    return ~lookup.holds_something(column)


def _of(session: Session, recording: Recording, specification: Specification) -> SelectOfScalar[Planning]:
    """Every planning for a recording as it stands now."""
    of_it = (Planning.recording_id == recording.id, Planning.room_tone == recording.room_tone)
    as_heard = (Planning.edited == recording.edited, Planning.laid == beds.of(session, recording))
    return select(Planning).where(*of_it, *as_heard, *_for(specification))


def _for(specification: Specification) -> tuple[ColumnElement[bool], ...]:
    """What is planned for a version of a specification, by the methods of now."""
    asked = col(Planning.specification)
    return (
        col(Planning.methods_version) == methods_history.current(),
        asked["id"].astext == specification.id,
        asked["version"].astext == str(specification.version),
    )


def _plans(planning: Planning) -> list[tuple[Preference, Plan]] | None:
    """None where nothing came of it yet, or what came of it can't be read by this version."""
    if planning.outcome is None:
        return None
    try:
        return [(one["preference"], Plan.model_validate(one["plan"])) for one in _made(planning.outcome)]
    except ValidationError:
        return None


def _made(outcome: dict[str, Any]) -> list[dict[str, Any]]:
    return list(outcome["plans"])


def _view(preference: Preference, plan: Plan, specification: Specification, inspection: Inspection) -> PlanView:
    return PlanView(
        preference=preference,
        touch=plan.touch,
        steps=draft.read(draft.of(plan.treatment)),
        limits=foretold.limits(plan, specification, inspection),
        leaves=list(plan.leaves),
        window=plan.after_window,
        gain_db=plan.target_gain_db,
        predicted=plan.predicted,
        under=plan.under,
    )
