"""Asking nodes what is asked of extents: through copies, moves, silence and other cuts of the same data."""

from __future__ import annotations

import numpy as np
import pytest
from conftest import Site, stand_still
from sqlalchemy import update
from test_policies import save

from foldbarn.core.volumes.heat import UNTOLD, Heat
from foldbarn.links.agents import Agent, Garbled
from foldbarn.services.heat import HeatTaker
from foldbarn.store import heat as kept
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import NodeRow
from foldbarn.store.views import current_view
from foldbarn.yard.consumers import operations_a_second

pytestmark = pytest.mark.pooled


MANY = 10.0  # times the consumers that there usually are: their operations are counted whole


def heat_of(name: str = "charts") -> Heat:
    with transaction() as session:
        found = kept.read_heat(session, current_view().volume(name).number)
    assert found is not None
    return found


@pytest.fixture
def taker(barn_site: Site) -> HeatTaker:
    """The stand-ins' time passes only as a test says."""
    stand_still(barn_site.yard.machines)
    return HeatTaker()


def some_time_passes(site: Site, seconds: float = 600.0, busy: float = 1.0) -> None:
    """busy: how much is going on all the while, as a part of the height of a rush."""
    site.yard.machines.clock += seconds
    site.yard.machines.let_ask(MANY * seconds * busy)


def test_what_is_asked_is_known_by_extent_each_counted_once_though_it_has_copies(
    barn_site: Site, taker: HeatTaker
) -> None:
    barn_site.volume()
    taker.take()
    assert not heat_of().warmth.any()  # what was asked before it was watched is not of this time
    some_time_passes(barn_site)
    taker.take()
    ply = current_view().volume("charts").whole
    expected = MANY * 600.0 * operations_a_second(ply.number, np.arange(ply.extents), 1)
    assert heat_of().warmth == pytest.approx(expected, abs=1.0)
    assert heat_of().operations_per_second == pytest.approx(expected.sum() / 600.0, rel=0.05)
    # Some extents are asked for far more often than others, or there were nothing to see.
    assert heat_of().curve.served[ply.extents // 10] > 0.2


def test_a_node_that_says_nothing_is_stood_in_for_by_those_with_the_other_copies(
    barn_site: Site, taker: HeatTaker
) -> None:
    barn_site.volume()
    taker.take()
    some_time_passes(barn_site)
    barn_site.yard.machines.answers["petrel"] = "garbled"
    taker.take()
    assert (heat_of().warmth > 0).all()
    with pytest.raises(Garbled):
        Agent(barn_site.yard.agent("petrel")).asked()
    with transaction() as session:
        session.execute(update(NodeRow).values(contact="silent"))
        announce(session, "site")
    before = heat_of()
    some_time_passes(barn_site)
    taker.take()
    assert (heat_of().counts == before.counts).all()
    assert (heat_of().warmth <= before.warmth).all()


def test_heat_goes_with_the_data_when_it_is_written_anew_in_other_extents(
    barn_site: Site, taker: HeatTaker
) -> None:
    save(barn_site, name="pair", copies=2, level="node")
    save(barn_site, name="striped", data=2, parity=1, level="node")
    barn_site.do("create-volume", name="charts", policy="pair", pool="quayside", size="40 GiB")
    taker.take()
    some_time_passes(barn_site)
    taker.take()
    before = heat_of().warmth
    barn_site.yard.machines.speed = 5000.0
    assert barn_site.state(barn_site.do("keep-policy", volumes=["charts"], policy="striped")) == "done"
    stand_still(barn_site.yard.machines)
    taker.take()
    assert heat_of().data == 2
    # It has cooled meanwhile, all of it alike, and is as uneven as it was.
    after = heat_of().warmth
    assert after / after.sum() == pytest.approx(before.reshape(-1, 2).sum(axis=1) / before.sum(), rel=0.01)
    # Told of the new extents for the first time: not as if all of it had been asked for just now.
    some_time_passes(barn_site, busy=0.0)
    grown = heat_of().warmth.sum()
    taker.take()
    assert heat_of().warmth.sum() <= grown * 1.5


def test_a_volume_that_is_gone_leaves_nothing_and_one_that_is_made_begins_with_nothing(
    barn_site: Site, taker: HeatTaker
) -> None:
    barn_site.volume()
    taker.take()
    barn_site.erase("charts")
    taker.take()
    with transaction() as session:
        assert kept.read_all(session) == {}
        kept.keep_heat(session, {999: Heat.of_nothing(1, 4)})
        assert kept.read_all(session) == {}
    some_time_passes(barn_site)
    barn_site.volume()
    some_time_passes(barn_site, seconds=60.0)
    taker.take()
    # Not there when they told last: all that was asked of it was asked since.
    assert heat_of().warmth == pytest.approx(heat_of().counts)
    assert heat_of().seconds == 660.0
    assert (heat_of().counts > 0).any()
    barn_site.volume("other")
    some_time_passes(barn_site)
    HeatTaker().take()  # which knows of no time before
    assert not heat_of("other").warmth.any()
    assert (heat_of("other").counts != UNTOLD).all()
