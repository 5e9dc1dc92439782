"""The first row of all: a site."""

from __future__ import annotations

from foldbarn.store.database import transaction
from foldbarn.store.tables import SiteRow


def found_site(name: str, operator: str, grace_seconds: float) -> None:
    """Writes down a new site; does nothing where there is one."""
    with transaction() as session:
        if session.get(SiteRow, 1) is None:
            session.add(SiteRow(id=1, name=name, operator=operator, grace_seconds=grace_seconds, revision=1))
