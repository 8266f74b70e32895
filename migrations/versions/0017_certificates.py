"""Certificates in a register of their own: what was sealed stays for good, and what ended it stands beside it."""

import base64
import hashlib
import json
from datetime import datetime
from uuid import uuid4

import rfc8785
import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None

HELD = (("conforming", "attempt"), ("deliverable", "deliverable"))


def upgrade() -> None:
    op.create_table(
        "certificate",
        sa.Column("id", sa.Uuid(), primary_key=True),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("of", sa.String(), nullable=False),
        sa.Column("subject_id", sa.Uuid(), nullable=False),
        sa.Column("production_id", sa.Uuid(), sa.ForeignKey("production.id"), nullable=False),
        sa.Column("recording_id", sa.Uuid(), sa.ForeignKey("recording.id"), nullable=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("file_sha256", sa.String(), nullable=True),
        sa.Column("specification_id", sa.String(), nullable=False),
        sa.Column("specification_version", sa.Integer(), nullable=False),
        sa.Column("key_id", sa.String(), nullable=False),
        sa.Column("sealed", JSONB(), nullable=False),
        sa.Column("issued_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ending", sa.String(), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("reason", sa.Text(), nullable=False, server_default=""),
        sa.Column("successor_sha256", sa.String(), nullable=True),
        sa.Column("notice", JSONB(), nullable=True),
    )
    for name in ("sha256", "subject_id", "production_id", "recording_id", "file_sha256"):
        op.create_index(f"ix_certificate_{name}", "certificate", [name])
    for table, _ in HELD:
        op.add_column(table, sa.Column("certificate_id", sa.Uuid(), nullable=True))
    op.add_column("verifying", sa.Column("given", sa.Boolean(), nullable=False, server_default=sa.true()))
    op.add_column("verifying", sa.Column("notices", JSONB(), nullable=False, server_default="[]"))
    _move()
    for table, _ in HELD:
        op.drop_column(table, "certificate")


def _move() -> None:
    bind = op.get_bind()
    put = sa.text(
        "INSERT INTO certificate (id, sha256, of, subject_id, production_id, recording_id, name, file_sha256, specification_id,"
        " specification_version, key_id, sealed, issued_at) VALUES (:id, :sha256, :of, :subject, :production, :recording, :name,"
        " :file, :specification, :version, :key, CAST(:sealed AS jsonb), :issued)"
    )
    for table, of in HELD:
        rows = bind.execute(
            sa.text(
                f"SELECT held.id, held.recording_id, recording.production_id, held.certificate FROM {table} held"
                " JOIN recording ON recording.id = held.recording_id WHERE jsonb_typeof(held.certificate) = 'object'"
            )
        ).all()
        for subject, recording, production, sealed in rows:
            content, identifier = sealed["certificate"], uuid4()
            head, specification = sealed["seal"].split(".")[0], content["specification"]
            values = {
                "id": identifier,
                "sha256": hashlib.sha256(rfc8785.dumps(content)).hexdigest(),
                "of": of,
                "subject": subject,
                "production": production,
                "recording": recording,
                "name": content["file"]["name"],
                "file": content["file"]["sha256"],
                "specification": specification["id"],
                "version": specification["version"],
                "key": json.loads(base64.urlsafe_b64decode(head + "=" * (-len(head) % 4)))["kid"],
                "sealed": json.dumps(sealed),
                "issued": datetime.fromisoformat(content["issued"]),
            }
            bind.execute(put, values)
            bind.execute(sa.text(f"UPDATE {table} SET certificate_id = :id WHERE id = :of"), {"id": identifier, "of": subject})


def downgrade() -> None:
    for table, _ in HELD:
        op.add_column(table, sa.Column("certificate", JSONB(), nullable=True))
        op.execute(f"UPDATE {table} SET certificate = held.sealed FROM certificate held WHERE held.id = {table}.certificate_id")
        op.drop_column(table, "certificate_id")
    op.drop_column("verifying", "notices")
    op.drop_column("verifying", "given")
    op.drop_table("certificate")
