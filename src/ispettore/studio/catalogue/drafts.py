"""The treatment that somebody works on for a recording: every change is kept, so that it can be undone, also after a reload."""

from collections.abc import Sequence
from functools import partial
from uuid import UUID

from pydantic import ValidationError
from sqlmodel import Session, col, delete

from ispettore.core.measure.inspection import Inspection
from ispettore.core.measure.reading import Span
from ispettore.core.plan import offering, one_sound
from ispettore.core.plan.offering import StepGroup
from ispettore.core.plan.preferences import PREFERENCES, USUAL_PREFERENCE, Preference
from ispettore.core.plan.spots import SpotOffer, offers
from ispettore.core.spec import kept
from ispettore.core.treat import draft, keeping
from ispettore.core.treat import kept as kept_treatments
from ispettore.core.treat.draft import DraftStep
from ispettore.core.treat.keeping import Finish, General, KeptTreatment
from ispettore.core.treat.treatment import Treatment
from ispettore.studio import events
from ispettore.studio.catalogue import conformings, edited, lookup, plannings, recordings
from ispettore.studio.catalogue.manner import KeptUse, Manner
from ispettore.studio.catalogue.treatment_views import GeneralView
from ispettore.studio.catalogue.views import DraftView, KeptUseView
from ispettore.studio.database import transaction
from ispettore.studio.errors import DraftChanged, DraftTooLong, NoSuchSpan, NotFound, NothingToUndo, NotReady
from ispettore.studio.tables import DraftRecord, DraftState, Production, Recording

MOST_STATES = 1_000
"""So many changes can be undone."""


def get(recording_id: UUID) -> DraftView:
    """The draft as it is. Without one, what was made last for the recording is where one would begin. Raises NotFound."""
    with transaction() as session:
        recording = _recording(session, recording_id)
        return _view(session, recording, state_of(session, recording))


def offered(recording_id: UUID) -> list[StepGroup]:
    """The steps that can be added, with settings that fit the recording. Raises NotFound and NotReady."""
    with transaction() as session:
        recording = _recording(session, recording_id)
        inspection = _inspection(session, recording)
        if inspection is None:
            raise NotReady(file=recording.name, reason="has not been inspected yet")
        specification = session.get_one(Production, recording.production_id).specification
        return offering.steps(inspection, kept.specification(specification), tone=_tone(session, recording))


def _tone(session: Session, recording: Recording) -> tuple[float, ...]:
    """The tone of the recordings beside it that are of the same voice; empty where there is none."""
    known = lookup.short(session, recordings.current(session, recording.production_id))
    if recording.id not in known or len(known) < 2:
        return ()
    return one_sound.tones(list(known.values()), None)[list(known).index(recording.id)][1]


def steps_now(recording_id: UUID) -> list[DraftStep]:
    """The steps of the draft as it is. Raises NotFound."""
    with transaction() as session:
        recording = _recording(session, recording_id)
        return list(steps_of(session, recording, state_of(session, recording)))


def spots(recording_id: UUID, span: Span) -> list[SpotOffer]:
    """What can be done to a span of a recording. Raises NotFound, NotReady and NoSuchSpan."""
    with transaction() as session:
        recording = _recording(session, recording_id)
        inspection = _inspection(session, recording)
        if inspection is None:
            raise NotReady(file=recording.name, reason="has not been inspected yet")
        if not 0 <= span.start_s < span.end_s <= inspection.facts.duration_s + 1:
            raise NoSuchSpan(longest_min=inspection.facts.duration_s / 60)
        return offers(inspection, span)


def change(recording_id: UUID, steps: Sequence[DraftStep], *, follows: int) -> DraftView:
    """Make these the draft's steps. `follows` is the state that was changed. Raises NotFound, DraftTooLong, and DraftChanged where
    that is not the newest any more."""
    with transaction() as session:
        recording = _recording(session, recording_id, locked=True)
        return _next(session, recording, steps, follows=follows)


def choose(recording_id: UUID, preference: Preference, *, follows: int) -> DraftView:
    """Make a plan the draft. Raises NotFound, NotReady where there is no such plan, and DraftChanged."""
    with transaction() as session:
        recording = _recording(session, recording_id, locked=True)
        specification = kept.specification(session.get_one(Production, recording.production_id).specification)
        plan = plannings.chosen(session, recording, specification, preference)
        if plan is None:
            raise NotReady(file=recording.name, reason=f"has no {preference} plan yet")
        return _next(session, recording, draft.of(plan.treatment), follows=follows, plan=preference)


def choose_kept(recording_id: UUID, treatment: KeptTreatment, *, follows: int) -> DraftView:
    """Make a kept treatment the draft; where its finish is planned, the plan that begins with it. Raises as `choose` and `change`
    do."""
    with transaction() as session:
        recording = _recording(session, recording_id, locked=True)
        if treatment.finish == "given":
            return _next(session, recording, draft.of(treatment), follows=follows, kept=treatment)
        specification = kept.specification(session.get_one(Production, recording.production_id).specification)
        found = plannings.chosen_kept(session, recording, specification, treatment.id)
        if found is None:
            raise NotReady(file=recording.name, reason=f"has no plan with “{treatment.name}” yet")
        by, plan = found
        return _next(session, recording, draft.of(plan.treatment), follows=follows, plan=USUAL_PREFERENCE, kept=by)


def general(recording_id: UUID, finish: Finish) -> tuple[General, float]:
    """What of the draft would be kept for other recordings, and the level of the voice in dBFS that it is set for. Raises NotFound
    and StepNotReady."""
    with transaction() as session:
        recording = _recording(session, recording_id)
        inspection = _inspection(session, recording)
        treatment = draft.treatment(steps_of(session, recording, state_of(session, recording)), inspection)
        found = keeping.general(treatment.steps, finish=finish)
        return found, keeping.level_of(inspection, found.steps) if inspection is not None else keeping.USUAL_LEVEL_DBFS


def general_view(recording_id: UUID, finish: Finish) -> GeneralView:
    """The same as it is shown before it is saved. Raises as `general` does."""
    found, level = general(recording_id, finish)
    return GeneralView(
        steps=draft.read(draft.of(Treatment(steps=found.steps))),
        spots=list(found.spots),
        finished=list(found.finished),
        reference=keeping.lacks_reference(found.steps),
        voice_dbfs=level,
    )


def take(recording_id: UUID, treatment: Treatment, *, follows: int) -> DraftView:
    """Make a treatment the draft: steps that stay as they are keep their names. Raises as `change` does."""
    with transaction() as session:
        recording = _recording(session, recording_id, locked=True)
        there = list(steps_of(session, recording, state_of(session, recording)))
        steps = []
        for one in draft.of(treatment):
            same = next((old for old in there if old.kind == one.kind), None)
            if same is not None:
                there.remove(same)
            steps.append(one.model_copy(update={"id": same.id, "reason": same.reason}) if same else one)
        return _next(session, recording, steps, follows=follows)


def undo(recording_id: UUID, *, follows: int) -> DraftView:
    """Go back to the state before. Raises NotFound, DraftChanged and NothingToUndo."""
    return _go(recording_id, -1, follows, "undo")


def redo(recording_id: UUID, *, follows: int) -> DraftView:
    """Go on to the state that was undone. Raises NotFound, DraftChanged and NothingToUndo."""
    return _go(recording_id, 1, follows, "redo")


def to_run(session: Session, recording: Recording) -> Manner:
    """What running the draft means: the plan or the kept treatment that was chosen, where it is not changed, else its steps. Raises
    StepNotReady."""
    state = state_of(session, recording)
    chosen = kept_treatments.kept_treatment(state.kept) if state.kept else None
    same = state.origin == state.number
    use = KeptUse(id=chosen.id, version=chosen.revision, changed=not same) if chosen is not None else None
    if chosen is not None and same:
        return Manner(treatment=chosen, kept=use, draft=state.number)
    if state.plan and same:
        preference = next((known for known in PREFERENCES if known == state.plan), USUAL_PREFERENCE)
        return Manner(preference, draft=state.number)
    steps = draft.treatment(steps_of(session, recording, state), _inspection(session, recording)).steps
    name = f"{chosen.named}, changed" if chosen is not None else ""
    return Manner(treatment=KeptTreatment(name=name, steps=steps), kept=use, draft=state.number)


def _go(recording_id: UUID, by: int, follows: int, what: str) -> DraftView:
    with transaction() as session:
        recording = _recording(session, recording_id, locked=True)
        record = session.get(DraftRecord, recording.id)
        if record is None or session.get(DraftState, (recording.id, record.number + by)) is None:
            raise NothingToUndo(what=what, file=recording.name)
        if record.number != follows:
            raise DraftChanged(file=recording.name)
        record.number += by
        session.add(record)
        return _told(session, recording)


def _next(
    session: Session,
    recording: Recording,
    steps: Sequence[DraftStep],
    *,
    follows: int,
    plan: str = "",
    kept: KeptTreatment | None = None,
) -> DraftView:
    if len(steps) > draft.MOST_STEPS:
        raise DraftTooLong(file=recording.name, count=len(steps), most=draft.MOST_STEPS)
    before = state_of(session, recording)
    record = session.get(DraftRecord, recording.id)
    if record is None:
        record = DraftRecord(recording_id=recording.id, number=before.number)
        session.add(before)
    if record.number != follows:
        raise DraftChanged(file=recording.name)
    chosen = f"use “{kept.name}”" if kept else f"choose the {plan} plan" if plan else ""
    told = chosen or draft.told(steps_of(session, recording, before), steps)
    if not told:
        return _view(session, recording, before)
    number = record.number + 1
    later = delete(DraftState).where(col(DraftState.recording_id) == recording.id, col(DraftState.number) >= number)
    oldest = delete(DraftState).where(
        col(DraftState.recording_id) == recording.id,
        col(DraftState.number) < number - MOST_STATES,
        col(DraftState.number) != before.origin,
    )
    session.exec(later)
    session.exec(oldest)
    session.add(
        DraftState(
            recording_id=recording.id,
            number=number,
            steps=[step.model_dump(mode="json") for step in steps],
            told=told,
            plan=plan if chosen else before.plan,
            kept=(kept.model_dump(mode="json") if kept else None) if chosen else before.kept,
            origin=number if chosen else before.origin,
            edited=recording.edited,
        )
    )
    record.number = number
    session.add(record)
    return _told(session, recording)


def _told(session: Session, recording: Recording) -> DraftView:
    session.flush()
    events.tell_of(session, recording, about="draft")
    return _view(session, recording, state_of(session, recording))


def _recording(session: Session, recording_id: UUID, *, locked: bool = False) -> Recording:
    recording = session.get(Recording, recording_id, with_for_update=locked)
    if recording is None or recording.removed_at is not None:
        raise NotFound(what="recording")
    return recording


def _inspection(session: Session, recording: Recording) -> Inspection | None:
    return lookup.held(session, recording)


def state_of(session: Session, recording: Recording) -> DraftState:
    """The state that the draft is at; one that is not kept yet where there is no draft."""
    record = session.get(DraftRecord, recording.id)
    if record is not None:
        return session.get_one(DraftState, (recording.id, record.number))
    last, known_as = conformings.last_treatment(session, recording.id)
    steps = draft.of(last) if last else ()
    return DraftState(recording_id=recording.id, number=0, steps=[step.model_dump(mode="json") for step in steps], edited=known_as)


def steps_of(session: Session, recording: Recording, state: DraftState) -> tuple[DraftStep, ...]:
    """The steps of a state: places that they tell are where these are heard with the edits of now."""
    try:
        steps = tuple(DraftStep.model_validate(step) for step in state.steps)
    except ValidationError:  # written by a newer version: what it says more is left aside
        known = set(DraftStep.model_fields)
        steps = tuple(DraftStep.model_validate({name: step[name] for name in step if name in known}) for step in state.steps)
    if state.edited == recording.edited:
        return steps
    before, after = edited.line(session, recording, state.edited), edited.line(session, recording)
    return draft.placed(steps, partial(edited.moved, before, after))


def _view(session: Session, recording: Recording, state: DraftState) -> DraftView:
    steps = steps_of(session, recording, state)
    read = draft.read(steps, _inspection(session, recording))
    after = session.get(DraftState, (recording.id, state.number + 1))
    before = session.get(DraftState, (recording.id, state.number - 1))
    origin = session.get(DraftState, (recording.id, state.origin)) if state.plan or state.kept else None
    chosen = kept_treatments.kept_treatment(state.kept) if state.kept else None
    differs = draft.differences(steps_of(session, recording, origin), steps) if origin is not None else []
    return DraftView(
        number=state.number,
        steps=read,
        ready=draft.ready(read),
        undo=state.told if before is not None else "",
        redo=after.told if after is not None else "",
        plan=next((known for known in PREFERENCES if known == state.plan), None) if chosen is None else None,
        kept=KeptUseView(id=chosen.id, version=chosen.revision, changed=bool(differs), name=chosen.name) if chosen else None,
        differs=differs,
    )
