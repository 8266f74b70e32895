"""Work takes turns: its place among everybody's, whether it is urgent, and which version asked; and which workers there are."""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None

UNFINISHED = "state IN ('waiting', 'running')"


def upgrade() -> None:
    op.add_column("work", sa.Column("turn", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("work", sa.Column("urgent", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("work", sa.Column("form", sa.Integer(), nullable=False, server_default="22"))
    op.create_table(
        "worker_process",
        sa.Column("number", sa.BigInteger(), primary_key=True, autoincrement=False),
        sa.Column("machine", sa.String(), nullable=False),
        sa.Column("software", sa.String(), nullable=False),
        sa.Column("form", sa.Integer(), nullable=False),
        sa.Column("seen_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("ix_work_turns", "work", ["state", "urgent", "turn"], postgresql_where=sa.text(UNFINISHED))
    op.create_index("ix_work_flows", "work", ["production_id", "asked_by", "urgent", "turn"], postgresql_where=sa.text(UNFINISHED))

    # With much waiting, whoever looks for the next job read the whole index of (id, lock) to see that nobody holds its lock.
    op.execute("CREATE INDEX ix_waiting_locks ON queue.procrastinate_jobs (lock) WHERE status IN ('todo', 'doing')")


def downgrade() -> None:
    op.execute("DROP INDEX queue.ix_waiting_locks")
    op.drop_index("ix_work_flows", "work")
    op.drop_index("ix_work_turns", "work")
    op.drop_table("worker_process")
    for column in ("form", "urgent", "turn"):
        op.drop_column("work", column)
