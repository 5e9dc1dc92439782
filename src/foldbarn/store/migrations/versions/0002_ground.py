"""Ground: many views of one disk, enclosures, what nodes offer, and the cluster"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None

JSONB = postgresql.JSONB(astext_type=sa.Text())


def upgrade() -> None:
    op.create_table(
        "enclosure",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("rack_id", sa.BigInteger(), nullable=False),
        sa.Column("nodes", JSONB, nullable=False),
        sa.ForeignKeyConstraint(["rack_id"], ["rack.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("enclosure_name_taken", "enclosure", [sa.literal_column("lower(name)")], unique=True)
    op.create_table(
        "cluster",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("service_address", sa.String(), nullable=False),
        sa.Column("witness", sa.String(), nullable=False),
        sa.Column("witness_url", sa.String(), nullable=False),
        sa.Column("witness_room", sa.String(), nullable=False),
        sa.Column("witness_rack", sa.String(), nullable=False),
        sa.Column("witness_silent", sa.String(), nullable=False),
        sa.Column("sealed_key", JSONB, nullable=False),
        sa.Column("mail", JSONB, nullable=False),
        sa.Column("forming", sa.Boolean(), nullable=False),
        sa.Column("change_id", sa.BigInteger(), nullable=False),
        sa.CheckConstraint("id = 1", name="one_cluster"),
        sa.ForeignKeyConstraint(["change_id"], ["change.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.add_column(
        "site", sa.Column("mark", sa.String(), server_default=sa.text("gen_random_uuid()"), nullable=False)
    )
    op.add_column("site", sa.Column("closed_ports", JSONB, server_default="[]", nullable=False))
    op.add_column("site", sa.Column("ports_tested_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("site", sa.Column("description", sa.String(), server_default="", nullable=False))
    op.add_column("node", sa.Column("agent_name", sa.String(), server_default="", nullable=False))
    op.execute("update node set agent_name = name")
    op.add_column("node", sa.Column("source", sa.String(), server_default="agent", nullable=False))
    op.add_column("node", sa.Column("bmc_url", sa.String(), server_default="", nullable=False))
    op.add_column("node", sa.Column("clock_offset", sa.Double(), nullable=True))
    for name in ("member", "keeper", "dedicated"):
        op.add_column("node", sa.Column(name, sa.Boolean(), server_default=sa.text("false"), nullable=False))
    op.add_column("node", sa.Column("purposes", JSONB, server_default="{}", nullable=False))
    op.add_column("node", sa.Column("says", JSONB, server_default="{}", nullable=False))
    op.drop_constraint("node_contact", "node")
    op.create_check_constraint("node_contact", "node", "contact in ('heard', 'silent', 'garbled', 'awaited')")
    op.create_check_constraint("node_source", "node", "source in ('agent', 'files', 'bmc', 'text')")
    op.create_check_constraint("keepers_are_members", "node", "member or not keeper")
    op.add_column("disk", sa.Column("identity", sa.String(), nullable=True))
    op.add_column("disk", sa.Column("box", sa.String(), server_default="", nullable=False))
    op.add_column("disk", sa.Column("enclosure_id", sa.BigInteger(), nullable=True))
    op.add_column("disk", sa.Column("missing_paths", JSONB, server_default="[]", nullable=False))
    op.add_column("disk", sa.Column("lit", sa.Boolean(), server_default=sa.text("false"), nullable=False))
    op.create_foreign_key("disk_enclosure_id_fkey", "disk", "enclosure", ["enclosure_id"], ["id"])
    # Old rows know no reason codes and no paths with nodes: the agents are asked anew.
    op.execute("update disk set reasons = '[]', paths = '[]', wwn = regexp_replace(lower(wwn), '^0x', '')")
    op.execute(
        "update disk set identity = case when wwn <> '' then 'wwn:' || wwn else 'serial:' || model "
        "|| '/' || serial end"
    )
    op.execute("update node set inventory_version = ''")
    op.alter_column("disk", "identity", nullable=False)
    op.drop_index("disk_seen_once", "disk")
    op.create_index("disk_identity_taken", "disk", ["identity"], unique=True)
    op.create_index("disk_node", "disk", ["node_id"])
    op.create_index(
        "disk_enclosure", "disk", ["enclosure_id"], postgresql_where=sa.text("enclosure_id is not null")
    )


def downgrade() -> None:
    raise NotImplementedError("Fold Barn's schema only goes forward; restore a backup instead.")
