"""Thin volumes: who is thin, what nodes ask room for, and what is being set aside."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None


def upgrade() -> None:
    no = sa.text("false")
    op.add_column("policy_version", sa.Column("thin", sa.Boolean(), nullable=False, server_default=no))
    copies = sa.Column("share_copies", sa.BigInteger(), nullable=False, server_default="0")
    op.add_column("policy_version", copies)
    op.add_column("volume", sa.Column("thin", sa.Boolean(), nullable=False, server_default=no))
    op.add_column("volume", sa.Column("short_extents", sa.BigInteger(), nullable=False, server_default="0"))
    op.add_column("volume", sa.Column("refuses", sa.Boolean(), nullable=False, server_default=no))
    for table in ("volume", "pace"):
        op.add_column(table, sa.Column("growth", JSONB(), nullable=False, server_default="{}"))
    op.add_column("node", sa.Column("wants", JSONB(), nullable=False, server_default="{}"))
    op.create_table(
        "setting_aside",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("ply_id", sa.BigInteger(), sa.ForeignKey("ply.id", ondelete="cascade"), nullable=False),
        sa.Column("extents", JSONB(), nullable=False),
    )
    op.create_index("ix_setting_aside_ply_id", "setting_aside", ["ply_id"])


def downgrade() -> None:
    op.drop_table("setting_aside")
    op.drop_column("node", "wants")
    op.drop_column("pace", "growth")
    op.drop_column("volume", "growth")
    for column in ("refuses", "short_extents", "thin"):
        op.drop_column("volume", column)
    op.drop_column("policy_version", "share_copies")
    op.drop_column("policy_version", "thin")
