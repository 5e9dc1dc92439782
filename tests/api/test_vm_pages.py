"""Virtual machines as the API tells of them."""

from __future__ import annotations

from http import HTTPStatus
from typing import Any

import httpx
import pytest
from conftest import Site

pytestmark = pytest.mark.pooled
WISH: dict[str, Any] = {
    "name": "crew-roster",
    "pool": "quayside",
    "memory": "1536 MiB",
    "disks": [{"name": "system", "size": "4 GiB"}, {"size": "1500 MiB"}],
}


@pytest.fixture
def made(api: httpx.Client, barn_site: Site) -> Site:
    assert barn_site.state(barn_site.do("make-vm", **WISH)) == "done"
    return barn_site


def test_the_list_tells_of_each_as_one_thing(api: httpx.Client, made: Site) -> None:
    [vm] = api.get("/api/vms").raise_for_status().json()
    assert (vm["name"], vm["volumes"], vm["binned"]) == ("crew-roster", 3, False)
    assert vm["size_bytes"] == (1024 + 4096 + 1500) * 2**20
    assert (vm["policies"], vm["pools"], vm["keeps"]) == ([], ["quayside"], None)
    assert vm["state"]["lamp"] == "sound"


def test_its_page_has_every_part_also_what_is_gone(api: httpx.Client, made: Site) -> None:
    page = api.get("/api/vms/Crew-Roster").raise_for_status().json()
    assert [(p["called"], p["label"], p["volume"]["name"]) for p in page["parts"]] == [
        ("configuration", "", "crew-roster-configuration"),
        ("disk 1", "system", "crew-roster-disk-1"),
        ("disk 2", "", "crew-roster-disk-2"),
    ]
    volumes = [api.get(f"/api/volumes/{p['volume']['name']}").json() for p in page["parts"]]
    assert [v["vm"]["called"] for v in volumes] == ["configuration", "disk 1", "disk 2"]
    assert sum(page["shares"].values()) == sum(sum(v["shares"].values()) for v in volumes)
    made.do("delete-vm", vm="crew-roster", typed="crew-roster")
    gone = "crew-roster-disk-1"
    made.do("empty-bin", pool="quayside", volumes=[gone], typed=gone)
    page = api.get("/api/vms/crew-roster").json()
    assert [p["volume"] is None for p in page["parts"]] == [False, True, False]
    assert page["binned"]
    assert [line["title"] for line in page["history"]] == ["Delete the VM crew-roster"]


def test_its_snapshots_are_those_that_all_its_volumes_have(api: httpx.Client, made: Site) -> None:
    parts = [p["volume"]["name"] for p in api.get("/api/vms/crew-roster").json()["parts"]]
    made.do("take-snapshot", volumes=parts[1:], name="of-its-disks")
    assert api.get("/api/vms/crew-roster").json()["snapshots"] == []
    made.do("take-snapshot", volumes=parts, name="of-all")
    assert [s["name"] for s in api.get("/api/vms/crew-roster").json()["snapshots"]] == ["of-all"]


def test_it_hangs_together_with_its_volumes_and_what_bears_them(api: httpx.Client, made: Site) -> None:
    def kin(link: str, name: str) -> dict[str, list[str]]:
        found = api.get(f"/api/lineage/{link}/{name}").raise_for_status().json()
        return {one["link"]: one["names"] for one in found["kin"]}

    mine = kin("vm", "crew-roster")
    assert len(mine["volume"]) == 3
    assert mine["pool"] == ["quayside"]
    assert sorted(mine["node"]) == ["fulmar", "kittiwake", "petrel", "turnstone"]
    assert kin("node", "petrel")["vm"] == ["crew-roster"]
    assert kin("volume", "crew-roster-disk-2")["vm"] == ["crew-roster"]


def test_a_descriptor_is_told_as_one_would_type_it_or_refused(api: httpx.Client, database: str) -> None:
    empty = api.post("/api/vms/descriptor", json={"text": "<a/>"})
    assert empty.status_code == HTTPStatus.UNPROCESSABLE_ENTITY
    assert "no envelope" in empty.json()["detail"]
    assert empty.json()["about"] == "descriptor"
