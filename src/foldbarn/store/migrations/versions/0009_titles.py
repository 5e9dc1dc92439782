"""A change has its title beside its preview, which is long and seldom read."""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    title = sa.Computed("preview ->> 'title'", persisted=True)
    op.add_column("change", sa.Column("title", sa.String(), title, nullable=False))


def downgrade() -> None:
    op.drop_column("change", "title")
