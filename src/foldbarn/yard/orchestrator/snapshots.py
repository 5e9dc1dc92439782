"""The part of an orchestrator that sees to snapshots, whoever's driver takes them: for each that is asked for
there is a content, which says what came of it (snapshot.storage.k8s.io/v1).
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from foldbarn.yard.orchestrator.kinds import BY_KIND
from foldbarn.yard.orchestrator.machinery import Api, moment
from foldbarn.yard.orchestrator.objects import Look
from foldbarn.yard.orchestrator.refusing import Thing
from foldbarn.yard.orchestrator.selecting import at

_SNAPSHOT, _CONTENT, _CLASS = (
    BY_KIND[kind] for kind in ("VolumeSnapshot", "VolumeSnapshotContent", "VolumeSnapshotClass")
)
_CLAIM, _VOLUME = BY_KIND["PersistentVolumeClaim"], BY_KIND["PersistentVolume"]
_OURS = "snapshot.storage.kubernetes.io"
HELD = f"{_OURS}/volumesnapshot-bound-protection"
CONTENT_HELD = f"{_OURS}/volumesnapshotcontent-bound-protection"
BEING_DELETED = f"{_OURS}/volumesnapshot-being-deleted"
IS_DEFAULT = f"{_OURS}/is-default-class"


def see_to_snapshots(api: Api, look: Look) -> None:
    """Each snapshot gets its content and says what that says; with it goes what is to go."""
    if not look.touches(_SNAPSHOT, _CONTENT, _CLASS, _CLAIM, _VOLUME):
        return
    for snapshot in api.objects.all(_SNAPSHOT):
        if snapshot["metadata"].get("deletionTimestamp"):
            _end(api, snapshot)
        else:
            _see_to(api, snapshot)


def _see_to(api: Api, snapshot: Thing) -> None:
    if HELD not in snapshot["metadata"].get("finalizers", ()):
        snapshot = _held(api, snapshot)
    content = _content_of(api, snapshot)
    if content is None and (why := _make_content(api, snapshot)):
        known = at(snapshot, "status.error.message")
        if known != why:
            error = {"message": why, "time": moment()}
            api.note(_SNAPSHOT, snapshot, status={"readyToUse": False, "error": error})
        return
    content = content or _content_of(api, snapshot)
    if content is not None:
        _say(api, snapshot, content)


def _held(api: Api, snapshot: Thing) -> Thing:
    metadata = snapshot["metadata"]
    kept = {**metadata, "finalizers": [*metadata.get("finalizers", ()), HELD]}
    return api.objects.put(_SNAPSHOT, {**snapshot, "metadata": kept})


def _name_for(snapshot: Thing) -> str:
    named = at(snapshot, "spec.source.volumeSnapshotContentName")
    return str(named or f"snapcontent-{snapshot['metadata']['uid']}")


def _content_of(api: Api, snapshot: Thing) -> Thing | None:
    """Its content, bound to it: one that was made beforehand is for a name, and from now on for this one."""
    content = api.objects.find(_CONTENT, "", _name_for(snapshot))
    if content is None:
        return None
    metadata, refers = snapshot["metadata"], at(content, "spec.volumeSnapshotRef") or {}
    if (refers.get("namespace"), refers.get("name")) != (metadata["namespace"], metadata["name"]):
        return None
    if refers.get("uid") in (None, ""):
        return api.note(_CONTENT, content, volumeSnapshotRef={**refers, "uid": metadata["uid"]})
    return content if refers["uid"] == metadata["uid"] else None


def _make_content(api: Api, snapshot: Thing) -> str:
    """Returns why there can be none yet."""
    metadata = snapshot["metadata"]
    name = at(snapshot, "spec.source.persistentVolumeClaimName")
    if not name:
        return f"the content {_name_for(snapshot)} is not there, or is another snapshot's"
    claim = api.objects.find(_CLAIM, metadata["namespace"], name)
    if claim is None or at(claim, "status.phase") != "Bound":
        return f"the claim {name} is not there, or not bound"
    volume = api.objects.find(_VOLUME, "", claim["spec"]["volumeName"])
    source = at(volume, "spec.csi") if volume is not None else None
    if source is None:
        return f"no driver takes snapshots of the volume of {name}"
    found = _class_for(api, snapshot, source["driver"])
    if found is None:
        return f"there is no snapshot class for {source['driver']}, or not the one that is named"
    refers = {"kind": "VolumeSnapshot", "apiVersion": f"{_SNAPSHOT.group}/v1"}
    refers |= {key: metadata[key] for key in ("namespace", "name", "uid")}
    body: dict[str, Any] = {
        "metadata": {"name": _name_for(snapshot), "finalizers": [CONTENT_HELD]},
        "spec": {
            "driver": source["driver"],
            "deletionPolicy": found["deletionPolicy"],
            "source": {"volumeHandle": source["volumeHandle"]},
            "volumeSnapshotClassName": found["metadata"]["name"],
            "volumeSnapshotRef": refers,
        },
    }
    api.create(_CONTENT, "", body)
    return ""


def _class_for(api: Api, snapshot: Thing, driver: str) -> Thing | None:
    """That which is named, or the default one of the driver."""
    named = snapshot["spec"].get("volumeSnapshotClassName")
    for one in api.objects.all(_CLASS):
        default = (one["metadata"].get("annotations") or {}).get(IS_DEFAULT) == "true"
        if one["driver"] == driver and (one["metadata"]["name"] == named if named else default):
            return one
    return None


def _say(api: Api, snapshot: Thing, content: Thing) -> None:
    told = content.get("status") or {}
    status: dict[str, Any] = {"boundVolumeSnapshotContentName": content["metadata"]["name"]}
    status |= {"readyToUse": bool(told.get("readyToUse")), "error": told.get("error")}
    if (size := told.get("restoreSize")) is not None:
        status["restoreSize"] = str(size)
    if (taken := told.get("creationTime")) is not None:
        status["creationTime"] = moment(datetime.fromtimestamp(taken / 1e9, UTC))
    api.note(_SNAPSHOT, snapshot, status=status)


def _end(api: Api, snapshot: Thing) -> None:
    """A snapshot that is to go does so after its content, unless that is to stay."""
    if HELD not in snapshot["metadata"].get("finalizers", ()):
        return
    content = _content_of(api, snapshot)
    if content is not None and at(content, "spec.deletionPolicy") == "Delete":
        content = api.annotate(_CONTENT, content, {BEING_DELETED: "yes"})
        if not content["metadata"].get("deletionTimestamp"):
            api.delete(_CONTENT, "", content["metadata"]["name"])
        if api.objects.find(_CONTENT, "", content["metadata"]["name"]) is not None:
            return
    api.let_go(_SNAPSHOT, snapshot, HELD)
