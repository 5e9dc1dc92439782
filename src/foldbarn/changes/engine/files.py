"""What the nodes of a cluster know of its file service: all of it, each of them, so that whoever takes an
address over serves what was served there.
"""

from __future__ import annotations

import hashlib
import json
from typing import Any, ClassVar, cast

from foldbarn.changes.engine.telling import Matter
from foldbarn.core.shares.share import Share
from foldbarn.core.site import SiteView, Volume
from foldbarn.store import nodes
from foldbarn.store.database import Session
from foldbarn.store.nodes import Told


class _Files(Matter):
    """What is written down of a node is a digest: ten thousand rules are many, and alike on all of them."""

    kind: ClassVar[str] = "files"
    number: ClassVar[int] = 3

    def wanted(self, view: SiteView) -> dict[int, dict[str, Any]]:
        if view.files is None:
            return {}
        digest = hashlib.sha256(json.dumps(_all_of(view), sort_keys=True).encode()).hexdigest()
        return {node.number: {"digest": digest} for node in view.nodes if node.member}

    def same(self, told: dict[str, Any], wanted: dict[str, Any]) -> bool:
        return bool(told.get("digest", "") == wanted.get("digest", ""))

    def order(self, view: SiteView, node: int, wanted: dict[str, Any]) -> dict[str, Any]:
        return _all_of(view) if wanted else {"addresses": {}, "shares": {}}

    def told(self, session: Session) -> dict[int, Told]:
        return nodes.files_told(session)

    def note(self, session: Session, node: int, wanted: dict[str, Any], order: str) -> None:
        nodes.note_files(session, node, wanted.get("digest", ""), order)


FILES = _Files()


def _all_of(view: SiteView) -> dict[str, Any]:
    """The order, but for its id (docs/agent-protocol.md); found once for each picture of the site."""
    found = view.findings.get("files")
    if found is None:
        found = view.findings["files"] = _found(view)
    return cast("dict[str, Any]", found)


def _found(view: SiteView) -> dict[str, Any]:
    assert view.files is not None
    called = {node.number: node.agent_name or node.name for node in view.nodes}
    volumes = {share.number: view.volume_numbered(share.volume) for share in view.shares}
    return {
        "addresses": {
            str(one.number): {"at": list(one.at), "name": one.name, "home": called.get(one.home, "")}
            for one in view.files.addresses
        },
        "shares": {
            str(share.number): _share(share, volumes[share.number])
            for share in view.shares
            if not volumes[share.number].forming and volumes[share.number].binned is None
        },
    }


def _share(share: Share, volume: Volume) -> dict[str, Any]:
    return {
        "name": share.name,
        "address": share.address,
        "plies": sorted(ply.number for ply in volume.plies),
        "bytes": volume.size_bytes,
        "quota": share.quota,
        "protocols": [one.value for one in share.protocols],
        "rules": [[rule.who, rule.right.value, rule.root] for rule in share.rules],
        "users": {user.name: [user.right.value, user.proof] for user in share.users},
    }


def members(view: SiteView) -> set[int]:
    """Numbers of the nodes that are told of the file service."""
    return {node.number for node in view.nodes if node.member}
