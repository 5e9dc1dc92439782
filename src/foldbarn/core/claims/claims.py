"""What a claim asks for, as the Kubernetes API writes it (core/v1, PersistentVolumeClaim)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from foldbarn.core.errors import NotPossible
from foldbarn.core.units import quantity_bytes


class AccessMode(StrEnum):
    """Who may use a volume at once, and how."""

    ONE_NODE = "ReadWriteOnce"
    MANY_READ = "ReadOnlyMany"
    MANY_WRITE = "ReadWriteMany"
    ONE_POD = "ReadWriteOncePod"


class VolumeMode(StrEnum):
    FILE_SYSTEM = "Filesystem"
    BLOCK = "Block"


@dataclass(frozen=True, slots=True)
class Source:
    """What a claim is to be filled from, in its own namespace: by the kind of the object, and its name."""

    kind: str
    name: str


@dataclass(frozen=True, slots=True)
class Claim:
    """uid: tells it from another of its name before or after it. class_name: of the class that it asks; empty
    for one that asks none, None where it names none and there was no default as it was made. size: bytes.
    source: none where it begins empty.
    """

    uid: str
    namespace: str
    name: str
    class_name: str | None
    size: int
    modes: frozenset[AccessMode]
    volume_mode: VolumeMode = VolumeMode.FILE_SYSTEM
    source: Source | None = None

    @property
    def path(self) -> str:
        """As people say which it is."""
        return f"{self.namespace}/{self.name}"

    @property
    def wants_share(self) -> bool:
        """Whether it asks for a file system that many nodes write to at once."""
        return AccessMode.MANY_WRITE in self.modes and self.volume_mode is VolumeMode.FILE_SYSTEM


def read_claim(said: Mapping[str, Any]) -> Claim:
    """Raises NotPossible for what is none, or asks for what this version has no word for."""
    metadata, spec = _part(said, "metadata"), _part(said, "spec")
    requests = _part(_part(spec, "resources", "spec."), "requests", "spec.resources.")
    return Claim(
        uid=_text(metadata, "uid", "metadata."),
        namespace=_text(metadata, "namespace", "metadata."),
        name=_text(metadata, "name", "metadata."),
        class_name=None if spec.get("storageClassName") is None else str(spec["storageClassName"]),
        size=quantity_bytes(_text(requests, "storage", "spec.resources.requests."), about="storage"),
        modes=frozenset(_mode(one) for one in _modes(spec)),
        volume_mode=_volume_mode(str(spec.get("volumeMode") or VolumeMode.FILE_SYSTEM)),
        source=_source(spec, _text(metadata, "namespace", "metadata.")),
    )


def _source(spec: Mapping[str, Any], namespace: str) -> Source | None:
    """The newer field says as much as the older one, and may name another namespace."""
    key = "dataSourceRef" if spec.get("dataSourceRef") else "dataSource"
    if not spec.get(key):
        return None
    said = _part(spec, key, "spec.")
    kind, name = _text(said, "kind", f"spec.{key}."), _text(said, "name", f"spec.{key}.")
    if said.get("namespace") not in (None, "", namespace):
        words = "A claim is filled from what is in its own namespace."
        raise NotPossible(words, about=f"spec.{key}.namespace")
    return Source(kind, name)


def _part(said: Mapping[str, Any], key: str, before: str = "") -> Mapping[str, Any]:
    found = said.get(key)
    if not isinstance(found, Mapping):
        raise NotPossible(f"A claim has {before}{key}, and this one has none.", about=f"{before}{key}")
    return found


def _text(said: Mapping[str, Any], key: str, before: str) -> str:
    found = said.get(key)
    if not isinstance(found, str | int) or found == "":
        raise NotPossible(f"A claim has {before}{key}, and this one has none.", about=f"{before}{key}")
    return str(found)


def _modes(spec: Mapping[str, Any]) -> list[Any]:
    found = spec.get("accessModes")
    if not isinstance(found, list) or not found:
        raise NotPossible("A claim names at least one access mode.", about="spec.accessModes")
    return found


def _mode(said: object) -> AccessMode:
    try:
        return AccessMode(str(said))
    except ValueError as error:
        raise NotPossible(
            f"'{said}' is no access mode that is known here.", about="spec.accessModes"
        ) from error


def _volume_mode(said: str) -> VolumeMode:
    try:
        return VolumeMode(said)
    except ValueError as error:
        raise NotPossible(
            f"'{said}' is no volume mode that is known here.", about="spec.volumeMode"
        ) from error
