"""What is done with objects on request: made, written anew, patched, deleted, each by the rules that the API
has for all kinds (API conventions): versions, finalizers, what no one may change, dry runs, namespaces that
end.
"""

from __future__ import annotations

import hashlib
import math
import secrets
import time
import uuid
from collections.abc import Callable, Sequence
from copy import deepcopy
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from foldbarn.yard.orchestrator.hands import Wanted
from foldbarn.yard.orchestrator.kinds import BOUND, BY_KIND, IN_USE, Kind, of_metadata
from foldbarn.yard.orchestrator.objects import Objects
from foldbarn.yard.orchestrator.patching import APPLY, patched
from foldbarn.yard.orchestrator.refusing import Cause, Refused, Thing
from foldbarn.yard.orchestrator.selecting import at

_SUFFIX = "bcdfghjklmnpqrstvwxz2456789"  # of generated names: no vowels, so that they spell nothing
_SUFFIX_LENGTH = 5
_NEVER_WRITTEN = ("uid", "creationTimestamp", "deletionTimestamp", "deletionGracePeriodSeconds", "generation")
GRACE_SECONDS = 30
TELL_SECONDS = 15.0  # between two times that the same is told at first, and twice as long each time
LONGEST_TELL_SECONDS = 300.0
Admit = Callable[["Api", Kind, Thing, Thing | None], None]


def moment(at: datetime | None = None) -> str:
    """As the API writes a time."""
    return (at or datetime.now(UTC)).strftime("%Y-%m-%dT%H:%M:%SZ")


@dataclass(frozen=True, slots=True)
class Deletion:
    """What a deletion is asked with. seconds: of grace; None for what the kind has."""

    uid: str = ""
    version: str = ""
    seconds: int | None = None
    orphan: bool = False  # what belongs to it stays


@dataclass(slots=True)
class Api:
    """admitted_by: asked of each thing before it is kept, and may fill in or refuse. hands: does on the nodes
    what makes volumes usable there, by node and handle, and tells which are; none where nodes are but names.
    soon: something is to be looked at again before long, though nothing changes. mounted: by node, the
    volumes that it mounts without a driver, by their names.
    """

    objects: Objects
    admitted_by: Sequence[Admit] = field(default=())
    hands: Callable[[dict[str, dict[str, Wanted]]], dict[str, list[str]]] | None = None
    soon: bool = False
    mounted: dict[str, set[str]] = field(default_factory=dict)
    # Events, by their name: when each was told last, and how long it is not told again.
    told_at: dict[str, tuple[float, float]] = field(default_factory=dict)

    def create(self, kind: Kind, space: str, body: Thing, *, dry: bool = False) -> Thing:
        """Raises Refused."""
        thing = _as_said(kind, space, body)
        metadata = thing["metadata"]
        if not metadata.get("name") and metadata.get("generateName"):
            ending = "".join(secrets.choice(_SUFFIX) for _ in range(_SUFFIX_LENGTH))
            metadata["name"] = f"{metadata['generateName']}{ending}"
        if kind.namespaced:
            self._open_for_new(kind, space)
        metadata |= {"uid": str(uuid.uuid4()), "creationTimestamp": moment()}
        for key in ("deletionTimestamp", "deletionGracePeriodSeconds", "resourceVersion"):
            metadata.pop(key, None)
        if kind.status:
            thing.pop("status", None)  # that is written by its own address
            metadata["generation"] = 1
        kind.defaults(thing)
        if (finalizer := _OF_OWN.get(kind.kind)) is not None:
            metadata["finalizers"] = [*metadata.get("finalizers", ()), finalizer]
        _check(kind, thing, None)
        if self.objects.find(kind, space, metadata["name"]) is not None:
            raise _refusal(kind, "AlreadyExists", metadata["name"], "already exists")
        for admit in self.admitted_by:
            admit(self, kind, thing, None)
        return thing if dry else self.objects.put(kind, thing)

    def _open_for_new(self, kind: Kind, space: str) -> None:
        where = self.objects.get(BY_KIND["Namespace"], "", space)
        if where["metadata"].get("deletionTimestamp"):
            words = f"unable to create new content in namespace {space} because it is being terminated"
            raise Refused("Forbidden", words, group=kind.group, plural=kind.plural)

    def replace(
        self, kind: Kind, space: str, name: str, body: Thing, *, sub: str = "", dry: bool = False
    ) -> Thing:
        """Raises Refused; also Conflict, where the version that was read is not the one there is."""
        was = self.objects.get(kind, space, name)
        return self._written(kind, was, _as_said(kind, space, body), sub=sub, dry=dry)

    def patch(
        self,
        kind: Kind,
        space: str,
        name: str,
        how: str,
        patch: Any,
        *,
        sub: str = "",
        dry: bool = False,
    ) -> Thing:
        """Raises Refused."""
        was = self.objects.find(kind, space, name)
        if was is None and how == APPLY and not sub and isinstance(patch, dict):
            said = {**patch, "metadata": {**patch.get("metadata", {}), "name": name}}
            return self.create(kind, space, said, dry=dry)
        was = self.objects.get(kind, space, name)
        now = patched(how, was, patch)
        if not (isinstance(patch, dict) and at(patch, "metadata.resourceVersion")):
            now["metadata"].pop("resourceVersion", None)  # a patch that names none is against what there is
        return self._written(kind, was, _as_said(kind, space, now), sub=sub, dry=dry)

    def _written(self, kind: Kind, was: Thing, now: Thing, *, sub: str, dry: bool) -> Thing:
        name, held = was["metadata"]["name"], was["metadata"]
        metadata = now["metadata"]
        version = metadata.pop("resourceVersion", "")
        if version and version != held["resourceVersion"]:
            words = (
                "the object has been modified; please apply your changes to the latest version and try again"
            )
            raise _refusal(kind, "Conflict", name, words, before=f'Operation cannot be fulfilled on "{name}"')
        if metadata.get("uid", held["uid"]) != held["uid"]:
            words = (
                f"Precondition failed: UID in precondition: {metadata['uid']}, UID in object: {held['uid']}"
            )
            raise _refusal(kind, "Conflict", name, words)
        if sub == "status":
            now = {**deepcopy(was), "status": now.get("status", {})}
            metadata = now["metadata"]
        elif kind.status:
            now["status"] = deepcopy(was.get("status", {}))
        metadata.pop("resourceVersion", None)
        metadata |= {key: held[key] for key in _NEVER_WRITTEN if key in held}
        metadata["name"] = name
        if held.get("deletionTimestamp"):
            more = [f for f in metadata.get("finalizers") or () if f not in held.get("finalizers", ())]
            if more:
                words = f"Forbidden: no new finalizers can be added if the object is being deleted: {more}"
                raise _invalid(kind, name, [Cause("metadata.finalizers", words, "FieldValueForbidden")])
        if not sub:
            kind.defaults(now)
            if now.get("spec") != was.get("spec") and "generation" in held:
                metadata["generation"] = held["generation"] + 1
            for place in ("labels", "annotations", "finalizers", "ownerReferences"):
                if not metadata.get(place):
                    metadata.pop(place, None)
        _check(kind, now, was)
        if {**now, "metadata": {**metadata, "resourceVersion": held["resourceVersion"]}} == was:
            return was  # nothing has become other than it was
        for admit in self.admitted_by:
            admit(self, kind, now, was)
        if dry:
            return {**now, "metadata": {**metadata, "resourceVersion": held["resourceVersion"]}}
        if held.get("deletionTimestamp") and not metadata.get("finalizers") and not _waits(kind, now):
            self.objects.put(kind, now)
            return self.objects.drop(kind, now)
        return self.objects.put(kind, now)

    def delete(
        self, kind: Kind, space: str, name: str, asked: Deletion = Deletion(), *, dry: bool = False
    ) -> Thing:
        """A thing with finalizers is only marked, and goes when the last of these is taken off. Raises
        Refused.
        """
        was = self.objects.get(kind, space, name)
        metadata = was["metadata"]
        for what, wanted, there in (
            ("UID", asked.uid, metadata["uid"]),
            ("ResourceVersion", asked.version, metadata["resourceVersion"]),
        ):
            if wanted and wanted != there:
                words = f"Precondition failed: {what} in precondition: {wanted}, {what} in object: {there}"
                raise _refusal(kind, "Conflict", name, words)
        if dry or (metadata.get("deletionTimestamp") and not self._at_once(kind, was, asked)):
            return was
        if asked.orphan:
            self._disown(metadata["uid"])
            was = self.objects.get(kind, space, name)
            metadata = was["metadata"]
        if metadata.get("finalizers") or not self._at_once(kind, was, asked):
            seconds = 0
            if kind.kind == "Pod":
                seconds = GRACE_SECONDS if asked.seconds is None else asked.seconds
            marked = {**metadata, "deletionTimestamp": moment(), "deletionGracePeriodSeconds": seconds}
            return self.objects.put(kind, {**was, "metadata": marked})
        return self.objects.drop(kind, was)

    @staticmethod
    def _at_once(kind: Kind, was: Thing, asked: Deletion) -> bool:
        return asked.seconds == 0 or not _waits(kind, was)

    def _disown(self, owner: str) -> None:
        for kind in BY_KIND.values():
            for thing in self.objects.all(kind):
                mine = thing["metadata"].get("ownerReferences", ())
                if any(one["uid"] == owner for one in mine):
                    left = [one for one in mine if one["uid"] != owner]
                    self.objects.put(
                        kind, {**thing, "metadata": {**thing["metadata"], "ownerReferences": left}}
                    )

    # For the loops, which are parts of the orchestrator and ask nobody. -----------------------------------

    def note(self, kind: Kind, thing: Thing, *, status: Thing | None = None, **spec: Any) -> Thing:
        """Writes into the status of a thing, and into its spec; nothing where that is there already."""
        now = deepcopy(thing)
        now.setdefault("status", {}).update(status or {})
        if spec:
            now.setdefault("spec", {}).update(spec)
        now["status"] = {key: value for key, value in now["status"].items() if value is not None}
        if not now["status"] and "status" not in thing:
            del now["status"]
        return thing if now == thing else self.objects.put(kind, now)

    def annotate(self, kind: Kind, thing: Thing, notes: dict[str, str]) -> Thing:
        """With these annotations as well."""
        old = thing["metadata"].get("annotations") or {}
        if notes.items() <= old.items():
            return thing
        metadata = {**thing["metadata"], "annotations": {**old, **notes}}
        return self.objects.put(kind, {**thing, "metadata": metadata})

    def let_go(self, kind: Kind, thing: Thing, finalizer: str) -> None:
        """Takes a finalizer off: the thing goes, where it was the last and it is to."""
        metadata = thing["metadata"]
        left = [one for one in metadata.get("finalizers", ()) if one != finalizer]
        now = {**thing, "metadata": {**metadata, "finalizers": left}}
        if not left:
            del now["metadata"]["finalizers"]
        kept = self.objects.put(kind, now)
        if metadata.get("deletionTimestamp") and not left and not _waits(kind, now):
            self.objects.drop(kind, kept)

    def tell(self, about: Thing, reason: str, message: str, *, warning: bool = False, by: str = "") -> None:
        """An event about a thing; one that says the same as one there is counts there, not more often than
        every few seconds, and more and more seldom.
        """
        kind, metadata, now = BY_KIND["Event"], about["metadata"], moment()
        space = metadata.get("namespace") or "default"
        mark = hashlib.sha256(f"{metadata['uid']} {reason} {message}".encode()).hexdigest()[:16]
        name = f"{metadata['name'][:200]}.{mark}"
        where = self.objects.find(BY_KIND["Namespace"], "", space)
        now_at = time.monotonic()
        told_at, pause = self.told_at.get(name, (-math.inf, 0.0))
        if now_at - told_at < pause or where is None or where["metadata"].get("deletionTimestamp"):
            return
        self.told_at[name] = now_at, min(max(TELL_SECONDS, 2 * pause), LONGEST_TELL_SECONDS)
        if (told := self.objects.find(kind, space, name)) is not None:
            self.objects.put(kind, {**told, "count": told.get("count", 1) + 1, "lastTimestamp": now})
            return
        involved = {key: about[key] for key in ("kind", "apiVersion")}
        involved |= {key: metadata[key] for key in ("namespace", "name", "uid") if key in metadata}
        event = {
            "metadata": {"name": name},
            "involvedObject": involved,
            "reason": reason,
            "message": message,
            "type": "Warning" if warning else "Normal",
            "source": {"component": by},
            "count": 1,
            "firstTimestamp": now,
            "lastTimestamp": now,
        }
        self.create(kind, space, event)


# What these kinds are kept by, until nothing uses them any more.
_OF_OWN = {"PersistentVolumeClaim": IN_USE, "PersistentVolume": BOUND}


def _waits(kind: Kind, thing: Thing) -> bool:
    """Whether a thing goes only when something else has been done: what is in a namespace deleted, a pod's
    containers stopped.
    """
    if kind.kind == "Namespace":
        return bool(at(thing, "spec.finalizers"))
    return kind.kind == "Pod" and bool(at(thing, "spec.nodeName"))


def _as_said(kind: Kind, space: str, body: Thing) -> Thing:
    """A body as a thing of its kind. Raises Refused."""
    thing = deepcopy(body)
    for key, wanted in (("kind", kind.kind), ("apiVersion", kind.api_version)):
        if thing.setdefault(key, wanted) != wanted:
            raise Refused("BadRequest", f"{key} in URL and in object do not match: {wanted}, {thing[key]}")
    metadata = thing.setdefault("metadata", {})
    if not isinstance(metadata, dict):
        raise Refused("BadRequest", "metadata is an object")
    if not kind.namespaced:
        metadata.pop("namespace", None)
    elif metadata.setdefault("namespace", space) != space:
        words = "the namespace of the provided object does not match the namespace sent on the request"
        raise Refused("BadRequest", words)
    for key in ("name", "generateName", "uid", "resourceVersion"):
        if metadata.get(key) in (None, ""):
            metadata.pop(key, None)
    metadata.pop("managedFields", None)
    metadata.pop("selfLink", None)
    for key in [key for key, value in thing.items() if value is None]:
        del thing[key]
    return {key: thing[key] for key in ("apiVersion", "kind", "metadata")} | thing


def _check(kind: Kind, thing: Thing, was: Thing | None) -> None:
    try:
        causes = [*of_metadata(kind, thing), *kind.check(thing, was)]
    except (AttributeError, KeyError, TypeError) as error:  # a shape that no check has words for
        raise Refused(
            "BadRequest", f"{kind.kind} in version {kind.version} cannot be handled: {error!r}"
        ) from error
    if causes:
        raise _invalid(kind, thing["metadata"].get("name", ""), causes)


def _invalid(kind: Kind, name: str, causes: Sequence[Cause]) -> Refused:
    said = ", ".join(f"{cause.field}: {cause.message}" for cause in causes)
    what = f"{kind.kind}.{kind.group}" if kind.group else kind.kind
    words = f'{what} "{name}" is invalid: {said}'
    return Refused("Invalid", words, group=kind.group, plural=kind.kind, name=name, causes=causes)


def _refusal(kind: Kind, reason: str, name: str, words: str, before: str = "") -> Refused:
    said = f"{before}: {words}" if before else f'{kind.said} "{name}" {words}'
    return Refused(reason, said, group=kind.group, plural=kind.plural, name=name)
