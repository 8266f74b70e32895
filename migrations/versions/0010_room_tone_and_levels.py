"""Room tone chosen by hand, kept levels, and what a treated version is drawn from"""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("recording", sa.Column("room_tone", sa.String(), nullable=False, server_default=""))
    op.add_column("inspection", sa.Column("room_tone", sa.String(), nullable=False, server_default=""))
    op.drop_constraint("inspection_pkey", "inspection")
    op.create_primary_key("inspection_pkey", "inspection", ["sha256", "methods_version", "room_tone"])
    op.add_column("inspection", sa.Column("levels_sha256", sa.String(), nullable=True))
    op.add_column("conforming", sa.Column("pyramid_sha256", sa.String(), nullable=True))
    op.add_column("conforming", sa.Column("tracks", sa.LargeBinary(), nullable=True))
    op.add_column("conforming", sa.Column("reduction", sa.LargeBinary(), nullable=True))


def downgrade() -> None:
    op.drop_column("conforming", "reduction")
    op.drop_column("conforming", "tracks")
    op.drop_column("conforming", "pyramid_sha256")
    op.drop_column("inspection", "levels_sha256")
    op.execute("DELETE FROM inspection WHERE room_tone <> ''")
    op.drop_constraint("inspection_pkey", "inspection")
    op.create_primary_key("inspection_pkey", "inspection", ["sha256", "methods_version"])
    op.drop_column("inspection", "room_tone")
    op.drop_column("recording", "room_tone")
