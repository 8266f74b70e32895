"""What was decided, noted in the transaction that decides it: what other rows hold only the last state of."""

from uuid import UUID

from sqlmodel import Session

from ispettore.studio.tables import DeedRecord, Production, Recording


def note(session: Session, of: Recording | Production, text: str) -> None:
    """Note what was done to a recording, or to a production as a whole, in a sentence."""
    if isinstance(of, Recording):
        _add(session, of.production_id, of.id, text)
    else:
        _add(session, of.id, None, text)


def held_against(session: Session, production: Production, *, begun: bool = False) -> None:
    """Note what a production is held against from now on."""
    specification = production.specification
    named = f"{specification['name']}, version {specification['version']}"
    note(session, production, f"Production created with {named}." if begun else f"Specification changed to {named}.")


def _add(session: Session, production_id: UUID, recording_id: UUID | None, text: str) -> None:
    session.add(DeedRecord(production_id=production_id, recording_id=recording_id, text=text))
