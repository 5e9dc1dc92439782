"""Who wanted a thing first has it first, however often it is taken again; names of classes in orchestrators
that are somebody else's.
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0037"
down_revision = "0036"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("touch", sa.Column("turn", sa.BigInteger(), sa.Identity(), nullable=False))
    op.add_column("orchestrator", sa.Column("others", JSONB(), nullable=False, server_default="[]"))


def downgrade() -> None:
    op.drop_column("orchestrator", "others")
    op.drop_column("touch", "turn")
