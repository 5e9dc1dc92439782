"""Several volumes made by one change."""

from __future__ import annotations

import re

import pytest
from conftest import ME, Site
from test_changes import held, should_hold
from test_policies import plan_of, refusals, save
from told import told

from foldbarn.changes.engine.effects import OnDisks, Sums, Texts
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.volumes import create_volume
from foldbarn.core.errors import NotPossible
from foldbarn.core.names import check_name
from foldbarn.core.pools.capacity import free_figure, pool_space
from foldbarn.core.site import slots_of
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.links.agents import Agent
from foldbarn.services import changes
from foldbarn.store.views import current_view

pytestmark = pytest.mark.pooled


def test_a_pattern_makes_as_many_and_the_preview_tells_of_each_and_of_all(barn_site: Site) -> None:
    wish = {"name": "web-{08..11}", "pool": "quayside", "size": "10 GiB"}
    preview = changes.preview("create-volume", wish)
    assert preview.title == "Make 4 volumes"
    assert preview.summary == "4 volumes, 42.9 GB in quayside."
    assert [(row.label, row.after) for row in told(preview, Texts).rows] == [
        (f"web-{n}", "quayside") for n in ("08", "09", "10", "11")
    ]
    arriving = told(preview, OnDisks).arriving
    assert sum(arriving.values()) == 4 * 30 * 2**30
    number = barn_site.do("create-volume", **wish)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    assert [v.name for v in view.volumes] == ["web-08", "web-09", "web-10", "web-11"]
    assert all(fate_of(view, v).state == DataState.WHOLE and not v.forming for v in view.volumes)
    assert held(barn_site) == should_hold()
    # What was foreseen for each disk is what lies there.
    used = {d.name: int(view.disk_used[row]) << 30 for row, d in enumerate(view.disks) if view.disk_used[row]}
    assert used == arriving
    at_once, free, _ = told(preview, Sums).rows
    assert at_once.after.value == sum(arriving.values())
    now = free_figure(view.pools[0], pool_space(view, view.pools[0]))
    assert (free.label, free.after.value) == ("Free in quayside", now.value)
    assert free.before.value > now.value


def test_a_table_makes_each_in_its_size_and_a_policy_chooses_the_pools(barn_site: Site) -> None:
    save(barn_site, name="pair", copies=2, level="node")
    table = "name\tsize\nlogs\t5 GiB\nweb-{1..2}\t7 GiB\n"
    number = barn_site.do("create-volume", table=table, policy="pair")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    assert {v.name: v.size_bytes >> 30 for v in view.volumes} == {"logs": 5, "web-1": 7, "web-2": 7}
    assert {view.policy_of(v).name for v in view.volumes if view.policy_of(v)} == {"pair"}


def test_what_several_are_about_is_never_a_name(barn_site: Site) -> None:
    """So that the way to their page, which is the list, cannot lead to that of a volume."""
    for wish in ({"name": "web-{1..2}", "size": "1 GiB"}, {"table": "a 1 GiB"}):
        about = plan_of("create-volume", pool="quayside", **wish).about
        with pytest.raises(NotPossible, match=f"'{re.escape(about)}' cannot be a name"):
            check_name(about, "volume", [])


def test_one_that_cannot_be_made_is_named_and_none_of_them_is_made(barn_site: Site) -> None:
    barn_site.volume("web-2", size="1 GiB")
    wish = {"pool": "quayside", "size": "1 GiB"}
    (taken,) = refusals("create-volume", name="web-{1..3}", **wish)
    assert taken == "web-2: A volume named 'web-2' exists already."
    (wrong,) = refusals("create-volume", name="-{1..3}", **wish)
    assert wrong == "-1: '-1' cannot be a name."
    # Each fits by itself; what they take together does not.
    space = pool_space(current_view(), current_view().pools[0])
    half = space.free // 2 + 1
    (room,) = refusals("create-volume", name="big-{1..2}", pool="quayside", size=f"{half} GiB")
    assert room.startswith("big-2: ")
    assert "does not fit: quayside can take " in room
    with pytest.raises(NotPossible):
        changes.carry_out(
            ME, "create-volume", {"name": "big-{1..2}", "pool": "quayside", "size": f"{half} GiB"}
        )
    assert [v.name for v in current_view().volumes] == ["web-2"]


def test_what_a_node_says_it_set_aside_and_does_not_hold_keeps_the_volume_shut(barn_site: Site) -> None:
    machines, read = barn_site.yard.machines, create_volume.ReadStrips.carry_out
    serial = current_view().disk("petrel-3").serial

    def lost_before(self: create_volume.ReadStrips, run: object) -> str:
        ply = current_view().volume("charts").whole.number
        for strip in [s for s in machines.strips[serial] if s[0] == ply][:1]:
            machines.drop_strip(serial, strip)
        return read(self, run)  # type: ignore[arg-type]

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(create_volume.ReadStrips, "carry_out", lost_before)
        number = barn_site.volume()
    assert barn_site.state(number) == "paused"
    words = f"petrel says it reserved every strip, but 1 strip is not on disk {serial}."
    assert words in barn_site.problem(number)
    assert current_view().volume("charts").forming


def test_withdrawn_between_two_what_is_open_stays_and_what_is_not_leaves_nothing(barn_site: Site) -> None:
    wish = {"name": "web-{1..3}", "pool": "quayside", "size": "10 GiB"}
    read = create_volume.ReadAll.carry_out

    def until_the_second(self: create_volume.ReadAll, run: object) -> str:
        if self.first == 1:
            raise NotPossible("Held up.")
        return read(self, run)  # type: ignore[arg-type]

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(create_volume, "AT_ONCE", 1)
        number = changes.carry_out(ME, "create-volume", wish)
        patch.setattr(create_volume.ReadAll, "carry_out", until_the_second)
        run_change(number)
    assert barn_site.state(number) == "paused"
    assert [(v.name, v.forming) for v in current_view().volumes] == [("web-1", False), ("web-2", True)]
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn"
    assert [v.name for v in current_view().volumes] == ["web-1"]
    assert held(barn_site) == should_hold()
    barn_site.do("delete-volume", volume="web-1", typed="web-1")
    number = barn_site.do("create-volume", **wish | {"name": "web-{2..3}"})
    assert barn_site.state(number) == "done"


def test_many_are_made_together_and_every_node_is_told_once_of_all(barn_site: Site) -> None:
    wish = {"name": "web-{001..120}", "pool": "quayside", "size": "1 GiB"}
    steps = plan_of("create-volume", **wish).steps
    assert [(p.step.name, p.about) for p in steps] == [
        (name, about)
        for about in ("web-001 to web-100", "web-101 to web-120")
        for name in ("place-all", "reserve-all", "read-all")
    ]
    number = barn_site.do("create-volume", **wish)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view, machines = current_view(), barn_site.yard.machines
    assert len(view.volumes) == 120
    assert not any(v.forming for v in view.volumes)
    assert held(barn_site) == should_hold()
    told = [(o.node, len(o.body["each"])) for o in machines.orders.values() if o.kind == "reserve-all"]
    assert len(told) == 2 * len({node for node, _ in told})


def test_large_ones_are_not_all_told_together(barn_site: Site) -> None:
    """An order stays of a size that a node can take in."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(create_volume, "STRIPS_AT_ONCE", 100)
        steps = plan_of("create-volume", name="web-{1..5}", pool="quayside", size="10 GiB").steps
    assert [p.about for p in steps if p.step.name == "reserve-all"] == [
        "web-1, web-2 and web-3",
        "web-4 and web-5",
    ]


def test_of_several_plies_a_node_sets_all_aside_or_none(barn_site: Site) -> None:
    serial = current_view().disk("petrel-3").serial
    most = slots_of(barn_site.yard.machines.disks[serial].size_bytes, 2**30)
    each = [
        {"ply": ply, "bytes": 2**30, "data": 1, "strips": {serial: [[e, 0] for e in range(extents)]}}
        for ply, extents in ((901, most - 1), (902, 2))
    ]
    agent = Agent(barn_site.yard.agent("petrel"))
    with pytest.raises(NotPossible, match="is full"):
        agent.send({"id": "too-many", "kind": "reserve-all", "each": each})
    assert not held(barn_site)
    each[1]["strips"] = {serial: [[0, 0]]}
    agent.send({"id": "as-many", "kind": "reserve-all", "each": each})
    assert len(held(barn_site)) == most
