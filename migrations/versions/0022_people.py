"""People: accounts, invitations, sessions, passkeys, tokens; who asked for work; and the trail, which only grows."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None

KEPT = "kept"
"""A schema apart, so that it can be owned by another role: whoever owns a schema may drop what is in it."""


def _when(name: str, *, nullable: bool = False) -> sa.Column:
    return sa.Column(name, sa.DateTime(timezone=True), nullable=nullable)


def _id() -> sa.Column:
    return sa.Column("id", sa.Uuid(), primary_key=True)


def _person(*, nullable: bool = False) -> sa.Column:
    return sa.Column("person_id", sa.Uuid(), sa.ForeignKey("person.id"), nullable=nullable)


def _secret() -> sa.Column:
    return sa.Column("secret_sha256", sa.String(), nullable=False, unique=True)


def _text(name: str) -> sa.Column:
    return sa.Column(name, sa.String(), nullable=False)


def upgrade() -> None:
    op.create_table(
        "person",
        _id(),
        sa.Column("sign_in", sa.String(), nullable=False, unique=True),
        _text("name"),
        sa.Column("roles", postgresql.JSONB(), nullable=False),
        sa.Column("password", sa.String(), nullable=True),
        _when("created_at"),
        _when("ended_at", nullable=True),
    )
    op.create_table(
        "invitation",
        sa.Column("secret_sha256", sa.String(), primary_key=True),
        _person(),
        _when("expires_at"),
        _when("used_at", nullable=True),
    )
    op.create_table(
        "signed_in",
        _id(),
        _secret(),
        _person(nullable=True),
        _text("way"),
        _text("address"),
        _text("agent"),
        _when("began_at"),
        _when("seen_at"),
        _when("ended_at", nullable=True),
    )
    op.create_table(
        "passkey",
        _id(),
        _person(),
        sa.Column("credential", sa.LargeBinary(), nullable=False, unique=True),
        sa.Column("public_key", sa.LargeBinary(), nullable=False),
        sa.Column("uses", sa.BigInteger(), nullable=False),
        _text("name"),
        _when("created_at"),
        _when("used_at", nullable=True),
    )
    op.create_table(
        "challenge",
        _id(),
        _person(nullable=True),
        sa.Column("content", sa.LargeBinary(), nullable=False),
        _when("created_at"),
    )
    op.create_table(
        "token",
        _id(),
        _secret(),
        _person(nullable=True),
        _text("name"),
        sa.Column("rights", postgresql.JSONB(), nullable=False),
        _when("created_at"),
        _when("expires_at"),
        _when("used_at", nullable=True),
        _when("ended_at", nullable=True),
    )
    op.create_table("sign_in_try", _id(), _text("sign_in"), _text("address"), _when("at"))
    op.execute(f"CREATE SCHEMA {KEPT}")
    op.create_table(
        "trail",
        sa.Column("number", sa.BigInteger(), sa.Identity(always=True), primary_key=True),
        _when("at"),
        _text("who"),
        sa.Column("person_id", sa.Uuid(), nullable=True),
        _text("way"),
        _text("address"),
        _text("act"),
        _text("about"),
        sa.Column("subjects", postgresql.JSONB(), nullable=False),
        sa.Column("more", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("production_id", sa.Uuid(), nullable=True),
        schema=KEPT,
    )
    op.create_index("ix_kept_trail_production_id", "trail", ["production_id"], schema=KEPT)
    for table, column in (
        ("invitation", "person_id"),
        ("signed_in", "person_id"),
        ("passkey", "person_id"),
        ("token", "person_id"),
        ("sign_in_try", "sign_in"),
        ("sign_in_try", "address"),
    ):
        op.create_index(f"ix_{table}_{column}", table, [column])
    op.add_column("work", sa.Column("asked_by", sa.String(), nullable=False, server_default=""))
    op.add_column("work", sa.Column("certifies", sa.Boolean(), nullable=False, server_default=sa.true()))
    op.execute(f"REVOKE UPDATE, DELETE, TRUNCATE ON {KEPT}.trail FROM CURRENT_USER")
    op.execute(
        f"CREATE FUNCTION {KEPT}.only_grows() RETURNS trigger LANGUAGE plpgsql AS "
        "$$ BEGIN RAISE EXCEPTION 'the trail only grows' USING ERRCODE = 'insufficient_privilege'; END $$"
    )
    op.execute(
        f"CREATE TRIGGER only_grows BEFORE UPDATE OR DELETE OR TRUNCATE ON {KEPT}.trail FOR EACH STATEMENT "
        f"EXECUTE FUNCTION {KEPT}.only_grows()"
    )


def downgrade() -> None:
    op.drop_column("work", "certifies")
    op.drop_column("work", "asked_by")
    op.execute(f"DROP SCHEMA {KEPT} CASCADE")
    for table in ("sign_in_try", "token", "challenge", "passkey", "signed_in", "invitation", "person"):
        op.drop_table(table)
