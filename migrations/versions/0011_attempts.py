"""Each attempt at a piece of work has a token."""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.add_column("work", sa.Column("token", sa.Uuid(), nullable=True))


def downgrade() -> None:
    op.drop_column("work", "token")
