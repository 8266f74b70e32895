"""Where the work on every recording of a production stands, read lightly enough for thousands and for every change.

What was judged once is held in this process: an inspection, a specification's version and what came of an attempt never change.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from sqlmodel import Session

from ispettore.core.measure.inspection import Inspection
from ispettore.core.plan.status import Known, Status, status
from ispettore.core.spec.specification import Specification
from ispettore.core.spec.verdict import Values, judge, role_of, values
from ispettore.studio.catalogue import lookup, made, plannings
from ispettore.studio.catalogue import recordings as recordings_of
from ispettore.studio.catalogue.held import Held
from ispettore.studio.catalogue.made import Newest
from ispettore.studio.jobs import works
from ispettore.studio.tables import Production, Recording, WorkKind, WorkState


@dataclass(frozen=True, slots=True)
class Judged:
    """A recording against a specification: whether it passes, which limits it does not meet (advice included), what all of them
    were held against, and how long it is."""

    passes: bool
    unmet: tuple[str, ...]
    read: Values
    duration_s: float


@dataclass(frozen=True, slots=True)
class Standing:
    """Where the work on a recording stands; `judged` is None where it is not measured, `busy` says that something waits or runs."""

    recording: Recording
    status: Status
    busy: bool
    judged: Judged | None


_judged: Held[tuple[lookup.Key, str], Judged] = Held(20_000)


def of_production(
    session: Session, production: Production, recordings: Sequence[Recording], specification: Specification
) -> list[Standing]:
    """Of these recordings of a production, in their order."""
    keys = lookup.keys(session, recordings)
    exactly = specification.model_dump_json()

    def read(missing: list[tuple[lookup.Key, str]]) -> dict[tuple[lookup.Key, str], Judged]:
        found = lookup.without_long(session, [key for key, _ in missing])
        return {(key, exactly): _judge(inspection, specification) for key, inspection in found.items()}

    judged = _judged.of([(key, exactly) for key in keys.values()], read)
    here = recordings_of.current_ids(production.id)
    attempts = made.newest(session, here, specification)
    planned = plannings.planned(session, here, specification)
    busy = works.busy(session, production.id)
    measuring = works.states(session, WorkKind.INSPECT, production.id)
    conforming = works.states(session, WorkKind.CONFORM, production.id)
    asked = (specification.id, specification.version)
    found = []
    for recording in recordings:
        of = recording.id
        each = judged.get((keys[of], exactly)) if of in keys else None
        attempt = attempts.get(of)
        last = conforming.get(attempt.latest) if attempt is not None else None
        known = replace(_known(each, attempt, measuring.get(of), last, asked), planned=of in planned, running=of in busy)
        found.append(Standing(recording, status(known), of in busy, each))
    return found


def _judge(inspection: Inspection, specification: Specification) -> Judged:
    verdict = judge(inspection, specification, role=role_of(inspection))
    return Judged(verdict.passes, verdict.unmet, values(inspection, specification), inspection.facts.duration_s)


def _known(
    judged: Judged | None, attempt: Newest | None, measuring: WorkState | None, conforming: WorkState | None, asked: tuple[str, int]
) -> Known:
    """What is known of one recording but whether it is planned and busy."""
    file = attempt.made if attempt is not None else None
    good = file is not None and file.passes and file.made_for == asked
    latest = attempt.attempt if attempt is not None else None
    refused = latest is not None and not latest.file and latest.made_for == asked
    return Known(
        passes=judged.passes if judged is not None else None,
        stuck=(judged is None and measuring == WorkState.FAILED) or conforming == WorkState.FAILED or refused,
        conformed=good,
        certified=good and file is not None and file.certified,
        delivered=good and attempt is not None and attempt.handed_over,
    )
