"""The trail as it is read and exported."""

import csv
import io
import re
from collections.abc import Iterator
from typing import Any

from sqlalchemy import Text
from sqlmodel import Session, cast, col, func, or_, select

from ispettore.core.text import as_cell
from ispettore.studio.access.views import TrailLine, TrailView
from ispettore.studio.database import snapshot, transaction
from ispettore.studio.tables import Person, Production, TrailRecord

MOST = 200
COLUMNS = ["number", "time (UTC)", "who", "account", "known by", "from", "what", "about", "production", "subjects", "more"]
_NOBODY = "Whoever uses this machine"
_WAYS = {"open": "no sign-in", "start": "this machine", "session": "signed in", "token": "token", "folder": "watched folder"}
_ACTS = {"signInRefused": "Sign-in refused", "openAtStart": "Open the start address"}


def view(*, start: int, count: int, search: str) -> TrailView:
    """Lines of the trail, the newest first; `search` is in who did it, what it was, from where, or the production's name."""
    with transaction() as session:
        rows = _rows().order_by(col(TrailRecord.number).desc())
        if wanted := search.strip():
            said = f"%{wanted.replace('%', '').replace('_', '')}%"
            squeezed = f"%{wanted.replace(' ', '')}%"
            rows = rows.where(
                or_(
                    col(TrailRecord.who).ilike(said),
                    col(TrailRecord.address).ilike(said),
                    col(TrailRecord.act).ilike(squeezed),
                    col(Production.name).ilike(said),
                )
            )
        total = session.exec(select(func.count()).select_from(rows.order_by(None).subquery())).one()
        found = session.exec(rows.offset(start).limit(min(count, MOST))).all()
        named = _named(session, [record for record, _ in found])
        return TrailView(lines=[_line(record, production, named) for record, production in found], total=total)


def table() -> Iterator[bytes]:
    """The whole trail as CSV (RFC 4180), the oldest first, as of one moment: times in UTC, all subjects by their identifiers."""
    with snapshot() as session:
        yield _csv(COLUMNS)
        for record, production in _all(session):
            line = _line(record, production, {})
            yield _csv(
                [
                    str(line.number),
                    f"{line.at:%Y-%m-%dT%H:%M:%S.%fZ}",
                    line.who,
                    str(record.person_id or ""),
                    line.way,
                    line.address,
                    record.act,
                    record.about,
                    line.production,
                    " ".join(record.subjects),
                    str(record.more),
                ]
            )


def _all(session: Session) -> Iterator[tuple[TrailRecord, str | None]]:
    yield from session.exec(_rows().order_by(col(TrailRecord.number)).execution_options(yield_per=500))


def _rows() -> Any:
    return select(TrailRecord, Production.name).join(Production, col(Production.id) == TrailRecord.production_id, isouter=True)


def _named(session: Session, records: list[TrailRecord]) -> dict[str, str]:
    """The names of those whose access some lines are about."""
    meant = {subject for record in records if record.about == "access" for subject in record.subjects}
    people = session.exec(select(Person).where(cast(col(Person.id), Text).in_(meant))).all() if meant else []
    return {str(person.id): person.name for person in people}


def _line(record: TrailRecord, production: str | None, named: dict[str, str]) -> TrailLine:
    whom = next((named[subject] for subject in record.subjects if subject in named), "")
    return TrailLine(
        number=record.number or 0,
        at=record.at,
        who=record.who or (record.subjects[0] if record.act == "signInRefused" and record.subjects else _NOBODY),
        way=_WAYS.get(record.way, record.way),
        address=record.address,
        act=f"{in_words(record.act)}{f': {whom}' if whom else ''}",
        production=production or "",
        subjects=len(record.subjects) + record.more,
    )


def in_words(act: str) -> str:
    """An act's name as words.

    >>> in_words("withdrawCertificate"), in_words("signInRefused")
    ('Withdraw certificate', 'Sign-in refused')
    """
    words = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", act).lower()
    return _ACTS.get(act) or words[:1].upper() + words[1:]


def _csv(cells: list[str]) -> bytes:
    out = io.StringIO()
    csv.writer(out).writerow([as_cell(cell) for cell in cells])
    return out.getvalue().encode()
