"""The client of orchestrators, against the stand-in; what has to be applied there is applied by the
Kubernetes project's own client for Python.
"""

from __future__ import annotations

import base64
import random
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import pytest
import yaml
from kubernetes import client as official
from kubernetes import utils as official_utils

from foldbarn.core.claims.rights import ACCOUNT, RIGHTS, TOKEN, Right, manifests, one_by_one, together
from foldbarn.core.errors import BarnError, Conflict, NotAllowed, NotFound, NotPossible, Unreachable
from foldbarn.house.postgres import free_port
from foldbarn.links import orchestrators
from foldbarn.links.orchestrators import (
    CLAIMS,
    MERGE,
    NAMESPACES,
    NODES,
    Expired,
    Mirror,
    Orchestrator,
    key_of,
)
from foldbarn.settings import settings
from foldbarn.yard.orchestrator.kinds import BY_KIND
from foldbarn.yard.orchestrator.standing import NodePlace, StandIn, make_certificate

PATIENCE = 20.0
SPACE = "cargo-desk"


@pytest.fixture
def stand_in(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[StandIn]:
    monkeypatch.setattr(settings(), "answer_seconds", 60.0)  # a busy machine is no silence
    one = StandIn("tender", tmp_path / "tender", [NodePlace("quay-1")])
    one.start(free_port())
    yield one
    one.stop()


def at(stand_in: StandIn, token: str = "") -> Orchestrator:
    assert stand_in._uvicorn is not None
    url = f"https://127.0.0.1:{stand_in._uvicorn.config.port}"
    return Orchestrator(url, stand_in.authority.decode(), token or stand_in.admin_token)


@pytest.fixture
def admin(stand_in: StandIn) -> Orchestrator:
    found = at(stand_in)
    found.ask("POST", NAMESPACES.path(), {"metadata": {"name": SPACE}})
    return found


def claim(name: str = "manifests", **metadata: Any) -> dict[str, Any]:
    spec = {"accessModes": ["ReadWriteOnce"], "resources": {"requests": {"storage": "1Gi"}}}
    return {"metadata": {"name": name, **metadata}, "spec": spec}


def until(true: Callable[[], Any]) -> Any:
    ends = time.monotonic() + PATIENCE
    while not (found := true()):
        assert time.monotonic() < ends, "it did not come about"
        time.sleep(0.02)
    return found


# Rights. ---------------------------------------------------------------------------------------------------


def applied(stand_in: StandIn) -> tuple[official.ApiClient, str]:
    """What is to be applied is, as a person does it; with the token that comes of it."""
    found = official.Configuration()
    found.host, found.ssl_ca_cert = at(stand_in).url, str(stand_in.folder / "certificate.pem")
    found.api_key = {"authorization": f"Bearer {stand_in.admin_token}"}
    theirs = official.ApiClient(found)
    text = yaml.safe_dump_all(manifests())  # several documents in a file, as it is handed out
    for document in yaml.safe_load_all(text):
        official_utils.create_from_dict(theirs, document)
    core = official.CoreV1Api(theirs)
    said = until(lambda: (core.read_namespaced_secret(TOKEN, ACCOUNT).data or {}).get("token"))
    return theirs, base64.b64decode(said).decode()


def test_what_is_applied_gives_each_right_that_it_takes_and_no_other(stand_in: StandIn) -> None:
    _, token = applied(stand_in)
    mine = at(stand_in, token)
    assert mine.missing() == []
    assert mine.version() == "v1.37.0"
    with pytest.raises(NotAllowed, match="cannot list"):
        mine.all(orchestrators.Resource("", "secrets"))


def test_each_right_that_is_missing_is_named_with_the_line_that_gives_it(stand_in: StandIn) -> None:
    theirs, token = applied(stand_in)
    rbac, mine = official.RbacAuthorizationV1Api(theirs), at(stand_in, token)
    for gone in random.Random(1).sample(one_by_one(), 6):
        left = [one.rule for one in together(one for one in one_by_one() if one != gone)]
        rbac.patch_cluster_role(ACCOUNT, {"rules": left})
        assert mine.missing() == [gone]
        rbac.patch_cluster_role(ACCOUNT, {"rules": [*left, *yaml.safe_load(gone.line)]})
        assert mine.missing() == []
    rbac.delete_cluster_role_binding(ACCOUNT)
    assert mine.missing() == list(RIGHTS)


def test_rights_come_apart_and_together_again() -> None:
    assert together(one_by_one()) == list(RIGHTS)
    assert Right("apps", "statefulsets", ("get", "list"), "").rule == {
        "apiGroups": ["apps"],
        "resources": ["statefulsets"],
        "verbs": ["get", "list"],
    }


# Asking. ---------------------------------------------------------------------------------------------------


def test_a_refusal_is_said_as_what_it_is(admin: Orchestrator) -> None:
    path = CLAIMS.path(SPACE)
    made = admin.ask("POST", path, claim())
    patch = {"metadata": {"resourceVersion": "1", "labels": {"a": "b"}}}
    for refusal, words, work in (
        (Conflict, "already exists", lambda: admin.ask("POST", path, claim())),
        (NotFound, '"gone" not found', lambda: admin.ask("GET", CLAIMS.path(SPACE, "gone"))),
        (NotPossible, "metadata.name", lambda: admin.ask("POST", path, claim("No!"))),
        (
            Conflict,
            "modified",
            lambda: admin.ask("PATCH", CLAIMS.path(SPACE, "manifests"), patch, patch=MERGE),
        ),
        (NotAllowed, "does not know the token", replace(admin, token="guessed").version),
    ):
        with pytest.raises(BarnError, match=words) as caught:
            work()
        assert type(caught.value) is refusal
    status = admin.ask(
        "PATCH", CLAIMS.path(SPACE, "manifests"), {"metadata": {"labels": {"a": "b"}}}, patch=MERGE
    )
    assert (status["metadata"]["uid"], status["metadata"]["labels"]) == (made["metadata"]["uid"], {"a": "b"})


@pytest.mark.parametrize(
    ("how", "words"),
    [("garbled", "not in the Kubernetes API"), ("not", "status 503"), ("slowly", "No answer within 0.5 s")],
)
def test_one_that_answers_badly_is_shown_as_such(
    stand_in: StandIn, admin: Orchestrator, monkeypatch: pytest.MonkeyPatch, how: Any, words: str
) -> None:
    assert stand_in.server is not None
    stand_in.server.answers = how
    if how == "slowly":
        monkeypatch.setattr(settings(), "answer_seconds", 0.5)
    with pytest.raises(Unreachable, match=words):
        admin.version()
    if how != "slowly":  # a watch may take its time
        with pytest.raises(Unreachable):
            list(admin.follow(NODES, "1"))
    stand_in.server.answers = "well"


def test_it_is_trusted_by_its_certificate_alone(
    tmp_path: Path, stand_in: StandIn, admin: Orchestrator
) -> None:
    make_certificate(tmp_path, "another")
    other = (tmp_path / "certificate.pem").read_text()
    for authority in (other, ""):
        with pytest.raises(Unreachable, match="certificate goes back to none that is trusted"):
            replace(admin, authority=authority).version()
        with pytest.raises(Unreachable, match="certificate goes back to none that is trusted"):
            list(replace(admin, authority=authority).follow(NODES, "1"))
    with pytest.raises(NotPossible, match="no certificate in PEM form"):
        replace(admin, authority="-----BEGIN").version()
    with pytest.raises(Unreachable, match="Nothing listens"):
        replace(admin, url=f"https://127.0.0.1:{free_port()}").version()
    with HTTPServer(("127.0.0.1", 0), BaseHTTPRequestHandler) as plain:
        threading.Thread(target=plain.handle_request, daemon=True).start()
        with pytest.raises(Unreachable, match="does not speak TLS"):
            replace(admin, url=f"https://127.0.0.1:{plain.server_port}").version()


# All of a kind. --------------------------------------------------------------------------------------------


def test_all_are_read_page_by_page(admin: Orchestrator, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(orchestrators, "PAGE", 2)
    names = [f"c{n}" for n in range(5)]
    for name in names:
        admin.ask("POST", CLAIMS.path(SPACE), claim(name))
    found, version = admin.all(CLAIMS)
    assert [one["metadata"]["name"] for one in found] == names
    assert int(version) > 1


def test_all_are_read_in_one_where_the_next_page_is_forgotten(
    stand_in: StandIn, admin: Orchestrator, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(orchestrators, "PAGE", 2)
    names = [f"c{n}" for n in range(5)]
    for name in names:
        admin.ask("POST", CLAIMS.path(SPACE), claim(name))
    asked: list[Any] = []
    really = Orchestrator.ask
    assert stand_in.server is not None
    api = stand_in.server.api

    def go_on() -> None:
        space = {"metadata": {"name": f"space-{len(asked)}"}}
        api.create(BY_KIND["Namespace"], "", space)
        api.objects.forget()

    def ask(self: Orchestrator, *args: Any, **kwargs: Any) -> Any:
        found = really(self, *args, **kwargs)
        asked.append(kwargs.get("asked"))
        stand_in.between_turns(go_on)
        return found

    monkeypatch.setattr(Orchestrator, "ask", ask)
    found, _ = admin.all(CLAIMS)
    assert [one["metadata"]["name"] for one in found] == names
    assert asked == [{"limit": "2"}, {}]  # what was answered


def test_what_is_forgotten_there_is_said(stand_in: StandIn, admin: Orchestrator) -> None:
    admin.ask("POST", CLAIMS.path(SPACE), claim())
    assert stand_in.server is not None
    stand_in.server.objects.forget()
    with pytest.raises(Expired):
        list(admin.follow(CLAIMS, "1"))


def test_a_mirror_is_silent_of_what_says_nothing_new(
    stand_in: StandIn, admin: Orchestrator, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A node says every few seconds that it lives: of what is kept of it nothing is other."""
    monkeypatch.setattr(orchestrators, "FOLLOW_SECONDS", 1)
    mirror = Mirror(admin, NODES, lambda thing: {"metadata": {"name": thing["metadata"]["name"]}})
    assert list(mirror.go_on())  # the first look
    name = next(iter(mirror.things))[1]
    version = mirror.version
    admin.ask("PATCH", NODES.path(name=name), {"metadata": {"annotations": {"beat": "1"}}}, patch=MERGE)
    assert list(mirror.go_on()) == []
    assert mirror.version != version  # it has been heard


@pytest.mark.parametrize("seed", range(4))
def test_a_mirror_shows_what_is_there_whatever_it_missed(
    stand_in: StandIn, admin: Orchestrator, monkeypatch: pytest.MonkeyPatch, seed: int
) -> None:
    """Things come, change and go; now and then the watch ends, what happened is forgotten, or both."""
    monkeypatch.setattr(orchestrators, "FOLLOW_SECONDS", 1)
    assert stand_in.server is not None
    drawn, mirror, there = random.Random(seed), Mirror(admin, CLAIMS), set()
    told: dict[tuple[str, str], str] = {}

    def follow() -> None:
        """What an onlooker makes of it who looks only at what he is told of."""
        for touched in mirror.go_on():
            for key in touched:
                if key in mirror.things:
                    told[key] = mirror.things[key]["metadata"]["resourceVersion"]
                else:
                    told.pop(key, None)

    for _ in range(4):
        for _ in range(8):
            name = drawn.choice("abcde")
            if name not in there:
                admin.ask("POST", CLAIMS.path(SPACE), claim(name))
                there.add(name)
            elif drawn.random() < 0.5:
                body = {"metadata": {"labels": {"n": str(drawn.random())[2:9]}}}
                admin.ask("PATCH", CLAIMS.path(SPACE, name), body, patch=MERGE)
            else:
                admin.ask("DELETE", CLAIMS.path(SPACE, name))
                gone = f"{SPACE}/{name}"
                until(lambda gone=gone: gone not in ["/".join(key_of(one)) for one in admin.all(CLAIMS)[0]])
                there.discard(name)
        if drawn.random() < 0.5:
            stand_in.server.objects.forget()
        follow()
    now = {key_of(one): one["metadata"]["resourceVersion"] for one in admin.all(CLAIMS)[0]}
    until(lambda: follow() or told == now)
    assert {key: one["metadata"]["resourceVersion"] for key, one in mirror.things.items()} == now
