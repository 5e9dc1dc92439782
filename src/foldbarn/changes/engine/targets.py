"""What nodes serve to hosts: which targets, and who is let in to each."""

from __future__ import annotations

from collections import defaultdict
from typing import Any, ClassVar

import structlog

from foldbarn.changes.engine.telling import Matter
from foldbarn.core.errors import NotPossible
from foldbarn.core.hosts.attachments import Target
from foldbarn.core.hosts.gateways import portals_of
from foldbarn.core.hosts.initiators import Transport, target_name, wwid
from foldbarn.core.site import SiteView
from foldbarn.sealed import unseal
from foldbarn.store import nodes
from foldbarn.store.database import Session
from foldbarn.store.nodes import Told

log = structlog.get_logger()
MODES = {False: "read-write", True: "read-only"}


class _Targets(Matter):
    """By name of the target: of which volume it is, and who is let in. Secrets stay sealed, but in the
    order.
    """

    kind: ClassVar[str] = "serve"
    number: ClassVar[int] = 1
    shown: ClassVar[bool] = True

    def wanted(self, view: SiteView) -> dict[int, dict[str, Any]]:
        found: dict[int, dict[str, Any]] = defaultdict(dict)
        for target in view.targets:
            volume = view.volume_numbered(target.volume)
            if volume.forming or not volume.served:
                continue
            for transport in {one.transport for one in target.attachments}:
                allows = {
                    name: MODES[one.read_only]
                    for one in target.attachments
                    if one.transport == transport
                    for name in view.host_numbered(one.host).names_for(transport)
                }
                said: dict[str, Any] = {
                    "transport": transport.value,
                    "disk": wwid(transport, view.mark, volume.number),
                    "bytes": volume.size_bytes,
                    "plies": sorted(ply.number for ply in volume.plies),
                    "allows": dict(sorted(allows.items())),
                }
                if secrets := _secrets(view, target, transport):
                    said["secrets"] = secrets
                if volume.origin is not None and volume.origin.shown:
                    source = view.volume_numbered(volume.origin.volume).whole
                    said["reads"] = {"ply": source.number, "at": volume.origin.snapshot}
                for node in target.gateways:
                    found[node][target_name(transport, view.mark, volume.number)] = said
        portals = {node.number: [one.address for one in portals_of(node)] for node in view.nodes}
        return {
            node: {name: said | {"portals": portals[node]} for name, said in sorted(targets.items())}
            for node, targets in found.items()
        }

    def same(self, told: dict[str, Any], wanted: dict[str, Any]) -> bool:
        known: dict[str, Any] | None = told.get("targets", {})
        return known == wanted

    def order(self, view: SiteView, node: int, wanted: dict[str, Any]) -> dict[str, Any]:
        return {"targets": {name: _opened(said) for name, said in wanted.items()}}

    def told(self, session: Session) -> dict[int, Told]:
        return nodes.targets_told(session)

    def note(self, session: Session, node: int, wanted: dict[str, Any], order: str) -> None:
        nodes.note_targets(session, node, wanted, order)


def _secrets(view: SiteView, target: Target, transport: Transport) -> dict[str, dict[str, str]]:
    """By name of an initiator that has to prove itself: the secrets that are good, sealed, by their name."""
    good = {one.number: {s.name: s.sealed for s in one.secrets} for one in view.orchestrators}
    return {
        name: good.get(one.secret_of, {})
        for one in target.attachments
        if one.transport == transport and one.secret_of is not None
        for name in view.host_numbered(one.host).names_for(transport)
    }


def _opened(said: dict[str, Any]) -> dict[str, Any]:
    """A target as its node is told of it."""
    if "secrets" not in said:
        return said
    return said | {"secrets": {own: _unsealed(mine) for own, mine in said["secrets"].items()}}


def _unsealed(sealed: dict[str, str]) -> dict[str, str]:
    """By one that cannot be opened nobody is let in."""
    found = {}
    for name, one in sealed.items():
        try:
            found[name] = unseal(one)
        except NotPossible as error:
            log.warning("a secret is lost", secret=name, why=error.sentence)
    return found


TARGETS = _Targets()
