"""Looks at a pool are counted: of two that are asked for with one reason, one may be answered and one not."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("pool", sa.Column("looks_asked", sa.BigInteger(), server_default="0", nullable=False))


def downgrade() -> None:
    op.drop_column("pool", "looks_asked")
