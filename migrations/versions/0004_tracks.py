"""How peaks and loudness run through a file, so that a limit's breaches can be placed in time"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("inspection", sa.Column("tracks", sa.LargeBinary(), nullable=True))


def downgrade() -> None:
    op.drop_column("inspection", "tracks")
