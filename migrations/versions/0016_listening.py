"""What was listened to, and what was noted on the way."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def _of_a_file() -> list[sa.Column]:
    return [
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), nullable=False),
        sa.Column("of", sa.String(), nullable=False),
        sa.Column("subject_id", sa.Uuid(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("who", sa.String(), nullable=False),
    ]


def upgrade() -> None:
    op.create_table(
        "listening",
        *_of_a_file(),
        sa.Column("duration_s", sa.Float(), nullable=False),
        sa.Column("spans", JSONB(), nullable=False),
        sa.Column("began_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("ix_listening_recording_id", "listening", ["recording_id"])
    op.create_table(
        "note",
        *_of_a_file(),
        sa.Column("at_s", sa.Float(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("done_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("removed_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("ix_note_recording_id", "note", ["recording_id"])


def downgrade() -> None:
    op.drop_table("note")
    op.drop_table("listening")
