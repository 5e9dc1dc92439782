"""The kinds of object that the orchestrator keeps: how each is addressed, what it gets where nothing is said,
and what is wrong with one (API conventions; RFC 1123 for names).
"""

from __future__ import annotations

import base64
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

from foldbarn.core.errors import NotPossible
from foldbarn.core.units import parse_quantity
from foldbarn.yard.orchestrator.refusing import Cause, Thing
from foldbarn.yard.orchestrator.selecting import at

Check = Callable[[Thing, Thing | None], Iterator[Cause]]

_LABEL = r"[a-z0-9]([-a-z0-9]*[a-z0-9])?"
_RFC_1123_LABEL = re.compile(_LABEL)
_RFC_1123_SUBDOMAIN = re.compile(rf"{_LABEL}(\.{_LABEL})*")  # of which only the whole has a longest
_LABEL_VALUE = re.compile(r"([A-Za-z0-9]([-A-Za-z0-9_.]{0,61}[A-Za-z0-9])?)?")
DEFAULT_CLASS = "storageclass.kubernetes.io/is-default-class"
IN_USE, BOUND = "kubernetes.io/pvc-protection", "kubernetes.io/pv-protection"
MODES = ("ReadWriteOnce", "ReadOnlyMany", "ReadWriteMany", "ReadWriteOncePod")


def _nothing_wrong(_: Thing, __: Thing | None) -> Iterator[Cause]:
    return iter(())


def _as_it_is(_: Thing) -> None:
    return


@dataclass(frozen=True, slots=True)
class Kind:
    """group: empty for the core one. status: whether its status is written by its own address. fields: that
    can be selected by, beside its name. check: what is wrong with one, given what it was before (None for a
    new one); defaults: fills in what is not said, in place. tells: whether deleting one answers with it.
    short_label: whether its name is a single RFC 1123 label.
    """

    kind: str
    plural: str
    group: str = ""
    version: str = "v1"
    namespaced: bool = True
    status: bool = False
    fields: tuple[str, ...] = ()
    check: Check = _nothing_wrong
    defaults: Callable[[Thing], None] = _as_it_is
    tells: bool = False
    short_label: bool = False
    short: tuple[str, ...] = field(default=())

    @property
    def api_version(self) -> str:
        return f"{self.group}/{self.version}" if self.group else self.version

    @property
    def said(self) -> str:
        """As messages name it."""
        return f"{self.plural}.{self.group}" if self.group else self.plural


def of_metadata(kind: Kind, thing: Thing) -> Iterator[Cause]:
    """What is wrong with the metadata of any thing."""
    metadata = thing["metadata"]
    name = str(metadata.get("name", ""))
    shape, most = (_RFC_1123_LABEL, 63) if kind.short_label else (_RFC_1123_SUBDOMAIN, 253)
    if kind.group == "rbac.authorization.k8s.io":  # names of roles may hold what a path can
        wrong = not name or name in (".", "..") or "/" in name or "%" in name
    else:
        wrong = not shape.fullmatch(name) or len(name) > most
    if wrong:
        what = "label" if kind.short_label else "subdomain"
        yield Cause("metadata.name", f'Invalid value: "{name}": a lowercase RFC 1123 {what} is wanted')
    for place in ("labels", "annotations"):
        for key, value in (metadata.get(place) or {}).items():
            prefix, _, last = key.rpartition("/")
            good = bool(last) and _LABEL_VALUE.fullmatch(last)
            if not good or (prefix and not _RFC_1123_SUBDOMAIN.fullmatch(prefix)):
                yield Cause(f"metadata.{place}", f'Invalid value: "{key}": a qualified name is wanted')
            if not isinstance(value, str):
                yield Cause(f"metadata.{place}", f"Invalid value: {value!r}: text is wanted")
            elif place == "labels" and not _LABEL_VALUE.fullmatch(value):
                yield Cause(f"metadata.{place}", f'Invalid value: "{value}": no label is like that')


def _required(thing: Thing, *paths: str) -> Iterator[Cause]:
    for path in paths:
        if at(thing, path) in (None, "", [], {}):
            yield Cause(path, "Required value", "FieldValueRequired")


def _unchanged(thing: Thing, was: Thing | None, *paths: str) -> Iterator[Cause]:
    for path in paths:
        if was is not None and at(thing, path) != at(was, path):
            yield Cause(path, "Forbidden: field is immutable once it is made", "FieldValueForbidden")


def _quantity(thing: Thing, path: str) -> Iterator[Cause]:
    """A size that is there and more than nothing."""
    text = at(thing, path)
    try:
        if parse_quantity(str(text)) <= 0:
            yield Cause(path, f'Invalid value: "{text}": must be greater than zero')
    except NotPossible:
        yield Cause(path, f'Invalid value: "{text}": no quantity is like that')


def _modes(thing: Thing) -> Iterator[Cause]:
    modes = at(thing, "spec.accessModes")
    if not modes:
        yield Cause("spec.accessModes", "Required value: at least 1 access mode", "FieldValueRequired")
        return
    for mode in modes:
        if mode not in MODES:
            yield Cause("spec.accessModes", f'Unsupported value: "{mode}"', "FieldValueNotSupported")
    if "ReadWriteOncePod" in modes and len(modes) > 1:
        words = "Forbidden: may not use ReadWriteOncePod with other access modes"
        yield Cause("spec.accessModes", words, "FieldValueForbidden")


def _of_claim(thing: Thing, was: Thing | None) -> Iterator[Cause]:
    yield from _modes(thing)
    size = "spec.resources.requests.storage"
    if at(thing, size) is None:
        yield Cause(size, "Required value", "FieldValueRequired")
        return
    wrong = list(_quantity(thing, size))
    yield from wrong
    if was is None or wrong:
        return
    for key in {*thing["spec"], *was["spec"]} - {"resources"}:
        given = key in ("volumeName", "storageClassName") and not was["spec"].get(key)
        if not given:
            yield from _unchanged(thing, was, f"spec.{key}")
    if parse_quantity(at(thing, size)) < parse_quantity(at(was, size)):
        yield Cause(size, "Forbidden: field can not be less than previous value", "FieldValueForbidden")


def _of_volume(thing: Thing, was: Thing | None) -> Iterator[Cause]:
    yield from _required(thing, "spec.capacity.storage")
    yield from _modes(thing)
    if at(thing, "spec.capacity.storage"):
        yield from _quantity(thing, "spec.capacity.storage")
    sources = [key for key in ("csi", "iscsi", "nfs", "local", "hostPath") if at(thing, f"spec.{key}")]
    if len(sources) != 1:
        yield Cause("spec", "Required value: must specify one volume type", "FieldValueRequired")
    for source in sources if was is not None else ():
        yield from _unchanged(thing, was, f"spec.{source}")
    policy = at(thing, "spec.persistentVolumeReclaimPolicy")
    if policy not in ("Retain", "Delete", "Recycle"):
        path = "spec.persistentVolumeReclaimPolicy"
        yield Cause(path, f'Unsupported value: "{policy}"', "FieldValueNotSupported")


def _of_class(thing: Thing, was: Thing | None) -> Iterator[Cause]:
    yield from _required(thing, "provisioner")
    whole = ("provisioner", "parameters", "reclaimPolicy", "volumeBindingMode", "mountOptions")
    yield from _unchanged(thing, was, *(path for path in whole if path != "mountOptions"))
    for path, known in (
        ("reclaimPolicy", ("Delete", "Retain")),
        ("volumeBindingMode", ("Immediate", "WaitForFirstConsumer")),
    ):
        if thing[path] not in known:
            yield Cause(path, f'Unsupported value: "{thing[path]}"', "FieldValueNotSupported")


def _of_snapshot(thing: Thing, was: Thing | None) -> Iterator[Cause]:
    source = at(thing, "spec.source") or {}
    wanted = ("persistentVolumeClaimName", "volumeSnapshotContentName")
    if sum(bool(source.get(key)) for key in wanted) != 1:
        yield Cause("spec.source", f"Required value: exactly one of {' and '.join(wanted)}")
    yield from _unchanged(thing, was, "spec.source")


def _of_content(thing: Thing, was: Thing | None) -> Iterator[Cause]:
    yield from _required(thing, "spec.driver", "spec.deletionPolicy", "spec.volumeSnapshotRef.name")
    yield from _unchanged(thing, was, "spec.source", "spec.driver")


def _of_pod(thing: Thing, was: Thing | None) -> Iterator[Cause]:
    yield from _required(thing, "spec.containers")
    if was is not None and at(was, "spec.nodeName"):
        yield from _unchanged(thing, was, "spec.nodeName")
    yield from _unchanged(thing, was, "spec.volumes")


def _of_set(thing: Thing, was: Thing | None) -> Iterator[Cause]:
    yield from _required(thing, "spec.selector", "spec.template", "spec.template.spec.containers")
    yield from _unchanged(thing, was, "spec.serviceName", "spec.selector", "spec.volumeClaimTemplates")
    wanted = (at(thing, "spec.selector.matchLabels") or {}).items()
    if not wanted <= (at(thing, "spec.template.metadata.labels") or {}).items():
        yield Cause("spec.template.metadata.labels", "Invalid value: `selector` does not match labels")


def _of_attachment(thing: Thing, was: Thing | None) -> Iterator[Cause]:
    wanted = ("spec.attacher", "spec.nodeName", "spec.source.persistentVolumeName")
    yield from _required(thing, *wanted)
    yield from _unchanged(thing, was, "spec")


def _of_driver(thing: Thing, was: Thing | None) -> Iterator[Cause]:
    yield from _required(thing, "spec")
    yield from _unchanged(thing, was, "spec.attachRequired", "spec.volumeLifecycleModes")


def _of_event(thing: Thing, _: Thing | None) -> Iterator[Cause]:
    about = at(thing, "involvedObject.namespace") or "default"
    if about != thing["metadata"].get("namespace"):
        yield Cause("involvedObject.namespace", "Invalid value: does not match event.namespace")


def _of_secret(thing: Thing, was: Thing | None) -> Iterator[Cause]:
    yield from _unchanged(thing, was, "type")
    if thing.get("immutable") or (was or {}).get("immutable"):
        yield from _unchanged(thing, was, "data")


def _of_binding(thing: Thing, was: Thing | None) -> Iterator[Cause]:
    yield from _required(thing, "roleRef.kind", "roleRef.name")
    yield from _unchanged(thing, was, "roleRef")


# What is not said. ---------------------------------------------------------------------------------------


def _fill(thing: Thing, path: str, value: Any) -> None:
    *before, last = path.split(".")
    for part in before:
        thing = thing.setdefault(part, {})
    thing.setdefault(last, value)


def _claim_defaults(thing: Thing) -> None:
    _fill(thing, "spec.volumeMode", "Filesystem")
    _fill(thing, "status.phase", "Pending")


def _volume_defaults(thing: Thing) -> None:
    _fill(thing, "spec.volumeMode", "Filesystem")
    _fill(thing, "spec.persistentVolumeReclaimPolicy", "Retain")
    _fill(thing, "status.phase", "Pending")


def _class_defaults(thing: Thing) -> None:
    _fill(thing, "reclaimPolicy", "Delete")
    _fill(thing, "volumeBindingMode", "Immediate")


def _driver_defaults(thing: Thing) -> None:
    _fill(thing, "spec.attachRequired", True)
    _fill(thing, "spec.podInfoOnMount", False)


def _set_defaults(thing: Thing) -> None:
    _fill(thing, "spec.replicas", 1)
    _fill(thing, "spec.podManagementPolicy", "OrderedReady")
    _fill(thing, "status.replicas", 0)


def _secret_defaults(thing: Thing) -> None:
    _fill(thing, "type", "Opaque")
    # What is written in the clear is kept as the rest, and never shown so (core/v1, Secret).
    clear = thing.pop("stringData", None) or {}
    if clear:
        coded = {key: base64.b64encode(value.encode()).decode() for key, value in clear.items()}
        thing["data"] = {**(thing.get("data") or {}), **coded}


def _space_defaults(thing: Thing) -> None:
    _fill(thing, "spec.finalizers", ["kubernetes"])
    _fill(thing, "status.phase", "Active")
    # Every namespace says its own name in a label (API conventions, well-known labels).
    thing["metadata"].setdefault("labels", {})["kubernetes.io/metadata.name"] = thing["metadata"]["name"]


def _pod_defaults(thing: Thing) -> None:
    _fill(thing, "spec.restartPolicy", "Always")
    _fill(thing, "status.phase", "Pending")


def _attachment_defaults(thing: Thing) -> None:
    _fill(thing, "status.attached", False)


_STORAGE, _RBAC = "storage.k8s.io", "rbac.authorization.k8s.io"
_SNAPSHOT = "snapshot.storage.k8s.io"
_INVOLVED = tuple(f"involvedObject.{part}" for part in ("kind", "namespace", "name", "uid"))
KINDS = (
    Kind(
        "Namespace",
        "namespaces",
        namespaced=False,
        status=True,
        fields=("status.phase",),
        defaults=_space_defaults,
        short_label=True,
        short=("ns",),
    ),
    Kind("Node", "nodes", namespaced=False, status=True, short=("no",)),
    Kind(
        "Pod",
        "pods",
        status=True,
        fields=("spec.nodeName", "status.phase"),
        check=_of_pod,
        defaults=_pod_defaults,
        tells=True,
        short=("po",),
    ),
    Kind(
        "PersistentVolumeClaim",
        "persistentvolumeclaims",
        status=True,
        check=_of_claim,
        defaults=_claim_defaults,
        tells=True,
        short=("pvc",),
    ),
    Kind(
        "PersistentVolume",
        "persistentvolumes",
        namespaced=False,
        status=True,
        check=_of_volume,
        defaults=_volume_defaults,
        tells=True,
        short=("pv",),
    ),
    Kind("Event", "events", fields=(*_INVOLVED, "reason", "type"), check=_of_event, short=("ev",)),
    Kind("Secret", "secrets", fields=("type",), check=_of_secret, defaults=_secret_defaults),
    Kind("ResourceQuota", "resourcequotas", status=True, tells=True, short=("quota",)),
    Kind("ServiceAccount", "serviceaccounts", tells=True, short=("sa",)),
    Kind(
        "StatefulSet",
        "statefulsets",
        "apps",
        status=True,
        check=_of_set,
        defaults=_set_defaults,
        short=("sts",),
    ),
    Kind(
        "StorageClass",
        "storageclasses",
        _STORAGE,
        namespaced=False,
        check=_of_class,
        defaults=_class_defaults,
        tells=True,
        short=("sc",),
    ),
    Kind(
        "CSIDriver",
        "csidrivers",
        _STORAGE,
        namespaced=False,
        check=_of_driver,
        defaults=_driver_defaults,
        tells=True,
    ),
    Kind("CSINode", "csinodes", _STORAGE, namespaced=False, tells=True),
    Kind("CSIStorageCapacity", "csistoragecapacities", _STORAGE),
    Kind(
        "VolumeAttachment",
        "volumeattachments",
        _STORAGE,
        namespaced=False,
        status=True,
        check=_of_attachment,
        defaults=_attachment_defaults,
        tells=True,
    ),
    Kind("VolumeSnapshot", "volumesnapshots", _SNAPSHOT, status=True, check=_of_snapshot, short=("vs",)),
    Kind(
        "VolumeSnapshotClass",
        "volumesnapshotclasses",
        _SNAPSHOT,
        namespaced=False,
        check=lambda thing, _: _required(thing, "driver", "deletionPolicy"),
    ),
    Kind(
        "VolumeSnapshotContent",
        "volumesnapshotcontents",
        _SNAPSHOT,
        namespaced=False,
        status=True,
        check=_of_content,
    ),
    Kind("ClusterRole", "clusterroles", _RBAC, namespaced=False),
    Kind("ClusterRoleBinding", "clusterrolebindings", _RBAC, namespaced=False, check=_of_binding),
    Kind("Role", "roles", _RBAC),
    Kind("RoleBinding", "rolebindings", _RBAC, check=_of_binding),
)
BY_PLURAL = {(one.group, one.version, one.plural): one for one in KINDS}
BY_KIND = {one.kind: one for one in KINDS}
