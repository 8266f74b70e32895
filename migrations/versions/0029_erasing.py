"""Erasing what was removed: when its files left the disk, while what is known of it stays."""

import sqlalchemy as sa
from alembic import op

revision = "0029"
down_revision = "0028"
branch_labels = None
depends_on = None

COLUMNS = (("production", "erased_at"), ("recording", "erased_at"), ("deliverable", "cleared_at"))


def upgrade() -> None:
    for table, column in COLUMNS:
        op.add_column(table, sa.Column(column, sa.DateTime(timezone=True), nullable=True))


def downgrade() -> None:
    for table, column in COLUMNS:
        op.drop_column(table, column)
