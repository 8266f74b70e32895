"""Tables of the slice"""

import sqlalchemy as sa
import sqlmodel
from alembic import op
from procrastinate.schema import SchemaManager
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    # The queue's own schema, as its library ships it; a newer library brings a migration of its own.
    op.execute("CREATE SCHEMA queue")
    raw = op.get_bind().connection.cursor()
    raw.execute("SET LOCAL search_path TO queue")
    raw.execute(SchemaManager.get_schema())
    raw.execute("SET LOCAL search_path TO public")
    op.create_table(
        "inspection",
        sa.Column("sha256", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("methods_version", sa.Integer(), nullable=False),
        sa.Column("data", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("ribbon", sa.LargeBinary(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("sha256", "methods_version"),
    )
    op.create_table(
        "production",
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("name", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("specification", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "verifying",
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("file_name", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("sha256", sqlmodel.sql.sqltypes.AutoString(), nullable=True),
        sa.Column("certificate_name", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("certificate", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("report", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "recording",
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("production_id", sa.Uuid(), nullable=False),
        sa.Column("position", sa.Integer(), nullable=False),
        sa.Column("name", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("sha256", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("size_bytes", sa.BigInteger(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("removed_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["production_id"],
            ["production.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_recording_production_id"), "recording", ["production_id"], unique=False)
    op.create_index(op.f("ix_recording_sha256"), "recording", ["sha256"], unique=False)
    op.create_table(
        "work",
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("kind", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("subject_id", sa.Uuid(), nullable=False),
        sa.Column("production_id", sa.Uuid(), nullable=True),
        sa.Column("state", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("stage", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("fraction", sa.Float(), nullable=False),
        sa.Column("error", sqlmodel.sql.sqltypes.AutoString(), nullable=True),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("cancel_asked", sa.Boolean(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("finished_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["production_id"],
            ["production.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("ix_work_subject", "work", ["subject_id", "kind"], unique=False)
    op.create_table(
        "conforming",
        sa.Column("id", sa.Uuid(), nullable=False),
        sa.Column("recording_id", sa.Uuid(), nullable=False),
        sa.Column("specification", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("preference", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("container", sqlmodel.sql.sqltypes.AutoString(), nullable=False),
        sa.Column("outcome", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("file_name", sqlmodel.sql.sqltypes.AutoString(), nullable=True),
        sa.Column("sha256", sqlmodel.sql.sqltypes.AutoString(), nullable=True),
        sa.Column("size_bytes", sa.BigInteger(), nullable=True),
        sa.Column("certificate", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["recording_id"],
            ["recording.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_conforming_recording_id"), "conforming", ["recording_id"], unique=False)


def downgrade() -> None:
    op.drop_index(op.f("ix_conforming_recording_id"), table_name="conforming")
    op.drop_table("conforming")
    op.drop_index("ix_work_subject", table_name="work")
    op.drop_table("work")
    op.drop_index(op.f("ix_recording_sha256"), table_name="recording")
    op.drop_index(op.f("ix_recording_production_id"), table_name="recording")
    op.drop_table("recording")
    op.drop_table("verifying")
    op.drop_table("production")
    op.drop_table("inspection")
    op.execute("DROP SCHEMA queue CASCADE")
