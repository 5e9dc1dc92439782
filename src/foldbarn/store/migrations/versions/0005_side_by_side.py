"""Nodes that were not told to drop something, pools that are being deleted, since when a change is paused,
when the watch last looked
"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("node", sa.Column("owes", sa.Boolean(), server_default=sa.text("false"), nullable=False))
    op.add_column("pool", sa.Column("closing", sa.Boolean(), server_default=sa.text("false"), nullable=False))
    op.add_column("site", sa.Column("watched_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("change", sa.Column("paused_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("change", sa.Column("tries", sa.BigInteger(), server_default="0", nullable=False))


def downgrade() -> None:
    op.drop_column("change", "tries")
    op.drop_column("change", "paused_at")
    op.drop_column("site", "watched_at")
    op.drop_column("pool", "closing")
    op.drop_column("node", "owes")
