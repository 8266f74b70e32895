"""Alembic's entry: runs the versions against the configured database."""

from alembic import context
from sqlalchemy import create_engine
from sqlmodel import SQLModel

from ispettore.studio import tables  # noqa: F401  - fills the metadata

url = context.config.get_main_option("sqlalchemy.url")
engine = create_engine(url)


def ours(_object: object, name: str | None, kind: str, *_rest: object) -> bool:
    """Only our own tables are compared; the queue's schema is its library's."""
    return not (kind == "table" and (name or "").startswith("procrastinate"))


with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=SQLModel.metadata, include_object=ours, compare_type=True)
    with context.begin_transaction():
        context.run_migrations()
engine.dispose()
