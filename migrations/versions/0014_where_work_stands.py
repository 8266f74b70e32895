"""Which recording work is of, and files that were delivered."""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


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
    op.add_column("conforming", sa.Column("handed_over_at", sa.DateTime(timezone=True), nullable=True))


def downgrade() -> None:
    op.drop_column("conforming", "handed_over_at")
    op.drop_index("ix_work_production", "work")
    op.drop_index("ix_work_recording_id", "work")
    op.drop_column("work", "recording_id")
