"""Snapshots that orchestrators ask for, what claims are to be filled from, and where their first pods run."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0036"
down_revision = "0035"
branch_labels = None
depends_on = None

_ASKED = ("orchestrator_id", "asked_uid", "asked_path", "fills")
_FILLED = ("source_kind", "source_name", "origin_volume", "origin_snapshot")


def upgrade() -> None:
    number = sa.Column("orchestrator_id", sa.BigInteger(), sa.ForeignKey("orchestrator.id"), index=True)
    op.add_column("snapshot", number)
    op.add_column("snapshot", sa.Column("asked_uid", sa.String(), nullable=True))
    op.add_column("snapshot", sa.Column("asked_path", sa.String(), nullable=False, server_default=""))
    op.add_column("snapshot", sa.Column("fills", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.create_unique_constraint("snapshot_asked_once", "snapshot", ["orchestrator_id", "asked_uid"])
    for name in _FILLED[:2]:
        op.add_column("claim", sa.Column(name, sa.String(), nullable=False, server_default=""))
    for name in _FILLED[2:]:
        op.add_column("claim", sa.Column(name, sa.BigInteger(), nullable=True))
    op.add_column("claim", sa.Column("near", JSONB(), nullable=False, server_default="[]"))


def downgrade() -> None:
    for table, names in (("claim", (*_FILLED, "near")), ("snapshot", _ASKED)):
        for name in names:
            op.drop_column(table, name)
