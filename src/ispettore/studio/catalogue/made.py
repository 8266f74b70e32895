"""What was made of recordings, read lightly enough for thousands: the newest attempt for each, and the one whose file counts."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlmodel import Session, col, select
from sqlmodel.sql.expression import SelectOfScalar

from ispettore.core.measure import kept
from ispettore.core.measure.inspection import Inspection
from ispettore.core.spec.specification import Specification
from ispettore.studio.catalogue import beds, lookup
from ispettore.studio.catalogue.held import Held
from ispettore.studio.tables import Conforming, Production, Recording


@dataclass(frozen=True, slots=True)
class Attempt:
    """What is known of an attempt that brought something: for which specification, by which methods its recording was measured,
    whether that came to a file, whether this met the specification then, and whether it has a certificate that was not withdrawn.
    But for the last none of it ever changes."""

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


_Key = tuple[UUID, UUID | None]
"""An attempt, and the certificate it has."""
_attempts: Held[_Key, Attempt] = Held(20_000)


def newest(session: Session, recordings: SelectOfScalar[UUID], chosen: Specification) -> dict[UUID, Newest]:
    """For each of the recordings that has any attempt the newest, and that whose file counts: what somebody chose, as long as no
    file was made since; then a certificate for this very specification; then whatever is newest. A file that was cleared away is
    none, and nothing counts that was made of other edits than those of now, or with something else under the voice."""
    moments = (Conforming.created_at, Conforming.chosen_at, Conforming.cleared_at, Conforming.handed_over_at)
    columns: tuple[Any, ...] = (Conforming.id, Conforming.certificate_id, Conforming.recording_id, *moments)
    joined = (col(Conforming.recording_id) == Recording.id, Recording.production_id == col(Production.id))
    of_now = (*joined, col(Conforming.edited) == Recording.edited, col(Conforming.laid) == beds.counting())
    rows = session.exec(select(*columns).where(*of_now, col(Conforming.recording_id).in_(recordings))).all()
    keys = {identifier: (identifier, certificate) for identifier, certificate, *_ in rows}
    held = _attempts.of(keys.values(), lambda missing: _read(session, missing))
    known = {identifier: held[key] for identifier, key in keys.items() if key in held}
    of_each: dict[UUID, list[_Try]] = {}
    for identifier, _, recording, made_at, chosen_at, cleared_at, handed_over_at in rows:
        what = known.get(identifier)
        there = what is not None and what.file and cleared_at is None
        one = _Try(identifier, made_at, chosen_at, handed_over_at, what if there else None)
        of_each.setdefault(recording, []).append(one)
    asked = (chosen.id, chosen.version)
    found = {}
    for recording, tries in of_each.items():
        latest = max(tries, key=lambda one: one.made_at)
        counts = _counting([one for one in tries if one.file is not None], asked)
        found[recording] = Newest(
            latest=latest.id,
            attempt=known.get(latest.id),
            counts=counts.id if counts is not None else None,
            made=counts.file if counts is not None else None,
            handed_over=counts is not None and counts.handed_over_at is not None,
        )
    return found


_read_files: Held[UUID, Inspection] = Held(1_000)


def inspections(session: Session, attempts: Sequence[UUID]) -> dict[UUID, Inspection]:
    """What the files of attempts read, without the long lists; those that have one."""

    def read(missing: list[UUID]) -> dict[UUID, Inspection]:
        after = lookup.shortened(col(Conforming.outcome)["after"])
        rows = session.exec(select(Conforming.id, after).where(col(Conforming.id).in_(missing))).all()
        return {identifier: kept.inspection(lookup.filled(data)) for identifier, data in rows if data}

    return _read_files.of(attempts, read)


@dataclass(frozen=True, slots=True)
class _Try:
    """An attempt as it is weighed against others; `file` is what is known of it where its file is there."""

    id: UUID
    made_at: datetime
    chosen_at: datetime | None
    handed_over_at: datetime | None
    file: Attempt | None


def _counting(files: Sequence[_Try], asked: tuple[str, int]) -> _Try | None:
    if not files:
        return None
    chosen = max(files, key=lambda one: one.chosen_at or one.made_at)
    if chosen.chosen_at is not None:
        return chosen
    newest_first = sorted(files, key=lambda one: one.chosen_at or one.made_at, reverse=True)
    certified = (one for one in newest_first if one.file is not None and one.file.certified and one.file.made_for == asked)
    return next(certified, newest_first[0])


def _read(session: Session, keys: Sequence[_Key]) -> dict[_Key, Attempt]:
    """What is known of attempts that brought something."""
    of = col(Conforming.specification)
    columns: tuple[Any, ...] = (
        Conforming.id,
        of["id"].astext,
        of["version"].as_integer(),
        col(Conforming.outcome)["before"]["methods_version"].as_integer(),
        col(Conforming.sha256).is_not(None),
        col(Conforming.outcome)["verdict"]["passes"].as_boolean(),
        Conforming.certificate_id,
    )
    wanted = (col(Conforming.id).in_([identifier for identifier, _ in keys]), lookup.holds_something(col(Conforming.outcome)))
    rows = session.exec(select(*columns).where(*wanted)).all()
    return {
        (identifier, certificate): Attempt((name, number), methods, file, bool(passes), certificate is not None)
        for identifier, name, number, methods, file, passes, certificate in rows
    }
