"""What changes touch, by number; what their wishes named; a token that fences off an older runner; what the
watch's duties cost
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("create extension if not exists btree_gist")
    op.create_table(
        "touch",
        sa.Column("change_id", sa.BigInteger(), sa.ForeignKey("change.id"), primary_key=True),
        sa.Column("what", sa.String(), primary_key=True),
        sa.Column("number", sa.BigInteger(), primary_key=True),
        sa.Column("alone", sa.Boolean(), nullable=False),
        sa.Column("held", sa.Boolean(), server_default=sa.text("false"), nullable=False),
        sa.Column("passing", sa.Boolean(), server_default=sa.text("false"), nullable=False),
        postgresql.ExcludeConstraint(
            ("what", "="),
            ("number", "="),
            (
                sa.text(
                    "(case when alone then '(,)'::int8range else int8range(change_id, change_id, '[]') end)"
                ),
                "&&",
            ),
            where=sa.text("held"),
            using="gist",
            name="touched_by_one",
        ),
    )
    op.create_table(
        "record",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column("actor", sa.String(), nullable=False),
        sa.Column("what", sa.String(), nullable=False),
        sa.Column("change_id", sa.BigInteger(), sa.ForeignKey("change.id"), nullable=True),
    )
    op.create_index("record_change", "record", ["change_id"])
    op.create_table(
        "duty",
        sa.Column("name", sa.String(), primary_key=True),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column("every", sa.Double(), nullable=False),
        sa.Column("turns", sa.BigInteger(), nullable=False),
        sa.Column("seconds", sa.Double(), nullable=False),
        sa.Column("processor_seconds", sa.Double(), nullable=False),
        sa.Column("failures", sa.BigInteger(), nullable=False),
        sa.Column("problem", sa.String(), nullable=False),
    )
    op.add_column("change", sa.Column("again", sa.Boolean(), server_default=sa.text("false"), nullable=False))
    op.execute(
        "update change set again = true "
        "where state = 'paused' and paused_at is not null and actor = 'Fold Barn, by itself'"
    )
    op.add_column("change", sa.Column("meant", postgresql.JSONB(), server_default="{}", nullable=False))
    op.add_column("change", sa.Column("token", sa.BigInteger(), server_default="0", nullable=False))
    op.drop_column("change", "touches")
    # What open changes of pools mean, so that they go on; what they touch they tell when their turn comes.
    op.execute(
        """
        update change set meant = jsonb_build_object('pool', jsonb_build_object(pool.name, pool.id))
        from pool where change.state in ('waiting', 'running', 'paused')
        and lower(coalesce(change.params->>'pool', '')) = lower(pool.name)
        """
    )


def downgrade() -> None:
    op.add_column("change", sa.Column("touches", sa.Text(), server_default="", nullable=False))
    op.drop_column("change", "token")
    op.drop_column("change", "meant")
    op.drop_column("change", "again")
    op.drop_table("duty")
    op.drop_table("record")
    op.drop_table("touch")
