"""Which node carries out the order that a move belongs to: what a stripe misses is made in one place, for
disks of several nodes.
"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("move", sa.Column("maker_id", sa.BigInteger(), sa.ForeignKey("node.id"), nullable=True))
    op.execute(
        "update move set maker_id = disk.node_id from disk "
        "where disk.id = move.to_disk and move.order_id is not null"
    )


def downgrade() -> None:
    op.drop_column("move", "maker_id")
