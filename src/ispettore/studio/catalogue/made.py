"""What was made of recordings, read lightly enough for thousands: the newest attempt for each, and the one whose file counts."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlmodel import Session, col, select
from sqlmodel.sql.expression import SelectOfScalar

from ispettore.core.spec.specification import Specification
from ispettore.studio.catalogue import lookup
from ispettore.studio.catalogue.held import Held
from ispettore.studio.tables import Conforming


@dataclass(frozen=True, slots=True)
class Attempt:
    """What never changes of an attempt that brought something: for which specification, by which methods its recording was
    measured, whether that came to a file, whether this met the specification then, and whether it has a certificate."""

    made_for: tuple[str, int]
    methods: int | None
    file: bool
    passes: bool
    certified: bool


@dataclass(frozen=True, slots=True)
class Newest:
    """A recording's newest attempt, and the one whose file counts; what is known of each, None where nothing came of it yet."""

    latest: UUID
    attempt: Attempt | None
    counts: UUID | None
    made: Attempt | None
    handed_over: bool


_attempts: Held[UUID, Attempt] = Held(20_000)


def newest(session: Session, recordings: SelectOfScalar[UUID], chosen: Specification) -> dict[UUID, Newest]:
    """For each of the recordings that has any attempt the newest, and that whose file counts: a certificate for this very
    specification comes first, then whatever is newest."""
    rows = session.exec(
        select(Conforming.id, Conforming.recording_id, Conforming.handed_over_at)
        .where(col(Conforming.recording_id).in_(recordings))
        .order_by(col(Conforming.created_at).desc())
    ).all()
    known = _attempts.of([identifier for identifier, _, _ in rows], lambda missing: _read(session, missing))
    of_each: dict[UUID, list[tuple[UUID, datetime | None]]] = {}
    for identifier, recording, handed_over_at in rows:
        of_each.setdefault(recording, []).append((identifier, handed_over_at))
    asked = (chosen.id, chosen.version)
    found = {}
    for recording, tries in of_each.items():
        files = [one for one in tries if one[0] in known and known[one[0]].file]
        certified = [one for one in files if known[one[0]].certified and known[one[0]].made_for == asked]
        counts, handed_over_at = (*certified, *files, (None, None))[0]
        found[recording] = Newest(
            latest=tries[0][0],
            attempt=known.get(tries[0][0]),
            counts=counts,
            made=known[counts] if counts is not None else None,
            handed_over=handed_over_at is not None,
        )
    return found


def _read(session: Session, identifiers: Sequence[UUID]) -> dict[UUID, Attempt]:
    """What is known of attempts that brought something."""
    of = col(Conforming.specification)
    columns: tuple[Any, ...] = (
        Conforming.id,
        of["id"].astext,
        of["version"].as_integer(),
        col(Conforming.outcome)["before"]["methods_version"].as_integer(),
        col(Conforming.sha256).is_not(None),
        col(Conforming.outcome)["verdict"]["passes"].as_boolean(),
        lookup.holds_something(col(Conforming.certificate)),
    )
    wanted = (col(Conforming.id).in_(identifiers), lookup.holds_something(col(Conforming.outcome)))
    rows = session.exec(select(*columns).where(*wanted)).all()
    return {
        identifier: Attempt((name, number), methods, file, bool(passes), certified)
        for identifier, name, number, methods, file, passes, certified in rows
    }
