"""Alembic's entry: runs the versions against the configured database."""

from alembic import context
from sqlalchemy import create_engine
from sqlmodel import SQLModel

from ispettore.studio import tables  # noqa: F401  - fills the metadata

url = context.config.get_main_option("sqlalchemy.url")
engine = create_engine(url)


def ours(name: str | None, kind: str, _parents: object) -> bool:
    """Only our own schemas are compared; that of the queue is its library's."""
    return kind != "schema" or name in (None, "kept")


with engine.connect() as connection:
    context.configure(
        connection=connection,
        target_metadata=SQLModel.metadata,
        include_schemas=True,
        include_name=ours,
        compare_type=True,
    )
    with context.begin_transaction():
        context.run_migrations()
engine.dispose()
