"""What Fold Barn writes into an orchestrator, and what it reads from what is there (Kubernetes API: core/v1,
storage.k8s.io/v1; the names of a class's parameters are those of the open container storage interface).
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from foldbarn.core.claims.claims import Claim, VolumeMode
from foldbarn.core.claims.classes import BindingMode, Reclaim, StorageClass
from foldbarn.core.claims.kept import Hindrance, KeptClaim
from foldbarn.core.claims.reclaiming import ObjectState
from foldbarn.core.claims.secrets import REFERENCE
from foldbarn.core.hosts.attachments import FileSystem

Thing = Mapping[str, Any]
# As drivers are named: a domain that is nobody's outside (ICANN keeps .internal for private use).
DRIVER = "fold-barn.internal"
OURS = {"app.kubernetes.io/managed-by": "fold-barn"}
DEFAULT = "storageclass.kubernetes.io/is-default-class"
SELECTED_NODE = "volume.kubernetes.io/selected-node"
PROVISIONED_BY = "pv.kubernetes.io/provisioned-by"
FILE_SYSTEM = "csi.storage.k8s.io/fstype"


# Classes. ------------------------------------------------------------------------------------------------


def class_object(found: StorageClass, policy: str, pool: str) -> dict[str, Any]:
    """policy, pool: their names; pool: empty for whichever takes a claim best."""
    parameters = {"policy": policy, **({"pool": pool} if pool else {})}
    if found.file_system is not FileSystem.NONE:
        parameters[FILE_SYSTEM] = found.file_system.value
    made: dict[str, Any] = {
        "apiVersion": "storage.k8s.io/v1",
        "kind": "StorageClass",
        "metadata": {"name": found.name, "labels": OURS},
        "provisioner": DRIVER,
        "parameters": parameters,
        "reclaimPolicy": found.reclaim.value,
        "volumeBindingMode": found.binding.value,
        "allowVolumeExpansion": found.expands,
    }
    if found.default:
        made["metadata"]["annotations"] = {DEFAULT: "true"}
    if found.mount_options:
        made["mountOptions"] = list(found.mount_options)
    return made


# What of a class can be altered while it is there; for all else it is made anew.
_ALTERED = ("allowVolumeExpansion",)


def says_the_same(there: Thing, wanted: Thing) -> bool:
    """Whether a class that is there says what it is to."""
    return _fixed(there) == _fixed(wanted) and _alterable(there) == _alterable(wanted)


def is_altered(there: Thing, wanted: Thing) -> bool:
    """Whether a class that is there can be made to say what it is to; else it is made anew."""
    return _fixed(there) == _fixed(wanted)


def alteration(wanted: Thing) -> dict[str, Any]:
    """The merge patch by which a class that is there says what it is to (RFC 7396)."""
    default = (wanted["metadata"].get("annotations") or {}).get(DEFAULT)
    parts = {key: wanted[key] for key in _ALTERED}
    return {"metadata": {"annotations": {DEFAULT: default}, "labels": OURS}, **parts}


def _fixed(of: Thing) -> tuple[object, ...]:
    keys = ("provisioner", "reclaimPolicy", "volumeBindingMode")
    options = list(of.get("mountOptions") or ())
    return (*(of.get(key) for key in keys), dict(of.get("parameters") or {}), options)


def _alterable(of: Thing) -> tuple[object, ...]:
    annotations = of["metadata"].get("annotations") or {}
    return (*(bool(of.get(key)) for key in _ALTERED), annotations.get(DEFAULT) == "true")


def is_ours(thing: Thing) -> bool:
    """Whether a class is one that was published from here."""
    labels = thing["metadata"].get("labels") or {}
    return thing.get("provisioner") == DRIVER and OURS.items() <= labels.items()


def driver_object() -> dict[str, Any]:
    """That volumes are attached by it before pods mount them, whatever their file system."""
    spec = {"attachRequired": True, "podInfoOnMount": False, "fsGroupPolicy": "File"}
    spec["volumeLifecycleModes"] = ["Persistent"]
    metadata = {"name": DRIVER, "labels": OURS}
    return {"apiVersion": "storage.k8s.io/v1", "kind": "CSIDriver", "metadata": metadata, "spec": spec}


# Volumes. ------------------------------------------------------------------------------------------------


def object_name(uid: str) -> str:
    """Of the object that stands for the volume of a claim: the same however often it is made."""
    return f"barn-{uid}"


def handle_of(mark: str, volume: int) -> str:
    """By which a volume is known to its driver. mark: of the site, so that no two have the same."""
    return f"{mark}/{volume}"


STANDS_FOR = f"{DRIVER}/volume"  # an annotation: by which handle what has no driver is known
SHARE_VERSION = "vers=4.1"


def handle_in(thing: Thing) -> str:
    """By which the volume of an object is known, whatever it is reached by; empty for one of somebody
    else's.
    """
    source = thing["spec"].get("csi") or {}
    annotations = thing["metadata"].get("annotations") or {}
    return str(source.get("volumeHandle") or annotations.get(STANDS_FOR) or "")


def share_object(
    kept: KeptClaim, *, mark: str, volume: int, server: str, share: str, size: int
) -> dict[str, Any]:
    """The object that stands for the share of a claim, which nodes mount themselves (core/v1:
    NFSVolumeSource). server: the name at which it is served; size: its quota.
    """
    claim = kept.claim
    spec: dict[str, Any] = {
        "capacity": {"storage": str(size)},
        "accessModes": sorted(mode.value for mode in claim.modes),
        "persistentVolumeReclaimPolicy": kept.reclaim.value,
        "storageClassName": kept.class_name,
        "volumeMode": claim.volume_mode.value,
        "claimRef": _reference(claim),
        "nfs": {"server": server, "path": f"/{share}"},
        "mountOptions": [SHARE_VERSION, *kept.mount_options],
    }
    notes = {PROVISIONED_BY: DRIVER, STANDS_FOR: handle_of(mark, volume)}
    metadata = {"name": object_name(claim.uid), "labels": OURS, "annotations": notes}
    return {"apiVersion": "v1", "kind": "PersistentVolume", "metadata": metadata, "spec": spec}


def volume_object(kept: KeptClaim, *, mark: str, volume: int, name: str, size: int) -> dict[str, Any]:
    """The object that stands for the volume of a claim, meant for it alone. name, size: of the volume."""
    claim = kept.claim
    block = claim.volume_mode is VolumeMode.BLOCK or kept.file_system is FileSystem.NONE
    source: dict[str, Any] = {
        "driver": DRIVER,
        "volumeHandle": handle_of(mark, volume),
        "volumeAttributes": {"volume": name},
    }
    if kept.by_secret:
        source["nodeStageSecretRef"] = dict(REFERENCE)
    if not block:
        source["fsType"] = kept.file_system.value
    spec: dict[str, Any] = {
        "capacity": {"storage": str(size)},
        "accessModes": sorted(mode.value for mode in claim.modes),
        "persistentVolumeReclaimPolicy": kept.reclaim.value,
        "storageClassName": kept.class_name,
        "volumeMode": claim.volume_mode.value,
        "claimRef": _reference(claim),
        "csi": source,
    }
    if kept.mount_options and not block:
        spec["mountOptions"] = list(kept.mount_options)
    metadata = {"name": object_name(claim.uid), "labels": OURS, "annotations": {PROVISIONED_BY: DRIVER}}
    return {"apiVersion": "v1", "kind": "PersistentVolume", "metadata": metadata, "spec": spec}


def _reference(claim: Claim) -> dict[str, str]:
    what = {"apiVersion": "v1", "kind": "PersistentVolumeClaim"}
    return {**what, "namespace": claim.namespace, "name": claim.name, "uid": claim.uid}


def object_state(thing: Thing | None) -> ObjectState:
    if thing is None:
        return ObjectState.NONE
    leaves = thing["metadata"].get("deletionTimestamp")
    return ObjectState.LEAVING if leaves else ObjectState.THERE


def are_bound(claim: Thing | None, volume: Thing | None) -> bool:
    """Whether a claim and the object of its volume name one another, and the orchestrator says so."""
    if claim is None or volume is None:
        return False
    refers = (volume["spec"].get("claimRef") or {}).get("uid") == claim["metadata"]["uid"]
    named = claim["spec"].get("volumeName") == volume["metadata"]["name"]
    phases = ((one.get("status") or {}).get("phase") for one in (claim, volume))
    return refers and named and all(phase == "Bound" for phase in phases)


_RECLAIMS: dict[object, Reclaim] = {one.value: one for one in Reclaim}  # looked up for each of many claims


def reclaim_of(volume: Thing | None) -> Reclaim | None:
    """What is to become of a volume, as its object says by now: somebody may have altered it there."""
    said = None if volume is None else volume["spec"].get("persistentVolumeReclaimPolicy")
    return _RECLAIMS.get(said)


def waits_for_consumer(claim: Thing, found: StorageClass) -> bool:
    """Whether a claim is to get its volume only when a pod uses it, and none does yet."""
    chosen = (claim["metadata"].get("annotations") or {}).get(SELECTED_NODE)
    return found.binding is BindingMode.LATE and not chosen


def as_moment(seconds: float) -> str:
    """Seconds since 1970 as the Kubernetes API writes a time (RFC 3339)."""
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


# What is told of a claim. --------------------------------------------------------------------------------

_REASONS = {
    Hindrance.NO_CLASS: "NoClass",
    Hindrance.SEVERAL_DEFAULTS: "SeveralDefaultClasses",
    Hindrance.UNKNOWN_CLASS: "ClassUnknown",
    Hindrance.NO_POLICY: "PolicyGone",
    Hindrance.ACCESS_MODE: "AccessModeNotPossible",
    Hindrance.NOT_GRANTED: "NotGranted",
    Hindrance.OVER_LIMIT: "OverLimit",
    Hindrance.NO_POOL: "NoPool",
    Hindrance.NO_SOURCE: "NothingToFillFrom",
    Hindrance.NO_CONSUMER: "WaitsForConsumer",
    Hindrance.RESTING: "TriedAgainSoon",
}


def event_of(claim: Claim, hindrance: Hindrance | None, message: str, now: float) -> dict[str, Any]:
    """That a claim waits, and why; or that it waits no more. One that says the same has the same name. now:
    seconds since 1970.
    """
    told = hashlib.sha256(f"{claim.uid} {hindrance} {message}".encode()).hexdigest()[:16]
    reason = "VolumeMade" if hindrance is None else _REASONS[hindrance]
    calm = hindrance in (None, Hindrance.NO_CONSUMER)
    return _event(_reference(claim), told, reason, message, now, warning=not calm)


def event_not_understood(claim: Thing, message: str, now: float) -> dict[str, Any]:
    """That a claim asks for what is not known here. now: seconds since 1970."""
    metadata = claim["metadata"]
    about = {"apiVersion": "v1", "kind": "PersistentVolumeClaim"}
    about |= {key: str(metadata[key]) for key in ("namespace", "name", "uid")}
    told = hashlib.sha256(f"{about['uid']} {message}".encode()).hexdigest()[:16]
    return _event(about, told, "NotUnderstood", message, now, warning=True)


def _event(
    about: Mapping[str, str], told: str, reason: str, message: str, now: float, *, warning: bool
) -> dict[str, Any]:
    at = as_moment(now)
    return {
        "apiVersion": "v1",
        "kind": "Event",
        "metadata": {"name": f"{about['name'][:200]}.{told}", "namespace": about["namespace"]},
        "involvedObject": dict(about),
        "reason": reason,
        "message": message,
        "type": "Warning" if warning else "Normal",
        "source": {"component": "fold-barn"},
        "firstTimestamp": at,
        "lastTimestamp": at,
        "count": 1,
    }
