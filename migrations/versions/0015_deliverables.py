"""How productions are delivered, the files that are, and packages that were handed over."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

ADDED = (
    ("production", "delivering", JSONB()),
    ("production", "cover_sha256", sa.String()),
    ("production", "cover", JSONB()),
    ("recording", "entry", JSONB()),
    ("conforming", "bit_depth", sa.Integer()),
    ("conforming", "bit_rate_kbps", sa.Integer()),
    ("conforming", "listening_sha256", sa.String()),
)


def upgrade() -> None:
    for table, name, kind in ADDED:
        op.add_column(table, sa.Column(name, kind, nullable=True))
    op.create_table(
        "deliverable",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), nullable=False),
        sa.Column("conforming_id", sa.Uuid(), sa.ForeignKey("conforming.id"), nullable=False),
        sa.Column("specification", JSONB(), nullable=False),
        sa.Column("asked", JSONB(), nullable=False),
        sa.Column("file_name", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=True),
        sa.Column("size_bytes", sa.BigInteger(), nullable=True),
        sa.Column("crc32", sa.BigInteger(), nullable=True),
        sa.Column("outcome", JSONB(), nullable=True),
        sa.Column("certificate", JSONB(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("ix_deliverable_recording_id", "deliverable", ["recording_id"])
    op.create_index("ix_deliverable_conforming_id", "deliverable", ["conforming_id"])
    op.create_table(
        "delivery",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("production_id", sa.Uuid(), sa.ForeignKey("production.id"), nullable=False),
        sa.Column("way", sa.String(), nullable=False),
        sa.Column("place", sa.String(), nullable=False),
        sa.Column("files", JSONB(), nullable=False),
        sa.Column("deliverables", JSONB(), nullable=False),
        sa.Column("done_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("ix_delivery_production_id", "delivery", ["production_id"])


def downgrade() -> None:
    op.drop_table("delivery")
    op.drop_table("deliverable")
    for table, name, _ in reversed(ADDED):
        op.drop_column(table, name)
