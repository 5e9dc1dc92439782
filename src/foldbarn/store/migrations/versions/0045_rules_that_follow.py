"""Of each rule of a share whether it follows the nodes of an orchestrator. Until now all of a claim's did."""

from alembic import op

revision = "0045"
down_revision = "0044"
branch_labels = None
depends_on = None

REWRITTEN = """
    update share set rules = coalesce(
        (
            select jsonb_agg({rule} order by place)
            from jsonb_array_elements(rules) with ordinality _ (one, place)
        ),
        '[]'
    )
"""


def upgrade() -> None:
    of_claim = "exists (select from claim where claim.volume_id = share.volume_id)"
    op.execute(REWRITTEN.format(rule=f"one || to_jsonb({of_claim})"))


def downgrade() -> None:
    op.execute(REWRITTEN.format(rule="one - 3"))
