"""Take checks that are kept with their production."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "take_check",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("production_id", sa.Uuid(), sa.ForeignKey("production.id"), nullable=False),
        sa.Column("heard_from", sa.String(), nullable=False),
        sa.Column("distance_cm", sa.Float(), nullable=True),
        sa.Column("specification", JSONB(), nullable=False),
        sa.Column("found", JSONB(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("ix_take_check_production_id", "take_check", ["production_id"])


def downgrade() -> None:
    op.drop_table("take_check")
