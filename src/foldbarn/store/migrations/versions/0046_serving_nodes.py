"""By how many nodes a volume is served to hosts."""

import sqlalchemy as sa
from alembic import op

revision = "0046"
down_revision = "0045"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("volume", sa.Column("serving_nodes", sa.BigInteger(), nullable=False, server_default="2"))


def downgrade() -> None:
    op.drop_column("volume", "serving_nodes")
