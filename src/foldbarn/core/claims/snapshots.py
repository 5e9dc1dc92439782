"""Snapshots that an orchestrator asks for (snapshot.storage.k8s.io/v1, as the Kubernetes storage group
publishes it): which of ours stands for one, and the next deed at each moment.

A VolumeSnapshot is what a team asks for; a controller of the orchestrator's own makes a VolumeSnapshotContent
for it, which names the volume by its handle. The driver, which is Fold Barn, takes the snapshot, and says in
the content's status what came of it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any, cast

from foldbarn.core.claims.objects import DRIVER, OURS, as_moment, handle_of
from foldbarn.core.names import fitting
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.origins import against_marking
from foldbarn.core.volumes.snapshots import Snapshot

Thing = Mapping[str, Any]
GROUP = "snapshot.storage.k8s.io"
IS_DEFAULT = "snapshot.storage.kubernetes.io/is-default-class"
HELD = "snapshot.storage.kubernetes.io/volumesnapshotcontent-bound-protection"
BEING_DELETED = "snapshot.storage.kubernetes.io/volumesnapshot-being-deleted"
NANOSECONDS = 1_000_000_000


class SnapshotDeed(StrEnum):
    """What is to be done next."""

    NOTHING = "nothing"
    TAKE = "take the snapshot"
    SAY = "say what came of it"
    DROP = "let the snapshot go"
    RELEASE = "let the content go"


@dataclass(frozen=True, slots=True)
class SnapshotTurn:
    """volume, snapshot: of which it is, and what was taken. status: what is to be said of it."""

    deed: SnapshotDeed
    volume: Volume | None = None
    snapshot: Snapshot | None = None
    status: Mapping[str, Any] = field(default_factory=dict)


NOTHING = SnapshotTurn(SnapshotDeed.NOTHING)


# What is published. ----------------------------------------------------------------------------------------


def snapshot_classes() -> list[dict[str, Any]]:
    """Two, by what becomes of what was taken as the snapshot is deleted there; the first is the default."""
    gone = _class("fold-barn", "Delete")
    gone["metadata"]["annotations"] = {IS_DEFAULT: "true"}
    return [gone, _class("fold-barn-retain", "Retain")]


def _class(name: str, policy: str) -> dict[str, Any]:
    metadata: dict[str, Any] = {"name": name, "labels": dict(OURS)}
    kind = {"apiVersion": f"{GROUP}/v1", "kind": "VolumeSnapshotClass"}
    return {**kind, "metadata": metadata, "driver": DRIVER, "deletionPolicy": policy}


# What stands for what. -------------------------------------------------------------------------------------


def snapshot_handle(mark: str, volume: int, snapshot: int) -> str:
    """By which a snapshot is known to its driver."""
    return f"{handle_of(mark, volume)}/{snapshot}"


def is_of_ours(content: Thing) -> bool:
    """Whether a content is one that this driver sees to."""
    return bool((content.get("spec") or {}).get("driver") == DRIVER)


def is_leaving(thing: Thing) -> bool:
    return bool(thing["metadata"].get("deletionTimestamp"))


def uid_of(thing: Thing) -> str:
    return str(thing["metadata"].get("uid", ""))


def asked_as(content: Thing) -> str:
    """Namespace and name of the snapshot that a content stands for."""
    refers = content["spec"].get("volumeSnapshotRef") or {}
    return f"{refers.get('namespace', '')}/{refers.get('name', '')}"


def snapshot_asked_by(volume: Volume, uid: str) -> Snapshot | None:
    """The snapshot of a volume that was taken since an object of an orchestrator asked for it."""
    return next((s for s in volume.snapshots if s.asked is not None and s.asked.uid == uid), None)


@dataclass(frozen=True, slots=True)
class _Known:
    """Of the volumes of an orchestrator's claims, by the uid of what asked for a snapshot, and by handles."""

    by_uid: dict[str, tuple[Volume, Snapshot]] = field(default_factory=dict)
    snapshots: dict[str, tuple[Volume, Snapshot]] = field(default_factory=dict)
    volumes: dict[str, Volume] = field(default_factory=dict)


def _known(view: SiteView, orchestrator: int) -> _Known:
    """An orchestrator has to do with the volumes of its own claims alone. Found once for each picture."""
    key = f"asked for by {orchestrator}"
    if key not in view.findings:
        found = _Known()
        numbers = {kept.volume for kept in view.claims if kept.orchestrator == orchestrator}
        for volume in view.volumes:
            if volume.number not in numbers:
                continue
            found.volumes[handle_of(view.mark, volume.number)] = volume
            for one in volume.snapshots:
                found.snapshots[snapshot_handle(view.mark, volume.number, one.number)] = volume, one
                if one.asked is not None:
                    found.by_uid[one.asked.uid] = volume, one
        view.findings[key] = found
    return cast("_Known", view.findings[key])


def snapshot_of_content(view: SiteView, orchestrator: int, content: Thing) -> tuple[Volume, Snapshot] | None:
    """What was taken for a content of an orchestrator (by number), or is named by it; none where there is
    none.
    """
    known, source = _known(view, orchestrator), content["spec"].get("source") or {}
    named = str(source.get("snapshotHandle") or "")
    return known.snapshots.get(named) if named else known.by_uid.get(uid_of(content))


# What follows. ---------------------------------------------------------------------------------------------


def next_snapshot_turn(view: SiteView, orchestrator: int, content: Thing, now: float) -> SnapshotTurn:
    """What is to be done for a content of an orchestrator (by number), however often that is asked. now:
    seconds since 1970.
    """
    found = snapshot_of_content(view, orchestrator, content)
    if is_leaving(content):
        return _while_leaving(content, found)
    status = content.get("status") or {}
    if found is not None:
        of, snapshot = found
        if snapshot.forming:
            return NOTHING
        return _saying(status, _told(view, of, snapshot), now)
    source = content["spec"].get("source") or {}
    if source.get("snapshotHandle") or status.get("snapshotHandle"):
        words = "The snapshot is not there, or not one of this orchestrator's claims."
        return _saying(status, _error(words), now)
    handle = str(source.get("volumeHandle", ""))
    volume = _known(view, orchestrator).volumes.get(handle)
    if volume is None:
        words = "The volume is not there, or not one of this orchestrator's claims."
        return _saying(status, _error(words), now)
    if refusal := against_altering(volume) or against_marking(volume):
        return _saying(status, _error(refusal.sentence), now)
    return SnapshotTurn(SnapshotDeed.TAKE, volume)


def _while_leaving(content: Thing, found: tuple[Volume, Snapshot] | None) -> SnapshotTurn:
    metadata, spec = content["metadata"], content["spec"]
    annotations = metadata.get("annotations") or {}
    # Somebody deleted the content by hand: the snapshot that it stands for is still asked for.
    if (spec.get("volumeSnapshotRef") or {}).get("uid") and annotations.get(BEING_DELETED) != "yes":
        return NOTHING
    if HELD not in (metadata.get("finalizers") or ()):
        return NOTHING
    if spec.get("deletionPolicy") == "Delete" and found is not None:
        volume, snapshot = found
        gone = SnapshotTurn(SnapshotDeed.DROP, volume, snapshot)
        return NOTHING if snapshot.forming or volume.erasing else gone
    return SnapshotTurn(SnapshotDeed.RELEASE)


def _told(view: SiteView, volume: Volume, snapshot: Snapshot) -> dict[str, Any]:
    if snapshot.lost:
        return _error(f"It is lost. {snapshot.lost}")
    return {
        "snapshotHandle": snapshot_handle(view.mark, volume.number, snapshot.number),
        "creationTime": int(snapshot.taken_at * NANOSECONDS),
        "restoreSize": snapshot.bytes or volume.size_bytes,
        "readyToUse": True,
        "error": None,
    }


def _error(sentence: str) -> dict[str, Any]:
    return {"readyToUse": False, "error": {"message": sentence}}


def _saying(status: Thing, told: Mapping[str, Any], now: float) -> SnapshotTurn:
    """Nothing where it says so already; the time of an error is when it was first told."""
    said, before = {**told}, status.get("error") or {}
    if (error := said.get("error")) is not None:
        same = before.get("message") == error["message"]
        said["error"] = before if same else {**error, "time": as_moment(now)}
    if all(status.get(key) == value for key, value in said.items()):
        return NOTHING
    return SnapshotTurn(SnapshotDeed.SAY, status=said)


def error_turn(content: Thing, sentence: str, now: float) -> SnapshotTurn:
    """What is to be said of a content where something came to nothing."""
    return _saying(content.get("status") or {}, _error(sentence), now)


def snapshot_name(volume: Volume, wanted: str) -> str:
    """What a snapshot of a volume is called here: as it is there, as far as a name here can be like that."""
    return fitting(wanted, [s.name for s in volume.snapshots])
