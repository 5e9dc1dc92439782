"""Snapshots of volumes, the ply for what was overwritten since, and what nodes know of them."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0030"
down_revision = "0029"
branch_labels = None
depends_on = None
PURPOSES = "purpose in ('whole', 'anew', 'landing', 'hot'{more})"


def upgrade() -> None:
    op.create_table(
        "snapshot",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column(
            "volume_id", sa.BigInteger(), sa.ForeignKey("volume.id", ondelete="cascade"), nullable=False
        ),
        sa.Column("number", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("taken_at", sa.DateTime(timezone=True)),
        sa.Column("lost", sa.String(), nullable=False, server_default=""),
        sa.Column("made_by", sa.BigInteger(), sa.ForeignKey("change.id"), nullable=False),
        sa.UniqueConstraint("volume_id", "number", name="snapshot_number"),
    )
    name = sa.func.lower(sa.text("name"))
    op.create_index("snapshot_name_taken", "snapshot", ["volume_id", name], unique=True)
    op.create_index("ix_snapshot_made_by", "snapshot", ["made_by"])
    op.drop_constraint("ply_purpose", "ply")
    op.create_check_constraint("ply_purpose", "ply", PURPOSES.format(more=", 'past'"))
    past = sa.text("purpose = 'past'")
    op.create_index("one_past_of_a_volume", "ply", ["volume_id"], unique=True, postgresql_where=past)
    op.add_column("volume", sa.Column("spans", JSONB(), nullable=False, server_default="[]"))
    op.add_column("volume", sa.Column("snapshots_taken", sa.BigInteger(), nullable=False, server_default="0"))
    op.add_column(
        "volume", sa.Column("snapshots_altered", sa.BigInteger(), nullable=False, server_default="0")
    )
    op.add_column("node", sa.Column("marks", JSONB(), nullable=False, server_default="{}"))
    op.add_column("node", sa.Column("marks_told", sa.BigInteger(), nullable=False, server_default="0"))


def downgrade() -> None:
    for column in ("marks_told", "marks"):
        op.drop_column("node", column)
    for column in ("snapshots_altered", "snapshots_taken", "spans"):
        op.drop_column("volume", column)
    op.drop_index("one_past_of_a_volume", "ply")
    op.execute("delete from placement where ply_id in (select id from ply where purpose = 'past')")
    op.execute("delete from ply where purpose = 'past'")
    op.drop_constraint("ply_purpose", "ply")
    op.create_check_constraint("ply_purpose", "ply", PURPOSES.format(more=""))
    op.drop_table("snapshot")
