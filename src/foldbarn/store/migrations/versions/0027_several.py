"""A change may make several volumes, and what is asked of each stands with it."""

import sqlalchemy as sa
from alembic import op

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("volume", sa.Column("nth", sa.BigInteger(), nullable=False, server_default="0"))
    op.add_column("volume", sa.Column("asked", sa.Float(), nullable=False, server_default="0"))
    op.drop_constraint("volume_change_id_key", "volume")
    op.create_unique_constraint("volume_of_change", "volume", ["change_id", "nth"])


def downgrade() -> None:
    op.drop_constraint("volume_of_change", "volume")
    op.create_unique_constraint("volume_change_id_key", "volume", ["change_id"])
    op.drop_column("volume", "asked")
    op.drop_column("volume", "nth")
