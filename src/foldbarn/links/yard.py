"""The levers of the yard, where there is one."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import httpx

from foldbarn.core.errors import NotFound, NotPossible, Unreachable
from foldbarn.settings import settings

PATIENCE = 25.0  # what is pulled may be slow to answer, such as an orchestrator that is told a lot


@lru_cache
def _client() -> httpx.Client:
    """One for good: making one reads all the certificates there are. No connection is kept: the yard may
    have been started again since.
    """
    nothing_kept = httpx.Limits(max_keepalive_connections=0)
    return httpx.Client(timeout=PATIENCE, trust_env=False, limits=nothing_kept)


def levers(pull: dict[str, Any] | None = None) -> dict[str, Any]:
    """Pulls a lever, if one is given, and returns what the yard's levers then stand at."""
    url = settings().yard_url
    if not url:
        raise NotFound("This site has no yard: its nodes are real.", about="yard")
    try:
        client = _client()
        answer = client.post(f"{url}/levers", json=pull) if pull else client.get(f"{url}/levers")
        body = answer.json()
    except (httpx.HTTPError, ValueError) as error:
        raise Unreachable(
            "The yard does not answer.",
            about="yard",
            next_step="It is started again by itself; try in a moment.",
        ) from error
    if answer.is_client_error:
        raise NotPossible(
            str(body.get("detail")) if isinstance(body.get("detail"), str) else "The yard has no such lever.",
            about="lever",
        )
    found: dict[str, Any] = body
    return found
