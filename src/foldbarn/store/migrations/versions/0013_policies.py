"""Policies, their versions, and which of them a volume keeps."""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "policy",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("name", sa.String(), nullable=False),
    )
    op.create_index("policy_name_taken", "policy", [sa.text("lower(name)")], unique=True)
    op.create_table(
        "policy_version",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("policy_id", sa.BigInteger(), sa.ForeignKey("policy.id"), nullable=False),
        sa.Column("version", sa.BigInteger(), nullable=False),
        sa.Column("k", sa.BigInteger(), nullable=False),
        sa.Column("m", sa.BigInteger(), nullable=False),
        sa.Column("level", sa.String(), nullable=False),
        sa.Column("per_domain", sa.BigInteger(), server_default="1", nullable=False),
        sa.Column("survives", sa.BigInteger(), nullable=False),
        sa.Column("fast", sa.Boolean(), nullable=False),
        sa.Column("encrypted", sa.Boolean(), nullable=False),
        sa.Column("meant_for", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column("change_id", sa.BigInteger(), sa.ForeignKey("change.id"), nullable=False, unique=True),
        sa.CheckConstraint("survives between 0 and m", name="policy_survives"),
    )
    op.create_index("one_version_of_a_number", "policy_version", ["policy_id", "version"], unique=True)
    op.add_column(
        "volume",
        sa.Column("policy_version_id", sa.BigInteger(), sa.ForeignKey("policy_version.id"), nullable=True),
    )


def downgrade() -> None:
    op.drop_column("volume", "policy_version_id")
    op.drop_table("policy_version")
    op.drop_table("policy")
