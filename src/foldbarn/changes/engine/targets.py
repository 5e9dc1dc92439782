"""What nodes serve to hosts: which targets, and who is let in to each."""

from __future__ import annotations

from collections import defaultdict
from typing import Any, ClassVar

from foldbarn.changes.engine.telling import Matter
from foldbarn.core.hosts.gateways import portals_of
from foldbarn.core.hosts.initiators import target_name, wwid
from foldbarn.core.site import SiteView
from foldbarn.store import nodes
from foldbarn.store.database import Session
from foldbarn.store.nodes import Told

MODES = {False: "read-write", True: "read-only"}


class _Targets(Matter):
    """By name of the target: of which volume it is, and who is let in."""

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
        return {"targets": wanted}

    def told(self, session: Session) -> dict[int, Told]:
        return nodes.targets_told(session)

    def note(self, session: Session, node: int, wanted: dict[str, Any], order: str) -> None:
        nodes.note_targets(session, node, wanted, order)


TARGETS = _Targets()
