"""The client of container orchestrators: the Kubernetes REST API, whoever serves it."""

from __future__ import annotations

import json
import ssl
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from functools import lru_cache
from typing import Any
from urllib.parse import quote, urlencode

from foldbarn.core.claims.rights import Right, one_by_one, together
from foldbarn.core.errors import BarnError, Conflict, NotAllowed, NotFound, NotPossible, Unreachable
from foldbarn.links.outbound import Answer, Bounds, Refused, Stream, StreamBounds, ask
from foldbarn.settings import settings

Thing = dict[str, Any]
PAGE = 500  # things asked for at once
PAGE_BYTES, THING_BYTES, WHOLE_BYTES = 32_000_000, 4_000_000, 256_000_000
LONG = 10  # times as long for a page of many things
FOLLOW_SECONDS = 240  # that one watch lasts, before it is asked for anew from where it was
QUIET_SECONDS = 60.0  # an orchestrator says at least how far it is, about once a minute (bookmarks)
MERGE = "application/merge-patch+json"  # RFC 7396
MOST_TEXT = 300  # characters of what it says itself


class Expired(BarnError):
    """What happened since then is not remembered there any more: look at all of it anew."""


@dataclass(frozen=True, slots=True)
class Resource:
    """A kind of thing, as addresses have it. group: empty for the core one."""

    group: str
    plural: str
    namespaced: bool = True
    version: str = "v1"

    @property
    def may_lack(self) -> bool:
        """Whether an orchestrator may keep no such things, or show none, and all else goes on."""
        return self.group == "snapshot.storage.k8s.io"

    def path(self, space: str = "", name: str = "", sub: str = "") -> str:
        start = f"/apis/{self.group}/{self.version}" if self.group else f"/api/{self.version}"
        where = f"/namespaces/{quote(space)}" if self.namespaced and space else ""
        return f"{start}{where}/{self.plural}{''.join(f'/{quote(part)}' for part in (name, sub) if part)}"


NAMESPACES = Resource("", "namespaces", namespaced=False)
NODES = Resource("", "nodes", namespaced=False)
CLAIMS = Resource("", "persistentvolumeclaims")
VOLUMES = Resource("", "persistentvolumes", namespaced=False)
EVENTS = Resource("", "events")
CLASSES = Resource("storage.k8s.io", "storageclasses", namespaced=False)
DRIVERS = Resource("storage.k8s.io", "csidrivers", namespaced=False)
PODS = Resource("", "pods")
ATTACHMENTS = Resource("storage.k8s.io", "volumeattachments", namespaced=False)
SNAPSHOTS = Resource("snapshot.storage.k8s.io", "volumesnapshots")
CONTENTS = Resource("snapshot.storage.k8s.io", "volumesnapshotcontents", namespaced=False)
SNAPSHOT_CLASSES = Resource("snapshot.storage.k8s.io", "volumesnapshotclasses", namespaced=False)
_FIRST_NAMESPACE = "kube-system"
REVIEWS = Resource("authorization.k8s.io", "selfsubjectaccessreviews", namespaced=False)


class Came(StrEnum):
    """What came about."""

    ADDED = "ADDED"
    MODIFIED = "MODIFIED"
    DELETED = "DELETED"


@dataclass(frozen=True, slots=True)
class Change:
    """version: from which one goes on after it. thing: None where nothing has changed but that."""

    version: str
    came: Came | None = None
    thing: Thing | None = None


@dataclass(frozen=True, slots=True)
class Orchestrator:
    """authority: the certificate that its own goes back to, as PEM; empty for what is commonly trusted.
    token: of the account by which it is asked.
    """

    url: str
    authority: str
    token: str

    def version(self) -> str:
        """Raises what `ask` does."""
        return str(self.ask("GET", "/version").get("gitVersion", ""))[:MOST_TEXT]

    def identity(self) -> str:
        """By which it is told from any other, whatever its address: of the namespace that each has of its own
        from its first day. Raises what `ask` does.
        """
        found = self.ask("GET", NAMESPACES.path(name=_FIRST_NAMESPACE))
        uid = (found.get("metadata") or {}).get("uid")
        if not isinstance(uid, str) or not uid:
            raise Unreachable("It answers, but not in the Kubernetes API.", about=self.url)
        return uid

    def missing(self) -> list[Right]:
        """Rights that it takes and were not given. Raises what `ask` does."""
        return together(one for one in one_by_one() if not self._may(one))

    def _may(self, right: Right) -> bool:
        plural, _, sub = right.resource.partition("/")
        wanted = {"group": right.group, "resource": plural, "subresource": sub, "verb": right.verbs[0]}
        body = {"spec": {"resourceAttributes": wanted}}
        said = {"apiVersion": "authorization.k8s.io/v1", "kind": "SelfSubjectAccessReview"}
        found = self.ask("POST", REVIEWS.path(), {**said, **body}).get("status")
        return isinstance(found, dict) and found.get("allowed") is True

    def all(self, resource: Resource, space: str = "") -> tuple[list[Thing], str]:
        """All things of a kind as they were at one moment, and the version to go on from: page by page or,
        where so much becomes of them that the next page is not remembered any more, in one. Raises what `ask`
        does.
        """
        found: list[Thing] = []
        token = ""
        while True:
            asked = {"limit": str(PAGE)} | ({"continue": token} if token else {})
            try:
                items, token, version = self._list(resource, space, asked, PAGE_BYTES)
            except Expired:
                items, _, version = self._list(resource, space, {}, WHOLE_BYTES)
                return items, version
            found += items
            if not token:
                return found, version

    def _list(
        self, resource: Resource, space: str, asked: Mapping[str, str], most: int
    ) -> tuple[list[Thing], str, str]:
        """Things, with what one goes on to list, and to follow."""
        page = self.ask("GET", resource.path(space), asked=asked, most=most, times=LONG)
        items, metadata = page.get("items"), page.get("metadata")
        if not isinstance(items, list) or not isinstance(metadata, dict):
            raise Unreachable("It lists things in another shape.", about=self.url)
        token, version = (str(metadata.get(key) or "") for key in ("continue", "resourceVersion"))
        return [one for one in items if isinstance(one, dict)], token, version

    def follow(
        self, resource: Resource, version: str, opened: Callable[[Stream], None] = lambda _: None
    ) -> Iterator[list[Change]]:
        """What comes about after a version, as it does, those together that came together; for some minutes,
        after which one goes on from the last version. opened: is given the stream, which any thread may stop.
        Raises Expired, Unreachable, NotAllowed.
        """
        asked = {"watch": "true", "resourceVersion": version, "allowWatchBookmarks": "true"}
        asked["timeoutSeconds"] = str(FOLLOW_SECONDS)
        url = f"{self.url.rstrip('/')}{resource.path()}?{urlencode(asked)}"
        bounds = StreamBounds(QUIET_SECONDS, THING_BYTES)
        with Stream(url, bounds, self._headers(), _trust(self.authority)) as stream:
            opened(stream)
            try:
                for lines in stream.batches():
                    yield [self._change(line) for line in lines if line.strip()]
            except Refused as refused:
                raise self._refusal(refused.answer) from refused

    def _change(self, line: bytes) -> Change:
        try:
            said = json.loads(line)
            kind, thing = said["type"], said["object"]
            if kind == "ERROR":
                raise _as_error(thing, self.url)
            version = str(thing["metadata"]["resourceVersion"])
            return Change(version) if kind == "BOOKMARK" else Change(version, Came(kind), thing)
        except (ValueError, KeyError, TypeError, RecursionError) as error:
            raise Unreachable("What it tells cannot be read.", about=self.url) from error

    def ask(
        self,
        method: str,
        path: str,
        body: Mapping[str, Any] | None = None,
        *,
        asked: Mapping[str, str] | None = None,
        patch: str = "",
        most: int = THING_BYTES,
        times: int = 1,
    ) -> Thing:
        """Asks for one thing. patch: the kind of patch that the body is. Raises Unreachable, NotAllowed (no
        such token, or no right), NotFound, Conflict (it is there already, or is another one by now), Expired,
        NotPossible (what was sent is refused).
        """
        query = f"?{urlencode(asked)}" if asked else ""
        headers = self._headers() | ({"Content-Type": patch} if patch else {})
        bounds = Bounds(settings().answer_seconds * times, most)
        answer = ask(
            method,
            f"{self.url.rstrip('/')}{path}{query}",
            bounds,
            body=body,
            headers=headers,
            trust=_trust(self.authority),
        )
        if answer.is_error:
            raise self._refusal(answer)
        return _read(answer, self.url)

    def _headers(self) -> dict[str, str]:
        return {"Authorization": f"Bearer {self.token}", "Accept": "application/json"}

    def _refusal(self, answer: Answer) -> BarnError:
        try:
            return _as_error(_read(answer, self.url), self.url)
        except Unreachable:
            return Unreachable(f"It answers with status {answer.status}.", about=self.url)


Key = tuple[str, str]  # namespace (empty where it has none) and name


@dataclass(slots=True)
class Mirror:
    """All things of a kind, as they are there as far as is known. Goes on in one thread; any may look at its
    things, of which none is altered in place, and stop it.

    version: with which they were so; empty before the first look. trim: what is kept of each, of which there
    may be very many.
    """

    orchestrator: Orchestrator
    resource: Resource
    trim: Callable[[Thing], Thing] = lambda thing: thing
    things: dict[Key, Thing] = field(default_factory=dict)
    version: str = ""
    there: bool = True  # whether it keeps and shows such things at all, as far as is known
    stopped: bool = False
    _stream: Stream | None = None

    def stop(self) -> None:
        """It is at its end, for good."""
        self.stopped = True
        if self._stream is not None:
            self._stream.stop()

    def _opened(self, stream: Stream) -> None:
        self._stream = stream
        if self.stopped:
            stream.stop()

    def go_on(self) -> Iterator[set[Key]]:
        """Which of them have come, gone or become other than they were, each time that any have; for some
        minutes. What was missed meanwhile, since nobody remembers it there any more, is found by a look at
        all of them. Raises what `ask` does.
        """
        if not self.version:
            yield self._look()
        if not self.there:
            return
        try:
            for changes in self.orchestrator.follow(self.resource, self.version, self._opened):
                touched = {key for one in changes if (key := self._take(one)) is not None}
                self.version = changes[-1].version if changes else self.version
                if touched:
                    yield touched
        except Expired:
            yield self._look()
        except (NotFound, NotAllowed):
            if not self.resource.may_lack:
                raise
            yield self._look()
            if self.there:
                raise  # it lists them, and does not say what becomes of them

    def _look(self) -> set[Key]:
        try:
            things, self.version = self.orchestrator.all(self.resource)
            self.there = True
        except (NotFound, NotAllowed):
            # Snapshots are kept only where somebody has brought their kinds along, and seen only where that
            # right was given: claims are seen to all the same.
            if not self.resource.may_lack:
                raise
            things, self.version, self.there = [], "", False
        found = {key_of(thing): self.trim(thing) for thing in things}
        before, self.things = self.things, found
        same = {key for key, thing in found.items() if before.get(key) == thing}
        return (before.keys() | found.keys()) - same

    def _take(self, change: Change) -> Key | None:
        """Which it is of; None where it says nothing new of what is kept."""
        if change.thing is None:
            return None
        key = key_of(change.thing)
        if change.came is Came.DELETED:
            return key if self.things.pop(key, None) is not None else None
        thing = self.trim(change.thing)
        if self.things.get(key) == thing:
            return None
        self.things[key] = thing
        return key


def key_of(thing: Thing) -> Key:
    """Raises Unreachable for what has no name."""
    metadata = thing.get("metadata")
    if not isinstance(metadata, dict) or not isinstance(metadata.get("name"), str):
        raise Unreachable("It lists a thing without a name.")
    return str(metadata.get("namespace") or ""), metadata["name"]


def _read(answer: Answer, url: str) -> Thing:
    try:
        found = answer.json()
    except ValueError as error:
        raise Unreachable("It answers, but not in the Kubernetes API.", about=url) from error
    if not isinstance(found, dict):
        raise Unreachable("It answers, but not in the Kubernetes API.", about=url)
    return found


_REFUSALS: dict[str, type[BarnError]] = {
    "Unauthorized": NotAllowed,
    "Forbidden": NotAllowed,
    "NotFound": NotFound,
    "AlreadyExists": Conflict,
    "Conflict": Conflict,
    "Expired": Expired,
    "Gone": Expired,
    "Invalid": NotPossible,
    "BadRequest": NotPossible,
    "MethodNotAllowed": NotPossible,
    "UnsupportedMediaType": NotPossible,
}


def _as_error(status: Mapping[str, Any], url: str) -> BarnError:
    """A Status object as a refusal, with what it says itself."""
    said = str(status.get("message") or status.get("reason") or "it says no more")[:MOST_TEXT]
    refusal = _REFUSALS.get(str(status.get("reason")), Unreachable)
    if status.get("reason") == "Unauthorized":
        return NotAllowed("It does not know the token.", about=url)
    return refusal(f"It refuses: {said}.", about=url)


def check_authority(authority: str) -> None:
    """Raises NotPossible for what is no certificate; what is commonly trusted is said by nothing."""
    _trust(authority.strip())


@lru_cache(maxsize=64)
def _trust(authority: str) -> ssl.SSLContext | None:
    """Raises NotPossible for what is no certificate."""
    if not authority:
        return None
    try:
        return ssl.create_default_context(cadata=authority)
    except (ssl.SSLError, ValueError) as error:
        raise NotPossible("This is no certificate in PEM form.", about="authority") from error
