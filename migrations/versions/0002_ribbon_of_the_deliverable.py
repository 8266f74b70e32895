"""The deliverable's ribbon, for its printed certificate"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("conforming", sa.Column("ribbon", sa.LargeBinary(), nullable=True))


def downgrade() -> None:
    op.drop_column("conforming", "ribbon")
