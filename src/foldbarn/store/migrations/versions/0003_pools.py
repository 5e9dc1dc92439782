"""Pools: roles, tiers, endurance, settings, retiring disks, what volumes have written, rates of changes"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

DISK: tuple[sa.Column[Any], ...] = (
    sa.Column("bus", sa.String(), server_default="", nullable=False),
    sa.Column("tier", sa.String(), server_default="bulk", nullable=False),
    sa.Column("retiring", sa.Boolean(), server_default=sa.text("false"), nullable=False),
    sa.Column("rated_bytes", sa.BigInteger(), server_default="0", nullable=False),
    sa.Column("role_reason", sa.String(), server_default="", nullable=False),
    sa.Column("stands_in_for", sa.BigInteger(), nullable=True),
)
POOL: tuple[sa.Column[Any], ...] = (
    sa.Column("headroom_losses", sa.BigInteger(), server_default="1", nullable=False),
    sa.Column("allocation_bytes", sa.BigInteger(), server_default=str(1 << 20), nullable=False),
    sa.Column("overcommit_cap", sa.Double(), server_default="1", nullable=False),
    sa.Column("encrypted", sa.Boolean(), server_default=sa.text("false"), nullable=False),
    sa.Column("rebuild_rate", sa.BigInteger(), server_default="0", nullable=False),
    sa.Column("level_rate", sa.BigInteger(), server_default="0", nullable=False),
    sa.Column("priority", sa.String(), server_default="consumers", nullable=False),
    sa.Column("daily_writes", sa.BigInteger(), server_default="0", nullable=False),
)
VOLUME: tuple[sa.Column[Any], ...] = (
    sa.Column("tier", sa.String(), server_default="bulk", nullable=False),
    sa.Column("written", sa.BigInteger(), server_default="0", nullable=False),
)
CHANGE: tuple[sa.Column[Any], ...] = (
    sa.Column("rate_cap", sa.BigInteger(), nullable=True),
    sa.Column("moved", sa.BigInteger(), server_default="0", nullable=False),
    sa.Column("work_seconds", sa.Double(), server_default="0", nullable=False),
)


def upgrade() -> None:
    for table, columns in (("disk", DISK), ("pool", POOL), ("volume", VOLUME), ("change", CHANGE)):
        for column in columns:
            op.add_column(table, column)
    op.add_column(
        "node",
        sa.Column("written", postgresql.JSONB(astext_type=sa.Text()), server_default="{}", nullable=False),
    )
    op.drop_constraint("disk_role", "disk", type_="check")
    op.drop_constraint("capacity_has_a_pool", "disk", type_="check")
    op.create_check_constraint(
        "disk_role", "disk", "role in ('boot', 'capacity', 'cache', 'spare', 'unclaimed', 'unfit')"
    )
    op.create_check_constraint(
        "capacity_has_a_pool", "disk", "(role in ('capacity', 'cache', 'spare')) = (pool_id is not null)"
    )
    op.create_check_constraint("disk_tier", "disk", "tier in ('bulk', 'fast')")
    op.create_check_constraint("pool_priority", "pool", "priority in ('consumers', 'even', 'copying')")
    op.create_check_constraint(
        "pool_settings",
        "pool",
        "headroom_losses between 1 and 5 and allocation_bytes > 0 and overcommit_cap > 0 and "
        "rebuild_rate >= 0 and level_rate >= 0",
    )
    op.create_check_constraint("volume_tier", "volume", "tier in ('bulk', 'fast')")


def downgrade() -> None:
    raise NotImplementedError("Fold Barn's schema only goes forward; restore a backup instead.")
