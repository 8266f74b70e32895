"""Drafts of treatments with all their states, plans, and attempts that run a draft."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("conforming", sa.Column("treatment", JSONB(), nullable=True))
    op.add_column("conforming", sa.Column("draft", sa.Integer(), nullable=True))
    op.create_table(
        "planning",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), nullable=False),
        sa.Column("specification", JSONB(), nullable=False),
        sa.Column("methods_version", sa.Integer(), nullable=False),
        sa.Column("room_tone", sa.String(), nullable=False),
        sa.Column("outcome", JSONB(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("ix_planning_recording_id", "planning", ["recording_id"])
    op.create_table(
        "draft",
        sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), primary_key=True),
        sa.Column("number", sa.Integer(), nullable=False),
    )
    op.create_table(
        "draft_state",
        sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), primary_key=True),
        sa.Column("number", sa.Integer(), primary_key=True),
        sa.Column("steps", JSONB(), nullable=False),
        sa.Column("told", sa.Text(), nullable=False),
        sa.Column("plan", sa.String(), nullable=False),
        sa.Column("origin", sa.Integer(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("draft_state")
    op.drop_table("draft")
    op.drop_index("ix_planning_recording_id", "planning")
    op.drop_table("planning")
    op.drop_column("conforming", "draft")
    op.drop_column("conforming", "treatment")
