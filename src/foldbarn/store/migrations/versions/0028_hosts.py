"""Hosts, and the volumes that are attached to them."""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None

NO = sa.text("false")
NOW = sa.func.now()


def _text(name: str, default: str | None = "") -> "sa.Column[Any]":
    return sa.Column(name, sa.String(), nullable=False, server_default=default)


def _moment(name: str) -> "sa.Column[Any]":
    return sa.Column(name, sa.DateTime(timezone=True), nullable=False, server_default=NOW)


def upgrade() -> None:
    op.create_table(
        "host",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        _text("name", None),
        _text("group_name"),
        _text("agent_url"),
        _text("contact", "awaited"),
        _text("reason"),
        _moment("since"),
        sa.Column("heard_at", sa.DateTime(timezone=True)),
        sa.Column("facts", JSONB(), nullable=False, server_default="{}"),
        _moment("made_at"),
        sa.Column("made_by", sa.BigInteger(), sa.ForeignKey("change.id"), nullable=False, unique=True),
        sa.Column("altered_by", sa.BigInteger()),
        sa.CheckConstraint("contact in ('heard', 'silent', 'garbled', 'awaited')", name="host_contact"),
    )
    op.create_index("host_name_taken", "host", [sa.func.lower(sa.text("name"))], unique=True)
    op.create_table(
        "initiator",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("host_id", sa.BigInteger(), sa.ForeignKey("host.id", ondelete="cascade"), nullable=False),
        _text("transport", None),
        sa.Column("name", sa.String(), nullable=False, unique=True),
        sa.CheckConstraint("transport in ('iscsi', 'nvme')", name="initiator_transport"),
    )
    op.create_index("ix_initiator_host_id", "initiator", ["host_id"])
    op.create_table(
        "target",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column(
            "volume_id",
            sa.BigInteger(),
            sa.ForeignKey("volume.id", ondelete="cascade"),
            nullable=False,
            unique=True,
        ),
        _text("file_system", "none"),
        sa.Column("gateways", JSONB(), nullable=False, server_default="[]"),
        sa.CheckConstraint("file_system in ('none', 'ext4', 'xfs', 'gfs2')", name="target_file_system"),
    )
    op.create_table(
        "attachment",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column(
            "target_id", sa.BigInteger(), sa.ForeignKey("target.id", ondelete="cascade"), nullable=False
        ),
        sa.Column("host_id", sa.BigInteger(), sa.ForeignKey("host.id"), nullable=False),
        _text("transport", None),
        sa.Column("read_only", sa.Boolean(), nullable=False, server_default=NO),
        _text("mount_at"),
        _moment("made_at"),
        sa.Column("made_by", sa.BigInteger(), sa.ForeignKey("change.id"), nullable=False),
        sa.UniqueConstraint("target_id", "host_id", name="attached_once"),
        sa.CheckConstraint("transport in ('iscsi', 'nvme')", name="attachment_transport"),
    )
    op.create_index("ix_attachment_host_id", "attachment", ["host_id"])
    op.create_index("ix_attachment_made_by", "attachment", ["made_by"])
    op.add_column("node", sa.Column("targets", JSONB(), nullable=False, server_default="{}"))
    op.add_column("node", sa.Column("targets_told", sa.BigInteger(), nullable=False, server_default="0"))
    op.add_column("node", sa.Column("sessions", JSONB(), nullable=False, server_default="[]"))


def downgrade() -> None:
    for column in ("sessions", "targets_told", "targets"):
        op.drop_column("node", column)
    for table in ("attachment", "target", "initiator", "host"):
        op.drop_table(table)
