"""Volumes that are offline, and those in the bin."""

import sqlalchemy as sa
from alembic import op

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None


def upgrade() -> None:
    no = sa.text("false")
    op.add_column("volume", sa.Column("offline", sa.Boolean(), nullable=False, server_default=no))
    for name in ("binned_at", "kept_until"):
        op.add_column("volume", sa.Column(name, sa.DateTime(timezone=True)))
    for name in ("offline_by", "binned_by"):
        op.add_column("volume", sa.Column(name, sa.BigInteger()))
    op.add_column("node", sa.Column("terms", sa.String(), nullable=False, server_default=""))
    op.create_check_constraint("volume_binned", "volume", "(binned_at is null) = (kept_until is null)")
    # What is being dropped already goes on to its end, as if the bin were being emptied of it. A deletion
    # that has not begun ends by itself, and may be wished for anew.
    op.execute(
        """
        update volume set binned_at = now(), kept_until = now() + interval '7 days'
        where id in (
            select (change_step.payload ->> 'volume')::bigint
            from change join change_step on change_step.change_id = change.id
            where change.kind = 'delete-volume' and change.state in ('waiting', 'running', 'paused')
                and change_step.name = 'drop-strips' and change_step.state <> 'waiting'
        )
        """
    )


def downgrade() -> None:
    op.drop_constraint("volume_binned", "volume")
    op.drop_column("node", "terms")
    for column in ("binned_by", "offline_by", "kept_until", "binned_at", "offline"):
        op.drop_column("volume", column)
