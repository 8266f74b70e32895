"""What all tables share."""

from datetime import UTC, datetime

from sqlalchemy import Column, DateTime
from sqlalchemy.dialects.postgresql import JSONB

Json = JSONB()


def now() -> datetime:
    return datetime.now(UTC)


def when(*, nullable: bool = False) -> Column[datetime]:
    """A column that holds a moment."""
    return Column(DateTime(timezone=True), nullable=nullable)
