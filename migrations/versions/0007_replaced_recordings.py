"""Recordings that a newer file took the place of"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("recording", sa.Column("replaced_by", sa.Uuid(), sa.ForeignKey("recording.id"), nullable=True))


def downgrade() -> None:
    op.drop_column("recording", "replaced_by")
