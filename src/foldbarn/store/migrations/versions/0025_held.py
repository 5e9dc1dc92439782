"""Of what is being set aside, whether every node has done so."""

import sqlalchemy as sa
from alembic import op

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None


def upgrade() -> None:
    held: sa.Column[bool] = sa.Column("held", sa.Boolean(), nullable=False, server_default=sa.text("false"))
    op.add_column("setting_aside", held)


def downgrade() -> None:
    op.drop_column("setting_aside", "held")
