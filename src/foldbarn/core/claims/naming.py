"""What the volume of a claim is called here."""

from __future__ import annotations

from collections.abc import Collection

from foldbarn.core.claims.claims import Claim
from foldbarn.core.names import fitting


def volume_name(claim: Claim, taken: Collection[str]) -> str:
    """By its namespace and its name. taken: folded."""
    return fitting(f"{claim.namespace}-{claim.name}", taken)
