"""Snapshots are taken as an orchestrator asks for them, and let go of as it does."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from typing import Any

from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.claims.claims import Source
from foldbarn.core.claims.kept import KeptClaim
from foldbarn.core.claims.snapshots import (
    HELD,
    SnapshotDeed,
    SnapshotTurn,
    asked_as,
    error_turn,
    is_of_ours,
    next_snapshot_turn,
    snapshot_classes,
    snapshot_name,
    uid_of,
)
from foldbarn.core.claims.sources import (
    Resolved,
    SourceKind,
    source_of_claim,
    source_of_snapshot,
    spent,
    unknown_source,
)
from foldbarn.core.errors import BarnError, Conflict, NotFound
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Thing as Touched
from foldbarn.core.units import say_list
from foldbarn.core.volumes.snapshots import AskedFor, Snapshot
from foldbarn.links import orchestrators as link
from foldbarn.links.orchestrators import MERGE, Mirror, Resource, Thing
from foldbarn.services.changes import carry_out
from foldbarn.store import touching
from foldbarn.store.database import transaction

REST_SECONDS = 5.0  # before what came to nothing is tried again


@dataclass(eq=False, slots=True)
class Snapshotter:
    """number: of the orchestrator. rests: until when what is asked for by an object (by its uid) is left, by
    the process's clock.
    """

    number: int
    asked: link.Orchestrator
    mirrors: Mapping[Resource, Mirror]
    rests: dict[str, float] = field(default_factory=dict)
    published: bool = False

    def look(self, view: SiteView) -> None:
        """Does the next deed for each content that is ours, and lets go of what has filled its claim."""
        if not self.mirrors[link.CONTENTS].there:
            return
        now = time.monotonic()
        self.rests = {uid: until for uid, until in self.rests.items() if until > now}
        self._publish()
        for (_, name), thing in sorted(self.mirrors[link.CONTENTS].things.items()):
            if is_of_ours(thing) and uid_of(thing) not in self.rests:
                self._do(view, name, thing, next_snapshot_turn(view, self.number, thing, time.time()))

    def _publish(self) -> None:
        """The classes by which snapshots are asked for, once; what somebody altered of them is left so."""
        if self.published:
            return
        there = self.mirrors[link.SNAPSHOT_CLASSES].things
        for one in snapshot_classes():
            if ("", one["metadata"]["name"]) not in there:
                with suppress(Conflict):
                    self.asked.ask("POST", link.SNAPSHOT_CLASSES.path(), one)
        self.published = True

    def _do(self, view: SiteView, name: str, content: Thing, turn: SnapshotTurn) -> None:
        match turn.deed:
            case SnapshotDeed.TAKE if turn.volume is not None:
                asked = AskedFor(self.number, uid_of(content), asked_as(content))
                if why := self.take(view, turn.volume, asked, content["spec"]["volumeSnapshotRef"]["name"]):
                    self._do(view, name, content, error_turn(content, why, time.time()))
            case SnapshotDeed.DROP if turn.volume is not None and turn.snapshot is not None:
                if why := self._drop(turn.volume, [turn.snapshot], asked_as(content), uid_of(content)):
                    self._do(view, name, content, error_turn(content, why, time.time()))
            case SnapshotDeed.SAY:
                self._say(name, turn.status)
            case SnapshotDeed.RELEASE:
                left = [one for one in content["metadata"].get("finalizers") or () if one != HELD]
                self._patch(name, {"metadata": {"finalizers": left or None}})

    def take(self, view: SiteView, volume: Volume, asked: AskedFor, wanted: str) -> str:
        """Begins to take a snapshot of a volume, unless another change has to do with that now. wanted: what
        it is best called. Returns why it could not be begun.
        """
        policy = view.policy_of(volume)
        wish: dict[str, Any] = {"volumes": [volume.name], "name": snapshot_name(volume, wanted)}
        if policy is not None:
            wish["room"] = policy.wishes.schedule.room
        wish["asked"] = asdict(asked)
        why = f"{asked.path} asks for it."
        if asked.fills:
            why = f"The claim {asked.path} is to be filled from it."
        return self._begin("take-snapshot", volume, wish, why, asked.uid)

    def _drop(self, volume: Volume, gone: Sequence[Snapshot], path: str, uid: str) -> str:
        typed = gone[0].name if len(gone) == 1 else volume.name
        wish = {"volume": volume.name, "snapshots": [one.name for one in gone], "typed": typed}
        return self._begin("delete-snapshot", volume, wish, f"{path} asks for it no more.", uid)

    def _begin(self, kind: str, volume: Volume, wish: dict[str, Any], why: str, uid: str) -> str:
        with transaction() as session:
            if touching.open_touching(session, Touched.VOLUME, volume.number):
                return ""  # it is told when that has ended
        try:
            carry_out(BY_ITSELF, kind, wish, reason=why)
        except BarnError as error:  # such as a copy that reads from it still
            self.rests[uid] = time.monotonic() + REST_SECONDS
            return error.sentence
        return ""

    def _say(self, name: str, status: Mapping[str, Any]) -> None:
        self._patch(name, {"status": dict(status)}, "status")

    def _patch(self, name: str, said: Mapping[str, Any], sub: str = "") -> None:
        with suppress(NotFound):
            self.asked.ask("PATCH", link.CONTENTS.path(name=name, sub=sub), said, patch=MERGE)

    # What claims are filled from. --------------------------------------------------------------------------

    def found(self, view: SiteView, kept: KeptClaim) -> Resolved:
        """What the source of a claim comes to now."""
        source = kept.claim.source
        assert source is not None
        match source.kind:
            case SourceKind.SNAPSHOT:
                return self._of_snapshot(view, kept, source)
            case SourceKind.CLAIM:
                return source_of_claim(view, self._claim(view, kept.claim.namespace, source.name), kept.claim)
        return unknown_source(source)

    def _of_snapshot(self, view: SiteView, kept: KeptClaim, source: Source) -> Resolved:
        asked = self.mirrors[link.SNAPSHOTS].things.get((kept.claim.namespace, source.name))
        name = ((asked or {}).get("status") or {}).get("boundVolumeSnapshotContentName")
        content = self.mirrors[link.CONTENTS].things.get(("", str(name)))
        return source_of_snapshot(view, self.number, asked, content)

    def _claim(self, view: SiteView, namespace: str, name: str) -> KeptClaim | None:
        """The claim of that name that is there now."""
        thing = self.mirrors[link.CLAIMS].things.get((namespace, name))
        if thing is None:
            return None
        uid = uid_of(thing)
        return next((k for k in view.claims if k.orchestrator == self.number and k.claim.uid == uid), None)

    def take_for(self, view: SiteView, kept: KeptClaim, volume: Volume) -> str:
        """Begins to take the snapshot from which a claim is to be filled; returns why it could not."""
        if kept.claim.uid in self.rests:
            return ""
        asked = AskedFor(self.number, kept.claim.uid, kept.path, fills=True)
        return self.take(view, volume, asked, f"for-{kept.claim.name}")

    def drop_spent(self, view: SiteView) -> None:
        """Snapshots that were taken to fill a claim go once it has been filled, or is gone."""
        for volume, gone in spent(view, self.number):
            asked = [one.asked for one in gone if one.asked is not None]
            if not any(one.uid in self.rests for one in asked):
                self._drop(volume, gone, say_list([one.path for one in asked]), asked[0].uid)
