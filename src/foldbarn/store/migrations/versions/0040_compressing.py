"""Pools whose disks compress what they hold, policies that ask for such, and what that has come to."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0040"
down_revision = "0039"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("pool", sa.Column("compress_unit", sa.BigInteger(), nullable=False, server_default="0"))
    op.add_column(
        "policy_version",
        sa.Column("compressed", sa.Boolean(), nullable=False, server_default=sa.false()),
    )
    op.add_column("node", sa.Column("compressed", JSONB(), nullable=False, server_default="{}"))


def downgrade() -> None:
    op.drop_column("node", "compressed")
    op.drop_column("policy_version", "compressed")
    op.drop_column("pool", "compress_unit")
