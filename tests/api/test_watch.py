"""Watch over the API: rules, routes and incidents; and figures for other tools, read by the parser that
prometheus_client, the reference implementation of OpenMetrics, ships.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

import httpx
import numpy as np
import pytest
from conftest import Site
from prometheus_client.openmetrics.parser import text_string_to_metric_families as open_metrics
from prometheus_client.parser import text_string_to_metric_families as plain_text

from foldbarn.api.alerts import exposition
from foldbarn.core.watch.samples import BUCKETS, MEASURES, Measure, Sampled, Samples, Series
from foldbarn.services.alerts.judging import Judge
from foldbarn.store import samples
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

OPEN = {"accept": "application/openmetrics-text; version=1.0.0"}
RULE: dict[str, Any] = {
    "name": "Charts is read much",
    "of": "volume",
    "metric": "reads",
    "bounds": {"way": "above", "limit": 100, "clear": 80, "hold": 20},
    "names": ["charts"],
}


def sample(reads: float, at: datetime, judge: Judge) -> None:
    """Of each disk and of charts, the same in all measures."""
    view = current_view()
    series = [Series(Sampled.VOLUME, view.volume("charts").number)]
    series += [Series(Sampled.DISK, disk.number) for disk in view.disks]
    values = np.full((len(series), len(MEASURES)), 0.5)
    values[:, MEASURES.index(Measure.READS)] = reads
    found = Samples(tuple(series), values, np.zeros((len(series), BUCKETS)))
    with transaction() as session:
        samples.keep(session, at, found)
    with transaction() as session:
        judge.take(session, view, found, at, 10.0)


@pytest.mark.pooled
def test_a_rule_is_written_tried_altered_and_deleted(barn_site: Site, api: httpx.Client) -> None:
    barn_site.volume(size="4 GiB")
    made = api.post("/api/watch/rules", json=RULE).raise_for_status().json()
    assert made["wish"]["names"] == ["charts"]
    assert made["covers"] == 1
    assert api.post("/api/watch/rules", json=RULE).status_code == 409
    judge, at = Judge(), datetime.now(UTC) - timedelta(minutes=5)
    for number in range(4):
        sample(150.0, at + timedelta(seconds=10 * number), judge)
    found = api.post("/api/watch/rules/try", json={"rule": RULE, "over": "hour"}).raise_for_status().json()
    assert (found["told"], found["drawn"], found["values"]) == (1, "charts", [150.0] * 4)
    assert found["spans"] == [
        {"since": pytest.approx(at.timestamp()), "fired": pytest.approx(at.timestamp() + 20), "ended": None}
    ]
    assert found["subject"] == "Notice: Charts is read much: charts"
    [one] = api.get("/api/watch").json()["open"]
    page = api.get(f"/api/watch/incidents/{one['number']}").json()
    assert page["alerts"][0]["said"].startswith("150 a second, above 100 a second since")
    assert page["alerts"][0]["carriers"][0] == "pool quayside"
    # Where it is marked on the curve, too.
    marks = api.get("/api/samples/volume/charts").json()["marks"]
    assert [m["incident"] for m in marks if m["incident"]] == [one["number"]]
    assert api.post(f"/api/watch/incidents/{one['number']}/see").status_code == 204
    assert api.get("/api/watch").json()["open"][0]["seen_by"] == "Ines Marrow"
    [rule] = [r for r in api.get("/api/watch/rules").json()["rules"] if r["number"] == made["number"]]
    assert (rule["firing"], rule["pending"]) == (1, 0)
    altered = RULE | {"name": "Charts is quiet", "bounds": None, "absent": 60}
    api.put(f"/api/watch/rules/{made['number']}", json=altered).raise_for_status()
    assert api.get("/api/watch/rules").json()["rules"][-1]["firing"] == 0
    assert api.delete(f"/api/watch/rules/{made['number']}").status_code == 204
    assert api.delete(f"/api/watch/rules/{made['number']}").status_code == 404


@pytest.mark.parametrize(
    ("wrong", "status"),
    [
        ({"metric": "full"}, 422),
        ({"bounds": None}, 422),
        ({"names": ["nowhere"]}, 404),
        ({"pool": "nowhere"}, 404),
        ({"route": 99}, 404),
        ({"name": " "}, 422),
        ({"bounds": {"limit": 1, "clear": 2}}, 422),
        ({"bounds": {"limit": -1, "clear": -1}}, 422),
        ({"quiet": {"begins": 0, "ends": 1440}}, 422),
    ],
)
@pytest.mark.pooled
def test_a_bad_rule_is_refused_with_a_sentence(api: httpx.Client, wrong: dict[str, Any], status: int) -> None:
    answer = api.post("/api/watch/rules", json=RULE | {"names": []} | wrong)
    assert answer.status_code == status, answer.text
    assert answer.json()["detail"].endswith(".")


@pytest.mark.pooled
def test_a_webhooks_secret_is_shown_once_and_one_route_is_the_usual_one(api: httpx.Client) -> None:
    assert "there is no route yet" in api.get("/api/watch").json()["nobody"]
    wish = {"name": "on call", "kind": "mail", "target": "tomas@skerry.example"}
    assert api.post("/api/watch/routes", json=wish).json() == {"secret": ""}
    hook = {"name": "board", "kind": "webhook", "target": "http://127.0.0.1:9/word", "usual": True}
    secret = api.post("/api/watch/routes", json=hook).json()["secret"]
    assert len(secret) >= 24
    page = api.get("/api/watch/routes").json()
    assert [(r["wish"]["name"], r["wish"]["usual"]) for r in page["routes"]] == [
        ("board", True),
        ("on call", False),
    ]
    assert secret not in api.get("/api/watch/routes").text
    number = page["routes"][0]["number"]
    assert api.put(f"/api/watch/routes/{number}", json=hook).json() == {"secret": ""}
    assert "did not take the message" in api.post(f"/api/watch/routes/{number}/test").json()["problem"]
    assert api.delete(f"/api/watch/routes/{number}").status_code == 204
    server = {"host": "mail.skerry.example", "port": 587, "sender": "barn@skerry.example", "encrypted": True}
    signed = server | {"account": "barn", "password": "quietly"}
    assert api.put("/api/watch/mail", json=signed).status_code == 204
    shown = api.get("/api/watch/routes")
    assert shown.json()["mail"]["account"] == "barn"
    assert "quietly" not in shown.text


@pytest.mark.pooled
def test_figures_are_read_by_the_reference_parser(barn_site: Site, api: httpx.Client) -> None:
    barn_site.volume(size="4 GiB")
    sample(42.0, datetime.now(UTC), Judge())
    answer = api.get("/metrics", headers=OPEN)
    assert answer.headers["content-type"].startswith("application/openmetrics-text")
    families = {family.name: family for family in open_metrics(answer.text)}
    [pool] = families["foldbarn_pool_free_bytes"].samples
    page = api.get("/api/pools/quayside/page").json()
    assert pool.labels == {"pool": "quayside"}
    assert pool.value == page["pool"]["free"]["value"]
    [reads] = families["foldbarn_volume_reads_per_second"].samples
    assert reads.value == 42
    assert (reads.labels["volume"], reads.labels["pool"], reads.labels["claim"]) == ("charts", "quayside", "")
    view = current_view()
    assert len(families["foldbarn_disk_temperature_celsius"].samples) == len(view.disks)
    states = families["foldbarn_pool_state"].samples
    assert sum(one.value for one in states) == 1
    heard = families["foldbarn_node_heard"].samples
    assert [one.value for one in heard] == [1.0] * len(view.nodes)
    assert {one.labels["rule"] for one in families["foldbarn_alerts_firing"].samples} >= {"A disk runs hot"}
    older = {family.name for family in plain_text(api.get("/metrics").text)}
    assert older == set(families)


@pytest.mark.pooled
def test_however_many_things_there_are_the_answer_has_an_end(
    barn_site: Site, api: httpx.Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(exposition, "MOST", 3)
    families = {f.name: f for f in open_metrics(api.get("/metrics", headers=OPEN).text)}
    assert len(families["foldbarn_node_heard"].samples) == 3
    left = {one.labels["kind"]: one.value for one in families["foldbarn_left_out"].samples}
    assert left["node"] == len(current_view().nodes) - 3
