"""Productions and specifications that are removed stay, and can be restored."""

import sqlalchemy as sa
from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("production", sa.Column("removed_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("specification", sa.Column("removed_at", sa.DateTime(timezone=True), nullable=True))


def downgrade() -> None:
    op.drop_column("specification", "removed_at")
    op.drop_column("production", "removed_at")
