"""A volume is made of plies, each with a scheme and a placement of its own; a pool has strips of one size."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "ply",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column(
            "volume_id", sa.BigInteger(), sa.ForeignKey("volume.id", ondelete="cascade"), nullable=False
        ),
        sa.Column("purpose", sa.String(), server_default="whole", nullable=False),
        sa.Column("k", sa.BigInteger(), nullable=False),
        sa.Column("m", sa.BigInteger(), nullable=False),
        sa.Column("level", sa.String(), nullable=False),
        sa.Column("per_domain", sa.BigInteger(), server_default="1", nullable=False),
        sa.Column("tier", sa.String(), server_default="bulk", nullable=False),
        sa.Column("extents", sa.BigInteger(), nullable=False),
        sa.Column("version", sa.BigInteger(), nullable=False),
        sa.CheckConstraint("extents > 0 and k > 0 and m >= 0 and per_domain > 0", name="ply_size"),
        sa.CheckConstraint("tier in ('bulk', 'fast')", name="ply_tier"),
        sa.CheckConstraint("purpose in ('whole')", name="ply_purpose"),
    )
    op.create_index("ix_ply_volume_id", "ply", ["volume_id"])
    # Nodes know strips by the number of their volume: so that is the number of its one ply.
    op.execute(
        "insert into ply (id, volume_id, k, m, level, tier, extents, version) "
        "select id, id, 1, copies - 1, level, tier, extents, version from volume"
    )
    op.execute(
        "select setval(pg_get_serial_sequence('ply', 'id'), nextval(pg_get_serial_sequence('volume', 'id')))"
    )
    for table in ("placement", "move"):
        op.drop_constraint(f"{table}_volume_id_fkey", table, type_="foreignkey")
        op.alter_column(table, "volume_id", new_column_name="ply_id")
        on_delete = "cascade" if table == "placement" else None
        op.create_foreign_key(f"{table}_ply_id_fkey", table, "ply", ["ply_id"], ["id"], ondelete=on_delete)
    op.drop_constraint("volume_size", "volume", type_="check")
    op.drop_constraint("volume_tier", "volume", type_="check")
    op.create_check_constraint("volume_size", "volume", "size_bytes > 0")
    for column in ("copies", "level", "extents", "version", "tier"):
        op.drop_column("volume", column)
    op.alter_column("pool", "extent_bytes", new_column_name="strip_bytes")
    op.add_column("pool", sa.Column("k", sa.BigInteger(), nullable=True))
    op.add_column("pool", sa.Column("m", sa.BigInteger(), nullable=True))
    op.add_column("pool", sa.Column("per_domain", sa.BigInteger(), server_default="1", nullable=False))
    op.execute("update pool set k = 1, m = copies - 1")
    op.alter_column("pool", "k", nullable=False)
    op.alter_column("pool", "m", nullable=False)
    op.drop_column("pool", "copies")


def downgrade() -> None:
    op.add_column("pool", sa.Column("copies", sa.BigInteger(), nullable=True))
    op.execute("update pool set copies = k + m")
    op.alter_column("pool", "copies", nullable=False)
    for column in ("k", "m", "per_domain"):
        op.drop_column("pool", column)
    op.alter_column("pool", "strip_bytes", new_column_name="extent_bytes")
    for name, type_ in (("copies", sa.BigInteger()), ("level", sa.String()), ("extents", sa.BigInteger())):
        op.add_column("volume", sa.Column(name, type_, nullable=True))
    op.add_column("volume", sa.Column("version", sa.BigInteger(), nullable=True))
    op.add_column("volume", sa.Column("tier", sa.String(), server_default="bulk", nullable=False))
    op.execute(
        "update volume set copies = k + m, level = ply.level, extents = ply.extents, "
        "version = ply.version, tier = ply.tier from ply where ply.volume_id = volume.id"
    )
    for column in ("copies", "level", "extents", "version"):
        op.alter_column("volume", column, nullable=False)
    op.drop_constraint("volume_size", "volume", type_="check")
    op.create_check_constraint("volume_size", "volume", "size_bytes > 0 and extents > 0 and copies > 0")
    op.create_check_constraint("volume_tier", "volume", "tier in ('bulk', 'fast')")
    for table in ("placement", "move"):
        op.drop_constraint(f"{table}_ply_id_fkey", table, type_="foreignkey")
        op.alter_column(table, "ply_id", new_column_name="volume_id")
        on_delete = "cascade" if table == "placement" else None
        op.create_foreign_key(
            f"{table}_volume_id_fkey", table, "volume", ["volume_id"], ["id"], ondelete=on_delete
        )
    op.drop_table("ply")
