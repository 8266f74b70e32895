"""Treatments that are kept, plans that begin with one or for one sound, and with what attempts were made."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "treatment",
        sa.Column("identifier", sa.String(), primary_key=True),
        sa.Column("version", sa.Integer(), primary_key=True),
        sa.Column("data", JSONB(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("removed_at", sa.DateTime(timezone=True), nullable=True),
    )
    op.add_column("conforming", sa.Column("kept_id", sa.String(), nullable=True))
    op.add_column("conforming", sa.Column("kept_version", sa.Integer(), nullable=True))
    op.add_column("conforming", sa.Column("kept_changed", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("conforming", sa.Column("likeness", JSONB(), nullable=True))
    op.add_column("conforming", sa.Column("bounds", JSONB(), nullable=True))
    op.add_column("conforming", sa.Column("room_tone", sa.String(), nullable=False, server_default=""))
    op.add_column("conforming", sa.Column("software", sa.String(), nullable=False, server_default=""))
    op.create_index("ix_conforming_kept_id", "conforming", ["kept_id"])
    op.add_column("planning", sa.Column("preference", sa.String(), nullable=False, server_default=""))
    op.add_column("planning", sa.Column("treatment", JSONB(), nullable=True))
    op.add_column("planning", sa.Column("likeness", JSONB(), nullable=True))
    op.add_column("planning", sa.Column("bounds", JSONB(), nullable=True))
    op.add_column("draft_state", sa.Column("kept", JSONB(), nullable=True))


def downgrade() -> None:
    op.drop_column("draft_state", "kept")
    for column in ("bounds", "likeness", "treatment", "preference"):
        op.drop_column("planning", column)
    op.drop_index("ix_conforming_kept_id", "conforming")
    for column in ("software", "room_tone", "bounds", "likeness", "kept_changed", "kept_version", "kept_id"):
        op.drop_column("conforming", column)
    op.drop_table("treatment")
