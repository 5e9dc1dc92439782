"""Labels of pools, and those that a policy asks of a pool."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table in ("pool", "policy_version"):
        op.add_column(table, sa.Column("labels", postgresql.JSONB(), nullable=False, server_default="[]"))


def downgrade() -> None:
    for table in ("pool", "policy_version"):
        op.drop_column(table, "labels")
