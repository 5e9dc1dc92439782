"""Ledgers in previews that are kept say how they are printed, and what each of their numbers is made of."""

import json
from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    connection = op.get_bind()
    rows = connection.execute(sa.text("select id, preview from change where preview is not null")).all()
    for number, preview in rows:
        effects = [e for e in preview.get("effects", []) if e.get("effect") == "ledgers"]
        if not effects:
            continue
        for effect in effects:
            effect["ledgers"] = [printed(ledger) for ledger in effect["ledgers"]]
        connection.execute(
            sa.text("update change set preview = cast(:preview as jsonb) where id = :id"),
            {"id": number, "preview": json.dumps(preview)},
        )


def downgrade() -> None:
    """Previews stay as they are: what is said of their ledgers besides is no harm."""


def printed(old: dict[str, Any]) -> dict[str, Any]:
    """A ledger of the version before, as one of this; one of this stays as it is."""
    if isinstance(old["raw"], dict):
        return old
    amounts = [part["bytes"] for part in old["parts"]]
    tb, tib = _together(amounts, 10**12), _together(amounts, 2**40)
    parts = [
        part | {"tb": tb[i], "tib": tib[i], "figure": None, "grows": part.get("grows", False)}
        for i, part in enumerate(old["parts"])
    ]
    raw = {"name": "raw", "label": "raw", "bytes": old["raw"], "tb": sum(tb), "tib": sum(tib)}
    return {"name": old["name"], "raw": raw | {"grows": False, "figure": None}, "parts": parts}


def _together(amounts: list[int], unit: int) -> list[int]:
    """Whole hundredths that add up to the rounded sum, as ledgers were printed at this version."""
    hundredths = [amount * 100 // unit for amount in amounts]
    missing = (sum(amounts) * 200 + unit) // (2 * unit) - sum(hundredths)
    by_rest = sorted(range(len(amounts)), key=lambda i: -(amounts[i] * 100 % unit))
    for i in by_rest[:missing]:
        hundredths[i] += 1
    return hundredths
