"""Secrets by which the nodes of an orchestrator are let in to what was given to its claims."""

import sqlalchemy as sa
from alembic import op

revision = "0038"
down_revision = "0037"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "orchestrator_secret",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column(
            "orchestrator_id",
            sa.BigInteger(),
            sa.ForeignKey("orchestrator.id", ondelete="cascade"),
            nullable=False,
            index=True,
        ),
        sa.Column("sealed", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.Column("shown_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("shown_to", sa.String(), nullable=False, server_default=""),
    )
    number = sa.Column("secret_of", sa.BigInteger(), sa.ForeignKey("orchestrator.id"), index=True)
    op.add_column("attachment", number)
    op.add_column("claim", sa.Column("by_secret", sa.Boolean(), nullable=False, server_default=sa.false()))


def downgrade() -> None:
    op.drop_column("claim", "by_secret")
    op.drop_column("attachment", "secret_of")
    op.drop_table("orchestrator_secret")
