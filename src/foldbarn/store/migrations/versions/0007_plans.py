"""Steps keep what they were planned with; the previews of old changes tell their effects one by one."""

import json
from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

HEADS = {
    "form-cluster": ["Room to run", "Storage needs", "Left for other work"],
    "describe": ["Differs", "Machines say", "Text says"],
}


def upgrade() -> None:
    op.add_column("change_step", sa.Column("about", sa.String(), server_default="", nullable=False))
    op.add_column("change_step", sa.Column("payload", postgresql.JSONB(), nullable=True))
    # What had its key sealed keeps it in the cluster; a change that had not come so far is wished for anew.
    op.execute("update change set params = params - 'sealed_key' where params ? 'sealed_key'")
    rows = op.get_bind().execute(sa.text("select id, preview from change")).all()
    for number, preview in rows:
        op.get_bind().execute(
            sa.text("update change set preview = cast(:preview as jsonb) where id = :id"),
            {"id": number, "preview": json.dumps(told_one_by_one(preview))},
        )


def downgrade() -> None:
    """Previews stay as they are: their effects cannot be told the old way without what was left out."""
    op.drop_column("change_step", "payload")
    op.drop_column("change_step", "about")


def told_one_by_one(old: dict[str, Any]) -> dict[str, Any]:
    """A preview of the version before, as one of this; one of this stays as it is."""
    if "effects" in old:
        return old
    kept = ("kind", "title", "summary", "revision", "digest", "moves_bytes", "seconds", "undo")
    new = {name: old.get(name) for name in (*kept, "type_to_confirm", "warnings", "blockers")}
    new["moves_bytes"] = old.get("moves_bytes") or 0
    new["type_to_confirm"] = old.get("type_to_confirm") or ""
    new["warnings"], new["blockers"] = old.get("warnings") or [], old.get("blockers") or []
    new["steps"] = [_step(step) for step in old.get("steps", [])]
    new["effects"] = _effects(old)
    return new


def _step(old: dict[str, Any]) -> dict[str, Any]:
    name, _, about = old["name"].partition(":")
    return old | {"name": name, "about": about}


def _effects(old: dict[str, Any]) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []

    def tell(effect: str, told: object, **values: Any) -> None:
        if told:
            found.append({"effect": effect, **values})

    def of(name: str) -> Any:
        return old.get(name)

    tell("sums", of("rows"), pool="", rows=of("rows"))
    tell("ledgers", of("ledgers"), ledgers=of("ledgers"))
    tell("checks", of("checks"), rows=of("checks"))
    tell("votes", of("losses"), rows=of("losses"))
    tell("levels", of("levels_after"), before=of("levels_before") or [], after=of("levels_after"))
    heads = HEADS.get(old.get("kind", ""), ["", "Before", "After"])
    tell("texts", of("texts"), heads=heads, rows=of("texts"))
    tell("roles", of("roles"), rows=of("roles"))
    tell("endurance", of("endurance"), sentences=of("endurance"))
    tell("capacity", of("capacity"), rows=of("capacity"))
    tell(
        "moved",
        of("moves_bytes"),
        bytes=of("moves_bytes"),
        seconds=of("seconds") or 0.0,
        bottleneck=of("bottleneck") or "",
        level=of("domain_level") or "",
        flows=of("flows") or [],
    )
    tell(
        "on-disks",
        of("arriving") or of("leaving"),
        arriving=of("arriving") or {},
        leaving=of("leaving") or {},
    )
    title = "Votes" if old.get("kind") == "form-cluster" else "Protection"
    tell("promise", of("protection"), title=title, sentence=of("protection"))
    takes = "Usable for strips" if old.get("kind") == "form-pool" else "Takes"
    tell("domains", of("domains"), level=of("domain_level") or "", title=takes, rows=of("domains"))
    return found
