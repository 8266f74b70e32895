"""Sound under the voice: its files, which of them lies under what, and of which bed whatever was planned or made is."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None

COLUMNS = (("production", "bed"), ("recording", "bed"), ("conforming", "laid"), ("planning", "laid"))


def upgrade() -> None:
    for table, column in COLUMNS:
        op.add_column(table, sa.Column(column, sa.Text(), nullable=False, server_default=""))
    op.add_column("conforming", sa.Column("lowered", sa.LargeBinary(), nullable=True))
    op.create_table(
        "bed_sound",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("production_id", sa.Uuid(), sa.ForeignKey("production.id"), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("size_bytes", sa.BigInteger(), nullable=False),
        sa.Column("heard_sha256", sa.String(), nullable=True),
        sa.Column("told", JSONB(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("removed_at", sa.DateTime(timezone=True), nullable=True),
    )
    op.create_index("ix_bed_sound_production_id", "bed_sound", ["production_id"])


def downgrade() -> None:
    op.drop_table("bed_sound")
    op.drop_column("conforming", "lowered")
    for table, column in COLUMNS:
        op.drop_column(table, column)
