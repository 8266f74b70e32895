"""Versions of a recording: two of them against one another, and which one counts.

A version is what an attempt brought, numbered from the first; 0 is the recording as it came in. Attempts are never taken away.
"""

from collections.abc import Sequence
from datetime import datetime
from uuid import UUID

from pydantic import BaseModel
from sqlmodel import Session, col, select

from ispettore.core.edit.edits import summed
from ispettore.core.figures import exact, with_unit
from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan import comparing
from ispettore.core.plan import kept as kept_outcomes
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.comparing import Inputs, Pair
from ispettore.core.plan.conform import Conformed
from ispettore.core.spec import kept
from ispettore.core.spec.changes import Change
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import Verdict, judge, role_of
from ispettore.core.treat import draft
from ispettore.core.treat.draft import ReadStep
from ispettore.core.treat.runner import LedgerLine
from ispettore.core.treat.touch import Touch
from ispettore.core.treat.treatment import Step
from ispettore.studio import events
from ispettore.studio.catalogue import beds, conformings, deeds, edited, lookup
from ispettore.studio.catalogue.views import SpecificationName
from ispettore.studio.database import transaction
from ispettore.studio.errors import FileCleared, MadeOfOtherEdits, NoFile, NotFound, NotReady
from ispettore.studio.tables import Conforming, Production, Recording, now

SOURCE = 0
"""The number of the recording as it came in."""


class VersionView(BaseModel):
    """A version beside another: what it was made for and by, what was done, and where it stands by the specification of now.
    `id` is its attempt, None for the recording itself; `there` says that its file can be listened to."""

    number: int
    id: UUID | None
    made_at: datetime
    made_for: SpecificationName | None
    certified: bool
    there: bool
    touch: Touch | None
    steps: list[ReadStep]
    ledger: list[LedgerLine]
    verdict: Verdict


class VersionsCompared(BaseModel):
    """Two versions: what was asked and done differently, from the one to the other, and what both read."""

    one: VersionView
    other: VersionView
    asked: list[Change]
    done: list[Change]
    readings: list[Pair]


class _Version(BaseModel):
    view: VersionView
    inspection: Inspection
    inputs: Inputs | None
    steps: Sequence[Step]


def compare(recording_id: UUID, one: int, other: int) -> VersionsCompared:
    """Two versions of a recording by their numbers. Raises NotFound, NoFile where nothing came of one of them, and NotReady where
    the recording is not measured."""
    with transaction() as session:
        recording = session.get(Recording, recording_id)
        if recording is None or recording.removed_at is not None:
            raise NotFound(what="recording")
        specification = kept.specification(session.get_one(Production, recording.production_id).specification)
        attempts = session.exec(
            select(Conforming).where(Conforming.recording_id == recording_id).order_by(col(Conforming.created_at))
        ).all()
        first, second = (_version(session, recording, attempts, number, specification) for number in (one, other))
    return VersionsCompared(
        one=first.view,
        other=second.view,
        asked=comparing.asked(first.inputs, second.inputs) if first.inputs is not None and second.inputs is not None else [],
        done=comparing.done(first.steps, second.steps),
        readings=comparing.pairs(first.inspection, second.inspection),
    )


def make_current(conforming_id: UUID) -> None:
    """Let the file of an attempt be the one that counts for its recording, until another is made. Raises NotFound, NoFile and
    FileCleared."""
    with transaction() as session:
        conforming = session.get(Conforming, conforming_id)
        if conforming is None:
            raise NotFound(what="attempt")
        recording = session.get_one(Recording, conforming.recording_id, with_for_update=True)
        if conforming.sha256 is None:
            raise NoFile(file=recording.name)
        laid = beds.text(session.get_one(Production, recording.production_id), recording)
        if (conforming.edited, conforming.laid) != (recording.edited, laid):
            raise MadeOfOtherEdits(file=recording.name)
        if conforming.cleared_at is not None:
            raise FileCleared(file=conforming.file_name or recording.name)
        conforming.chosen_at = now()
        deeds.note(
            session,
            recording,
            f"Current version: “{conforming.file_name}”, made {conforming.created_at:%Y-%m-%d %H:%M} UTC.",
        )
        session.add(conforming)
        events.tell_of(session, recording)


def _version(
    session: Session, recording: Recording, attempts: Sequence[Conforming], number: int, specification: Specification
) -> _Version:
    if number == SOURCE:
        return _source(session, recording, specification)
    if not SOURCE < number <= len(attempts):
        raise NotFound(what="version")
    conforming = attempts[number - 1]
    outcome = kept_outcomes.conformed(conforming.outcome) if conforming.outcome else None
    if outcome is None or outcome.after is None:
        raise NoFile(file=recording.name)
    made_for = conforming.specification
    steps = tuple(step for step in outcome.treatment.steps if step.on)
    view = VersionView(
        number=number,
        id=conforming.id,
        made_at=conforming.created_at,
        made_for=SpecificationName(id=made_for["id"], name=made_for["name"], version=made_for["version"]),
        certified=conforming.certificate_id is not None,
        there=conforming.sha256 is not None and conforming.cleared_at is None,
        touch=outcome.touch,
        steps=draft.read(draft.of(outcome.treatment.model_copy(update={"steps": steps}))),
        ledger=list(outcome.ledger),
        verdict=judge(outcome.after, specification, role=conformings.role(conforming, outcome, specification)),
    )
    return _Version(
        view=view,
        inspection=outcome.after,
        inputs=_inputs(conforming, outcome, _edits(session, recording, conforming)),
        steps=steps,
    )


def _source(session: Session, recording: Recording, specification: Specification) -> _Version:
    inspection = lookup.held(session, recording)
    if inspection is None:
        raise NotReady(file=recording.name, reason="has not been inspected yet")
    view = VersionView(
        number=SOURCE,
        id=None,
        made_at=recording.created_at,
        made_for=None,
        certified=False,
        there=True,
        touch=None,
        steps=[],
        ledger=[],
        verdict=judge(inspection, specification, role=role_of(inspection)),
    )
    return _Version(view=view, inspection=inspection, inputs=None, steps=())


def _inputs(conforming: Conforming, outcome: Conformed, edits: str) -> Inputs:
    specification = conforming.specification
    return Inputs(
        specification=f"{specification['name']}, version {specification['version']}",
        made_by=conformings.made_by(conforming),
        format=conforming.container.upper(),
        alike=_alike(conforming.likeness or {}),
        bounds=_bounds(conforming.bounds or {}),
        room_tone=f"{conforming.room_tone} s" if conforming.room_tone else "",
        edits=edits,
        methods=f"version {outcome.before.methods_version}",
        software=conforming.software,
    )


def _edits(session: Session, recording: Recording, conforming: Conforming) -> str:
    line = edited.line(session, recording, conforming.edited)
    if line is None:
        return ""
    count = len(line.edits.edits)
    longer_s = line.edits.seconds(line.edits.length - line.edits.frames)
    return f"{count} edit{'s' if count > 1 else ''}, {summed(longer_s)}"


def _alike(likeness: dict[str, float | None]) -> str:
    words = (("speech_dbfs", "active speech"), ("room_dbfs", "room tone"))
    return ", ".join(f"{what} at {with_unit(level, 'dBFS')}" for name, what in words if (level := likeness.get(name)) is not None)


def _bounds(bounds: dict[str, float]) -> str:
    usual = Bounds().model_dump()
    words = {name: name.removesuffix("_db").replace("_", " ") for name in usual}
    return ", ".join(
        f"{words[name]} at most {exact(value)}{' dB' if name.endswith('_db') else ''}"
        for name, value in bounds.items()
        if value != usual.get(name)
    )
