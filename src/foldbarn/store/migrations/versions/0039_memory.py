"""What is read most of a policy's volumes may stay in their nodes' memory."""

import sqlalchemy as sa
from alembic import op

revision = "0039"
down_revision = "0038"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("policy_version", sa.Column("memory", sa.BigInteger(), nullable=False, server_default="0"))


def downgrade() -> None:
    op.drop_column("policy_version", "memory")
