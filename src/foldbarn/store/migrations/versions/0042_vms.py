"""Virtual machines, and the volumes that are part of them."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0042"
down_revision = "0041"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "vm",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("cpus", sa.BigInteger(), nullable=False),
        sa.Column("memory_bytes", sa.BigInteger(), nullable=False),
        sa.Column("disks", JSONB(), nullable=False, server_default="[]"),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.Column("made_by", sa.BigInteger(), sa.ForeignKey("change.id"), nullable=False, unique=True),
    )
    op.create_index("vm_name_taken", "vm", [sa.func.lower(sa.text("name"))], unique=True)
    op.add_column("volume", sa.Column("vm_id", sa.BigInteger(), sa.ForeignKey("vm.id"), index=True))
    op.add_column("volume", sa.Column("vm_part", sa.String(), nullable=False, server_default=""))
    op.add_column("volume", sa.Column("vm_place", sa.BigInteger(), nullable=False, server_default="0"))


def downgrade() -> None:
    for column in ("vm_place", "vm_part", "vm_id"):
        op.drop_column("volume", column)
    op.drop_table("vm")
