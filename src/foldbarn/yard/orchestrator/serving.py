"""The orchestrator as a web application: addresses, questions, watches and answers of the Kubernetes REST
API.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
import json
import time
from bisect import bisect_right
from collections import OrderedDict
from collections.abc import AsyncIterator
from dataclasses import dataclass
from itertools import islice
from typing import Any, Literal

import yaml
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from foldbarn.yard.orchestrator.access import Access, Act, Who
from foldbarn.yard.orchestrator.kinds import BY_PLURAL, KINDS, Kind
from foldbarn.yard.orchestrator.machinery import Api, Deletion
from foldbarn.yard.orchestrator.objects import Happened
from foldbarn.yard.orchestrator.patching import APPLY, PATCHES
from foldbarn.yard.orchestrator.refusing import Refused, Thing
from foldbarn.yard.orchestrator.selecting import Test, by_fields, by_labels

VERSION = {"major": "1", "minor": "37", "gitVersion": "v1.37.0", "platform": "linux/amd64"}
BOOKMARK_SECONDS = 1.0
WATCH_SECONDS = 1800.0  # that a watch lasts, where it does not say
MOST_ASKED = 3 * 1024**2  # bytes of a body
SLOW_SECONDS = 6.0
READ_AT_ONCE = 16  # lists that are read page by page
Answers = Literal["well", "slowly", "garbled", "not"]


@dataclass(frozen=True, slots=True)
class Where:
    """What an address is about. name: empty for all; sub: a subresource of one."""

    kind: Kind
    space: str = ""
    name: str = ""
    sub: str = ""


def where(group: str, version: str, parts: list[str]) -> Where:
    """Raises Refused."""
    space = ""
    # A namespace is a thing itself, and what others lie in.
    if parts[0] == "namespaces" and len(parts) > 2 and parts[2] not in ("status", "finalize"):
        space, parts = parts[1], parts[2:]
    kind = BY_PLURAL.get((group, version, parts[0]))
    subs = {"status"} if kind and kind.status else set()
    if kind and kind.kind == "ServiceAccount":
        subs.add("token")
    if kind is None or len(parts) > 3 or (len(parts) == 3 and parts[2] not in subs):
        raise Refused("NotFound", "the server could not find the requested resource")
    if (space and not kind.namespaced) or (len(parts) > 1 and kind.namespaced and not space):
        raise Refused("NotFound", "the server could not find the requested resource")
    return Where(kind, space, *parts[1:])


class Server:
    """Answers requests. answers: how well it does that; a lever of the yard."""

    def __init__(self, api: Api, access: Access) -> None:
        self.api, self.access, self.objects = api, access, api.objects
        self.answers: Answers = "well"
        # What somebody reads page by page: in order, as it was with a version.
        self._read: OrderedDict[tuple[str, str, int, int], list[Thing]] = OrderedDict()

    def app(self, **more: Any) -> Starlette:
        methods = ["GET", "POST", "PUT", "PATCH", "DELETE"]
        return Starlette(routes=[Route("/{path:path}", self.answer, methods=methods)], **more)

    async def answer(self, request: Request) -> Response:
        if self.answers == "slowly":
            await asyncio.sleep(SLOW_SECONDS)
        if self.answers == "garbled":
            return Response("<html>it works!</html>", media_type="text/html")
        if self.answers == "not":
            return Response("", status_code=503)
        try:
            return await self._answer(request)
        except Refused as refused:
            return JSONResponse(refused.status(), status_code=refused.code)

    async def _answer(self, request: Request) -> Response:
        path = [part for part in request.path_params["path"].split("/") if part]
        if path and path[0] in ("healthz", "livez", "readyz"):
            return Response("ok", media_type="text/plain")
        who = self.access.who(request.headers.get("authorization", ""))
        if path == ["version"]:
            return JSONResponse(VERSION)
        if found := _directory(path):
            return JSONResponse(found)
        group, version, parts = ("", path[1], path[2:]) if path[:1] == ["api"] else ("", "", [])
        if path[:1] == ["apis"] and len(path) > 3:
            group, version, parts = path[1], path[2], path[3:]
        if not parts:
            raise Refused("NotFound", "the server could not find the requested resource")
        if group == "authorization.k8s.io":
            return JSONResponse(self._reviewed(who, parts, await _body(request)), status_code=201)
        at, asked = where(group, version, parts), request.query_params
        verb = _verb(request.method, at, watch=_yes(asked.get("watch")))
        act = Act(verb, at.kind.group, at.kind.plural, at.sub, at.space, at.name)
        self.access.check(who, act)
        dry = bool(asked.get("dryRun"))
        if asked.get("dryRun") not in (None, "", "All"):
            raise Refused("Invalid", f'dryRun: Unsupported value: "{asked["dryRun"]}": supported: "All"')
        match verb:
            case "watch":
                return self._watch(request, at)
            case "list":
                return JSONResponse(self._list(request, at))
            case "get":
                return JSONResponse(self.objects.get(at.kind, at.space, at.name))
            case "create" if at.sub == "token":
                return JSONResponse(self._lend(at, await _body(request)), status_code=201)
            case "create":
                if at.kind.namespaced and not at.space:
                    raise Refused("MethodNotAllowed", "a thing of this kind is made in a namespace")
                made = self.api.create(at.kind, at.space, await _body(request), dry=dry)
                return JSONResponse(made, status_code=201)
            case "update":
                body = await _body(request)
                if (body.get("metadata") or {}).get("name", at.name) != at.name:
                    raise Refused("BadRequest", "the name of the object does not match the name on the URL")
                return JSONResponse(self.api.replace(at.kind, at.space, at.name, body, sub=at.sub, dry=dry))
            case "patch":
                how = request.headers.get("content-type", "").partition(";")[0]
                if how not in PATCHES:
                    words = (
                        f"the body of the request was in an unknown format - accepted: {', '.join(PATCHES)}"
                    )
                    raise Refused("UnsupportedMediaType", words)
                patch = await _body(request, any_shape=True)
                there = self.objects.find(at.kind, at.space, at.name) is not None
                now = self.api.patch(at.kind, at.space, at.name, how, patch, sub=at.sub, dry=dry)
                return JSONResponse(now, status_code=200 if there or how != APPLY else 201)
            case "delete":
                asked_with = _deletion(await _body(request, empty=True), dict(asked))
                gone = self.api.delete(at.kind, at.space, at.name, asked_with, dry=dry)
                return JSONResponse(gone if at.kind.tells else _done(at.kind, gone))
            case _:
                asked_with = _deletion(await _body(request, empty=True), dict(asked))
                return JSONResponse(self._delete_all(request, at, asked_with, dry=dry))

    # Looking. --------------------------------------------------------------------------------------------

    def _chosen(self, request: Request, at: Where) -> Test:
        labels = by_labels(request.query_params.get("labelSelector", ""))
        known = ("metadata.name", "metadata.namespace", *at.kind.fields)
        fields = by_fields(request.query_params.get("fieldSelector", ""), known)
        return lambda thing: labels(thing) and fields(thing)

    def _list(self, request: Request, at: Where) -> Thing:
        """All, or a page: what comes on the pages after it is how things were at the first one."""
        chosen, asked = self._chosen(request, at), request.query_params
        version, after = self.objects.version, ""
        if token := asked.get("continue"):
            version, after = _read_token(token)
        things = self._in_order(at, version)
        start = bisect_right(things, after, key=_place) if after else 0
        limit = int(asked.get("limit") or 0)
        found = list(islice((one for one in things[start:] if chosen(one)), limit + 1 if limit else None))
        metadata: Thing = {"resourceVersion": str(version)}
        if limit and len(found) > limit:
            found = found[:limit]
            metadata["continue"] = _write_token(version, _place(found[-1]))
            if not (asked.get("labelSelector") or asked.get("fieldSelector")):  # else nobody has counted
                metadata["remainingItemCount"] = len(things) - start - limit
        return {
            "kind": f"{at.kind.kind}List",
            "apiVersion": at.kind.api_version,
            "metadata": metadata,
            "items": found,
        }

    def _in_order(self, at: Where, version: int) -> list[Thing]:
        """All things as they were with a version. Raises Refused where that is not remembered any more."""
        key = at.kind.kind, at.space, version, self.objects.forgotten
        found = self._read.get(key)
        if found is None:
            now = version == self.objects.version
            objects = self.objects
            things = objects.all(at.kind, at.space) if now else objects.as_of(version, at.kind, at.space)
            found = self._read[key] = sorted(things, key=_place)
            if len(self._read) > READ_AT_ONCE:
                self._read.popitem(last=False)
        return found

    def _watch(self, request: Request, at: Where) -> Response:
        chosen, asked = self._chosen(request, at), request.query_params
        if at.name:
            whole, name = chosen, at.name
            chosen = lambda thing: whole(thing) and thing["metadata"]["name"] == name  # noqa: E731
        seconds = float(asked.get("timeoutSeconds") or WATCH_SECONDS)
        bookmarks = _yes(asked.get("allowWatchBookmarks"))
        version = asked.get("resourceVersion", "")
        told = self._tell(at, chosen, version, time.monotonic() + seconds, bookmarks=bookmarks)
        return StreamingResponse(told, media_type="application/json")

    async def _tell(
        self, at: Where, chosen: Test, version: str, until: float, *, bookmarks: bool
    ) -> AsyncIterator[str]:
        """One line of JSON for each thing that happens to those chosen."""
        if version in ("", "0"):
            seen = self.objects.version
            for thing in sorted(self.objects.all(at.kind, at.space), key=_place):
                if chosen(thing):
                    yield _line("ADDED", thing)
        else:
            seen = int(version)
        marked, waiting = time.monotonic(), asyncio.Event()
        while time.monotonic() < until and self.answers == "well":
            try:
                later = list(self.objects.since(seen, at.kind))
            except Refused as refused:
                yield _line("ERROR", refused.status())
                return
            seen = self.objects.version
            for one in later:
                if at.space in ("", one.key[1]) and (line := _said(one, chosen)):
                    yield line
            if bookmarks and time.monotonic() > marked + BOOKMARK_SECONDS:
                marked = time.monotonic()
                yield _bookmark(at.kind, seen)
            if seen == self.objects.version:
                await self.objects.news(waiting, min(BOOKMARK_SECONDS, max(0.0, until - time.monotonic())))
        if bookmarks:
            yield _bookmark(at.kind, seen)

    # Doing. ----------------------------------------------------------------------------------------------

    def _delete_all(self, request: Request, at: Where, asked: Deletion, *, dry: bool) -> Thing:
        found = self._list(request, at)
        for thing in found["items"]:
            metadata = thing["metadata"]
            self.api.delete(at.kind, metadata.get("namespace", ""), metadata["name"], asked, dry=dry)
        return found

    def _reviewed(self, who: Who, parts: list[str], body: Thing) -> Thing:
        """authorization.k8s.io/v1: what who asks may do."""
        spec = body.get("spec") or {}
        if parts == ["selfsubjectaccessreviews"]:
            wanted = spec.get("resourceAttributes") or {}
            keys = {"verb": "verb", "group": "group", "plural": "resource", "sub": "subresource"}
            keys |= {"space": "namespace", "name": "name"}
            act = Act(**{ours: wanted.get(theirs, "") for ours, theirs in keys.items()})
            return {**body, "metadata": {}, "status": {"allowed": self.access.may(who, act)}}
        if parts == ["selfsubjectrulesreviews"]:
            rules = [
                {key: rule.get(key) or [] for key in ("verbs", "apiGroups", "resources", "resourceNames")}
                for rule in self.access.rules(who, spec.get("namespace", ""))
            ]
            status = {"resourceRules": rules, "nonResourceRules": [], "incomplete": False}
            return {**body, "metadata": {}, "status": status}
        raise Refused("NotFound", "the server could not find the requested resource")

    def _lend(self, at: Where, body: Thing) -> Thing:
        self.objects.get(at.kind, at.space, at.name)
        spec = body.get("spec") or {}
        seconds = float(spec.get("expirationSeconds") or 3600)
        token = self.access.lend(at.space, at.name, seconds)
        ends = time.time() + seconds
        status = {
            "token": token,
            "expirationTimestamp": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(ends)),
        }
        said = {"kind": "TokenRequest", "apiVersion": "authentication.k8s.io/v1"}
        return {**said, "metadata": {}, "spec": {"audiences": [], **spec}, "status": status}


def _yes(said: str | None) -> bool:
    return said in ("true", "True", "1")


def _verb(method: str, at: Where, *, watch: bool) -> str:
    one = bool(at.name)
    match method:
        case "GET":
            return "watch" if watch else "get" if one else "list"
        case "POST" if not one or at.sub == "token":
            return "create"
        case "PUT" if one:
            return "update"
        case "PATCH" if one:
            return "patch"
        case "DELETE" if not at.sub:
            return "delete" if one else "deletecollection"
    raise Refused("MethodNotAllowed", "the server does not allow this method on the requested resource")


async def _body(request: Request, *, empty: bool = False, any_shape: bool = False) -> Any:
    """The body, as JSON or YAML. Raises Refused."""
    data = b""
    async for part in request.stream():
        data += part
        if len(data) > MOST_ASKED:
            raise Refused("BadRequest", "the request is too large")
    if not data.strip() and empty:
        return {}
    how = request.headers.get("content-type", "application/json").partition(";")[0]
    if "protobuf" in how:
        raise Refused("UnsupportedMediaType", "the body of the request was in an unknown format")
    try:
        found = yaml.safe_load(data) if how.endswith("yaml") else json.loads(data)
    except (ValueError, yaml.YAMLError, RecursionError) as error:
        raise Refused("BadRequest", f"the body of the request is not readable: {error}") from error
    if not any_shape and not isinstance(found, dict):
        raise Refused("BadRequest", "the body of the request is no object")
    return found


def _deletion(body: Thing, asked: dict[str, str]) -> Deletion:
    wanted = body.get("preconditions") or {}
    seconds = body.get("gracePeriodSeconds", asked.get("gracePeriodSeconds"))
    how = body.get("propagationPolicy", asked.get("propagationPolicy", ""))
    return Deletion(
        uid=wanted.get("uid") or "",
        version=wanted.get("resourceVersion") or "",
        seconds=None if seconds is None else int(seconds),
        orphan=how == "Orphan" or bool(body.get("orphanDependents")),
    )


def _done(kind: Kind, gone: Thing) -> Thing:
    details = {"name": gone["metadata"]["name"], "kind": kind.plural, "uid": gone["metadata"]["uid"]}
    if kind.group:
        details["group"] = kind.group
    return {"kind": "Status", "apiVersion": "v1", "metadata": {}, "status": "Success", "details": details}


def _place(thing: Thing) -> str:
    """By what things are listed."""
    return f"{thing['metadata'].get('namespace', '')}/{thing['metadata']['name']}"


def _write_token(version: int, after: str) -> str:
    return base64.urlsafe_b64encode(json.dumps([version, after]).encode()).decode()


def _read_token(token: str) -> tuple[int, str]:
    with contextlib.suppress(ValueError, TypeError):
        version, after = json.loads(base64.urlsafe_b64decode(token))
        return int(version), str(after)
    raise Refused("BadRequest", "continue key is not valid")


def _line(kind: str, thing: Thing) -> str:
    return json.dumps({"type": kind, "object": thing}) + "\n"


def _bookmark(kind: Kind, version: int) -> str:
    metadata = {"resourceVersion": str(version), "creationTimestamp": None}
    return _line("BOOKMARK", {"kind": kind.kind, "apiVersion": kind.api_version, "metadata": metadata})


def _said(one: Happened, chosen: Test) -> str:
    """What a watch is told of it; a thing that is not among those chosen any more is gone for it."""
    was, now = one.was is not None and chosen(one.was), one.now is not None and chosen(one.now)
    if was and now:
        return _line("MODIFIED", one.last)
    if now:
        return _line("ADDED", one.last)
    return _line("DELETED", one.last) if was else ""


def _directory(path: list[str]) -> Thing | None:
    """What there is to be found at the addresses above those of things."""
    groups = sorted({(kind.group, kind.version) for kind in KINDS if kind.group})
    said = [
        {
            "name": group,
            "versions": [{"groupVersion": f"{group}/{version}", "version": version}],
            "preferredVersion": {"groupVersion": f"{group}/{version}", "version": version},
        }
        for group, version in [*groups, ("authorization.k8s.io", "v1")]
    ]
    match path:
        case ["api"]:
            return {"kind": "APIVersions", "versions": ["v1"], "serverAddressByClientCIDRs": []}
        case ["apis"]:
            return {"kind": "APIGroupList", "apiVersion": "v1", "groups": said}
        case ["apis", group]:
            one = next((one for one in said if one["name"] == group), None)
            return one and {"kind": "APIGroup", "apiVersion": "v1", **one}
        case ["api", version]:
            return _resources("", version)
        case ["apis", group, version]:
            return _resources(group, version)
    return None


def _resources(group: str, version: str) -> Thing | None:
    verbs = ["create", "delete", "deletecollection", "get", "list", "patch", "update", "watch"]
    mine = [kind for kind in KINDS if (kind.group, kind.version) == (group, version)]
    found = []
    for kind in mine:
        one = {"name": kind.plural, "singularName": kind.kind.lower(), "namespaced": kind.namespaced}
        one |= {"kind": kind.kind, "verbs": verbs}
        found.append(one | ({"shortNames": list(kind.short)} if kind.short else {}))
        if kind.status:
            found.append(
                {
                    **one,
                    "name": f"{kind.plural}/status",
                    "singularName": "",
                    "verbs": ["get", "patch", "update"],
                }
            )
    where = f"{group}/{version}" if group else version
    said = {"kind": "APIResourceList", "apiVersion": "v1", "groupVersion": where, "resources": found}
    return said if mine else None
