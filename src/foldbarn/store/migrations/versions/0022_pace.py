"""What the consumers of volumes got, lately."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "pace",
        sa.Column(
            "volume_id", sa.BigInteger(), sa.ForeignKey("volume.id", ondelete="cascade"), primary_key=True
        ),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("seconds", sa.Float(), nullable=False),
        sa.Column("counted", postgresql.JSONB(), nullable=False),
        sa.Column("times", sa.LargeBinary(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("pace")
