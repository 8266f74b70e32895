"""Chapter marks."""

import sqlalchemy as sa
from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "chapter",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), nullable=False),
        sa.Column("at_s", sa.Float(), nullable=False),
        sa.Column("title", sa.String(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("ix_chapter_recording_id", "chapter", ["recording_id"])


def downgrade() -> None:
    op.drop_table("chapter")
