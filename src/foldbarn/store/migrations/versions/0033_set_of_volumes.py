"""Labels of volumes, and limits of their own."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0033"
down_revision = "0032"
branch_labels = None
depends_on = None


def upgrade() -> None:
    labels = sa.Column("labels", JSONB(), nullable=False, server_default="[]")
    op.add_column("volume", labels)
    for name in ("operations", "throughput"):
        op.add_column("volume", sa.Column(name, sa.BigInteger(), nullable=False, server_default="0"))


def downgrade() -> None:
    for name in ("throughput", "operations", "labels"):
        op.drop_column("volume", name)
