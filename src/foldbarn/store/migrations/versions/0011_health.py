"""What a disk says of its own health is kept, so that it can be shown."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("disk", sa.Column("health", JSONB(), server_default="{}", nullable=False))
    # It comes with a node's inventory, which is read again where none is known.
    op.execute("update node set inventory_version = ''")


def downgrade() -> None:
    op.drop_column("disk", "health")
