"""The API over HTTP: problems, previews, events, and what a stranger might send."""

from __future__ import annotations

import json
import threading
import time
from typing import Any

import httpx
import pytest
import schemathesis
from conftest import Site
from hypothesis import HealthCheck, given, settings

from foldbarn.changes.runner import run_change


def test_its_description_is_openapi_3_1(api: httpx.Client) -> None:
    found = api.get("/api/openapi.json").json()
    assert found["openapi"].startswith("3.1")
    assert {"/api/barn", "/api/changes/preview", "/api/volumes/{name}"} <= set(found["paths"])


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "says"),
    [
        ("GET", "/api/volumes/nothing", None, 404, "There is no volume named 'nothing'."),
        ("GET", "/api/changes/77", None, 404, "There is no change 77."),
        ("GET", "/api/nowhere", None, 404, "The API has nothing at /api/nowhere."),
        ("POST", "/api/changes", {"kind": "form-pool", "params": {"name": "", "disks": ["fulmar-1"], "copies": 1}}, 422, "The pool needs a name."),
        ("POST", "/api/changes", {"kind": "form-pool"}, 422, "'params' is not usable: field required."),
        ("POST", "/api/changes", [1], 422, "is not usable"),
        ("POST", "/api/agents", {"agent_url": "ftp://x"}, 422, "starts with http"),
        ("POST", "/api/agents", {"agent_url": "http://127.0.0.1:9"}, 502, "Nothing listens at its address."),
        ("PUT", "/api/grace", {"grace_seconds": 0}, 422, "between 1 second and 7 days"),
        ("POST", "/api/yard", {"lever": "cut power", "what": "puffin"}, 422, "no stand-in node named 'puffin'"),
    ],
)
def test_refusals_are_problem_details(api: httpx.Client, method: str, path: str, body: Any, status: int, says: str) -> None:
    """RFC 9457, section 3: media type application/problem+json, members type, title, status, detail."""
    answer = api.request(method, path, json=body)
    assert answer.status_code == status
    assert answer.headers["content-type"] == "application/problem+json"
    problem = answer.json()
    assert {"type", "title", "status", "detail"} <= set(problem)
    assert problem["status"] == status
    assert says in problem["detail"]


def test_only_names_of_this_machine_are_answered(api: httpx.Client) -> None:
    assert api.get("/api/barn", headers={"host": "barn.example"}).status_code == 400


def test_the_barn_in_one_picture(api: httpx.Client, barn_site: Site) -> None:
    barn_site.pool()
    barn_site.volume()
    barn = api.get("/api/barn").json()
    assert barn["headline"] == "Every byte is readable."
    assert barn["counts"] == {"nodes": 9, "disks": 93, "pools": 1, "volumes": 1}
    for ledger in barn["ledgers"]:
        assert sum(part["bytes"] for part in ledger["parts"]) == ledger["raw"]
    disks = [d for room in barn["rooms"] for rack in room["racks"] for node in rack["nodes"] for d in node["disks"]]
    assert sum(d["used_bytes"] for d in disks) == 300 * 2**30
    titles = [a["title"] for a in barn["attention"]]
    assert titles == ["kittiwake needs a look", "dunlin-4 is wearing out", "skua-3 is not fit for use"]


def test_a_volume_page_walks_down_to_its_disks(api: httpx.Client, barn_site: Site) -> None:
    barn_site.pool()
    barn_site.volume()
    page = api.get("/api/volumes/charts").json()
    assert sum(page["shares"].values()) == page["footprint"]["value"] == 300 * 2**30
    assert {w["domain"] for w in page["what_if"]} == {"NQ-1", "NQ-2", "SQ-1", "SQ-2"}
    assert all(w["unreadable"] == 0 and 0 < w["extents_hit"] <= 100 for w in page["what_if"])
    assert page["missing"] == [[], [], []]
    assert page["holders"]["lamp"] == "watch"  # kittiwake runs on one storage link
    strips = api.get("/api/volumes/charts/extents/99").json()["strips"]
    assert len({s["node"] for s in strips}) == 3
    assert {s["disk"] for s in strips} <= set(page["shares"])
    assert api.get("/api/volumes/charts/extents/100").status_code == 404


def test_an_outdated_preview_comes_back_fresh(api: httpx.Client, barn_site: Site) -> None:
    barn_site.pool()
    wish = {"kind": "create-volume", "params": {"name": "tides", "pool": "quayside", "size": "10 GiB"}}
    old = api.post("/api/changes/preview", json=wish).json()
    barn_site.volume()
    refused = api.post("/api/changes", json=wish | {"digest": old["digest"]})
    assert refused.status_code == 409
    fresh = refused.json()["preview"]
    assert fresh["revision"] > old["revision"]
    accepted = api.post("/api/changes", json=wish | {"digest": fresh["digest"]})
    assert accepted.status_code == 202
    run_change(accepted.json()["number"])
    assert api.get(f"/api/changes/{accepted.json()['number']}").json()["state"] == "done"


def test_news_reaches_an_open_page_within_a_second(api: httpx.Client, barn_site: Site) -> None:
    heard: list[tuple[float, list[str]]] = []

    def listen() -> None:
        with httpx.Client(base_url=api.base_url, timeout=10, trust_env=False) as client, client.stream("GET", "/api/events") as stream:
            for line in stream.iter_lines():
                if line.startswith("data:"):
                    heard.append((time.monotonic(), json.loads(line[5:])["topics"]))
                    if "changes" in heard[-1][1]:
                        return

    listener = threading.Thread(target=listen)
    listener.start()
    deadline = time.monotonic() + 5
    while not heard and time.monotonic() < deadline:
        time.sleep(0.02)
    assert heard[0][1] == ["everything"]
    barn_site.pool()  # how soon it is heard is measured by the bench
    listener.join(5)
    assert "changes" in heard[-1][1]


def test_strangers_get_sentences_and_never_a_server_error(api: httpx.Client, barn_site: Site) -> None:
    """Reference: schemathesis sends what the description allows and what it does not."""
    barn_site.pool()
    barn_site.volume()
    schema = schemathesis.openapi.from_dict(api.get("/api/openapi.json").json()).exclude(path_regex="/api/(yard|agents|witness|intake/bmc)")
    schema.config.update(base_url=str(api.base_url))

    @given(case=schema.as_strategy())
    @settings(max_examples=150, deadline=None, suppress_health_check=list(HealthCheck))
    def never_breaks(case: schemathesis.Case) -> None:
        answer = case.call()
        assert answer.status_code < 500, answer.text

    never_breaks()
