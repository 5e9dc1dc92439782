"""What things did lately, as samples in partitions by time; and when nodes and disks were out of reach."""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY

revision = "0029"
down_revision = "0028"
branch_labels = None
depends_on = None


def _key() -> list[sa.Column[Any]]:
    return [
        sa.Column("what", sa.String(), primary_key=True),
        sa.Column("number", sa.BigInteger(), primary_key=True, autoincrement=False),
        sa.Column("part", sa.String(), primary_key=True),
        sa.Column("at", sa.DateTime(timezone=True), primary_key=True),
    ]


def upgrade() -> None:
    op.create_table(
        "sample",
        *_key(),
        *(
            sa.Column(measure, sa.Float())
            for measure in ("read_bytes", "written_bytes", "reads", "writes", "held_bytes")
        ),
        sa.Column("times", sa.LargeBinary(), nullable=False),
        postgresql_partition_by="range (at)",
    )
    for table in ("sample_minute", "sample_hour"):
        op.create_table(
            table,
            *_key(),
            sa.Column("count", ARRAY(sa.Integer()), nullable=False),
            *(sa.Column(name, ARRAY(sa.REAL()), nullable=False) for name in ("mean", "least", "most")),
            sa.Column("spread", sa.LargeBinary(), nullable=False),
            sa.Column("times", sa.LargeBinary(), nullable=False),
            postgresql_partition_by="range (at)",
        )
    for table in ("sample", "sample_minute"):
        op.create_index(f"{table}_at", table, ["at"])
    op.create_table(
        "condensing",
        sa.Column("span", sa.BigInteger(), primary_key=True, autoincrement=False),
        sa.Column("until", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_table(
        "outage",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("what", sa.String(), nullable=False),
        sa.Column("number", sa.BigInteger(), nullable=False),
        sa.Column("since", sa.DateTime(timezone=True), nullable=False),
        sa.Column("until", sa.DateTime(timezone=True)),
        sa.Column("reason", sa.String(), nullable=False),
        sa.CheckConstraint("what in ('node', 'disk')", name="outage_what"),
    )
    op.create_index("outage_of", "outage", ["what", "number", "since"])
    open_ = sa.text("until is null")
    op.create_index("one_outage", "outage", ["what", "number"], unique=True, postgresql_where=open_)


def downgrade() -> None:
    for table in ("outage", "condensing", "sample_hour", "sample_minute", "sample"):
        op.drop_table(table)
