"""Manifests: what a namespace starts from, what is written of what it has, and what a file of several asks
for (Kubernetes API, core/v1, apps/v1 and storage.k8s.io/v1).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Any, TypeVar

from foldbarn.core.claims.claims import Claim, VolumeMode, read_claim
from foldbarn.core.claims.classes import BindingMode, Reclaim, StorageClass
from foldbarn.core.claims.grants import NO_LIMITS, Grant, Limits
from foldbarn.core.claims.objects import DEFAULT, DRIVER, FILE_SYSTEM
from foldbarn.core.claims.snapshots import GROUP
from foldbarn.core.errors import NotPossible
from foldbarn.core.hosts.attachments import FileSystem
from foldbarn.core.units import parse_quantity, say_list

MOST_REPLICAS = 1000
# How a quota names what it limits of one class (Kubernetes documentation, resource quotas).
OF_CLASS = ".storageclass.storage.k8s.io/"
BYTES_OF, CLAIMS_OF = "requests.storage", "persistentvolumeclaims"
QUOTA = "fold-barn"  # what a quota is called that is written from grants


def claim_to_start_from(namespace: str, found: StorageClass, size: str = "10Gi") -> dict[str, Any]:
    """A claim of a class, as a file of one's own begins."""
    spec: dict[str, Any] = {
        "storageClassName": found.name,
        "accessModes": ["ReadWriteOnce"],
        "resources": {"requests": {"storage": size}},
    }
    if found.file_system is FileSystem.NONE:
        spec["volumeMode"] = "Block"
    return {
        "apiVersion": "v1",
        "kind": "PersistentVolumeClaim",
        "metadata": {"name": "my-data", "namespace": namespace},
        "spec": spec,
    }


def snapshot_to_start_from(namespace: str) -> dict[str, Any]:
    """A snapshot of a claim, as a file of one's own begins."""
    return {
        "apiVersion": f"{GROUP}/v1",
        "kind": "VolumeSnapshot",
        "metadata": {"name": "my-snapshot", "namespace": namespace},
        "spec": {"source": {"persistentVolumeClaimName": "my-data"}},
    }


def restore_to_start_from(namespace: str, found: StorageClass, size: str = "10Gi") -> dict[str, Any]:
    """A claim that is filled from a snapshot."""
    claim = claim_to_start_from(namespace, found, size)
    claim["metadata"]["name"] = "my-data-again"
    claim["spec"]["dataSource"] = {"apiGroup": GROUP, "kind": "VolumeSnapshot", "name": "my-snapshot"}
    return claim


def set_to_start_from(namespace: str, found: StorageClass, size: str = "10Gi") -> dict[str, Any]:
    """A set of pods of which each has a claim of its own."""
    claim = claim_to_start_from(namespace, found, size)
    labels = {"app": "my-app"}
    mount = {"name": "data", "mountPath": "/srv/data"}
    if found.file_system is FileSystem.NONE:
        places: dict[str, Any] = {"volumeDevices": [{"name": "data", "devicePath": "/dev/data"}]}
    else:
        places = {"volumeMounts": [mount]}
    return {
        "apiVersion": "apps/v1",
        "kind": "StatefulSet",
        "metadata": {"name": "my-app", "namespace": namespace},
        "spec": {
            "serviceName": "my-app",
            "replicas": 3,
            "selector": {"matchLabels": labels},
            "template": {
                "metadata": {"labels": labels},
                "spec": {"containers": [{"name": "main", "image": "registry.example/my-app:1", **places}]},
            },
            "volumeClaimTemplates": [{"metadata": {"name": "data"}, "spec": claim["spec"]}],
        },
    }


# Written. --------------------------------------------------------------------------------------------------


def claim_as_asked(claim: Claim) -> dict[str, Any]:
    """A claim as it asks, without what is said of it there."""
    spec: dict[str, Any] = {} if claim.class_name is None else {"storageClassName": claim.class_name}
    spec["accessModes"] = sorted(mode.value for mode in claim.modes)
    if claim.volume_mode is not VolumeMode.FILE_SYSTEM:
        spec["volumeMode"] = claim.volume_mode.value
    if claim.source is not None:
        group = {"apiGroup": GROUP} if claim.source.kind == "VolumeSnapshot" else {}
        spec["dataSource"] = {**group, "kind": claim.source.kind, "name": claim.source.name}
    spec["resources"] = {"requests": {"storage": str(claim.size)}}
    metadata = {"name": claim.name, "namespace": claim.namespace}
    return {"apiVersion": "v1", "kind": "PersistentVolumeClaim", "metadata": metadata, "spec": spec}


def quota_of(
    namespace: str, grants: Sequence[Grant], classes: Sequence[StorageClass]
) -> dict[str, Any] | None:
    """What of the limits of a namespace the orchestrator's own quota can say, class by class; None where none
    is limited. It never lets less through than is granted: what several classes may have together is kept
    here alone.
    """
    hard: dict[str, str] = {}
    for grant in grants:
        for one in classes:
            if one.policy == grant.policy:
                mine = grant.by_class.get(one.name, NO_LIMITS)
                for key, limits in (
                    (BYTES_OF, (mine.bytes, grant.limits.bytes)),
                    (CLAIMS_OF, (mine.claims, grant.limits.claims)),
                ):
                    if known := [limit for limit in limits if limit is not None]:
                        hard[f"{one.name}{OF_CLASS}{key}"] = str(min(known))
    if not hard:
        return None
    metadata = {"name": QUOTA, "namespace": namespace}
    return {"apiVersion": "v1", "kind": "ResourceQuota", "metadata": metadata, "spec": {"hard": hard}}


# Read. -----------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class AskedClass:
    """A class of ours as a document has it; policy, pool: by name, pool empty for whichever takes a claim
    best.
    """

    name: str
    policy: str
    pool: str = ""
    reclaim: Reclaim = Reclaim.DELETE
    binding: BindingMode = BindingMode.AT_ONCE
    expands: bool = False
    file_system: FileSystem = FileSystem.NONE
    mount_options: tuple[str, ...] = ()
    default: bool = False


@dataclass(frozen=True, slots=True)
class Asked:
    """What one document asks for. claims: each with what it would be called; about: what else it is.
    published: the class that it describes, if it is one of ours. limits: by name of a class.
    """

    kind: str
    name: str
    namespace: str
    claims: tuple[Claim, ...] = ()
    about: str = ""
    published: AskedClass | None = None
    limits: Mapping[str, Limits] = field(default_factory=dict)


def asked_in(documents: Sequence[Any], namespace: str) -> list[Asked]:
    """What each document asks for. namespace: of those that name none. Raises NotPossible, with the place of
    the document, for what is none.
    """
    found = []
    for place, document in enumerate(documents, 1):
        try:
            found.append(_asked(document, namespace))
        except NotPossible as error:
            raise NotPossible(f"Document {place}: {error.sentence}", about="text") from error
    return found


def _asked(document: Any, usual: str) -> Asked:
    if not isinstance(document, Mapping) or not isinstance(document.get("metadata"), Mapping):
        raise NotPossible("It has no kind and no metadata.")
    kind, metadata = str(document.get("kind", "")), document["metadata"]
    name, namespace = str(metadata.get("name", "")), str(metadata.get("namespace") or usual)
    if not kind or not name:
        raise NotPossible("It has no kind, or no name.")
    match kind:
        case "PersistentVolumeClaim":
            return Asked(kind, name, namespace, (_claim(document, name, namespace),))
        case "StatefulSet":
            return Asked(kind, name, namespace, tuple(_of_set(document, name, namespace)))
        case "StorageClass":
            return _class(document, name)
        case "PersistentVolume":
            return Asked(kind, name, "", about="Volumes are handed over by themselves, each for its claim.")
        case "VolumeSnapshot":
            return Asked(kind, name, namespace, about=_snapshot(document))
        case "ResourceQuota":
            return _quota(document, name, namespace)
    return Asked(kind, name, namespace, about="It asks for no storage.")


def _claim(said: Mapping[str, Any], name: str, namespace: str) -> Claim:
    """As if it were there: what tells it from others is its name."""
    metadata = {"name": name, "namespace": namespace, "uid": f"{namespace}/{name}"}
    return read_claim({**said, "metadata": metadata})


def _of_set(document: Mapping[str, Any], name: str, namespace: str) -> list[Claim]:
    spec = document.get("spec")
    if not isinstance(spec, Mapping):
        raise NotPossible("A set has spec, and this one has none.")
    replicas, templates = spec.get("replicas", 1), spec.get("volumeClaimTemplates") or []
    if not isinstance(replicas, int) or not 0 <= replicas <= MOST_REPLICAS:
        raise NotPossible(f"A set has between 0 and {MOST_REPLICAS} replicas here, not {replicas}.")
    found: list[Claim] = []
    for template in templates:
        metadata = template.get("metadata") if isinstance(template, Mapping) else None
        if not isinstance(metadata, Mapping) or not metadata.get("name"):
            raise NotPossible("Each of its claim templates has a name.")
        called = (f"{metadata['name']}-{name}-{number}" for number in range(replicas))
        found.extend(_claim(template, one, namespace) for one in called)
    return found


def _snapshot(document: Mapping[str, Any]) -> str:
    spec = document.get("spec")
    source = spec.get("source") if isinstance(spec, Mapping) else None
    if not isinstance(source, Mapping):
        raise NotPossible("A snapshot has spec.source, and this one has none.")
    claim, content = source.get("persistentVolumeClaimName"), source.get("volumeSnapshotContentName")
    return f"It asks for a snapshot of {claim}." if claim else f"It names {content}, which was taken before."


def _class(document: Mapping[str, Any], name: str) -> Asked:
    if document.get("provisioner") != DRIVER:
        words = f"It is somebody else's: volumes come from {document.get('provisioner')}."
        return Asked("StorageClass", name, "", about=words)
    said = dict(_mapping(document, "parameters"))
    policy, pool = str(said.pop("policy", "")), str(said.pop("pool", ""))
    system = said.pop(FILE_SYSTEM, FileSystem.NONE.value)
    if said:
        raise NotPossible(f"A class has no parameter {say_list(sorted(map(str, said)))} here.")
    if not policy:
        raise NotPossible("A class has parameters.policy, and this one has none.")
    options = document.get("mountOptions") or []
    if not isinstance(options, list):
        raise NotPossible("mountOptions of a class is a list.")
    annotations = _mapping(document["metadata"], "annotations")
    found = AskedClass(
        name=name,
        policy=policy,
        pool=pool,
        reclaim=_one_of(Reclaim, document.get("reclaimPolicy", Reclaim.DELETE), "reclaimPolicy"),
        binding=_one_of(
            BindingMode, document.get("volumeBindingMode", BindingMode.AT_ONCE), "volumeBindingMode"
        ),
        expands=document.get("allowVolumeExpansion") is True,
        file_system=_one_of(FileSystem, system, f"parameters.{FILE_SYSTEM}"),
        mount_options=tuple(map(str, options)),
        default=annotations.get(DEFAULT) == "true",
    )
    words = "Classes are published here, and appear by themselves where they are granted."
    return Asked("StorageClass", name, "", about=words, published=found)


Kinds = TypeVar("Kinds", bound=StrEnum)


def _one_of(kinds: type[Kinds], said: object, where: str) -> Kinds:
    if said not in tuple(kinds):
        raise NotPossible(f"{where} is {say_list([one.value for one in kinds])}, not '{said}'.")
    return kinds(str(said))


def _mapping(said: Mapping[str, Any], key: str) -> Mapping[str, Any]:
    found = said.get(key) or {}
    if not isinstance(found, Mapping):
        raise NotPossible(f"{key} has keys and values.")
    return found


def _quota(document: Mapping[str, Any], name: str, namespace: str) -> Asked:
    about, hard = _said_of(document), document["spec"]["hard"]
    limits: dict[str, Limits] = {}
    for key, value in hard.items():
        of, _, what = str(key).partition(OF_CLASS)
        known = limits.get(of, NO_LIMITS)
        if what == BYTES_OF:
            limits[of] = replace(known, bytes=_whole(str(key), str(value)))
        elif what == CLAIMS_OF:
            limits[of] = replace(known, claims=_whole(str(key), str(value)))
    return Asked("ResourceQuota", name, namespace, about=about, limits=limits)


def _whole(key: str, value: str) -> int:
    found = parse_quantity(value, about=key)
    if found < 0:
        raise NotPossible(f"{key} is {value}, less than nothing.", about=key)
    return math.floor(found)


def _said_of(document: Mapping[str, Any]) -> str:
    spec = document.get("spec")
    hard = spec.get("hard") if isinstance(spec, Mapping) else None
    if not isinstance(hard, Mapping):
        raise NotPossible("A quota has spec.hard, and this one has none.")
    storage = {key: value for key, value in hard.items() if "storage" in key or "claims" in key}
    if not storage:
        return "It limits no storage."
    said = ", ".join(f"{key} {value}" for key, value in sorted(storage.items()))
    return f"The orchestrator itself lets it have at most: {said}."
