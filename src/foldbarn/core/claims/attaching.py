"""Attaching a claim's volume to the node of a pod, as the orchestrator asks for it (storage.k8s.io/v1,
VolumeAttachment), and parting it again: the next deed at each moment.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from foldbarn.core.claims.objects import DRIVER
from foldbarn.core.hosts.lanes import lanes_of
from foldbarn.core.names import folded
from foldbarn.core.site import Host, SiteView, Volume

Thing = Mapping[str, Any]
HELD = f"{DRIVER}/attached"  # by this an attachment stays until its volume is parted from the node


class AttachDeed(StrEnum):
    """What is to be done next."""

    NOTHING = "nothing"
    HOLD = "hold the attachment"
    ATTACH = "attach the volume to the host"
    TELL = "tell that it is attached"
    SAY_WHY = "tell why it is not"
    DETACH = "part the volume from the host"
    RELEASE = "let the attachment go"


@dataclass(frozen=True, slots=True)
class AttachTurn:
    """sentence: why it cannot be attached. told: how the node reaches it."""

    deed: AttachDeed
    host: Host | None = None
    sentence: str = ""
    told: Mapping[str, str] = field(default_factory=dict)


def is_ours(attachment: Thing) -> bool:
    return bool(attachment["spec"].get("attacher") == DRIVER)


def next_attach_turn(view: SiteView, attachment: Thing, volume: Volume | None) -> AttachTurn:
    """volume: that it is of; none where it is not one that is served here."""
    node, metadata = str(attachment["spec"].get("nodeName", "")), attachment["metadata"]
    held = HELD in (metadata.get("finalizers") or ())
    leaves, status = bool(metadata.get("deletionTimestamp")), attachment.get("status") or {}
    host = next((one for one in view.hosts if folded(one.name) == folded(node)), None)
    target = view.target_of(volume.number) if volume is not None else None
    attached = host is not None and target is not None and target.attachment(host.number) is not None
    if leaves:
        if attached:
            return AttachTurn(AttachDeed.DETACH, host)
        return AttachTurn(AttachDeed.RELEASE if held else AttachDeed.NOTHING)
    if volume is None or volume.binned is not None:
        return _against(status, "Its volume is not there, or is in the bin.")
    if host is None:
        return _against(status, f"No host is registered in Fold Barn by the name {node}.")
    if not held:
        return AttachTurn(AttachDeed.HOLD)
    if not attached:
        return AttachTurn(AttachDeed.ATTACH, host)
    if status.get("attached"):
        return AttachTurn(AttachDeed.NOTHING)
    return AttachTurn(AttachDeed.TELL, host, told=_how(view, volume, host))


def _against(status: Thing, sentence: str) -> AttachTurn:
    if (status.get("attachError") or {}).get("message") == sentence:
        return AttachTurn(AttachDeed.NOTHING)
    return AttachTurn(AttachDeed.SAY_WHY, sentence=sentence)


def _how(view: SiteView, volume: Volume, host: Host) -> dict[str, str]:
    """What a node takes to reach a volume: under what name, and where."""
    lane = lanes_of(view, volume=volume.number, host=host.number)[0]
    portals = ",".join(path.portal for path in lane.paths)
    return {"transport": lane.attachment.transport.value, "target": lane.name, "portals": portals}
