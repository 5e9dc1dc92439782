"""The yard: orders safe to repeat, data as a fluid, state that outlives a restart."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import httpx
import pytest
from conftest import Yard, run_async

from foldbarn.core.errors import NotPossible, Unreachable
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.units import GB, GIB
from foldbarn.links.agents import NOTHING_NEW, Agent, Garbled, Questions, Report
from foldbarn.settings import settings
from foldbarn.yard import agent
from foldbarn.yard.fluid import left_for_copying, tick
from foldbarn.yard.machines import Machines, Spurt
from foldbarn.yard.scenario import skerry_ferries
from foldbarn.yard.serving import busy_part, serve


def serial(machines: Machines, name: str) -> str:
    found = machines.disk_at(name)
    assert found
    return found


def copy_order(
    machines: Machines, id_: str, source: str, target: str, strips: int = 1, size: int = GIB
) -> dict[str, Any]:
    """Strips 1.. of volume 1, read as copy 0 and written as copy 1."""
    read, write = serial(machines, source), serial(machines, target)
    found = [
        {
            "ply": 1,
            "extent": e,
            "strip": 1,
            "bytes": size,
            "reads": [{"disk": read, "strip": 0}],
            "to": write,
        }
        for e in range(strips)
    ]
    for e in range(strips):
        machines.add_strip(serial(machines, source), (1, e, 0))
    return {"id": id_, "kind": "copy", "strips": found}


async def reports_of(
    urls: dict[int, str], known: dict[int, str] | None = None
) -> dict[int, Report | Unreachable]:
    """What each agent says, all asked at once."""
    questions = Questions()
    for key, url in urls.items():
        questions.ask(key, url, known=(known or {}).get(key, ""))
    assert questions.under_way() == set(urls)
    return await questions.answers(wait=30.0)


def run_for(machines: Machines, seconds: float) -> None:
    for _ in range(round(seconds / 0.1)):
        tick(machines, 0.1)


def test_a_speed_that_lasts_for_a_while_goes_no_further_however_late_it_is_looked_at() -> None:
    machines = Machines(skerry_ferries())
    machines.speed, machines.spurt = 10_000.0, Spurt(until=machines.clock + 3600.0, then=2.0)
    begun = machines.clock
    tick(machines, 0.1)
    assert (machines.clock - begun, machines.speed) == (1000.0, 10_000.0)
    tick(machines, 60.0)  # a machine that is busy
    assert (machines.clock - begun, machines.speed, machines.spurt) == (3600.0, 2.0, None)
    tick(machines, 1.0)
    assert machines.clock - begun == 3602.0


def test_an_order_sent_twice_is_done_once() -> None:
    machines = Machines(skerry_ferries())
    disk = serial(machines, "fulmar-1")
    order = {"id": "a", "kind": "reserve", "ply": 1, "bytes": GIB, "strips": {disk: [[0, 0], [1, 0]]}}
    first = agent.take_order(machines, "fulmar", order)
    machines.drop_strip(disk, (1, 0, 0))
    assert agent.take_order(machines, "fulmar", order) is first
    assert agent.strips_on(machines, "fulmar", disk) == [(1, 1, 0)]  # the repeated order did nothing


def test_a_node_tells_what_all_its_disks_hold_of_one_ply(yard: Yard) -> None:
    machines = yard.machines
    one, two = (serial(machines, f"fulmar-{n}") for n in (1, 2))
    for disk, strip in ((one, (7, 1, 0)), (one, (7, 0, 2)), (two, (7, 3, 1)), (two, (8, 0, 0))):
        machines.add_strip(disk, strip)
    machines.add_strip(serial(machines, "petrel-1"), (7, 5, 0))
    fulmar = Agent(yard.agent("fulmar"))
    assert fulmar.strips_of([7, 9]) == {7: {one: {(0, 2), (1, 0)}, two: {(3, 1)}}, 9: {}}
    assert fulmar.strips(two).tolist() == [[7, 3, 1], [8, 0, 0]]


@pytest.mark.parametrize(
    ("order", "says"),
    [
        ({"kind": "prepare", "pool": "p", "disks": ["boot"]}, "in use"),
        ({"kind": "prepare", "pool": "p", "disks": ["nobody"]}, "no disk"),
        ({"kind": "paint"}, "unknown kind"),
        ({"kind": "release", "disks": ["1"]}, "still holds 1 strips"),
        (
            {"kind": "reserve", "ply": 2, "bytes": 3000 * GB, "strips": {"1": [[e, 0] for e in range(2)]}},
            "full",
        ),
    ],
)
def test_orders_that_an_agent_refuses(order: dict[str, Any], says: str) -> None:
    machines = Machines(skerry_ferries())
    machines.add_strip(serial(machines, "fulmar-1"), (1, 0, 0))
    named = {"boot": serial(machines, "fulmar-boot"), "1": serial(machines, "fulmar-1")}
    order = {"id": "x", **order}
    if "disks" in order:
        order["disks"] = [named.get(d, d) for d in order["disks"]]
    if "strips" in order:
        order["strips"] = {named[d]: s for d, s in order["strips"].items()}
    with pytest.raises(agent.BadOrder, match=says):
        agent.take_order(machines, "fulmar", order)
    assert "x" not in machines.orders


def test_a_copy_takes_the_time_its_slower_disk_needs() -> None:
    machines = Machines(skerry_ferries())
    agent.take_order(machines, "petrel", copy_order(machines, "a", "fulmar-1", "petrel-1"))
    ssd = PROFILES["ssd"].bytes_per_second
    serve(machines, 0.0)
    free = 1 - busy_part(machines, serial(machines, "fulmar-1"))  # consumers' work on the source comes first
    seconds = GIB / (ssd * free)
    run_for(machines, seconds * 0.9)
    assert machines.orders["a"].state == "running"
    run_for(machines, seconds * 0.2 + 0.2)
    assert machines.orders["a"].state == "done"
    assert (1, 0, 1) in machines.strips[serial(machines, "petrel-1")]


def test_copies_from_one_disk_share_it() -> None:
    machines = Machines(skerry_ferries())
    for target in ("petrel", "kittiwake"):
        agent.take_order(machines, target, copy_order(machines, target, "fulmar-1", f"{target}-1"))
    run_for(machines, 1.0)
    moved = [machines.orders[t].copies[0].moved for t in ("petrel", "kittiwake")]
    assert moved[0] == pytest.approx(moved[1])
    assert sum(moved) <= PROFILES["ssd"].bytes_per_second * 1.0


def test_busy_disks_make_a_copy_slower() -> None:
    calm, rush = Machines(skerry_ferries()), Machines(skerry_ferries())
    calm.consumers, rush.consumers = 0.0, 500_000.0
    for machines in (calm, rush):
        agent.take_order(machines, "petrel", copy_order(machines, "a", "fulmar-1", "petrel-1"))
        run_for(machines, 1.0)
    assert rush.orders["a"].copies[0].moved < 0.95 * calm.orders["a"].copies[0].moved


def test_without_power_nothing_progresses_and_the_strip_under_way_starts_over(yard: Yard) -> None:
    machines = yard.machines
    machines.speed = 1.0
    agent.take_order(machines, "petrel", copy_order(machines, "a", "fulmar-1", "petrel-1", strips=2))
    run_for(machines, 3.0)
    copies = machines.orders["a"].copies
    assert copies[0].done
    assert copies[1].moved > 0
    httpx.post(
        f"{yard.url}/levers", json={"lever": "cut power", "what": "petrel"}, trust_env=False
    ).raise_for_status()
    assert copies[1].moved == 0.0
    run_for(machines, 5.0)
    assert copies[1].moved == 0.0
    assert (1, 0, 1) in machines.strips[serial(machines, "petrel-1")]


def test_a_source_that_lacks_the_strip_fails_the_order() -> None:
    machines = Machines(skerry_ferries())
    order = copy_order(machines, "a", "fulmar-1", "petrel-1")
    machines.drop_strip(serial(machines, "fulmar-1"), (1, 0, 0))
    agent.take_order(machines, "petrel", order)
    run_for(machines, 0.2)
    assert machines.orders["a"].state == "failed"
    assert "does not hold strip [1, 0, 0]" in machines.orders["a"].problem


def test_counters_only_grow_and_cover_the_copies() -> None:
    machines = Machines(skerry_ferries())
    agent.take_order(machines, "petrel", copy_order(machines, "a", "fulmar-1", "petrel-1"))
    seen = [0]
    for _ in range(50):
        tick(machines, 0.1)
        seen.append(
            agent.counters(machines, "petrel")["disks"][serial(machines, "petrel-1")]["written_bytes"]
        )
    assert seen == sorted(seen)
    assert seen[-1] >= GIB


def test_everything_outlives_a_restart(tmp_path: Path) -> None:
    before = Machines(skerry_ferries(), tmp_path / "yard.sqlite")
    agent.take_order(before, "petrel", copy_order(before, "a", "fulmar-1", "petrel-1", strips=3))
    before.power["dunlin"], before.speed = False, 60.0
    before.pulled.add(serial(before, "gannet-2"))
    agent.take_order(
        before,
        "petrel",
        {"id": "b", "kind": "prepare", "pool": "quayside", "disks": [serial(before, "petrel-2")]},
    )
    run_for(before, 0.1)
    before.keep_facts()
    before.flush()
    after = Machines(skerry_ferries(), tmp_path / "yard.sqlite")
    assert after.strips == before.strips
    assert (after.power, after.speed, after.pulled, after.pool_of) == (
        before.power,
        before.speed,
        before.pulled,
        before.pool_of,
    )
    assert [c.done for c in after.orders["a"].copies] == [c.done for c in before.orders["a"].copies]
    assert agent.take_order(after, "petrel", before.orders["a"].body) is after.orders["a"]


def test_agents_that_are_silent_garbled_or_speak_nonsense_are_told_apart(
    yard: Yard, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("FOLDBARN_ANSWER_SECONDS", "3")
    settings.cache_clear()
    yard.machines.power["petrel"] = False
    yard.machines.answers["fulmar"] = "garbled"
    yard.machines.answers["dunlin"] = "slowly"
    urls = {
        1: yard.agent("petrel"),
        2: yard.agent("fulmar"),
        3: yard.agent("kittiwake"),
        4: yard.agent("dunlin"),
        5: "http://127.0.0.1:9",
        6: yard.agent("nobody"),
    }
    answers = run_async(reports_of(urls))
    assert isinstance(answers[3], Report)
    known = {3: answers[3].tag}
    # Who has nothing new says so in a few bytes.
    assert run_async(reports_of({3: urls[3]}, known))[3] is NOTHING_NEW
    yard.machines.counters[yard.machines.nodes["kittiwake"].disks[0].serial].read_bytes += 1.0
    again = run_async(reports_of({3: urls[3]}, known))[3]
    assert isinstance(again, Report)
    assert again.facts
    silent = answers[1], answers[4], answers[5]
    assert all(isinstance(a, Unreachable) and not isinstance(a, Garbled) for a in silent)
    assert isinstance(answers[2], Garbled)
    assert answers[2].sentence == "The answer is not JSON but text/html; charset=utf-8."
    assert isinstance(answers[6], Garbled)
    yard.machines.power["petrel"] = True
    settings.cache_clear()


def test_the_client_turns_a_refusal_into_words(yard: Yard) -> None:
    with pytest.raises(NotPossible, match="The agent refused: unknown kind of order 'paint'"):
        Agent(yard.agent("fulmar")).send({"id": "x", "kind": "paint"})
    assert Agent(yard.agent("fulmar")).order("never given") is None


def test_copies_come_in_no_faster_than_their_limit_over_all_orders() -> None:
    machines = Machines(skerry_ferries())
    limit = 40_000_000
    for number, target in enumerate(("fulmar-2", "fulmar-3")):
        order = copy_order(machines, f"c{number}", "petrel-1", target, strips=4) | {"throttle": "change-7"}
        agent.take_order(machines, "fulmar", order)
    agent.take_order(
        machines,
        "fulmar",
        {"id": "t", "kind": "throttle", "name": "change-7", "bytes_per_second": limit, "first": "consumers"},
    )
    run_for(machines, 10.0)
    moved = sum(agent.describe_order(machines.orders[f"c{n}"])["bytes_done"] for n in range(2))
    assert moved == pytest.approx(limit * 10, rel=0.01)
    agent.take_order(
        machines,
        "fulmar",
        {"id": "u", "kind": "throttle", "name": "change-7", "bytes_per_second": 0, "first": "consumers"},
    )
    run_for(machines, 1.0)
    assert (
        sum(agent.describe_order(machines.orders[f"c{n}"])["bytes_done"] for n in range(2))
        > moved + 4 * limit
    )


def test_who_goes_first_decides_what_is_left_for_copying() -> None:
    assert left_for_copying(0.3, "consumers") == pytest.approx(0.7)
    assert left_for_copying(0.8, "even") == 0.5
    assert left_for_copying(0.3, "even") == pytest.approx(0.7)
    assert left_for_copying(0.8, "copying") == 1.0


def test_what_consumers_have_written_grows_towards_its_own_end_and_outlives_a_restart(tmp_path: Path) -> None:
    machines = Machines(skerry_ferries(), tmp_path / "yard.sqlite")
    disk = serial(machines, "fulmar-1")
    agent.take_order(
        machines,
        "fulmar",
        {
            "id": "a",
            "kind": "reserve",
            "ply": 3,
            "bytes": GIB,
            "strips": {disk: [[e, 0] for e in range(40)]},
        },
    )
    seen = []
    for _ in range(4):
        machines.clock += 4 * 3600
        seen.append(agent.written(machines, "fulmar")["3"])
    assert 0 < seen[0] < seen[1] < seen[2] < seen[3] < 40 * GIB
    machines.keep_facts()
    machines.flush()
    assert agent.written(Machines(skerry_ferries(), tmp_path / "yard.sqlite"), "fulmar")["3"] == seen[3]


def test_a_disk_that_is_full_or_read_only_takes_nothing_and_says_so() -> None:
    machines = Machines(skerry_ferries())
    disk = machines.disks[serial(machines, "fulmar-1")]
    strips = [[e, 0] for e in range(disk.size_bytes // GIB)]
    with pytest.raises(agent.BadOrder, match="is full"):
        agent.take_order(
            machines,
            "fulmar",
            {"id": "a", "kind": "reserve", "ply": 1, "bytes": GIB, "strips": {disk.serial: strips}},
        )
    assert not machines.strips[disk.serial]
    disk.read_only = True
    for order in (
        {"kind": "prepare", "pool": "p", "disks": [disk.serial]},
        {"kind": "reserve", "ply": 1, "bytes": GIB, "strips": {disk.serial: [[0, 0]]}},
    ):
        with pytest.raises(agent.BadOrder, match="is read-only"):
            agent.take_order(machines, "fulmar", {"id": "b", **order})


def test_a_cache_is_bound_only_to_disks_of_its_pool_and_takes_their_writes_first() -> None:
    machines = Machines(skerry_ferries())
    disk, device = serial(machines, "fulmar-1"), serial(machines, "fulmar-c1")
    order = {"id": "b", "kind": "bind", "pool": "p", "cache": {disk: device}}
    with pytest.raises(agent.BadOrder, match="does not carry the mark of pool p"):
        agent.take_order(machines, "fulmar", order)
    agent.take_order(machines, "fulmar", {"id": "p", "kind": "prepare", "pool": "p", "disks": [disk, device]})
    agent.take_order(machines, "fulmar", order)
    machines.add_strip(disk, (1, 0, 0))
    run_for(machines, 5.0)
    assert machines.counters[device].written_bytes == pytest.approx(machines.counters[disk].written_bytes)
    assert machines.counters[device].written_bytes > 0
    assert agent.inventory(machines, "fulmar")["cache"] == {disk: device}
