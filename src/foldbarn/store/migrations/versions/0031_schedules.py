"""Policies say when snapshots are taken, and snapshots whether they were taken by that."""

import sqlalchemy as sa
from alembic import op

revision = "0031"
down_revision = "0030"
branch_labels = None
depends_on = None
KEPT = ("hourly", "daily", "weekly")


def upgrade() -> None:
    for name, usual in (*((name, "0") for name in KEPT), ("snapshot_room", "20")):
        column = sa.Column(name, sa.BigInteger(), nullable=False, server_default=usual)
        op.add_column("policy_version", column)
    no = sa.text("false")
    op.add_column("snapshot", sa.Column("scheduled", sa.Boolean(), nullable=False, server_default=no))


def downgrade() -> None:
    op.drop_column("snapshot", "scheduled")
    for name in ("snapshot_room", *KEPT):
        op.drop_column("policy_version", name)
