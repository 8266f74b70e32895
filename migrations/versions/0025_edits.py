"""Edits of recordings: lists, states, and of which of them whatever was planned, drafted or made is."""

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


def downgrade() -> None:
    op.drop_table("edit_state")
    op.drop_table("edit_list")
    op.drop_column("recording", "edits")
    for table in OF:
        op.drop_column(table, "edited")
