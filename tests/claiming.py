"""An orchestrator beside a site, looked after step by step in the test's own thread."""

from __future__ import annotations

import atexit
import base64
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from conftest import Site

from foldbarn.changes.engine.runner import run_change
from foldbarn.core.actors import Actor
from foldbarn.core.claims.kept import KeptClaim
from foldbarn.core.claims.rights import ACCOUNT, TOKEN, manifests
from foldbarn.house.postgres import free_port
from foldbarn.links import orchestrators as link
from foldbarn.links.orchestrators import Mirror, Orchestrator, Resource, Thing
from foldbarn.services import changes, secrets
from foldbarn.services.consumers import attaching, snapshotting, stewarding
from foldbarn.services.consumers.following import MIRRORED
from foldbarn.services.consumers.stewarding import Steward, steward_of
from foldbarn.store.views import current_view
from foldbarn.yard.orchestrator.standing import NodePlace, StandIn

PATIENCE = 60.0
GIB = 2**30
NODES = ("tender-1", "tender-2", "tender-3")
KINDS = {
    "Namespace": Resource("", "namespaces", namespaced=False),
    "ServiceAccount": Resource("", "serviceaccounts"),
    "Secret": Resource("", "secrets"),
    "ClusterRole": Resource("rbac.authorization.k8s.io", "clusterroles", namespaced=False),
    "ClusterRoleBinding": Resource("rbac.authorization.k8s.io", "clusterrolebindings", namespaced=False),
}


def until(true: Callable[[], Any], what: str = "it") -> Any:
    """Waits for what comes about by itself."""
    ends = time.monotonic() + PATIENCE
    while not (found := true()):
        assert time.monotonic() < ends, f"{what} did not come about"
        time.sleep(0.02)
    return found


@dataclass
class Tender:
    """The stand-in, as its administrator sees it, and the token of Fold Barn's account."""

    stand_in: StandIn
    admin: Orchestrator
    token: str

    @property
    def url(self) -> str:
        return self.admin.url

    def make(self, resource: Resource, thing: dict[str, Any], space: str = "") -> Thing:
        return self.admin.ask("POST", resource.path(space), thing)

    def find(self, resource: Resource, space: str, name: str) -> Thing | None:
        found = [one for one in self.admin.all(resource, space)[0] if one["metadata"]["name"] == name]
        return found[0] if found else None

    def namespace(self, name: str) -> None:
        self.make(link.NAMESPACES, {"metadata": {"name": name}})

    def claim(
        self, space: str, name: str, size: str = "5Gi", storage_class: str | None = "steady", **spec: Any
    ) -> Thing:
        wanted = {"accessModes": ["ReadWriteOnce"], "resources": {"requests": {"storage": size}}, **spec}
        if storage_class is not None:
            wanted["storageClassName"] = storage_class
        return self.make(link.CLAIMS, {"metadata": {"name": name}, "spec": wanted}, space)

    def phase(self, space: str, name: str) -> str:
        found = self.find(link.CLAIMS, space, name)
        return "" if found is None else str(found["status"]["phase"])

    def delete(self, resource: Resource, space: str, name: str) -> None:
        self.admin.ask("DELETE", resource.path(space, name))
        until(lambda: self.find(resource, space, name) is None, f"{name} to be gone")

    def pod(self, space: str, name: str, claim: str) -> None:
        volumes = [{"name": "data", "persistentVolumeClaim": {"claimName": claim}}]
        containers = [{"name": "main", "image": "registry.example/app"}]
        spec = {"containers": containers, "volumes": volumes}
        self.make(link.PODS, {"metadata": {"name": name}, "spec": spec}, space)

    def events(self, space: str, name: str) -> list[Thing]:
        """What Fold Barn told of a claim."""
        found, _ = self.admin.all(link.EVENTS, space)
        ours = [one for one in found if (one.get("source") or {}).get("component") == "fold-barn"]
        return [one for one in ours if one["involvedObject"]["name"] == name]


@contextmanager
def standing(folder: Path) -> Iterator[Tender]:
    """A stand-in orchestrator in which Fold Barn has been given its account."""
    stand_in = StandIn("tender", folder, [NodePlace(name) for name in NODES])
    port = free_port()
    stand_in.start(port)
    try:
        url = f"https://127.0.0.1:{port}"
        admin = Orchestrator(url, stand_in.authority.decode(), stand_in.admin_token)
        for thing in manifests():
            admin.ask("POST", KINDS[thing["kind"]].path(thing["metadata"].get("namespace", "")), thing)

        def token() -> str:
            secret = admin.ask("GET", KINDS["Secret"].path(ACCOUNT, TOKEN))
            return base64.b64decode((secret.get("data") or {}).get("token", "")).decode()

        yield Tender(stand_in, admin, until(token, "the token"))
    finally:
        stand_in.stop()


@cache
def shared_tender() -> Tender:
    """One for all tests of a process that only ask who it is."""
    context = standing(Path(tempfile.mkdtemp(prefix="tender-")))
    found = context.__enter__()
    atexit.register(context.__exit__, None, None, None)
    return found


@dataclass
class Desk:
    """The site with the orchestrator, whose claims are seen to when the test says so."""

    site: Site
    tender: Tender
    steward: Steward
    mirrors: dict[Resource, Mirror] = field(default_factory=dict)
    begun: list[int] = field(default_factory=list)  # changes that the steward began

    def look(self, times: int = 12) -> None:
        """Looks until nothing follows any more."""
        for _ in range(times):
            touched = {resource: mirror._look() for resource, mirror in self.mirrors.items()}
            if not self.steward.look(touched) and not any(touched.values()):
                return
            time.sleep(0.03)  # for what the orchestrator does by itself

    def take_in(self) -> None:
        """Looks at which claims there are, and begins nothing for them."""
        touched = {resource: mirror._look() for resource, mirror in self.mirrors.items()}
        self.steward._take_in(touched)

    def kept(self, path: str) -> KeptClaim:
        """The newest of that name."""
        found = [kept for kept in current_view().claims if kept.path == path]
        return max(found, key=lambda kept: kept.number)

    def settle(self, path: str, life: str) -> KeptClaim:
        """Looks until a claim is that far."""

        def there() -> bool:
            self.look(2)
            return any(k.path == path and k.life == life for k in current_view().claims)

        until(there, f"{path} to be {life}")
        return self.kept(path)


def connect(site: Site, tender: Tender, name: str = "tender") -> int:
    """The number of the change."""
    authority = tender.stand_in.authority.decode()
    return site.do("connect-orchestrator", name=name, url=tender.url, authority=authority, token=tender.token)


def hand_over(tender: Tender) -> secrets.Shown:
    """The newest secret is shown, and applied in the orchestrator."""
    [*_, newest] = current_view().orchestrator("tender").secrets
    shown = secrets.show(Actor("Ada"), "tender", newest.name)
    space, name = shown.thing["metadata"]["namespace"], shown.thing["metadata"]["name"]
    if tender.find(KINDS["Secret"], space, name) is not None:
        tender.delete(KINDS["Secret"], space, name)
    tender.make(KINDS["Secret"], shown.thing, space)
    return shown


def steward_for(tender: Tender) -> tuple[Steward, dict[Resource, Mirror]]:
    asked = Orchestrator(tender.url, tender.stand_in.authority.decode(), tender.token)
    mirrors = {resource: Mirror(asked, resource) for resource in MIRRORED}
    return steward_of(current_view().orchestrators[0].number, asked, mirrors), mirrors


@contextmanager
def desk_of(site: Site, tender: Tender, patches: pytest.MonkeyPatch) -> Iterator[Desk]:
    """A desk; what its steward begins is carried out at once."""
    assert site.state(connect(site, tender)) == "done"
    steward, mirrors = steward_for(tender)
    desk = Desk(site, tender, steward, mirrors)

    def at_once(*args: Any, **rest: Any) -> int:
        number = changes.carry_out(*args, **rest)
        desk.begun.append(number)
        run_change(number)
        return number

    hand_over(tender)
    patches.setattr(stewarding, "carry_out", at_once)
    patches.setattr(attaching, "carry_out", at_once)
    patches.setattr(snapshotting, "carry_out", at_once)
    patches.setattr(snapshotting, "REST_SECONDS", 0.05)
    patches.setattr(stewarding, "REST_SECONDS", 0.05)
    yield desk


def offer(site: Site, namespace: str = "ticketing", policy: str = "steady-three", **limits: Any) -> None:
    """A policy, published as the class steady and granted to a namespace."""
    if not current_view().policies:
        assert site.state(site.do("save-policy", name=policy, copies=3, level="node")) == "done"
    if not current_view().classes:
        assert site.state(site.do("publish-class", name="steady", policy=policy)) == "done"
    wish = {"orchestrator": "tender", "namespace": namespace, "policy": policy, **limits}
    assert site.state(site.do("grant-policy", **wish)) == "done"
