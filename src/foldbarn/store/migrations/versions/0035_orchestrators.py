"""Orchestrators, storage classes, grants and claims."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0035"
down_revision = "0034"
branch_labels = None
depends_on = None

NOW = sa.func.now()


def text(name: str, default: str | None = None) -> sa.Column[str]:
    return sa.Column(name, sa.String(), nullable=False, server_default=default)


def json(name: str, default: str | None = None) -> sa.Column[object]:
    return sa.Column(name, JSONB(), nullable=False, server_default=default)


def big(name: str, default: str | None = None, *, nullable: bool = False) -> sa.Column[int]:
    return sa.Column(name, sa.BigInteger(), nullable=nullable, server_default=default)


def moment(name: str) -> sa.Column[object]:
    return sa.Column(name, sa.DateTime(timezone=True), nullable=False, server_default=NOW)


def of_change() -> tuple[sa.Column[int], sa.Column[int]]:
    made = sa.Column("made_by", sa.BigInteger(), sa.ForeignKey("change.id"), nullable=False, unique=True)
    return made, big("altered_by", nullable=True)


def number() -> sa.Column[int]:
    return sa.Column("id", sa.BigInteger(), primary_key=True)


def upgrade() -> None:
    op.add_column("site", big("claims_revision", "0"))
    op.create_table(
        "orchestrator",
        number(),
        text("name"),
        text("url"),
        text("authority", ""),
        text("token"),
        text("identity", ""),
        text("answering", "not asked yet"),
        text("reason", ""),
        moment("since"),
        text("version", ""),
        json("missing", "[]"),
        json("namespaces", "[]"),
        big("altered", "0"),
        moment("made_at"),
        *of_change(),
        sa.CheckConstraint(
            "answering in ('not asked yet', 'heard', 'silent', 'refuses', 'another one')",
            name="orchestrator_answering",
        ),
    )
    op.create_index("orchestrator_name_taken", "orchestrator", [sa.text("lower(name)")], unique=True)
    op.create_table(
        "storage_class",
        number(),
        sa.Column("name", sa.String(), nullable=False, unique=True),
        sa.Column("policy_id", sa.BigInteger(), sa.ForeignKey("policy.id"), nullable=False, index=True),
        sa.Column("pool_id", sa.BigInteger(), sa.ForeignKey("pool.id"), nullable=True, index=True),
        text("reclaim"),
        text("binding"),
        sa.Column("expands", sa.Boolean(), nullable=False),
        text("file_system"),
        json("mount_options", "[]"),
        sa.Column("is_default", sa.Boolean(), nullable=False, server_default=sa.false()),
        *of_change(),
        sa.CheckConstraint("reclaim in ('Delete', 'Retain')", name="storage_class_reclaim"),
        sa.CheckConstraint("binding in ('Immediate', 'WaitForFirstConsumer')", name="storage_class_binding"),
    )
    where = sa.text("is_default")
    op.create_index("one_default_class", "storage_class", ["is_default"], unique=True, postgresql_where=where)
    op.create_table(
        "policy_grant",
        number(),
        sa.Column("orchestrator_id", sa.BigInteger(), sa.ForeignKey("orchestrator.id"), nullable=False),
        text("namespace"),
        sa.Column("policy_id", sa.BigInteger(), sa.ForeignKey("policy.id"), nullable=False, index=True),
        big("bytes", nullable=True),
        big("claims", nullable=True),
        big("bytes_a_claim", nullable=True),
        json("by_class", "{}"),
        *of_change(),
        sa.UniqueConstraint("orchestrator_id", "namespace", "policy_id", name="granted_once"),
    )
    op.create_table(
        "claim",
        number(),
        sa.Column("orchestrator_id", sa.BigInteger(), sa.ForeignKey("orchestrator.id"), nullable=False),
        text("uid"),
        text("namespace"),
        text("name"),
        sa.Column("asked_class", sa.String(), nullable=True),
        big("bytes"),
        json("modes"),
        text("volume_mode"),
        text("life", "waiting"),
        moment("since"),
        moment("seen_at"),
        big("promised", "0"),
        text("reclaim", "Delete"),
        big("policy", "0"),
        text("class_name", ""),
        text("file_system", "xfs"),
        json("mount_options", "[]"),
        sa.Column(
            "volume_id",
            sa.BigInteger(),
            sa.ForeignKey("volume.id", ondelete="set null"),
            nullable=True,
            unique=True,
        ),
        sa.Column("hindrance", sa.String(), nullable=True),
        text("sentence", ""),
        text("cure", ""),
        text("used_by", ""),
        sa.UniqueConstraint("orchestrator_id", "uid", name="claim_kept_once"),
        sa.CheckConstraint("bytes > 0 and promised >= 0", name="claim_bytes"),
    )


def downgrade() -> None:
    for name in ("claim", "policy_grant", "storage_class", "orchestrator"):
        op.drop_table(name)
    op.drop_column("site", "claims_revision")
