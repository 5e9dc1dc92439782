"""A volume may have a hot ply, which holds on the fast tier what is asked for most."""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("policy_version", sa.Column("share", sa.BigInteger(), nullable=False, server_default="0"))
    op.add_column("ply", sa.Column("holds", sa.LargeBinary()))
    op.drop_constraint("ply_purpose", "ply")
    op.create_check_constraint("ply_purpose", "ply", "purpose in ('whole', 'anew', 'landing', 'hot')")
    op.create_check_constraint("ply_holds", "ply", "(purpose = 'hot') = (holds is not null)")
    op.create_index(
        "one_hot_of_a_volume", "ply", ["volume_id"], unique=True, postgresql_where=sa.text("purpose = 'hot'")
    )


def downgrade() -> None:
    """Only where nothing lies in a hot ply: what does would be lost."""
    held = sa.text(
        "select count(*) from ply where holds is not null and position('\\x01'::bytea in holds) > 0"
    )
    if op.get_bind().execute(held).scalar():
        raise RuntimeError(
            "Some extents lie on the fast tier alone: let their volumes keep other policies first."
        )
    op.execute("delete from placement where ply_id in (select id from ply where purpose = 'hot')")
    op.execute("delete from ply where purpose = 'hot'")
    op.drop_index("one_hot_of_a_volume", "ply")
    op.drop_constraint("ply_holds", "ply")
    op.drop_constraint("ply_purpose", "ply")
    op.create_check_constraint("ply_purpose", "ply", "purpose in ('whole', 'anew', 'landing')")
    op.drop_column("ply", "holds")
    op.drop_column("policy_version", "share")
