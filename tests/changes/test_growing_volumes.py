"""Volumes that grow or are renamed while they are in use: what is refused, what is set aside, and what nodes
are told.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from conftest import ME, Site
from test_changes import Killed
from test_leaving import held, mixed_pool, should_hold
from test_policies import plan_of, refusals, save
from test_thin_volumes import live, set_aside, still

from foldbarn.changes.engine import giving
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.errors import Unreachable
from foldbarn.core.policies.conformance import Standing, conformance
from foldbarn.core.policies.giving import Given
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.services import changes
from foldbarn.services.giving import give_room
from foldbarn.services.heat import HeatTaker
from foldbarn.store.views import current_view

pooled = pytest.mark.pooled


def kept() -> Standing | None:
    found = conformance(current_view(), current_view().volumes[0])
    return found.standing if found else None


def grow(site: Site, size: str, name: str = "charts") -> int:
    number = site.do("grow-volume", volume=name, size=size)
    assert (site.state(number), site.problem(number)) == ("done", "")
    return number


@pooled
@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"volume": "charts", "size": "50 GiB"}, "and never shrinks."),
        ({"volume": "charts", "size": "100 GiB"}, "Nothing would be different"),
        ({"volume": "chart", "size": "200 GiB"}, "There is no volume named 'chart'"),
        ({"volume": "charts", "size": "many"}, "is not a size"),
        ({"volume": "charts", "size": "900 TB"}, "quayside can take"),
    ],
)
def test_what_cannot_be_is_refused(barn_site: Site, wish: dict[str, Any], says: str) -> None:
    barn_site.volume()
    assert says in " ".join(refusals("grow-volume", **wish))


@pooled
def test_what_is_added_is_set_aside_and_all_of_it_is_in_use_meanwhile(barn_site: Site) -> None:
    barn_site.volume()
    before = current_view().volumes[0].whole.placement.copy()
    plan = plan_of("grow-volume", volume="charts", size="300 GiB")
    assert not plan.blockers
    grow(barn_site, "300 GiB")
    volume = current_view().volumes[0]
    assert (volume.size_bytes, volume.extents) == (300 * 2**30, 300)
    assert (volume.whole.placement[:100] == before).all()
    assert set_aside() == 300
    assert held(barn_site) == should_hold()
    assert fate_of(current_view(), volume).state == DataState.WHOLE
    HeatTaker().take()
    # A little more, within the last extent, adds none.
    grow(barn_site, f"{300 * 2**30 + 2**20}")
    assert current_view().volumes[0].extents == 301


@pooled
def test_more_than_four_thousand_extents_go_on_in_their_next_piece(barn_site: Site) -> None:
    barn_site.volume(size="4000 GiB")
    grow(barn_site, "4200 GiB")
    grow(barn_site, "9000 GiB")
    assert current_view().volumes[0].whole.placement.shape[0] == set_aside() == 9000
    assert held(barn_site) == should_hold()


@pooled
def test_a_thin_one_asks_for_what_was_added_once_it_is_written(barn_site: Site) -> None:
    still(barn_site)
    save(barn_site, name="lean", copies=2, level="node", thin=True)
    barn_site.do("create-volume", name="charts", policy="lean", size="100 GiB")
    live(barn_site, 12 * 3600)
    give_room()
    most = set_aside()
    grow(barn_site, "1000 GiB")
    assert set_aside() == most
    assert pool_space(current_view(), current_view().pools[0]).promised == 2000
    live(barn_site, 10)
    give_room()
    assert set_aside() > 100
    assert held(barn_site) == should_hold()
    assert kept() == Standing.KEPT


def test_where_it_lands_first_its_landing_grows_with_it(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, name="lands", data=2, parity=1, level="node", landing=10)
    barn_site.do("create-volume", name="charts", policy="lands", size="40 GiB")
    landing = current_view().volumes[0].landing
    assert landing is not None
    assert landing.extents == 4
    grow(barn_site, "100 GiB")
    landing = current_view().volumes[0].landing
    assert landing is not None
    assert (landing.extents, landing.forming) == (10, False)
    assert kept() == Standing.KEPT
    assert held(barn_site) == should_hold()


def test_what_lies_on_the_fast_tier_stays_there_and_what_was_added_may_follow(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, name="rises", data=2, parity=1, level="node", share=50)
    barn_site.do("create-volume", name="charts", policy="rises", size="20 GiB")
    barn_site.do("move-extents", volume="charts", tier="fast", extents=[0, 3])
    grow(barn_site, "40 GiB")
    assert current_view().volumes[0].upper.nonzero()[0].tolist() == [0, 3]
    number = barn_site.do("move-extents", volume="charts", tier="fast", extents=[19])
    assert barn_site.state(number) == "done"
    assert current_view().volumes[0].upper.nonzero()[0].tolist() == [0, 3, 19]
    assert fate_of(current_view(), current_view().volumes[0]).state == DataState.WHOLE
    assert held(barn_site) == should_hold()


@pooled
def test_where_the_room_was_taken_meanwhile_it_waits_for_some_and_goes_on(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.volume()
    number = changes.carry_out(ME, "grow-volume", {"volume": "charts", "size": "130 GiB"})
    with monkeypatch.context() as patch:
        patch.setattr(giving, "place_as_wanted", lambda *_: Given(np.zeros(0, dtype=np.int64), (), 30))
        run_change(number)
    assert barn_site.state(number) == "paused"
    assert "30 extents of charts found no room" in barn_site.problem(number)
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done"
    assert set_aside() == 130


@pooled
def test_another_name_touches_nothing_on_nodes_and_is_taken_back(barn_site: Site) -> None:
    barn_site.volume()
    barn_site.volume("tides", size="1 GiB")
    before = held(barn_site)
    [said] = refusals("rename-volume", volume="charts", name="Tides")
    assert "exists already (as 'tides'" in said
    assert refusals("rename-volume", volume="charts", name="no name")
    assert refusals("rename-volume", volume="charts", name="charts")
    waiting = changes.carry_out(ME, "grow-volume", {"volume": "charts", "size": "120 GiB"})
    number = barn_site.do("rename-volume", volume="charts", name="Charts")  # waits for its turn
    assert barn_site.state(number) == "waiting"
    run_change(waiting)
    run_change(number)
    assert barn_site.state(number) == "done"
    assert current_view().volume("charts").name == "Charts"
    assert current_view().volume("charts").whole.name == "Charts"
    assert before < held(barn_site) == should_hold()
    undo = plan_of("rename-volume", volume="Charts", name="sea-charts").undo
    assert undo is not None
    assert undo.params == {"volume": "sea-charts", "name": "Charts"}


@pooled
def test_it_is_done_when_every_node_has_set_it_aside(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.volume()
    number = changes.carry_out(ME, "grow-volume", {"volume": "charts", "size": "130 GiB"})

    def cut(*_: Any) -> Any:
        raise Unreachable("No answer.")

    with monkeypatch.context() as patch:
        patch.setattr(giving, "_tell", cut)
        run_change(number)
    assert set_aside() == 130  # placed, and on no node yet
    assert barn_site.state(number) == "paused"
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done"
    assert held(barn_site) == should_hold()
    assert not any(barn_site.yard.machines.closed.values())


@pooled
def test_killed_before_consumers_are_let_in_they_are_let_in_all_the_same(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    still(barn_site)
    barn_site.volume()
    number = changes.carry_out(ME, "grow-volume", {"volume": "charts", "size": "130 GiB"})

    def die(*_: Any) -> Any:
        raise Killed

    with monkeypatch.context() as patch:
        patch.setattr(giving, "_open", die)
        with pytest.raises(Killed):
            run_change(number)
    closed = barn_site.yard.machines.closed[current_view().volumes[0].whole.number]
    assert closed == set(range(100, 130))
    run_change(number)
    assert barn_site.state(number) == "done"
    assert not closed
