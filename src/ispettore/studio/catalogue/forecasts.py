"""What conforming a whole production will bring, before anything runs; and running it."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from uuid import UUID

from sqlmodel import Session

from ispettore.core.audio.formats import FormatName
from ispettore.core.figures import number, with_unit
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import one_sound
from ispettore.core.plan.one_sound import ROOM, SPEECH, Matched
from ispettore.core.plan.preferences import PREFERENCES, Preference
from ispettore.core.spec import kept
from ispettore.core.spec.specification import Specification
from ispettore.core.treat import keeping
from ispettore.studio.catalogue import conformings, defaults, lookup, plannings, recordings, together, treatments
from ispettore.studio.catalogue.forecast_views import Approach, Forecast, ForecastRow, ForecastSpread
from ispettore.studio.catalogue.manner import Manner
from ispettore.studio.catalogue.views import AskedEach, PlanningView, PlanView
from ispettore.studio.database import transaction
from ispettore.studio.errors import NotFound, NotReady
from ispettore.studio.jobs import works
from ispettore.studio.tables import Planning, Production, Recording, WorkKind

APART_DB = 0.5
"""What is expected further than this from what all have in common is remarked on."""


@dataclass(frozen=True)
class _Case:
    """A recording with what it is to be like, and in which manner it is conformed then."""

    recording: Recording
    inspection: Inspection
    manner: Manner
    matched: Matched | None

    @property
    def foretold(self) -> bool:
        """Whether a plan tells what comes of it: what runs as it was given is measured afterwards."""
        return self.manner.treatment is None or self.manner.treatment.finish == "planned"


def forecast(
    production_id: UUID,
    approach: Approach,
    *,
    chosen: Sequence[UUID] | None = None,
    container: FormatName | None = None,
    again: bool = False,
) -> Forecast:
    """The predicted sheet of a production, or of those chosen. Plans that are missing are asked for, and with `again` those whose
    work failed or was cancelled; asked once more, it tells what has come of them. Raises NotFound and StepNotReady."""
    with transaction() as session:
        found, specification = _chosen(session, production_id, chosen)
        cases = _cases(session, found, specification, approach)
        there = [case for case in cases.values() if case.foretold]
        planned = _plannings(session, there, specification)
        missing = [case for case in there if again or not plannings.readable(planned.get(case.recording.id))]
    for case in missing:
        plannings.ask(case.recording.id, None if case.manner.plain else case.manner)
    with transaction() as session:
        rows = _rows(session, production_id, found, cases, specification, container)
    return Forecast(
        rows=rows,
        aim=_aim(list(cases.values())),
        spreads=_spreads(rows),
        will_run=sum((row.plan is not None or row.given) and not row.settled for row in rows),
        can_not=sum(bool(row.obstacles) for row in rows),
        settled=sum(row.settled for row in rows),
        done=all(row.plan is not None or row.given or bool(row.obstacles) or not row.measured or _ended(row) for row in rows),
    )


def run(
    production_id: UUID, approach: Approach, *, chosen: Sequence[UUID] | None = None, container: FormatName | None = None
) -> AskedEach:
    """Have them conformed so. What was made just so already stays. Raises NotFound and StepNotReady."""
    with transaction() as session:
        found, specification = _chosen(session, production_id, chosen)
        cases = _cases(session, found, specification, approach)

    def manner(_session: Session, recording: Recording) -> Manner:
        case = cases.get(recording.id)
        if case is None:
            raise NotReady(file=recording.name, reason="has not been inspected yet")
        return case.manner

    ids = [recording.id for recording in found]
    return together.each(ids, lambda one: conformings.ask_unless_made(one, manner, container=container))


def _chosen(session: Session, production_id: UUID, chosen: Sequence[UUID] | None) -> tuple[list[Recording], Specification]:
    production = session.get(Production, production_id)
    if production is None:
        raise NotFound(what="production")
    there = recordings.current(session, production_id)
    wanted = None if chosen is None else set(chosen)
    found = [recording for recording in there if wanted is None or recording.id in wanted]
    return found, kept.specification(production.specification)


def _cases(session: Session, found: Sequence[Recording], specification: Specification, approach: Approach) -> dict[UUID, _Case]:
    """Those that are measured, each with its manner."""
    inspections = lookup.short(session, found)
    there = [recording for recording in found if recording.id in inspections]
    known = [inspections[recording.id] for recording in there]
    treatment = treatments.newest(approach.treatment, reference=approach.reference) if approach.treatment is not None else None
    usual = defaults.of(session)
    base = Manner.by(treatment) if treatment is not None else Manner()
    bounds = approach.bounds if approach.bounds != usual.bounds else None
    base = replace(base, preference=approach.preference or usual.preference, bounds=bounds)
    if approach.one_sound and treatment is not None and treatment.finish == "given":
        steps = keeping.general(treatment.steps, finish="planned").steps
        treatment = treatment.model_copy(update={"finish": "planned", "steps": steps})
    if not approach.one_sound:
        return {one.id: _Case(one, inspection, base, None) for one, inspection in zip(there, known, strict=True)}
    places = {recording.id: place for place, recording in enumerate(there)}
    matched = one_sound.matched(
        known,
        specification,
        bounds=bounds or usual.bounds,
        steps=treatment.steps if treatment is not None else (),
        tone=approach.tone,
        reference=places.get(approach.like) if approach.like is not None else None,
    )
    cases = {}
    for recording, inspection, each in zip(there, known, matched, strict=True):
        manner = replace(base, treatment=one_sound.shaped(treatment, each), likeness=each.likeness)
        cases[recording.id] = _Case(recording, inspection, manner, each)
    return cases


def _rows(
    session: Session,
    production_id: UUID,
    found: Sequence[Recording],
    cases: dict[UUID, _Case],
    specification: Specification,
    container: FormatName | None,
) -> list[ForecastRow]:
    planned = _plannings(session, [case for case in cases.values() if case.foretold], specification)
    running = works.newest(session, WorkKind.PLAN, [planning.id for planning in planned.values()])
    production = session.get_one(Production, production_id)
    manners = [(case.recording, case.manner) for case in cases.values()]
    settled = conformings.made_so(session, production, manners, container=container)

    def told(case: _Case) -> PlanningView | None:
        made = planned.get(case.recording.id)
        return plannings.told_with(running.get(made.id), made, specification, case.inspection) if made is not None else None

    def row(recording: Recording) -> ForecastRow:
        case = cases.get(recording.id)
        return _row(recording, case, told(case) if case is not None else None, settled=recording.id in settled)

    return [row(recording) for recording in found]


def _row(recording: Recording, case: _Case | None, planning: PlanningView | None, *, settled: bool) -> ForecastRow:
    plan = _by(planning.plans, case.manner.preference) if planning is not None and case is not None else None
    matched = case.matched if case is not None else None
    row = ForecastRow(
        id=recording.id,
        name=recording.name,
        position=recording.position,
        measured=case is not None,
        given=case is not None and not case.foretold,
        work=planning.work if planning is not None else None,
        plan=plan,
        obstacles=planning.obstacles if planning is not None else [],
        speech_dbfs=case.inspection.value(SPEECH) if case is not None else None,
        speech_expected_dbfs=plan.predicted.get(SPEECH) if plan is not None else None,
        room_dbfs=case.inspection.value(ROOM) if case is not None else None,
        room_expected_dbfs=plan.predicted.get(ROOM) if plan is not None else None,
        tone_apart_db=matched.tone_apart_db if matched is not None else None,
        tone_expected_db=matched.tone_expected_db if matched is not None else None,
        voice=matched.voice if matched is not None else None,
        remarks=[],
        settled=settled,
    )
    return row.model_copy(update={"remarks": _remarks(row, matched)})


def _plannings(session: Session, cases: Sequence[_Case], specification: Specification) -> dict[UUID, Planning]:
    wanted = [(case.recording, None if case.manner.plain else case.manner) for case in cases]
    return plannings.in_manners(session, wanted, specification)


def _by(plans: Sequence[PlanView], preference: Preference) -> PlanView | None:
    """The plan of a preference: of plans that are alike only the gentlest is told."""
    order = PREFERENCES.index(preference)
    return next((plan for plan in reversed(plans) if PREFERENCES.index(plan.preference) <= order), None)


def _remarks(row: ForecastRow, matched: Matched | None) -> list[str]:
    """In what a recording will stay unlike the others, and whether a bed is why it must be limited."""
    if row.plan is None:
        return []
    under = row.plan.under
    said = [under.said] if under is not None and under.reason == "bed" else []
    if matched is None:
        return said
    likeness = matched.likeness
    if likeness.speech_dbfs is not None and row.speech_expected_dbfs is not None:
        off = row.speech_expected_dbfs - likeness.speech_dbfs
        if abs(off) > APART_DB + one_sound.SPEECH_WITHIN_DB:
            way = "louder" if off > 0 else "softer"
            said.append(f"Its voice stays {with_unit(abs(off), 'dB')} {way} than the others: its limits allow no closer match.")
    if likeness.room_dbfs is not None and row.room_expected_dbfs is not None:
        over = row.room_expected_dbfs - likeness.room_dbfs
        if over > APART_DB:
            said.append(f"Its room stays {with_unit(over, 'dB')} louder than the others’: the bounds allow no more cleaning.")
        elif over < -one_sound.ROOM_WITHIN_DB - APART_DB:
            said.append(f"Its room is {with_unit(-over, 'dB')} quieter than the loudest of the others.")
    return said


def _ended(row: ForecastRow) -> bool:
    return row.work is not None and row.work.state in ("failed", "cancelled")


def _aim(cases: Sequence[_Case]) -> str:
    """What all are to have in common, in words; empty where each is for itself."""
    likeness = next(
        (case.matched.likeness for case in cases if case.matched and case.matched.likeness.speech_dbfs is not None), None
    )
    if likeness is None:
        return ""
    parts = [f"active speech at {with_unit(likeness.speech_dbfs, 'dBFS')}"]
    if likeness.room_dbfs is not None:
        parts.append(f"room tone at {with_unit(likeness.room_dbfs, 'dBFS')} or a little below")
    voices = {case.matched.voice for case in cases if case.matched and case.matched.voice is not None}
    matched = sum(bool(case.matched and case.matched.voice_db) for case in cases)
    if matched:
        of = "the others of its voice" if len(voices) > 1 else "the others"
        parts.append(f"the tone of {number(matched, 0)} closer to {of}")
    said = f"{', '.join(parts[:-1])} and {parts[-1]}" if len(parts) > 1 else parts[0]
    told = f"Aim: {said}."
    return f"{told} {number(len(voices), 0)} different voices found." if len(voices) > 1 else told


def _spreads(rows: Sequence[ForecastRow]) -> list[ForecastSpread]:
    planned = [row for row in rows if row.plan is not None]
    found = []
    for title, was, now in (
        ("Active speech level", [row.speech_dbfs for row in planned], [row.speech_expected_dbfs for row in planned]),
        ("Room tone", [row.room_dbfs for row in planned], [row.room_expected_dbfs for row in planned]),
    ):
        found.append(ForecastSpread(title=title, before=_spread(was), after=_spread(now)))
    tones = [row.tone_apart_db for row in planned if row.tone_apart_db is not None]
    if tones:
        expected = [row.tone_expected_db for row in planned if row.tone_expected_db is not None]
        found.append(ForecastSpread(title="Tone", before=max(tones), after=max(expected) if expected else None))
    return found


def _spread(values: Sequence[float | None]) -> float | None:
    known = [value for value in values if value is not None]
    return max(known) - min(known) if len(known) > 1 else None
