"""Hosts that run virtual machines, and where each of these is switched on."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0043"
down_revision = "0042"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "vm_host",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("host_id", sa.BigInteger(), sa.ForeignKey("host.id"), nullable=False, unique=True),
        sa.Column("url", sa.String(), nullable=False),
        sa.Column("user_name", sa.String(), nullable=False),
        sa.Column("password", sa.String(), nullable=False),
        sa.Column("identity", sa.String(), nullable=False, unique=True),
        sa.Column("cpus", sa.BigInteger(), nullable=False),
        sa.Column("memory_bytes", sa.BigInteger(), nullable=False),
        sa.Column("missing", JSONB(), nullable=False, server_default="[]"),
        sa.Column("contact", sa.String(), nullable=False, server_default="awaited"),
        sa.Column("reason", sa.String(), nullable=False, server_default=""),
        sa.Column("since", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.Column("guests", JSONB(), nullable=False, server_default="[]"),
        sa.Column("made_by", sa.BigInteger(), sa.ForeignKey("change.id"), nullable=False),
        sa.Column("altered_by", sa.BigInteger()),
        sa.CheckConstraint("contact in ('heard', 'silent', 'garbled', 'awaited')", name="vm_host_contact"),
    )
    op.add_column("vm", sa.Column("host_id", sa.BigInteger(), sa.ForeignKey("host.id")))
    op.add_column("vm", sa.Column("switched_by", sa.BigInteger()))
    op.add_column("vm", sa.Column("resumes", sa.BigInteger()))
    op.add_column("vm", sa.Column("template", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    op.drop_column("vm", "template")
    op.drop_column("vm", "resumes")
    op.drop_column("vm", "switched_by")
    op.drop_column("vm", "host_id")
    op.drop_table("vm_host")
