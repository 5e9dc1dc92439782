"""Policies by which the first bytes of a volume lie on the fast tier outright."""

import sqlalchemy as sa
from alembic import op

revision = "0041"
down_revision = "0040"
branch_labels = None
depends_on = None


def upgrade() -> None:
    first = sa.Column("first", sa.BigInteger(), nullable=False, server_default="0")
    op.add_column("policy_version", first)


def downgrade() -> None:
    op.drop_column("policy_version", "first")
