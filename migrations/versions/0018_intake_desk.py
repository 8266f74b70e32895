"""Packages that were handed to an intake desk, and what it answered."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("delivery", sa.Column("requirements", sa.String(), nullable=False, server_default=""))
    op.add_column("delivery", sa.Column("answer", JSONB(), nullable=True))


def downgrade() -> None:
    op.drop_column("delivery", "answer")
    op.drop_column("delivery", "requirements")
