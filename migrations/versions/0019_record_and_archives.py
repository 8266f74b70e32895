"""What was decided, noted as it is done; archives of productions, and archives that come in.

What earlier versions decided is noted from the rows that still tell of it.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB, UUID

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None

BEGUN = """INSERT INTO deed (id, production_id, text, at)
    SELECT gen_random_uuid(), id, 'The production was begun.', created_at FROM production"""
PUT_AWAY = """INSERT INTO deed (id, production_id, text, at)
    SELECT gen_random_uuid(), id, 'The production was put away.', archived_at FROM production WHERE archived_at IS NOT NULL"""
REMOVED = """INSERT INTO deed (id, production_id, recording_id, text, at)
    SELECT gen_random_uuid(), production_id, id, 'Removed from the production.', removed_at FROM recording
    WHERE removed_at IS NOT NULL"""
ACCEPTED = """INSERT INTO deed (id, production_id, recording_id, text, at)
    SELECT gen_random_uuid(), r.production_id, r.id,
      'Accepted ' || replace(a.kind, '_', ' ') || ' from ' || to_char(a.start_s, 'FM999990.0') || ' to '
      || to_char(a.end_s, 'FM999990.0') || ' s: ' || a.reason, a.created_at
    FROM acceptance a JOIN recording r ON r.id = a.recording_id"""
CHOSEN = """INSERT INTO deed (id, production_id, recording_id, text, at)
    SELECT gen_random_uuid(), r.production_id, r.id, 'Chosen as the version that counts: ' || c.file_name || '.', c.chosen_at
    FROM conforming c JOIN recording r ON r.id = c.recording_id WHERE c.chosen_at IS NOT NULL AND c.file_name IS NOT NULL"""


def upgrade() -> None:
    op.create_table(
        "deed",
        sa.Column("id", UUID(as_uuid=True), primary_key=True),
        sa.Column("production_id", UUID(as_uuid=True), sa.ForeignKey("production.id"), nullable=False, index=True),
        sa.Column("recording_id", UUID(as_uuid=True), sa.ForeignKey("recording.id"), nullable=True),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_table(
        "archive",
        sa.Column("id", UUID(as_uuid=True), primary_key=True),
        sa.Column("production_id", UUID(as_uuid=True), sa.ForeignKey("production.id"), nullable=False, index=True),
        sa.Column("members", JSONB(), nullable=False),
        sa.Column("own", JSONB(), nullable=False),
        sa.Column("as_of", sa.DateTime(timezone=True), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_table(
        "importing",
        sa.Column("id", UUID(as_uuid=True), primary_key=True),
        sa.Column("file_name", sa.String(), nullable=False),
        sa.Column("sha256", sa.String(), nullable=True),
        sa.Column("size_bytes", sa.BigInteger(), nullable=False),
        sa.Column("outcome", JSONB(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
    )
    for told in (BEGUN, PUT_AWAY, REMOVED, ACCEPTED, CHOSEN):
        op.execute(told)


def downgrade() -> None:
    for table in ("importing", "archive", "deed"):
        op.drop_table(table)
