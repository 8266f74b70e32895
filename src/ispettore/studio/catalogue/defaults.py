"""What new work begins with here: whose name, which specification and plan, and within which bounds."""

from typing import Any

from pydantic import BaseModel
from sqlmodel import Session, func, select

from ispettore.core.deliver.entries import LONGEST
from ispettore.core.plan.bounds import Bounds
from ispettore.core.plan.preferences import USUAL_PREFERENCE, Preference
from ispettore.core.text import refuse
from ispettore.studio import events
from ispettore.studio.catalogue import specifications
from ispettore.studio.database import transaction
from ispettore.studio.tables import DefaultsRecord

_CHANGING = 0x5E77
"""One change after the other, the first of all as well."""


class Defaults(BaseModel):
    """`name` stands in the certificates of new productions; `specification_id` is what these are held against, `preference` the
    plan they are conformed by, where nothing else is said. `bounds` hold for every plan that names none."""

    name: str = ""
    specification_id: str = "audiobook-retail"
    preference: Preference = USUAL_PREFERENCE
    bounds: Bounds = Bounds()


def here() -> Defaults:
    """As they are now."""
    with transaction() as session:
        return of(session)


def of(session: Session) -> Defaults:
    record = session.get(DefaultsRecord, 1)
    return Defaults.model_validate(record.data) if record is not None else Defaults()


def bounds(session: Session) -> Bounds | None:
    """Those of every plan that names none; None where these are the usual."""
    found = of(session).bounds
    return found if found != Bounds() else None


def change(**given: Any) -> Defaults:
    """Change what is given and not None. Raises UnknownSpecification and BadText."""
    wanted = {name: value for name, value in given.items() if value is not None}
    if "name" in wanted:
        wanted["name"] = refuse(wanted["name"].strip()[:LONGEST], what="The name")
    if "specification_id" in wanted:
        specifications.specification(wanted["specification_id"])
    with transaction() as session:
        session.execute(select(func.pg_advisory_xact_lock(_CHANGING)))
        record = session.get(DefaultsRecord, 1) or DefaultsRecord(data={})
        now = Defaults.model_validate(record.data).model_copy(update=wanted)
        record.data = now.model_dump(mode="json")
        session.add(record)
        events.tell(session, events.Notice(about="settings"))
    return now
