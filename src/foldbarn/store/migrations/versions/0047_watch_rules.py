"""Watch rules, what they find, who is told of it and what was sent; and what disks say of themselves among
the samples.
"""

from datetime import datetime

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0047"
down_revision = "0046"
branch_labels = None
depends_on = None

MEASURES = ("full", "short", "celsius", "worn", "defects")

# What every site wants to know from the start: name, of what, metric, limit, clear level, seconds to hold,
# seconds unheard, severity. The limits are common practice.
READY_MADE = (
    ("A node is not heard", "node", "read_bytes", None, None, None, 30.0, "urgent"),
    ("A volume lacks strips", "volume", "short", 0.0, 0.0, 60.0, None, "urgent"),
    ("A volume answers late", "volume", "late_time", 0.1, 0.08, 180.0, None, "urgent"),
    ("A pool is filling", "pool", "full", 0.85, 0.83, 300.0, None, "notice"),
    ("A disk wears out", "disk", "worn", 0.9, 0.9, 0.0, None, "notice"),
    ("A disk loses sectors", "disk", "defects", 100.0, 100.0, 0.0, None, "notice"),
    ("A disk runs hot", "disk", "celsius", 60.0, 55.0, 600.0, None, "notice"),
)


def _at(name: str, *, nullable: bool = True, now: bool = False) -> sa.Column[datetime]:
    default = sa.func.now() if now else None
    return sa.Column(name, sa.DateTime(timezone=True), nullable=nullable, server_default=default)


def _kept(
    name: str,
    of: str,
    metric: str,
    limit: float | None,
    clear: float | None,
    hold: float | None,
    absent: float | None,
    severity: str,
) -> dict[str, object]:
    bounds = None if limit is None else {"way": "above", "limit": limit, "clear": clear, "hold": hold}
    return {
        "name": name,
        "of": of,
        "metric": metric,
        "bounds": bounds,
        "chosen": {},
        "absent": absent,
        "severity": severity,
        "quiet": None,
        "route_id": None,
        "is_on": True,
    }


def upgrade() -> None:
    for measure in MEASURES:
        op.add_column("sample", sa.Column(measure, sa.Float()))
    op.create_table(
        "route",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("target", sa.String(), nullable=False),
        sa.Column("least", sa.String(), nullable=False),
        sa.Column("usual", sa.Boolean(), nullable=False),
        sa.Column("sealed", sa.String(), nullable=False, server_default=""),
        sa.CheckConstraint("kind in ('mail', 'webhook')", name="route_kind"),
        sa.CheckConstraint("least in ('notice', 'urgent')", name="route_least"),
    )
    op.create_index("route_name_taken", "route", [sa.text("lower(name)")], unique=True)
    op.create_table(
        "mail_server",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("host", sa.String(), nullable=False),
        sa.Column("port", sa.BigInteger(), nullable=False),
        sa.Column("sender", sa.String(), nullable=False),
        sa.Column("encrypted", sa.Boolean(), nullable=False),
        sa.Column("trusted", sa.String(), nullable=False, server_default=""),
        sa.Column("account", sa.String(), nullable=False, server_default=""),
        sa.Column("sealed", sa.String(), nullable=False, server_default=""),
        sa.CheckConstraint("id = 1", name="one_mail_server"),
    )
    rules = op.create_table(
        "watch_rule",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("of", sa.String(), nullable=False),
        sa.Column("metric", sa.String(), nullable=False),
        sa.Column("bounds", JSONB(none_as_null=True)),
        sa.Column("chosen", JSONB(), nullable=False),
        sa.Column("absent", sa.Float()),
        sa.Column("severity", sa.String(), nullable=False),
        sa.Column("quiet", JSONB(none_as_null=True)),
        sa.Column("route_id", sa.BigInteger(), sa.ForeignKey("route.id", ondelete="set null")),
        sa.Column("is_on", sa.Boolean(), nullable=False),
        sa.CheckConstraint("severity in ('notice', 'urgent')", name="rule_severity"),
    )
    op.create_index("watch_rule_name_taken", "watch_rule", [sa.text("lower(name)")], unique=True)
    op.bulk_insert(rules, [_kept(*rule) for rule in READY_MADE])
    op.create_table(
        "incident",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("cause", sa.String(), nullable=False),
        sa.Column("number", sa.BigInteger(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("part", sa.String(), nullable=False),
        sa.Column("headline", sa.String(), nullable=False),
        sa.Column("severity", sa.String(), nullable=False),
        sa.Column("told", sa.String()),
        _at("begun", nullable=False),
        _at("ended"),
        sa.Column("seen_by", sa.String()),
        _at("seen_at"),
        _at("silent_until"),
    )
    op.create_index(
        "one_incident",
        "incident",
        ["cause", "number", "kind", "part"],
        unique=True,
        postgresql_where=sa.text("ended is null"),
    )
    op.create_table(
        "alert",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column(
            "rule_id", sa.BigInteger(), sa.ForeignKey("watch_rule.id", ondelete="cascade"), nullable=False
        ),
        sa.Column("what", sa.String(), nullable=False),
        sa.Column("number", sa.BigInteger(), nullable=False),
        sa.Column("part", sa.String(), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("absent", sa.Boolean(), nullable=False),
        _at("since", nullable=False),
        _at("fired"),
        _at("ended"),
        sa.Column("why", sa.String(), nullable=False, server_default=""),
        sa.Column("worst", sa.Float()),
        sa.Column("incident_id", sa.BigInteger(), sa.ForeignKey("incident.id"), index=True),
    )
    op.create_index(
        "one_alert",
        "alert",
        ["rule_id", "what", "number", "part", "absent"],
        unique=True,
        postgresql_where=sa.text("ended is null"),
    )
    op.create_index("alert_of", "alert", ["what", "number", "since"])
    op.create_table(
        "message",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("mark", sa.String(), nullable=False, server_default=sa.text("gen_random_uuid()")),
        sa.Column("incident_id", sa.BigInteger(), sa.ForeignKey("incident.id")),
        sa.Column("route_id", sa.BigInteger(), sa.ForeignKey("route.id", ondelete="cascade"), nullable=False),
        sa.Column("event", sa.String(), nullable=False),
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("body", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False, server_default="waiting"),
        sa.Column("tries", sa.BigInteger(), nullable=False, server_default="0"),
        sa.Column("problem", sa.String(), nullable=False, server_default=""),
        _at("made_at", nullable=False, now=True),
        _at("next_at", nullable=False, now=True),
        _at("sent_at"),
        sa.CheckConstraint("state in ('waiting', 'sending', 'sent', 'given up')", name="message_state"),
        sa.CheckConstraint("event in ('fired', 'worse', 'over', 'test')", name="message_event"),
    )
    op.create_index(
        "told_once",
        "message",
        ["incident_id", "route_id", "event"],
        unique=True,
        postgresql_where=sa.text("incident_id is not null"),
    )
    op.create_index(
        "message_due", "message", ["next_at"], postgresql_where=sa.text("state in ('waiting', 'sending')")
    )


def downgrade() -> None:
    for table in ("message", "alert", "incident", "watch_rule", "mail_server", "route"):
        op.drop_table(table)
    for measure in MEASURES:
        op.drop_column("sample", measure)
