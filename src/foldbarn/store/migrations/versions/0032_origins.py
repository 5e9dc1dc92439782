"""Volumes that read from a snapshot of another one, how large snapshots are, and which volumes are being
erased.
"""

import sqlalchemy as sa
from alembic import op

revision = "0032"
down_revision = "0031"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("volume", sa.Column("origin_id", sa.BigInteger(), nullable=True))
    op.add_column("volume", sa.Column("origin_snapshot", sa.BigInteger(), nullable=True))
    for name in ("shown", "copying_left", "erasing"):
        no = sa.text("false")
        op.add_column("volume", sa.Column(name, sa.Boolean(), nullable=False, server_default=no))
    op.create_foreign_key("volume_origin_id_fkey", "volume", "volume", ["origin_id"], ["id"])
    op.create_index("ix_volume_origin_id", "volume", ["origin_id"])
    whole = "(origin_id is null) = (origin_snapshot is null) and (origin_id is not null or not shown)"
    op.create_check_constraint("volume_origin", "volume", whole)
    op.add_column("snapshot", sa.Column("size_bytes", sa.BigInteger(), nullable=False, server_default="0"))
    # How large it was then nobody wrote down: at most as large as it is.
    op.execute("update snapshot set size_bytes = volume.size_bytes from volume where volume.id = volume_id")


def downgrade() -> None:
    op.drop_column("snapshot", "size_bytes")
    op.drop_constraint("volume_origin", "volume")
    op.drop_index("ix_volume_origin_id", "volume")
    for name in ("erasing", "copying_left", "shown", "origin_snapshot", "origin_id"):
        op.drop_column("volume", name)
