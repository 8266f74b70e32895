"""Notes on a production, and productions put away"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("production", sa.Column("notes", sa.Text(), nullable=False, server_default=""))
    op.add_column("production", sa.Column("archived_at", sa.DateTime(timezone=True), nullable=True))


def downgrade() -> None:
    op.drop_column("production", "archived_at")
    op.drop_column("production", "notes")
