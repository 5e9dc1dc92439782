"""The list of volumes as the server filters, orders, pages and exports it; and lineage."""

from __future__ import annotations

import csv
import io
from typing import Any

import httpx
import pytest
from conftest import Site
from walking import attach, look, register

from foldbarn.core.volumes.lineage import Link
from foldbarn.core.watch.asking import Question

pytestmark = pytest.mark.pooled
NAMES = ["charts", "web-1", "web-2", "web-10"]


@pytest.fixture
def listing(barn_site: Site) -> Site:
    for place, name in enumerate(NAMES):
        barn_site.volume(name, size=f"{3 - place % 3} GiB")
    return barn_site


def ask(api: httpx.Client, **asked: Any) -> dict[str, Any]:
    found: dict[str, Any] = api.get("/api/volumes", params=asked).raise_for_status().json()
    return found


def names(found: dict[str, Any]) -> list[str]:
    return [v["name"] for v in found["volumes"]]


def test_pages_hold_every_volume_once_in_natural_order(api: httpx.Client, listing: Site) -> None:
    assert names(ask(api)) == NAMES
    pages = [ask(api, per=3, page=page) for page in (1, 2, 7)]
    assert [names(p) for p in pages] == [NAMES[:3], NAMES[3:], NAMES[3:]]
    assert [(p["page"], p["pages"], p["matching"], p["kept"]) for p in pages] == [
        (1, 2, 4, 4),
        (2, 2, 4, 4),
        (2, 2, 4, 4),
    ]
    assert names(ask(api, by="size", falling=True)) == ["charts", "web-10", "web-1", "web-2"]
    assert names(ask(api, words="web 1")) == ["web-1", "web-10"]
    assert ask(api, words="auk")["pages"] == 1


def test_questions_are_answered_and_counted(api: httpx.Client, listing: Site) -> None:
    listing.do("offline-volume", volume="web-2")
    listing.do("delete-volume", volume="web-10", typed="web-10")
    register(listing, "slipway")
    attach(listing, "web-1", "slipway")
    look(listing)
    found = ask(api)
    assert (found["kept"], ask(api, binned=True)["kept"]) == (3, 1)
    counts = {a["question"]: a["count"] for a in found["answers"]}
    assert set(counts) == {q.value for q in Question}
    assert (counts["offline"], counts["attached to nothing"], counts["not connected"]) == (1, 2, 1)
    assert names(ask(api, **{"is": ["offline", "attached to nothing"]})) == ["web-2"]
    assert names(ask(api, of=["host:SLIPWAY", "pool:quayside"])) == ["web-1"]
    page = api.get("/api/volumes/charts").json()
    node = next(iter(page["shares"])).rpartition("-")[0]
    assert "charts" in names(ask(api, of=f"node:{node}"))
    kin = api.get("/api/lineage/host/slipway").json()["kin"]
    assert [k["link"] for k in kin] == [link.value for link in Link]
    by = {k["link"]: k for k in kin}
    assert (by["volume"]["names"], by["pool"]["names"]) == (["web-1"], ["quayside"])
    assert (by["host"]["lamp"], by["volume"]["lamp"]) == ("watch", "sound")  # it has yet to be connected
    rack = api.get(f"/api/lineage/rack/{by['rack']['names'][0]}").json()["kin"]
    assert [k["names"] for k in rack if k["link"] == "host"] == [["slipway"]]


def test_exports_hold_what_is_listed_as_other_programs_read_it(api: httpx.Client, listing: Site) -> None:
    """RFC 4180, as the csv module of the standard library reads it; RFC 8259, as its json module does."""
    asked = {"words": "web", "by": "size", "falling": True}
    found = ask(api, **asked)
    table = api.get("/api/volumes.csv", params=asked)
    assert table.headers["content-disposition"] == 'attachment; filename="volumes.csv"'
    assert table.text.count("\r\n") == len(found["volumes"]) + 1
    rows = list(csv.DictReader(io.StringIO(table.text, newline="")))
    assert [r["name"] for r in rows] == names(found)
    for row, volume in zip(rows, found["volumes"], strict=True):
        assert int(row["size_bytes"]) == volume["size_bytes"]
        assert int(row["on_disks_bytes"]) == volume["footprint"]["value"]
        assert row["reason"] == volume["state"]["reason"]  # has commas
    assert api.get("/api/volumes.json", params=asked).json() == found["volumes"]
    assert api.get("/api/volumes.json?words=auk").json() == []
    assert len(list(csv.reader(io.StringIO(api.get("/api/volumes.csv?words=auk").text)))) == 1


@pytest.mark.parametrize(
    ("asked", "status", "says"),
    [
        ("of=node:auk", 404, "There is no node named 'auk'."),
        ("of=auk", 422, "'auk' names no thing."),
        ("is=green", 422, "not usable"),
        ("by=colour", 422, "not usable"),
        ("per=501", 422, "not usable"),
        ("page=0", 422, "not usable"),
        ("colour=red", 422, "not usable"),
    ],
)
def test_what_cannot_be_asked_is_refused(
    api: httpx.Client, barn_site: Site, asked: str, status: int, says: str
) -> None:
    for path in ("/api/volumes", "/api/volumes.csv", "/api/volumes.json"):
        found = api.get(f"{path}?{asked}")
        if "per=" in asked or "page=" in asked:
            says = "not usable"  # an export has no pages
        assert found.status_code == status, found.text
        assert says in found.json()["detail"]
