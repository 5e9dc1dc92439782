"""How much the extents of volumes are asked for."""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "heat",
        sa.Column(
            "volume_id", sa.BigInteger(), sa.ForeignKey("volume.id", ondelete="cascade"), primary_key=True
        ),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("data", sa.BigInteger(), nullable=False),
        sa.Column("seconds", sa.Float(), nullable=False),
        sa.Column("counts", sa.LargeBinary(), nullable=False),
        sa.Column("warmth", sa.LargeBinary(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("heat")
