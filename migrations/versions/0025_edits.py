"""Edits of recordings: lists, states, retakes, and of which edits whatever was planned, drafted or made is."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None

OF = ("recording", "conforming", "planning", "draft_state")


def upgrade() -> None:
    for table in OF:
        op.add_column(table, sa.Column("edited", sa.String(), nullable=False, server_default=""))
    op.add_column("recording", sa.Column("edits", sa.Integer(), nullable=False, server_default="0"))
    op.create_table(
        "edit_list",
        sa.Column("edited", sa.String(), primary_key=True),
        sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), primary_key=True),
        sa.Column("edits", JSONB(), nullable=False),
    )
    op.create_table(
        "edit_state",
        sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), primary_key=True),
        sa.Column("number", sa.Integer(), primary_key=True),
        sa.Column("edited", sa.String(), nullable=False),
        sa.Column("told", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )

    op.create_table(
        "take",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("size_bytes", sa.BigInteger(), nullable=False),
        sa.Column("start_s", sa.Float(), nullable=False),
        sa.Column("end_s", sa.Float(), nullable=False),
        sa.Column("prepared_sha256", sa.String(), nullable=True),
        sa.Column("matched", JSONB(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("ix_take_recording_id", "take", ["recording_id"])


def downgrade() -> None:
    op.drop_table("take")
    op.drop_table("edit_state")
    op.drop_table("edit_list")
    op.drop_column("recording", "edits")
    for table in OF:
        op.drop_column(table, "edited")
