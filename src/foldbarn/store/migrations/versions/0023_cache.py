"""What cache devices do for the volumes of a policy."""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("policy_version", sa.Column("cache", sa.String(), nullable=False, server_default="any"))


def downgrade() -> None:
    op.drop_column("policy_version", "cache")
