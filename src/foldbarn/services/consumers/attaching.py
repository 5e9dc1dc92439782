"""Volumes are attached to the nodes on which pods use them, and parted from those on which none does."""

from __future__ import annotations

import time
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field

from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.claims.attaching import HELD, AttachDeed, AttachTurn, is_ours, next_attach_turn
from foldbarn.core.claims.objects import as_moment, handle_of
from foldbarn.core.claims.secrets import names_secret
from foldbarn.core.errors import BarnError, NotFound
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Thing as Touched
from foldbarn.links import orchestrators as link
from foldbarn.links.orchestrators import MERGE, Mirror, Resource, Thing
from foldbarn.services.changes import carry_out
from foldbarn.store import touching
from foldbarn.store.database import transaction

REST_SECONDS = 5.0  # before what came to nothing is tried again


@dataclass(eq=False, slots=True)
class Attacher:
    """number: of the orchestrator; rests: until when an attachment (by name) is left, by the process's
    clock.
    """

    number: int
    asked: link.Orchestrator
    mirrors: Mapping[Resource, Mirror]
    rests: dict[str, float] = field(default_factory=dict)

    def look(self, view: SiteView) -> None:
        """Does the next deed for each attachment that is ours."""
        now = time.monotonic()
        self.rests = {name: until for name, until in self.rests.items() if until > now}
        if not any(is_ours(thing) for thing in list(self.mirrors[link.ATTACHMENTS].things.values())):
            return
        by_handle = {handle_of(view.mark, volume.number): volume for volume in view.volumes}
        for (_, name), thing in sorted(self.mirrors[link.ATTACHMENTS].things.items()):
            if is_ours(thing) and name not in self.rests:
                volume = by_handle.get(self._handle(thing))
                self._do(view, name, thing, volume, next_attach_turn(view, thing, volume))

    def _object(self, attachment: Thing) -> Thing:
        """That of its volume."""
        of = (attachment["spec"].get("source") or {}).get("persistentVolumeName")
        return self.mirrors[link.VOLUMES].things.get(("", str(of))) or {}

    def _handle(self, attachment: Thing) -> str:
        source = (self._object(attachment).get("spec") or {}).get("csi") or {}
        return str(source.get("volumeHandle", ""))

    def _do(self, view: SiteView, name: str, thing: Thing, volume: Volume | None, turn: AttachTurn) -> None:
        match turn.deed:
            case AttachDeed.HOLD:
                kept = [*(thing["metadata"].get("finalizers") or ()), HELD]
                self._patch(name, {"metadata": {"finalizers": kept}})
            case AttachDeed.RELEASE:
                left = [one for one in thing["metadata"].get("finalizers") or () if one != HELD]
                self._patch(name, {"metadata": {"finalizers": left}})
            case AttachDeed.TELL if volume is not None and not self._is_open(volume):
                said = {"attached": True, "attachmentMetadata": dict(turn.told), "attachError": None}
                self._patch(name, {"status": said}, "status")
            case AttachDeed.SAY_WHY:
                self._say_why(name, turn.sentence)
            case AttachDeed.ATTACH if volume is not None and turn.host is not None:
                # The node makes the file system and mounts it: to the host it is a disk.
                more = {"file_system": "none"}
                if names_secret(self._object(thing)):
                    more["secret_of"] = view.orchestrator_numbered(self.number).name
                self._change(name, "attach-volume", volume, turn.host.name, **more)
            case AttachDeed.DETACH if volume is not None and turn.host is not None:
                self._change(name, "detach-volume", volume, turn.host.name)

    def _is_open(self, volume: Volume) -> bool:
        """Whether a change that has to do with who reaches a volume has not ended."""
        with transaction() as session:
            return bool(touching.open_touching(session, Touched.TARGET, volume.number))

    def _change(self, name: str, kind: str, volume: Volume, host: str, **more: str) -> None:
        if self._is_open(volume):
            return
        why = "A pod on it uses the claim."
        if kind == "detach-volume":
            why = "No pod on it uses the claim any more."
        try:
            carry_out(BY_ITSELF, kind, {"volume": volume.name, "hosts": [host], **more}, reason=why)
        except BarnError as error:  # such as one that is connected still
            self.rests[name] = time.monotonic() + REST_SECONDS
            self._say_why(name, error.sentence)

    def _say_why(self, name: str, sentence: str) -> None:
        error = {"time": as_moment(time.time()), "message": sentence}
        self._patch(name, {"status": {"attachError": error}}, "status")

    def _patch(self, name: str, said: Thing, sub: str = "") -> None:
        with suppress(NotFound):
            self.asked.ask("PATCH", link.ATTACHMENTS.path(name=name, sub=sub), said, patch=MERGE)
