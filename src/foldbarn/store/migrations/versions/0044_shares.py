"""The file service of a cluster: its addresses, its shares, who signs in to them, and what nodes know and
tell of all that.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0044"
down_revision = "0043"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "file_service",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("name_server", sa.String(), nullable=False),
        sa.CheckConstraint("id = 1", name="one_file_service"),
    )
    op.create_table(
        "file_address",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("name", sa.String(), nullable=False, unique=True),
        sa.Column("at", JSONB(), nullable=False),
        sa.Column("home_id", sa.BigInteger(), nullable=False),
        sa.Column("resolved", JSONB(), nullable=False, server_default="[]"),
        sa.Column("looked_at", sa.DateTime(timezone=True)),
    )
    op.create_table(
        "share",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column(
            "volume_id",
            sa.BigInteger(),
            sa.ForeignKey("volume.id", ondelete="cascade"),
            nullable=False,
            unique=True,
        ),
        sa.Column("address_id", sa.BigInteger(), sa.ForeignKey("file_address.id"), nullable=False),
        sa.Column("quota", sa.BigInteger(), nullable=False),
        sa.Column("warn", sa.BigInteger(), nullable=False),
        sa.Column("protocols", JSONB(), nullable=False),
        sa.Column("rules", JSONB(), nullable=False, server_default="[]"),
        sa.Column("used", sa.BigInteger(), nullable=False, server_default="0"),
        sa.Column("fill", sa.String(), nullable=False, server_default="well"),
        sa.Column("fill_since", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.Column("growth", JSONB(), nullable=False, server_default="{}"),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.Column("made_by", sa.BigInteger(), sa.ForeignKey("change.id"), nullable=False, unique=True),
        sa.CheckConstraint("quota > 0 and warn between 1 and 100", name="share_quota"),
        sa.CheckConstraint("fill in ('well', 'warned', 'full')", name="share_fill"),
    )
    op.create_index("share_name_taken", "share", [sa.text("lower(name)")], unique=True)
    op.create_table(
        "share_user",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column(
            "share_id",
            sa.BigInteger(),
            sa.ForeignKey("share.id", ondelete="cascade"),
            nullable=False,
            index=True,
        ),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("may", sa.String(), nullable=False),
        sa.Column("proof", sa.String(), nullable=False),
        sa.Column("sealed", sa.String(), nullable=False, server_default=""),
        sa.Column("made_by", sa.BigInteger(), sa.ForeignKey("change.id"), nullable=False),
        sa.CheckConstraint("may in ('read', 'read-write')", name="share_user_may"),
        sa.UniqueConstraint("share_id", "name", name="share_user_taken"),
    )
    op.add_column("node", sa.Column("files", JSONB(), nullable=False, server_default="{}"))
    op.add_column("node", sa.Column("files_told", sa.BigInteger(), nullable=False, server_default="0"))
    op.add_column("node", sa.Column("files_said", JSONB(), nullable=False, server_default="{}"))


def downgrade() -> None:
    for column in ("files_said", "files_told", "files"):
        op.drop_column("node", column)
    for table in ("share_user", "share", "file_address", "file_service"):
        op.drop_table(table)
