"""Limits of a policy on what consumers may ask, and what each node was last told of them."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for column in ("operations", "throughput"):
        op.add_column(
            "policy_version", sa.Column(column, sa.BigInteger(), nullable=False, server_default="0")
        )
    op.add_column("node", sa.Column("limits", postgresql.JSONB(), nullable=False, server_default="{}"))
    op.add_column("node", sa.Column("limits_told", sa.BigInteger(), nullable=False, server_default="0"))


def downgrade() -> None:
    op.drop_column("node", "limits_told")
    op.drop_column("node", "limits")
    for column in ("operations", "throughput"):
        op.drop_column("policy_version", column)
