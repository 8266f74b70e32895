"""Folders that are watched, with what was found in them; and addresses that are told how recordings stand, with their messages."""

import sqlalchemy as sa
from alembic import op

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None


def when(name: str, *, nullable: bool = False) -> sa.Column:
    return sa.Column(name, sa.DateTime(timezone=True), nullable=nullable)


def text(name: str) -> sa.Column:
    return sa.Column(name, sa.Text(), nullable=False, server_default="")


def of(table: str, name: str, *, nullable: bool = False) -> sa.Column:
    return sa.Column(name, sa.Uuid(), sa.ForeignKey(f"{table}.id"), nullable=nullable)


def part_of(table: str, name: str, **named: bool) -> sa.Column:
    """Goes with what it is of."""
    return sa.Column(name, sa.Uuid(), sa.ForeignKey(f"{table}.id", ondelete="CASCADE"), nullable=False, **named)


def upgrade() -> None:
    op.create_table(
        "watched_folder",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("path", sa.String(), nullable=False, unique=True),
        of("production", "production_id"),
        sa.Column("conform", sa.Boolean(), nullable=False),
        sa.Column("results", sa.String(), nullable=False),
        sa.Column("kept", sa.Boolean(), nullable=False),
        sa.Column("asked_by", sa.String(), nullable=False, server_default=""),
        sa.Column("certifies", sa.Boolean(), nullable=False, server_default=sa.true()),
        text("problem"),
        when("created_at"),
    )
    op.create_table(
        "watched_file",
        part_of("watched_folder", "folder_id", primary_key=True),
        sa.Column("name", sa.String(), primary_key=True),
        sa.Column("size_bytes", sa.BigInteger(), nullable=False),
        sa.Column("modified_ns", sa.BigInteger(), nullable=False),
        of("recording", "recording_id", nullable=True),
        text("problem"),
        sa.Column("asked_for", sa.Uuid(), nullable=True),
        text("result"),
        sa.Column("result_sha256", sa.String(), nullable=True),
        when("came_at"),
        when("left_at", nullable=True),
    )
    op.create_table(
        "webhook",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("url", sa.String(), nullable=False),
        sa.Column("secret", sa.String(), nullable=False),
        of("production", "production_id", nullable=True),
        text("problem"),
        when("created_at"),
    )
    op.create_table(
        "webhook_status",
        part_of("webhook", "hook_id", primary_key=True),
        sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), primary_key=True),
        sa.Column("status", sa.String(), nullable=False),
    )
    op.create_table(
        "webhook_message",
        sa.Column("number", sa.BigInteger(), sa.Identity(always=True), primary_key=True),
        part_of("webhook", "hook_id"),
        sa.Column("name", sa.Uuid(), nullable=False),
        sa.Column("body", sa.Text(), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        text("answer"),
        when("due_at", nullable=True),
        when("arrived_at", nullable=True),
        when("created_at"),
    )
    op.create_index("ix_webhook_message_hook_id", "webhook_message", ["hook_id"])


def downgrade() -> None:
    for table in ("webhook_message", "webhook_status", "webhook", "watched_file", "watched_folder"):
        op.drop_table(table)
