"""The very nodes and disks that may hold a volume, and whether its consumers wait."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0034"
down_revision = "0033"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for name in ("only_nodes", "only_disks"):
        op.add_column("volume", sa.Column(name, JSONB(), nullable=False, server_default="[]"))
    op.add_column("volume", sa.Column("parked", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    for name in ("parked", "only_disks", "only_nodes"):
        op.drop_column("volume", name)
