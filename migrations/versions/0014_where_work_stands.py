"""Which recording work is of; files delivered, chosen and cleared away; who speaks when; the reference of a production."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

MOMENTS = ("handed_over_at", "chosen_at", "cleared_at")


def upgrade() -> None:
    op.add_column("work", sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), nullable=True))
    op.execute("UPDATE work SET recording_id = subject_id WHERE kind = 'inspect' AND subject_id IN (SELECT id FROM recording)")
    for table, kind in (("conforming", "conform"), ("planning", "plan")):
        op.execute(
            f"UPDATE work SET recording_id = {table}.recording_id FROM {table} "
            f"WHERE work.kind = '{kind}' AND {table}.id = work.subject_id"
        )
    op.create_index("ix_work_recording_id", "work", ["recording_id"])
    op.create_index("ix_work_production", "work", ["production_id", "state"])
    for column in MOMENTS:
        op.add_column("conforming", sa.Column(column, sa.DateTime(timezone=True), nullable=True))
    op.add_column("recording", sa.Column("turns", JSONB(), nullable=True))
    op.add_column("production", sa.Column("reference_id", sa.Uuid(), nullable=True))


def downgrade() -> None:
    op.drop_column("production", "reference_id")
    op.drop_column("recording", "turns")
    for column in MOMENTS:
        op.drop_column("conforming", column)
    op.drop_index("ix_work_production", "work")
    op.drop_index("ix_work_recording_id", "work")
    op.drop_column("work", "recording_id")
