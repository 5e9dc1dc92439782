"""A volume may have a landing: a ply that takes what is written first."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table, column in (("policy_version", "landing"), ("volume", "waiting")):
        op.add_column(table, sa.Column(column, sa.BigInteger(), nullable=False, server_default="0"))
    false = sa.text("false")
    op.add_column("ply", sa.Column("forming", sa.Boolean(), nullable=False, server_default=false))
    op.drop_constraint("ply_purpose", "ply")
    op.create_check_constraint("ply_purpose", "ply", "purpose in ('whole', 'anew', 'landing')")
    op.create_index(
        "one_landing_of_a_volume",
        "ply",
        ["volume_id"],
        unique=True,
        postgresql_where=sa.text("purpose = 'landing'"),
    )


def downgrade() -> None:
    op.execute("delete from placement where ply_id in (select id from ply where purpose = 'landing')")
    op.execute("delete from ply where purpose = 'landing'")
    op.drop_index("one_landing_of_a_volume", "ply")
    op.drop_constraint("ply_purpose", "ply")
    op.create_check_constraint("ply_purpose", "ply", "purpose in ('whole', 'anew')")
    op.drop_column("ply", "forming")
    op.drop_column("volume", "waiting")
    op.drop_column("policy_version", "landing")
