"""A policy may be a draft."""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    false = sa.text("false")
    op.add_column("policy_version", sa.Column("draft", sa.Boolean(), nullable=False, server_default=false))


def downgrade() -> None:
    op.drop_column("policy_version", "draft")
