"""Recordings found by words of their names, over all productions."""

from uuid import UUID

from pydantic import BaseModel
from sqlmodel import col, or_, select

from ispettore.studio.database import transaction
from ispettore.studio.tables import Production, Recording

MOST = 50


class FoundRecording(BaseModel):
    """A recording whose name, or that of its production, holds what was looked for."""

    id: UUID
    name: str
    production_id: UUID
    production: str


def recordings(words: str) -> list[FoundRecording]:
    """The first fifty whose name holds every word, in any case and order; all words but one may be of the production's name."""
    rows = (
        select(Recording.id, Recording.name, Production.id, Production.name)
        .join(Production, col(Production.id) == col(Recording.production_id))
        .where(col(Recording.removed_at).is_(None), col(Recording.replaced_by).is_(None), col(Production.removed_at).is_(None))
        .order_by(col(Production.name), col(Recording.position))
        .limit(MOST)
    )
    every = words.split()
    if not every:
        return []
    in_name = [col(Recording.name).icontains(word, autoescape=True) for word in every]
    in_production = [col(Production.name).icontains(word, autoescape=True) for word in every]
    rows = rows.where(or_(*in_name), *(one | other for one, other in zip(in_name, in_production, strict=True)))
    with transaction() as session:
        return [
            FoundRecording(id=of, name=name, production_id=production_id, production=production)
            for of, name, production_id, production in session.exec(rows).all()
        ]
