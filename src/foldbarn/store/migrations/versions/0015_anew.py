"""A volume may be written anew for another policy: beside the ply that holds it stands one that is to."""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("ply", sa.Column("source_id", sa.BigInteger(), sa.ForeignKey("ply.id"), nullable=True))
    op.drop_constraint("ply_purpose", "ply", type_="check")
    op.create_check_constraint("ply_purpose", "ply", "purpose in ('whole', 'anew')")
    op.create_check_constraint("ply_source", "ply", "(purpose = 'anew') = (source_id is not null)")
    where = sa.text("purpose = 'anew'")
    op.create_index("one_anew_of_a_volume", "ply", ["volume_id"], unique=True, postgresql_where=where)


def downgrade() -> None:
    op.execute("delete from ply where purpose = 'anew'")
    op.drop_index("one_anew_of_a_volume", "ply")
    op.drop_constraint("ply_source", "ply", type_="check")
    op.drop_constraint("ply_purpose", "ply", type_="check")
    op.create_check_constraint("ply_purpose", "ply", "purpose in ('whole')")
    op.drop_column("ply", "source_id")
