"""The stand-in orchestrator, driven by two clients that know nothing of it: the Kubernetes project's own for
Python (`kubernetes`), and `lightkube`. Every answer is checked against that project's published description
of its API, as the package `kubernetes-validate` carries it (version 1.37).
"""

from __future__ import annotations

import base64
import json
import threading
import time
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import Any

import jsonschema
import kubernetes_validate
import lightkube
import pytest
import referencing
from hypothesis import given
from hypothesis import strategies as st
from kubernetes import client as official
from kubernetes import watch as official_watch
from lightkube.config.kubeconfig import KubeConfig
from lightkube.core.exceptions import ApiError
from lightkube.models.core_v1 import PersistentVolumeClaimSpec, VolumeResourceRequirements
from lightkube.models.meta_v1 import ObjectMeta
from lightkube.resources.core_v1 import Namespace, PersistentVolumeClaim
from lightkube.resources.storage_v1 import StorageClass
from lightkube.types import PatchType
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from foldbarn.house.postgres import free_port
from foldbarn.yard.orchestrator import loops, machinery, objects, serving
from foldbarn.yard.orchestrator.kinds import BY_KIND
from foldbarn.yard.orchestrator.machinery import Api
from foldbarn.yard.orchestrator.objects import Objects
from foldbarn.yard.orchestrator.patching import merged
from foldbarn.yard.orchestrator.refusing import Refused
from foldbarn.yard.orchestrator.serving import Server
from foldbarn.yard.orchestrator.standing import NodePlace, StandIn

PATIENCE = 20.0
DESCRIBED = "v1.37.0-local-strict"
NODES = [NodePlace(f"quay-{n}", {"topology.kubernetes.io/zone": f"z{n}"}) for n in (1, 2)]


def until(true: Callable[[], Any], what: str = "it") -> Any:
    """Waits for what comes about by itself."""
    ends = time.monotonic() + PATIENCE
    while not (found := true()):
        assert time.monotonic() < ends, f"{what} did not come about"
        time.sleep(0.02)
    return found


@cache
def described(kind: str, api_version: str) -> jsonschema.Draft202012Validator:
    """What things of a kind are like, and that they have nothing else. Raises FileNotFoundError where the
    description has no such kind.
    """
    group, _, version = api_version.rpartition("/")
    of = "meta" if kind == "Status" else group.partition(".")[0]
    folder = Path(kubernetes_validate.__file__).parent / "kubernetes-json-schema" / DESCRIBED
    said = json.loads((folder / "-".join(filter(None, [kind.lower(), of, f"{version}.json"]))).read_text())
    registry = referencing.Resource.from_contents(said) @ referencing.Registry()
    return jsonschema.Draft202012Validator(said, registry=definitions(folder) @ registry)


@cache
def definitions(folder: Path) -> referencing.Resource[Any]:
    return referencing.Resource.from_contents(json.loads((folder / "_definitions.json").read_text()))


def against_published(answer: tuple[str, str]) -> Iterator[str]:
    """What of an answer is not as the API's description has it, or not known to that."""
    asked, body = answer
    said = json.loads(body)
    items = said.pop("items", None)
    for thing in [said, *(items or ())]:
        kind, version = thing.get("kind", ""), str(thing.get("apiVersion", ""))
        if not kind or version.startswith("snapshot."):
            continue  # an API of its own, described elsewhere
        whole = {**thing, "items": []} if thing is said and items is not None else thing
        for error in described(kind, version).iter_errors(whole):
            yield f"{asked}, {kind}: {'.'.join(map(str, error.path))}: {error.message}"


@pytest.fixture
def stand_in(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[StandIn]:
    answers: dict[tuple[str, str], None] = {}
    answer = Server.answer

    async def looked_at(self: Server, request: Request) -> Response:
        found = await answer(self, request)
        if isinstance(found, JSONResponse):
            answers[f"{request.method} {request.url.path}", bytes(found.body).decode()] = None
        return found

    line = serving._line

    def told_line(kind: str, thing: dict[str, Any]) -> str:
        if kind != "BOOKMARK":  # of which the API says that it has a version, and nothing else
            answers["WATCH", json.dumps(thing)] = None
        return line(kind, thing)

    monkeypatch.setattr(serving, "_line", told_line)
    monkeypatch.setattr(Server, "answer", looked_at)
    one = StandIn("tender", tmp_path / "tender", NODES)
    one.start(free_port())
    yield one
    one.stop()
    assert [wrong for answer in answers for wrong in against_published(answer)] == []


def configured(stand_in: StandIn, token: str = "") -> official.ApiClient:
    assert stand_in._uvicorn is not None
    found = official.Configuration()
    found.host = f"https://127.0.0.1:{stand_in._uvicorn.config.port}"
    found.ssl_ca_cert = str(stand_in.folder / "certificate.pem")
    found.api_key = {"authorization": f"Bearer {token or stand_in.admin_token}"}
    found.proxy = None
    return official.ApiClient(found)


@pytest.fixture
def core(stand_in: StandIn) -> official.CoreV1Api:
    api = official.CoreV1Api(configured(stand_in))
    api.create_namespace({"metadata": {"name": "cargo-desk"}})
    return api


@pytest.fixture
def storage(core: official.CoreV1Api) -> official.StorageV1Api:
    return official.StorageV1Api(core.api_client)


SPACE = "cargo-desk"


def claim(name: str = "manifests", size: str = "5Gi", **spec: Any) -> dict[str, Any]:
    wanted = {"accessModes": ["ReadWriteOnce"], "resources": {"requests": {"storage": size}}}
    return {"metadata": {"name": name}, "spec": {**wanted, **spec}}


def volume(name: str, size: str = "10Gi", **spec: Any) -> dict[str, Any]:
    wanted = {"capacity": {"storage": size}, "accessModes": ["ReadWriteOnce"]}
    source = {"csi": {"driver": "disks.example", "volumeHandle": name}}
    return {"metadata": {"name": name}, "spec": {**wanted, **source, **spec}}


def phase(core: official.CoreV1Api, name: str) -> str:
    """Of a claim."""
    return str(core.read_namespaced_persistent_volume_claim(name, SPACE).status.phase)


def pod(name: str, *claims: str) -> dict[str, Any]:
    volumes = [{"name": one, "persistentVolumeClaim": {"claimName": one}} for one in claims]
    return {
        "metadata": {"name": name},
        "spec": {"containers": [{"name": "c", "image": "example/c"}], "volumes": volumes},
    }


def storage_class(name: str, **more: Any) -> dict[str, Any]:
    return {"metadata": {"name": name}, "provisioner": "disks.example", **more}


def refused(work: Callable[[], Any]) -> tuple[int, str]:
    with pytest.raises(official.ApiException) as caught:
        work()
    said = json.loads(caught.value.body)
    assert (said["kind"], said["code"]) == ("Status", caught.value.status)
    return said["code"], said["reason"]


# Objects, with the project's own client. -------------------------------------------------------------------


def test_what_was_read_before_is_not_written_over_what_is_there(core: official.CoreV1Api) -> None:
    made = core.create_namespaced_persistent_volume_claim(SPACE, claim())
    assert (made.metadata.uid, made.status.phase, made.spec.volume_mode) == (
        made.metadata.uid,
        "Pending",
        "Filesystem",
    )
    assert refused(lambda: core.create_namespaced_persistent_volume_claim(SPACE, claim())) == (
        409,
        "AlreadyExists",
    )
    first = core.read_namespaced_persistent_volume_claim("manifests", SPACE)
    first.metadata.labels = {"tide": "high"}
    second = core.replace_namespaced_persistent_volume_claim("manifests", SPACE, first)
    assert int(second.metadata.resource_version) > int(made.metadata.resource_version)
    first.metadata.labels = {"tide": "low"}
    write = core.replace_namespaced_persistent_volume_claim
    assert refused(lambda: write("manifests", SPACE, first)) == (409, "Conflict")
    # The same once more is no change, and gets no new version.
    again = core.replace_namespaced_persistent_volume_claim("manifests", SPACE, second)
    assert again.metadata.resource_version == second.metadata.resource_version
    second.metadata.uid = "another"
    assert refused(lambda: write("manifests", SPACE, second)) == (409, "Conflict")


@pytest.mark.parametrize(
    ("body", "field"),
    [
        (claim("Manifests"), "metadata.name"),
        (claim("a" * 254), "metadata.name"),
        (claim("a", "-1Gi"), "spec.resources.requests.storage"),
        (claim("a", "five"), "spec.resources.requests.storage"),
        (claim("a", accessModes=[]), "spec.accessModes"),
        (claim("a", accessModes=["ReadWriteTwice"]), "spec.accessModes"),
        (claim("a", accessModes=["ReadWriteOncePod", "ReadWriteOnce"]), "spec.accessModes"),
        (
            {"metadata": {"name": "a", "labels": {"tide": "so high!"}}} | {"spec": claim()["spec"]},
            "metadata.labels",
        ),
    ],
)
def test_what_is_wrong_with_a_thing_is_said_by_its_field(
    core: official.CoreV1Api, body: dict[str, Any], field: str
) -> None:
    with pytest.raises(official.ApiException) as caught:
        core.create_namespaced_persistent_volume_claim(SPACE, body)
    said = json.loads(caught.value.body)
    assert (said["code"], said["reason"]) == (422, "Invalid")
    assert [one["field"] for one in said["details"]["causes"]] == [field]
    assert core.list_namespaced_persistent_volume_claim(SPACE).items == []


def test_each_kind_of_patch_does_what_its_standard_says(core: official.CoreV1Api) -> None:
    core.create_namespaced_persistent_volume_claim(
        SPACE, claim() | {"metadata": {"name": "a", "labels": {"x": "1"}}}
    )
    patch = core.patch_namespaced_persistent_volume_claim
    kinds = {
        "application/json-patch+json": [
            {"op": "test", "path": "/metadata/labels/x", "value": "1"},
            {"op": "add", "path": "/metadata/labels/y", "value": "2"},
        ],
        "application/merge-patch+json": {"metadata": {"labels": {"x": None}}},
        "application/strategic-merge-patch+json": {"metadata": {"finalizers": ["disks.example/held"]}},
    }
    for how, body in kinds.items():
        now = patch("a", SPACE, body, _content_type=how)
    assert now.metadata.labels == {"y": "2"}
    assert now.metadata.finalizers == ["kubernetes.io/pvc-protection", "disks.example/held"]
    wrong = [{"op": "test", "path": "/metadata/labels/y", "value": "3"}]
    failed = refused(lambda: patch("a", SPACE, wrong, _content_type="application/json-patch+json"))
    assert failed == (422, "Invalid")
    stale = {"metadata": {"resourceVersion": "1", "labels": {"z": "1"}}}
    how = "application/merge-patch+json"
    assert refused(lambda: patch("a", SPACE, stale, _content_type=how)) == (409, "Conflict")
    shrunk = {"spec": {"resources": {"requests": {"storage": "1Gi"}}}}
    assert refused(lambda: patch("a", SPACE, shrunk, _content_type=how)) == (422, "Invalid")


@given(
    st.recursive(
        st.none() | st.integers() | st.text(max_size=3),
        lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from("abc"), inner),
    ),
    st.dictionaries(
        st.sampled_from("abc"), st.none() | st.integers() | st.dictionaries(st.sampled_from("ab"), st.none())
    ),
)
def test_a_merge_patch_is_itself_again_and_leaves_no_null(was: Any, patch: dict[str, Any]) -> None:
    """RFC 7396: null takes away; what is applied twice does no more than once."""
    once = merged(was, patch)
    assert merged(once, patch) == once
    assert all(once[key] == value for key, value in patch.items() if isinstance(value, int))
    assert not any(key in once for key, value in patch.items() if value is None)


RFC_7396 = [  # appendix A of that standard, all of its examples whose patch is an object
    ({"a": "b"}, {"a": "c"}, {"a": "c"}),
    ({"a": "b"}, {"b": "c"}, {"a": "b", "b": "c"}),
    ({"a": "b"}, {"a": None}, {}),
    ({"a": "b", "b": "c"}, {"a": None}, {"b": "c"}),
    ({"a": ["b"]}, {"a": "c"}, {"a": "c"}),
    ({"a": "c"}, {"a": ["b"]}, {"a": ["b"]}),
    ({"a": {"b": "c"}}, {"a": {"b": "d", "c": None}}, {"a": {"b": "d"}}),
    ({"a": [{"b": "c"}]}, {"a": [1]}, {"a": [1]}),
    ({"e": None}, {"a": 1}, {"e": None, "a": 1}),
    ([1, 2], {"a": "b", "c": None}, {"a": "b"}),
    ({}, {"a": {"bb": {"ccc": None}}}, {"a": {"bb": {}}}),
]


@pytest.mark.parametrize(("was", "patch", "now"), RFC_7396)
def test_the_examples_of_the_standard_of_merge_patches(was: Any, patch: Any, now: Any) -> None:
    assert merged(was, patch) == now


def test_pages_show_things_as_they_were_at_the_first_page(core: official.CoreV1Api) -> None:
    names = [f"c{n}" for n in range(7)]
    for name in names:
        core.create_namespaced_persistent_volume_claim(SPACE, claim(name))
    first = core.list_namespaced_persistent_volume_claim(SPACE, limit=3)
    assert first.metadata.remaining_item_count == 4
    core.create_namespaced_persistent_volume_claim(SPACE, claim("c3b"))
    core.delete_namespaced_persistent_volume_claim("c5", SPACE)
    until(lambda: len(core.list_namespaced_persistent_volume_claim(SPACE).items) == len(names))
    found, token = [one.metadata.name for one in first.items], first.metadata._continue
    while token:
        page = core.list_namespaced_persistent_volume_claim(SPACE, limit=3, _continue=token)
        found, token = [*found, *(one.metadata.name for one in page.items)], page.metadata._continue
    assert found == names
    assert [one.metadata.name for one in core.list_namespaced_persistent_volume_claim(SPACE).items] == [
        *names[:4],
        "c3b",
        "c4",
        "c6",
    ]


def test_pages_of_what_is_forgotten_are_refused(stand_in: StandIn, core: official.CoreV1Api) -> None:
    for name in ("a", "b"):
        core.create_namespaced_persistent_volume_claim(SPACE, claim(name))
    token = core.list_namespaced_persistent_volume_claim(SPACE, limit=1).metadata._continue
    core.create_namespaced_persistent_volume_claim(SPACE, claim("c"))
    assert stand_in.server is not None
    stand_in.server.objects.forget()
    more = core.list_namespaced_persistent_volume_claim
    assert refused(lambda: more(SPACE, limit=1, _continue=token)) == (410, "Expired")


@pytest.mark.parametrize(
    ("selector", "wanted"),
    [
        ("tide=high", "a"),
        ("tide==high,port", "a"),
        ("tide!=high", "bcd"),
        ("tide in (high, low)", "ab"),
        ("tide notin (high)", "bcd"),
        ("port", "ac"),
        ("!port", "bd"),
        ("", "abcd"),
    ],
)
def test_labels_select_as_the_api_says(core: official.CoreV1Api, selector: str, wanted: str) -> None:
    """API concepts, "Labels and Selectors": what is not there is in no set."""
    labels = {"a": {"tide": "high", "port": "x"}, "b": {"tide": "low"}, "c": {"port": "y"}, "d": {}}
    for name, mine in labels.items():
        body = claim(name)
        body["metadata"]["labels"] = mine
        core.create_namespaced_persistent_volume_claim(SPACE, body)
    found = core.list_namespaced_persistent_volume_claim(SPACE, label_selector=selector).items
    assert "".join(one.metadata.name for one in found) == wanted


def test_fields_select_where_the_kind_has_them(core: official.CoreV1Api) -> None:
    for name in ("a", "b"):
        core.create_namespaced_persistent_volume_claim(SPACE, claim(name))
    listed = core.list_namespaced_persistent_volume_claim
    assert [one.metadata.name for one in listed(SPACE, field_selector="metadata.name!=a").items] == ["b"]
    assert refused(lambda: listed(SPACE, field_selector="spec.size=1"))[0] == 400
    assert refused(lambda: listed(SPACE, label_selector="tide in high"))[0] == 400


def test_a_dry_run_says_what_would_be_and_leaves_all_as_it_is(core: official.CoreV1Api) -> None:
    made = core.create_namespaced_persistent_volume_claim(SPACE, claim(), dry_run="All")
    assert made.status.phase == "Pending"
    assert core.list_namespaced_persistent_volume_claim(SPACE).items == []
    core.create_namespaced_persistent_volume_claim(SPACE, claim())
    body = {"metadata": {"labels": {"a": "b"}}}
    patch = core.patch_namespaced_persistent_volume_claim
    assert patch("manifests", SPACE, body, dry_run="All").metadata.labels == {"a": "b"}
    core.delete_namespaced_persistent_volume_claim("manifests", SPACE, dry_run="All")
    kept = core.read_namespaced_persistent_volume_claim("manifests", SPACE)
    assert (kept.metadata.labels, kept.metadata.deletion_timestamp) == (None, None)


def test_a_thing_with_finalizers_goes_when_the_last_is_off(core: official.CoreV1Api) -> None:
    body = claim()
    body["metadata"]["finalizers"] = ["disks.example/held"]
    made = core.create_namespaced_persistent_volume_claim(SPACE, body)
    wrong = official.V1DeleteOptions(preconditions=official.V1Preconditions(uid="another"))
    delete = core.delete_namespaced_persistent_volume_claim
    assert refused(lambda: delete("manifests", SPACE, body=wrong)) == (409, "Conflict")
    right = official.V1DeleteOptions(preconditions=official.V1Preconditions(uid=made.metadata.uid))
    assert delete("manifests", SPACE, body=right).metadata.deletion_timestamp is not None
    read = core.read_namespaced_persistent_volume_claim
    # Its own protection goes by itself, since no pod uses it.
    until(lambda: read("manifests", SPACE).metadata.finalizers == ["disks.example/held"])
    patch = core.patch_namespaced_persistent_volume_claim
    more = {"metadata": {"finalizers": ["disks.example/held", "disks.example/more"]}}
    how = "application/merge-patch+json"
    assert refused(lambda: patch("manifests", SPACE, more, _content_type=how)) == (422, "Invalid")
    patch("manifests", SPACE, {"metadata": {"finalizers": None}}, _content_type=how)
    assert refused(lambda: read("manifests", SPACE)) == (404, "NotFound")


def test_a_status_is_written_at_its_own_address_only(core: official.CoreV1Api) -> None:
    body = claim() | {"status": {"phase": "Bound"}}
    assert core.create_namespaced_persistent_volume_claim(SPACE, body).status.phase == "Pending"
    patch, how = core.patch_namespaced_persistent_volume_claim, "application/merge-patch+json"
    assert (
        patch("manifests", SPACE, {"status": {"phase": "Bound"}}, _content_type=how).status.phase == "Pending"
    )
    to_status = core.patch_namespaced_persistent_volume_claim_status
    body = {
        "status": {"conditions": [{"type": "Resizing", "status": "True"}]},
        "metadata": {"labels": {"a": "b"}},
    }
    now = to_status("manifests", SPACE, body, _content_type=how)
    assert (now.status.conditions[0].type, now.metadata.labels) == ("Resizing", None)


# Watching. -------------------------------------------------------------------------------------------------


def test_a_watch_goes_on_from_where_it_was_and_misses_nothing(core: official.CoreV1Api) -> None:
    listed = core.list_namespaced_persistent_volume_claim
    start = listed(SPACE).metadata.resource_version
    seen: list[tuple[str, str]] = []
    for round_ in range(3):
        watch = official_watch.Watch()
        core.create_namespaced_persistent_volume_claim(SPACE, claim(f"c{round_}"))
        core.patch_namespaced_persistent_volume_claim(
            f"c{round_}", SPACE, {"metadata": {"labels": {"a": "b"}}}
        )
        for event in watch.stream(listed, SPACE, resource_version=start, timeout_seconds=10):
            seen.append((event["type"], event["object"].metadata.name))
            start = event["object"].metadata.resource_version
            if event["object"].metadata.labels:
                break
        watch.stop()
    changes = [(kind, f"c{n}") for n in range(3) for kind in ("ADDED", "MODIFIED")]
    # The loops write into a claim meanwhile: what a person did is among what is told, in order.
    assert [one for n, one in enumerate(seen) if one not in seen[:n]] == changes


def test_a_watch_from_before_what_is_remembered_has_to_look_anew(
    stand_in: StandIn, core: official.CoreV1Api
) -> None:
    core.create_namespaced_persistent_volume_claim(SPACE, claim())
    assert stand_in.server is not None
    stand_in.server.objects.forget()
    listed = core.list_namespaced_persistent_volume_claim
    with pytest.raises(official.ApiException) as caught:
        list(official_watch.Watch().stream(listed, SPACE, resource_version="1", timeout_seconds=5))
    assert caught.value.status == 410


def test_what_a_watch_selects_comes_and_goes_with_its_labels(core: official.CoreV1Api) -> None:
    listed = core.list_namespaced_persistent_volume_claim
    core.create_namespaced_persistent_volume_claim(SPACE, claim())
    start = listed(SPACE).metadata.resource_version
    how, patch = "application/merge-patch+json", core.patch_namespaced_persistent_volume_claim
    for value in ("high", None):
        patch("manifests", SPACE, {"metadata": {"labels": {"tide": value}}}, _content_type=how)
    told = official_watch.Watch().stream(
        listed, SPACE, label_selector="tide=high", resource_version=start, timeout_seconds=2
    )
    assert [event["type"] for event in told] == ["ADDED", "DELETED"]


def test_bookmarks_move_a_watch_on_though_nothing_of_its_kind_happens(core: official.CoreV1Api) -> None:
    listed = core.list_namespaced_persistent_volume_claim
    start = listed(SPACE).metadata.resource_version
    core.create_namespace({"metadata": {"name": "another"}})
    told = official_watch.Watch().stream(
        listed, SPACE, resource_version=start, allow_watch_bookmarks=True, timeout_seconds=2
    )
    marks = [event for event in told if event["type"] == "BOOKMARK"]
    assert int(marks[-1]["raw_object"]["metadata"]["resourceVersion"]) > int(start)


# Who may do what. ------------------------------------------------------------------------------------------


def account(core: official.CoreV1Api, rules: list[dict[str, Any]]) -> str:
    """A token of an account that has these rights, from a secret as a person would make it."""
    rbac = official.RbacAuthorizationV1Api(core.api_client)
    core.create_namespaced_service_account(SPACE, {"metadata": {"name": "barn"}})
    rbac.create_cluster_role({"metadata": {"name": "barn"}, "rules": rules})
    role = {"apiGroup": "rbac.authorization.k8s.io", "kind": "ClusterRole", "name": "barn"}
    subject = {"kind": "ServiceAccount", "name": "barn", "namespace": SPACE}
    rbac.create_cluster_role_binding({"metadata": {"name": "barn"}, "roleRef": role, "subjects": [subject]})
    notes = {"kubernetes.io/service-account.name": "barn"}
    body = {"metadata": {"name": "barn-token", "annotations": notes}}
    core.create_namespaced_secret(SPACE, body | {"type": "kubernetes.io/service-account-token"})
    found = until(lambda: (core.read_namespaced_secret("barn-token", SPACE).data or {}).get("token"))
    return base64.b64decode(found).decode()


def test_an_account_may_do_what_its_roles_say_and_no_more(
    stand_in: StandIn, core: official.CoreV1Api
) -> None:
    rules = [{"apiGroups": [""], "resources": ["persistentvolumeclaims"], "verbs": ["list", "get"]}]
    token = account(core, rules)
    mine = configured(stand_in, token)
    asked = official.CoreV1Api(mine)
    assert asked.list_persistent_volume_claim_for_all_namespaces().items == []
    assert refused(lambda: asked.create_namespaced_persistent_volume_claim(SPACE, claim())) == (
        403,
        "Forbidden",
    )
    assert refused(asked.list_persistent_volume) == (403, "Forbidden")
    reviews = official.AuthorizationV1Api(mine)
    for verb, allowed in (("list", True), ("create", False)):
        wanted = {"verb": verb, "group": "", "resource": "persistentvolumeclaims"}
        found = reviews.create_self_subject_access_review({"spec": {"resourceAttributes": wanted}})
        assert found.status.allowed == allowed
    found = reviews.create_self_subject_rules_review({"spec": {"namespace": SPACE}})
    assert [one.resources for one in found.status.resource_rules] == [["persistentvolumeclaims"]]
    # A secret that is gone stands for nobody.
    core.delete_namespaced_secret("barn-token", SPACE)
    assert refused(asked.list_persistent_volume_claim_for_all_namespaces) == (401, "Unauthorized")


def test_a_token_that_is_lent_ends_by_itself(stand_in: StandIn, core: official.CoreV1Api) -> None:
    account(core, [{"apiGroups": ["*"], "resources": ["*"], "verbs": ["*"]}])
    asked = core.create_namespaced_service_account_token(
        "barn", SPACE, {"spec": {"audiences": [], "expirationSeconds": 600}}
    )
    mine = official.CoreV1Api(configured(stand_in, asked.status.token))
    assert mine.list_namespace().items
    assert stand_in.server is not None
    lent = stand_in.server.access.lent
    lent[asked.status.token] = (*lent[asked.status.token][:2], time.time() - 1)
    assert refused(mine.list_namespace) == (401, "Unauthorized")
    assert refused(official.CoreV1Api(configured(stand_in, "guessed")).list_namespace) == (
        401,
        "Unauthorized",
    )


# Loops. ----------------------------------------------------------------------------------------------------


def test_a_claim_takes_the_smallest_volume_that_fits(
    core: official.CoreV1Api, storage: official.StorageV1Api
) -> None:
    for name, size, more in (
        ("small", "1Gi", {}),
        ("fits", "6Gi", {}),
        ("large", "60Gi", {}),
        ("other", "5Gi", {"storageClassName": "steady"}),
    ):
        core.create_persistent_volume(volume(name, size, **more))
    core.create_namespaced_persistent_volume_claim(SPACE, claim())
    read = core.read_namespaced_persistent_volume_claim
    bound = until(lambda: (one := read("manifests", SPACE)).status.phase == "Bound" and one)
    assert (bound.spec.volume_name, bound.status.capacity) == ("fits", {"storage": "6Gi"})
    there = core.read_persistent_volume("fits")
    assert (there.status.phase, there.spec.claim_ref.uid) == ("Bound", bound.metadata.uid)
    # With the claim gone it is kept for it, and taken by nobody; given free by hand it is had again.
    core.delete_namespaced_persistent_volume_claim("manifests", SPACE)
    until(lambda: core.read_persistent_volume("fits").status.phase == "Released")
    core.create_namespaced_persistent_volume_claim(SPACE, claim("second"))
    until(lambda: read("second", SPACE).spec.volume_name == "large")
    core.patch_persistent_volume(
        "fits", {"spec": {"claimRef": None}}, _content_type="application/merge-patch+json"
    )
    core.create_namespaced_persistent_volume_claim(SPACE, claim("third"))
    until(lambda: read("third", SPACE).spec.volume_name == "fits")


def events(core: official.CoreV1Api, name: str) -> list[str]:
    found = core.list_namespaced_event(SPACE, field_selector=f"involvedObject.name={name}").items
    return [one.reason for one in found]


def test_a_claim_asks_its_class_and_says_what_is_missing(
    core: official.CoreV1Api, storage: official.StorageV1Api
) -> None:
    default = {"storageclass.kubernetes.io/is-default-class": "true"}
    core.create_namespaced_persistent_volume_claim(SPACE, claim("none"))
    until(lambda: "FailedBinding" in events(core, "none"))
    body = storage_class("steady")
    body["metadata"]["annotations"] = default
    storage.create_storage_class(body)
    core.create_namespaced_persistent_volume_claim(SPACE, claim("asked"))
    read = core.read_namespaced_persistent_volume_claim
    key = "volume.kubernetes.io/storage-provisioner"
    asked = until(lambda: (one := read("asked", SPACE)).metadata.annotations and one)
    assert (asked.spec.storage_class_name, asked.metadata.annotations[key]) == ("steady", "disks.example")
    core.create_namespaced_persistent_volume_claim(SPACE, claim("lost", storageClassName="stedy"))
    until(lambda: "ProvisioningFailed" in events(core, "lost"))
    # Who provides it makes a volume that is meant for it.
    meant = {"namespace": SPACE, "name": "asked", "uid": asked.metadata.uid}
    core.create_persistent_volume(volume("v1", claimRef=meant, storageClassName="steady"))
    until(lambda: read("asked", SPACE).status.phase == "Bound")


def test_a_claim_that_binds_late_waits_for_a_pod_and_goes_where_that_goes(
    core: official.CoreV1Api, storage: official.StorageV1Api
) -> None:
    storage.create_storage_class(storage_class("late", volumeBindingMode="WaitForFirstConsumer"))
    core.create_namespaced_persistent_volume_claim(SPACE, claim(storageClassName="late"))
    until(lambda: "WaitForFirstConsumer" in events(core, "manifests"))
    read = core.read_namespaced_persistent_volume_claim
    assert not read("manifests", SPACE).metadata.annotations
    core.create_namespaced_pod(SPACE, pod("p", "manifests"))
    key = "volume.kubernetes.io/selected-node"
    node = until(lambda: (read("manifests", SPACE).metadata.annotations or {}).get(key))
    zone = core.read_node(node).metadata.labels["topology.kubernetes.io/zone"]
    one = {"key": "topology.kubernetes.io/zone", "operator": "In", "values": [zone]}
    affinity = {"required": {"nodeSelectorTerms": [{"matchExpressions": [one]}]}}
    meant = {"namespace": SPACE, "name": "manifests"}
    core.create_persistent_volume(
        volume("v1", claimRef=meant, storageClassName="late", nodeAffinity=affinity)
    )
    until(lambda: core.read_namespaced_pod("p", SPACE).spec.node_name == node)
    # Another that uses it can only go there too.
    core.create_namespaced_pod(SPACE, pod("q", "manifests"))
    until(lambda: core.read_namespaced_pod("q", SPACE).spec.node_name == node)


def test_a_claim_in_use_goes_with_its_last_pod(
    core: official.CoreV1Api, storage: official.StorageV1Api
) -> None:
    storage.create_csi_driver({"metadata": {"name": "disks.example"}, "spec": {"attachRequired": False}})
    core.create_persistent_volume(volume("v1"))
    core.create_namespaced_persistent_volume_claim(SPACE, claim())
    core.create_namespaced_pod(SPACE, pod("p", "manifests"))
    until(lambda: core.read_namespaced_pod("p", SPACE).status.phase == "Running")
    core.delete_namespaced_persistent_volume_claim("manifests", SPACE)
    core.create_namespaced_pod(SPACE, pod("beside"))
    until(lambda: core.read_namespaced_pod("beside", SPACE).status.phase == "Running")
    assert core.read_namespaced_persistent_volume_claim("manifests", SPACE).metadata.deletion_timestamp
    core.delete_namespaced_pod("p", SPACE)
    until(lambda: not core.list_namespaced_persistent_volume_claim(SPACE).items)
    until(lambda: core.read_persistent_volume("v1").status.phase == "Released")


def test_a_pod_runs_once_its_driver_has_attached_what_it_uses_and_on_one_node_at_a_time(
    core: official.CoreV1Api, storage: official.StorageV1Api
) -> None:
    storage.create_csi_driver({"metadata": {"name": "disks.example"}, "spec": {"attachRequired": True}})
    core.create_persistent_volume(volume("v1"))
    core.create_namespaced_persistent_volume_claim(SPACE, claim())
    core.create_namespaced_pod(SPACE, pod("p", "manifests"))
    one = until(lambda: next(iter(storage.list_volume_attachment().items), None))
    assert one.spec.node_name == core.read_namespaced_pod("p", SPACE).spec.node_name
    assert core.read_namespaced_pod("p", SPACE).status.phase == "Pending"
    name, how = one.metadata.name, "application/merge-patch+json"
    body = {"metadata": {"finalizers": ["disks.example/attached"]}}
    storage.patch_volume_attachment(name, body, _content_type=how)
    storage.patch_volume_attachment_status(name, {"status": {"attached": True}}, _content_type=how)
    until(lambda: core.read_namespaced_pod("p", SPACE).status.phase == "Running")
    # The next one goes to the other node, and has to wait until the driver has let go of the first.
    other = next(node.name for node in NODES if node.name != one.spec.node_name)
    core.create_namespaced_pod(SPACE, pod("q", "manifests"))
    until(lambda: "FailedAttachVolume" in events(core, "q"))
    assert core.read_namespaced_pod("q", SPACE).spec.node_name == other
    core.delete_namespaced_pod("p", SPACE)
    until(lambda: storage.read_volume_attachment(name).metadata.deletion_timestamp)
    assert [a.metadata.name for a in storage.list_volume_attachment().items] == [name]
    storage.patch_volume_attachment(name, {"metadata": {"finalizers": None}}, _content_type=how)
    until(lambda: [a.spec.node_name for a in storage.list_volume_attachment().items] == [other])


def stateful_set(replicas: int = 3, **more: Any) -> dict[str, Any]:
    labels = {"app": "tides"}
    template = {"metadata": {"labels": labels}, "spec": pod("x")["spec"] | {"volumes": []}}
    return {
        "metadata": {"name": "tides"},
        "spec": {
            "replicas": replicas,
            "serviceName": "tides",
            "selector": {"matchLabels": labels},
            "template": template,
            "volumeClaimTemplates": [claim("data", "1Gi")],
            **more,
        },
    }


def test_a_set_keeps_its_pods_in_order_and_its_claims_outlive_them(
    core: official.CoreV1Api, storage: official.StorageV1Api
) -> None:
    storage.create_csi_driver({"metadata": {"name": "disks.example"}, "spec": {"attachRequired": False}})
    apps = official.AppsV1Api(core.api_client)
    apps.create_namespaced_stateful_set(SPACE, stateful_set())

    def claims() -> list[str]:
        return [one.metadata.name for one in core.list_namespaced_persistent_volume_claim(SPACE).items]

    def pods() -> list[str]:
        return [one.metadata.name for one in core.list_namespaced_pod(SPACE).items]

    # The second comes when the first runs, and that only when its claim has a volume.
    until(lambda: claims() == ["data-tides-0"])
    core.create_persistent_volume(volume("v0"))
    until(lambda: claims() == ["data-tides-0", "data-tides-1"])
    for name in ("v1", "v2"):
        core.create_persistent_volume(volume(name))
    read = apps.read_namespaced_stateful_set
    until(lambda: read("tides", SPACE).status.ready_replicas == 3)
    apps.patch_namespaced_stateful_set("tides", SPACE, {"spec": {"replicas": 1}})
    until(lambda: pods() == ["tides-0"])
    assert claims() == ["data-tides-0", "data-tides-1", "data-tides-2"]
    before = core.read_namespaced_persistent_volume_claim("data-tides-1", SPACE).spec.volume_name
    apps.patch_namespaced_stateful_set("tides", SPACE, {"spec": {"replicas": 2}})
    until(lambda: read("tides", SPACE).status.ready_replicas == 2)
    assert core.read_namespaced_persistent_volume_claim("data-tides-1", SPACE).spec.volume_name == before
    apps.delete_namespaced_stateful_set("tides", SPACE)
    until(lambda: pods() == [])
    assert len(claims()) == 3


def test_a_set_that_is_deleted_alone_leaves_its_pods(core: official.CoreV1Api) -> None:
    apps = official.AppsV1Api(core.api_client)
    apps.create_namespaced_stateful_set(SPACE, stateful_set(1, volumeClaimTemplates=[]))
    until(lambda: core.list_namespaced_pod(SPACE).items)
    apps.delete_namespaced_stateful_set("tides", SPACE, propagation_policy="Orphan")
    core.create_namespaced_pod(SPACE, pod("beside"))
    until(lambda: core.read_namespaced_pod("beside", SPACE).status.phase == "Running")
    assert [one.metadata.name for one in core.list_namespaced_pod(SPACE).items] == ["beside", "tides-0"]


def test_a_quota_is_not_passed_by_a_byte_however_many_ask_at_once(core: official.CoreV1Api) -> None:
    hard = {"requests.storage": "10Gi", "steady.storageclass.storage.k8s.io/persistentvolumeclaims": "2"}
    core.create_namespaced_resource_quota(SPACE, {"metadata": {"name": "q"}, "spec": {"hard": hard}})
    codes: list[int] = []

    def ask(number: int) -> None:
        try:
            core.create_namespaced_persistent_volume_claim(SPACE, claim(f"c{number}", "3Gi"))
            codes.append(201)
        except official.ApiException as error:
            codes.append(error.status)

    threads = [threading.Thread(target=ask, args=(n,)) for n in range(12)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(codes) == [201] * 3 + [403] * 9
    with pytest.raises(
        official.ApiException, match=r"exceeded quota: q, requested: requests.storage=1073741825"
    ):
        core.create_namespaced_persistent_volume_claim(SPACE, claim("more", "1073741825"))
    core.create_namespaced_persistent_volume_claim(SPACE, claim("rest", "1Gi"))
    read = core.read_namespaced_resource_quota
    until(lambda: (status := read("q", SPACE).status) and status.used["requests.storage"] == "10Gi")


def test_a_claim_grows_where_its_class_lets_it(
    core: official.CoreV1Api, storage: official.StorageV1Api
) -> None:
    storage.create_storage_class(storage_class("steady"))
    storage.create_storage_class(storage_class("growing", allowVolumeExpansion=True))
    patch, how = core.patch_namespaced_persistent_volume_claim, "application/merge-patch+json"
    more = {"spec": {"resources": {"requests": {"storage": "8Gi"}}}}
    for name in ("steady", "growing"):
        core.create_persistent_volume(volume(name, storageClassName=name))
        core.create_namespaced_persistent_volume_claim(SPACE, claim(name, storageClassName=name))
        until(lambda name=name: phase(core, name) == "Bound")
    assert refused(lambda: patch("steady", SPACE, more, _content_type=how)) == (403, "Forbidden")
    grown = patch("growing", SPACE, more, _content_type=how)
    assert grown.spec.resources.requests == {"storage": "8Gi"}
    # The class itself is not changed under what was made with it.
    other = {"reclaimPolicy": "Retain"}
    assert refused(lambda: storage.patch_storage_class("growing", other)) == (422, "Invalid")


def test_with_a_namespace_goes_what_is_in_it(core: official.CoreV1Api) -> None:
    core.create_namespaced_persistent_volume_claim(SPACE, claim())
    core.create_namespaced_pod(SPACE, pod("p", "manifests"))
    core.delete_namespace(SPACE)
    until(lambda: SPACE not in [one.metadata.name for one in core.list_namespace().items])
    assert core.list_persistent_volume_claim_for_all_namespaces().items == []
    assert refused(lambda: core.create_namespaced_persistent_volume_claim(SPACE, claim()))[0] == 404


def test_what_is_kept_is_there_again_when_it_starts_anew(
    tmp_path: Path, stand_in: StandIn, core: official.CoreV1Api
) -> None:
    made = core.create_namespaced_persistent_volume_claim(SPACE, claim())
    token = stand_in.admin_token
    stand_in.stop()
    again = StandIn("tender", stand_in.folder, NODES)
    again.start(free_port())
    try:
        found = official.CoreV1Api(configured(again)).read_namespaced_persistent_volume_claim(
            "manifests", SPACE
        )
        assert (found.metadata.uid, again.admin_token) == (made.metadata.uid, token)
        # A watch that was lost with it goes on from then or looks anew, and is not told that nothing was.
        listed = official.CoreV1Api(configured(again)).list_namespaced_persistent_volume_claim
        watched = official_watch.Watch()
        with pytest.raises(official.ApiException) as caught:
            list(watched.stream(listed, SPACE, resource_version="2", timeout_seconds=2))
        assert caught.value.status == 410
    finally:
        again.stop()


def test_a_turn_that_looks_at_everything_finds_nothing_left_to_do(
    stand_in: StandIn, core: official.CoreV1Api, storage: official.StorageV1Api
) -> None:
    """What the loops make of what has changed is what they make of all there is."""
    storage.create_storage_class(storage_class("late", volumeBindingMode="WaitForFirstConsumer"))
    storage.create_csi_driver({"metadata": {"name": "disks.example"}, "spec": {"attachRequired": False}})
    official.AppsV1Api(core.api_client).create_namespaced_stateful_set(SPACE, stateful_set(2))
    for number in range(3):
        core.create_persistent_volume(volume(f"v{number}"))
        core.create_namespaced_persistent_volume_claim(SPACE, claim(f"c{number}", storageClassName="late"))
    core.create_namespaced_pod(SPACE, pod("p", "c1"))
    core.create_persistent_volume(
        volume("meant", storageClassName="late", claimRef={"namespace": SPACE, "name": "c1"})
    )
    core.create_namespaced_persistent_volume_claim(SPACE, claim("small", "1Gi"))
    until(lambda: core.read_namespaced_pod("p", SPACE).status.phase == "Running")
    until(lambda: phase(core, "small") == "Bound")
    core.delete_namespaced_persistent_volume_claim("small", SPACE)
    until(
        lambda: (
            "small"
            not in [c.metadata.name for c in core.list_namespaced_persistent_volume_claim(SPACE).items]
        )
    )
    until(lambda: "Released" in [v.status.phase for v in core.list_persistent_volume().items])
    stand_in.stop()
    objects = Objects(stand_in.folder / "objects.sqlite")
    before = objects.version
    loops.turn(Api(objects, loops.ADMISSION))  # all there is counts as changed
    told = [one for one in objects.since(before, BY_KIND["Event"])]
    assert objects.version - before == len(told)  # what is told again is all
    objects.close()


# With the other client. ------------------------------------------------------------------------------------


def test_another_client_drives_it_as_well(stand_in: StandIn, core: official.CoreV1Api) -> None:
    host = core.api_client.configuration.host
    config = KubeConfig.from_one(
        cluster=lightkube.config.kubeconfig.Cluster(
            server=host, certificate_auth=str(stand_in.folder / "certificate.pem")
        ),
        user=lightkube.config.kubeconfig.User(token=stand_in.admin_token),
    )
    other = lightkube.Client(config=config, trust_env=False, field_manager="tests")
    other.create(Namespace(metadata=ObjectMeta(name="timetable")))
    requests = VolumeResourceRequirements(requests={"storage": "1Gi"})
    spec = PersistentVolumeClaimSpec(accessModes=["ReadWriteOnce"], resources=requests)
    made = other.create(
        PersistentVolumeClaim(metadata=ObjectMeta(name="tides", namespace="timetable"), spec=spec)
    )
    assert made.status is not None
    assert made.status.phase == "Pending"
    found = other.list(PersistentVolumeClaim, namespace="*")
    assert [one.metadata.name for one in found if one.metadata] == ["tides"]
    body = {"metadata": {"labels": {"tide": "high"}}}
    other.patch(PersistentVolumeClaim, "tides", body, namespace="timetable", patch_type=PatchType.MERGE)
    chosen = list(other.list(PersistentVolumeClaim, namespace="timetable", labels={"tide": "high"}))
    assert len(chosen) == 1
    for binding in ("Immediate", "Immediate"):  # applied twice, it is made once
        kept = StorageClass(
            metadata=ObjectMeta(name="steady"), provisioner="disks.example", volumeBindingMode=binding
        )
        other.apply(kept)
    told = other.watch(PersistentVolumeClaim, namespace="timetable", resource_version=found.resourceVersion)
    kind, seen = next(iter(told))
    assert (kind, seen.metadata and seen.metadata.labels) == ("MODIFIED", {"tide": "high"})
    other.delete(PersistentVolumeClaim, "tides", namespace="timetable")
    with pytest.raises(ApiError) as caught:
        other.get(PersistentVolumeClaim, "gone", namespace="timetable")
    assert caught.value.status.reason == "NotFound"


# Alone. ----------------------------------------------------------------------------------------------------


def test_a_flood_of_one_kind_makes_nobody_forget_another() -> None:
    api, node, event = Api(Objects(remembered=10)), BY_KIND["Node"], BY_KIND["Event"]
    api.create(BY_KIND["Namespace"], "", {"metadata": {"name": "default"}})
    start = api.objects.version
    there = api.create(node, "", {"metadata": {"name": "n"}})
    for number in range(20):
        api.tell(there, "Said", f"for the {number}th time")
    assert [one.key[2] for one in api.objects.since(start, node)] == ["n"]
    with pytest.raises(Refused, match="too old"):
        api.objects.since(start, event)


def test_a_round_comes_by_everything_a_part_at_a_time(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(objects, "IN_ROUND", 4)
    api, node = Api(Objects()), BY_KIND["Node"]
    for number in range(10):
        api.create(node, "", {"metadata": {"name": f"n{number}"}})
    parts = [api.objects.next_in_round(node) for _ in range(3)]
    assert [len(part) for part in parts] == [4, 4, 2]
    assert {name for part in parts for _, name in part} == {f"n{number}" for number in range(10)}
    assert api.objects.next_in_round(node) == parts[0]


def test_the_same_is_told_more_and_more_seldom(monkeypatch: pytest.MonkeyPatch) -> None:
    api, node, event = Api(Objects()), BY_KIND["Node"], BY_KIND["Event"]
    api.create(BY_KIND["Namespace"], "", {"metadata": {"name": "default"}})
    there = api.create(node, "", {"metadata": {"name": "n"}})
    counts = []
    for second in range(0, 120, 5):
        monkeypatch.setattr(machinery.time, "monotonic", lambda second=second: float(second))
        api.tell(there, "Said", "again")
        counts.append(api.objects.all(event)[0]["count"])
    assert counts == sorted(counts)
    assert [counts.index(n) * 5 for n in range(1, 5)] == [0, 15, 45, 105]


@given(st.lists(st.tuples(st.sampled_from("abc"), st.sampled_from(["make", "label", "delete"])), max_size=20))
def test_how_things_were_is_known_for_each_version(deeds: list[tuple[str, str]]) -> None:
    api, kind = Api(Objects()), BY_KIND["Node"]
    start = api.objects.version
    past = {start: {}}
    for number, (name, deed) in enumerate(deeds):
        there = api.objects.find(kind, "", name)
        if deed == "make" and there is None:
            api.create(kind, "", {"metadata": {"name": name}})
        elif deed == "label" and there is not None:
            api.annotate(kind, there, {"n": str(number)})
        elif deed == "delete" and there is not None:
            api.delete(kind, "", name)
        past[api.objects.version] = {one["metadata"]["name"]: one for one in api.objects.all(kind)}
    for version, things in past.items():
        found = {one["metadata"]["name"]: one for one in api.objects.as_of(version, kind, "")}
        assert found == things
        # What happened since leads from there to what is.
        for one in api.objects.since(version, kind):
            found.pop(one.key[2], None)
            if one.now is not None:
                found[one.key[2]] = one.now
        assert found == past[api.objects.version]
