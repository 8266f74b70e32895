"""The level ribbon at every zoom"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("inspection", sa.Column("pyramid_sha256", sa.String(), nullable=True))


def downgrade() -> None:
    op.drop_column("inspection", "pyramid_sha256")
