"""Moves that make room for others; agents that prove who they are"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column(
        "move", sa.Column("makes_room", sa.Boolean(), server_default=sa.text("false"), nullable=False)
    )
    op.add_column("cluster", sa.Column("witness_reason", sa.String(), server_default="", nullable=False))
    op.add_column("node", sa.Column("agent_key", sa.String(), server_default="", nullable=False))


def downgrade() -> None:
    op.drop_column("node", "agent_key")
    op.drop_column("cluster", "witness_reason")
    op.drop_column("move", "makes_room")
