"""What the person does who runs the orchestrator: applies manifests, and removes things. Over its own API, as
anybody would.
"""

from __future__ import annotations

import base64
import ssl
from http import HTTPStatus
from typing import Any

import httpx
import yaml

from foldbarn.core.claims.rights import ACCOUNT, TOKEN
from foldbarn.yard.orchestrator.kinds import BY_KIND, Kind
from foldbarn.yard.orchestrator.standing import StandIn

MERGE = "application/merge-patch+json"
PATIENCE = 20.0


class Failed(Exception):
    """What cannot be applied or removed, and why."""


def describe(stand_in: StandIn) -> dict[str, str]:
    """By what it is reached; token: of the account that was made for Fold Barn, empty before there is one."""
    assert stand_in.server is not None
    secret = stand_in.server.api.objects.find(BY_KIND["Secret"], ACCOUNT, TOKEN) or {}
    token = base64.b64decode((secret.get("data") or {}).get("token", "")).decode()
    authority = stand_in.authority.decode()
    return {"name": stand_in.name, "url": stand_in.url, "authority": authority, "token": token}


async def apply(stand_in: StandIn, text: str) -> str:
    """Makes what several documents of YAML describe, or alters it to be so. What was done, a line each.
    Raises Failed.
    """
    try:
        documents = [one for one in yaml.safe_load_all(text) if one]
    except yaml.YAMLError as error:
        raise Failed(f"This is no YAML: {error}") from error
    said = []
    async with _client(stand_in) as client:
        for document in documents:
            kind, space, name = _which(document)
            made = await client.post(_path(kind, space), json=document)
            done = "created"
            if made.status_code == HTTPStatus.CONFLICT:
                path = f"{_path(kind, space)}/{name}"
                made = await client.patch(path, json=document, headers={"Content-Type": MERGE})
                done = "configured"
            _check(made)
            said.append(f"{kind.kind} {name} {done}")
    return "\n".join(said)


async def remove(stand_in: StandIn, text: str) -> str:
    """Deletes a thing: its kind, and NAMESPACE/NAME or NAME. Raises Failed."""
    words = text.split()
    if len(words) != 2 or words[0] not in BY_KIND:
        raise Failed("Say the kind of a thing, and NAMESPACE/NAME or NAME.")
    space, _, name = words[1].rpartition("/")
    async with _client(stand_in) as client:
        _check(await client.delete(f"{_path(BY_KIND[words[0]], space)}/{name}"))
    return f"{words[0]} {name} deleted"


def _client(stand_in: StandIn) -> httpx.AsyncClient:
    trust = ssl.create_default_context(cadata=stand_in.authority.decode())
    headers = {"Authorization": f"Bearer {stand_in.admin_token}"}
    return httpx.AsyncClient(
        base_url=stand_in.url, headers=headers, verify=trust, trust_env=False, timeout=PATIENCE
    )


def _which(document: Any) -> tuple[Kind, str, str]:
    metadata = document.get("metadata") if isinstance(document, dict) else None
    if not isinstance(metadata, dict) or document.get("kind") not in BY_KIND:
        raise Failed("Each document has a kind that is known here, and metadata.")
    kind = BY_KIND[document["kind"]]
    space = str(metadata.get("namespace") or ("default" if kind.namespaced else ""))
    return kind, space if kind.namespaced else "", str(metadata.get("name", ""))


def _path(kind: Kind, space: str) -> str:
    start = f"/apis/{kind.api_version}" if kind.group else f"/api/{kind.version}"
    return f"{start}{f'/namespaces/{space}' if kind.namespaced else ''}/{kind.plural}"


def _check(answer: httpx.Response) -> None:
    if answer.is_error:
        raise Failed(str(answer.json().get("message", answer.text)))
