"""Limits on what consumers may ask: nodes are told their parts, keep to them together, and are told anew."""

from __future__ import annotations

from typing import Any

import pytest
from conftest import ME, Site, at_hour
from test_changes import find_again, lose
from test_policies import plan_of, refusals, save

from foldbarn.changes.engine.runner import run_change
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.limits import Limits, limits_of, terms_by_node
from foldbarn.core.watch.asking import Wanted, listed
from foldbarn.core.watch.lamps import Outlook
from foldbarn.services import changes
from foldbarn.services.heat import HeatTaker
from foldbarn.services.limits import tell_limits
from foldbarn.store import heat as kept
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view
from foldbarn.yard import fluid
from foldbarn.yard.consumers import workload_of

pytestmark = pytest.mark.pooled
SLOW = {"name": "slow", "copies": 2, "level": "node", "operations": 4}


def summed(site: Site) -> tuple[float, float]:
    """What all nodes that have power have been told, of all plies."""
    machines = site.yard.machines
    told = [
        part for node, limits in machines.limits.items() if machines.power[node] for part in limits.values()
    ]
    return sum(ops for ops, _ in told), sum(size for _, size in told)


def asked_a_second(site: Site, seconds: float = 3600.0) -> float:
    """Of all volumes, at the height of the morning's rush of the first."""
    machines, taker = site.yard.machines, HeatTaker()
    late = workload_of(current_view().volumes[0].whole.number).late
    at_hour(machines, 8 + late, times=10.0)
    taker.take()
    for _ in range(60):
        fluid.advance(machines, seconds / 60)
    with transaction() as session:
        before = {number: heat.counts.sum() for number, (heat, _) in kept.read_all(session).items()}
    taker.take()
    with transaction() as session:
        after = {number: heat.counts.sum() for number, (heat, _) in kept.read_all(session).items()}
    return float(sum(after[number] - before[number] for number in after)) / seconds


@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"operations": 0}, "A limit is between 1 and 10,000,000,000,000 operations a second, not 0."),
        ({"operations": -5}, "not -5"),
        ({"throughput": 0}, "bytes a second, not 0"),
        ({"throughput": 10**14}, "not 100,000,000,000,000"),
    ],
)
def test_a_limit_that_lets_nothing_through_or_is_absurd_is_refused(
    barn_site: Site, wish: dict[str, Any], says: str
) -> None:
    assert says in " ".join(refusals("save-policy", **{**SLOW, **wish}))


def test_nodes_are_told_parts_that_sum_to_the_limit_and_keep_to_it(barn_site: Site) -> None:
    save(barn_site, **SLOW)
    assert "At most 4 operations a second." in plan_of("save-policy", **{**SLOW, "name": "p"}).summary
    barn_site.do("create-volume", name="v", policy="slow", size="60 GiB")
    assert asked_a_second(barn_site) == pytest.approx(4, rel=0.02)  # from the first moment
    barn_site.yard.machines.limits.clear()
    free = asked_a_second(barn_site)
    assert free > 8
    assert not tell_limits()
    assert summed(barn_site) == (pytest.approx(4, rel=0.001), 0)
    assert asked_a_second(barn_site) == pytest.approx(4, rel=0.02)
    told = dict(barn_site.yard.machines.limits)
    assert not tell_limits()  # which are known already
    assert barn_site.yard.machines.limits == told
    # A newer version holds for the volume once it keeps it; then it is lifted.
    block = workload_of(current_view().volume("v").whole.number).block_bytes
    save(barn_site, **{**SLOW, "operations": None, "throughput": 2 * block, "version": 1})
    assert not tell_limits()
    assert summed(barn_site) == (pytest.approx(4, rel=0.001), 0)
    barn_site.yard.machines.speed = 5000.0
    assert barn_site.state(barn_site.do("keep-policy", volumes=["v"], policy="slow")) == "done"
    assert not tell_limits()
    assert summed(barn_site) == (0, pytest.approx(2 * block, rel=0.001))
    assert asked_a_second(barn_site) == pytest.approx(2, rel=0.02)
    save(barn_site, name="free", copies=2, level="node")
    barn_site.do("keep-policy", volumes=["v"], policy="free")
    assert not tell_limits()
    assert summed(barn_site) == (0, 0)
    assert asked_a_second(barn_site) == pytest.approx(free, rel=0.02)


def test_a_node_that_was_away_is_told_when_it_is_back_and_others_when_data_has_moved(barn_site: Site) -> None:
    save(barn_site, **SLOW)
    barn_site.do("create-volume", name="v", policy="slow", size="60 GiB")
    lose(barn_site, "petrel", given_up=False)
    assert tell_limits()  # one is not heard
    before = dict(barn_site.yard.machines.limits)
    lose(barn_site, "petrel")
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    assert not tell_limits()  # nothing of it lies there any more
    assert summed(barn_site) == (pytest.approx(4, rel=0.05), 0)
    assert barn_site.yard.machines.limits != before
    find_again(barn_site, "petrel")
    barn_site.yard.machines.limits["petrel"] = {"999": (1.0, 0.0)}  # from long ago
    barn_site.do("rebuild", pool="quayside")
    assert not tell_limits()
    assert barn_site.yard.machines.limits["petrel"].keys() == {str(current_view().volume("v").whole.number)}
    assert summed(barn_site) == (pytest.approx(4, rel=0.05), 0)


def test_a_node_that_was_away_when_a_limit_was_lifted_is_told_so_when_it_is_back(barn_site: Site) -> None:
    save(barn_site, **SLOW)
    save(barn_site, name="free", copies=2, level="node")
    barn_site.do("create-volume", name="v", policy="slow", size="60 GiB")
    assert not tell_limits()
    lose(barn_site, "petrel", given_up=False)
    assert barn_site.state(barn_site.do("keep-policy", volumes=["v"], policy="free")) == "done"
    assert tell_limits()  # one is not heard, and still goes by what it was told
    assert barn_site.yard.machines.limits["petrel"]
    find_again(barn_site, "petrel")
    assert not tell_limits()
    assert summed(barn_site) == (0, 0)


def test_parts_are_by_data_wherever_it_lies(barn_site: Site) -> None:
    save(barn_site, name="wide", data=2, parity=1, level="node", operations=90)
    barn_site.do("create-volume", name="w", policy="wide", size="60 GiB")
    view = current_view()
    parts = terms_by_node(view)
    ply = view.volume("w").whole
    assert sum(found[ply.number].operations for found in parts.values()) == pytest.approx(90, rel=0.001)
    for number, found in parts.items():
        row = next(i for i, node in enumerate(view.nodes) if node.number == number)
        strips = int((view.disk_node[view.rows(ply)] == row).sum())
        assert found[ply.number].operations == pytest.approx(90 * strips / ply.placement.size, rel=0.001)


# Of a volume itself. -----------------------------------------------------------------------------------


def own(site: Site, **wish: Any) -> int:
    number = site.do("set-volume", **{"volumes": ["charts"], **wish})
    assert site.state(number) == "done", site.problem(number)
    return number


def test_its_own_limit_holds_where_it_is_lower_than_its_policys(barn_site: Site) -> None:
    save(barn_site, **{**SLOW, "operations": 400})
    barn_site.volume(pool="quayside", policy="slow", size="10 GiB")
    tell_limits()
    assert summed(barn_site)[0] == pytest.approx(400, abs=0.1)
    own(barn_site, operations=90, throughput=5_000_000)
    assert not tell_limits()  # its nodes know already
    assert summed(barn_site) == (pytest.approx(90, abs=0.1), pytest.approx(5_000_000, abs=1))
    assert limits_of(current_view(), current_view().volume("charts")) == Limits(90, 5_000_000, True, True)
    own(barn_site, operations=1000)
    assert summed(barn_site)[0] == pytest.approx(400, abs=0.1)
    assert limits_of(current_view(), current_view().volume("charts")) == Limits(400, 5_000_000, False, True)
    own(barn_site, operations=0, throughput=0)
    assert summed(barn_site) == (pytest.approx(400, abs=0.1), 0)


def test_without_a_policy_it_has_its_own_limit_and_nodes_keep_to_it(barn_site: Site) -> None:
    barn_site.volume(size="10 GiB", copies=2, level="node")
    free = asked_a_second(barn_site)
    assert free > 4
    own(barn_site, operations=2)
    assert asked_a_second(barn_site) == pytest.approx(2, rel=0.05)


def test_labels_are_set_found_and_set_back_alone(barn_site: Site) -> None:
    for name in ("charts", "logs"):
        barn_site.volume(name, size="10 GiB")
    assert refusals("set-volume", volume="charts", labels=["not a label"]) == [
        "'not a label' cannot be a label."
    ]
    assert refusals("set-volume", volume="charts", operations=-1) == [
        "A limit is between 1 and 10,000,000,000,000 operations a second, not -1."
    ]
    assert refusals("set-volume", volume="charts", labels=[], operations=0) == ["Nothing would be different."]
    own(barn_site, labels=["Nightly", "team-north"])
    view = current_view()
    assert view.volume("charts").labels == ("nightly", "team-north")
    found = listed(Outlook(view, 0.0, 0.0), Wanted(words="NORTH"))
    assert [view.volumes[row].name for row in found.rows.tolist()] == ["charts"]
    # What is withdrawn sets back what it set, and not what was set after it.
    number = changes.carry_out(ME, "set-volume", {"volumes": ["charts"], "labels": ["gone"], "operations": 7})
    with pytest.MonkeyPatch.context() as patch:
        held_up = NotPossible("Held up.")
        patch.setattr(
            "foldbarn.changes.kinds.volumes.serving.tell_for_a_step",
            lambda *_: (_ for _ in ()).throw(held_up),
        )
        run_change(number)
    assert barn_site.state(number) == "paused"
    own(barn_site, labels=["later"])
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn"
    charts = current_view().volume("charts")
    assert (charts.labels, charts.operations) == (("later",), 0)
    assert not tell_limits()
    assert summed(barn_site)[0] == 0


def test_two_that_set_different_things_at_once_both_hold(barn_site: Site) -> None:
    """Each records its difference alone."""
    barn_site.volume(size="10 GiB")
    one = changes.carry_out(ME, "set-volume", {"volumes": ["charts"], "labels": ["nightly"]})
    other = changes.carry_out(ME, "set-volume", {"volumes": ["charts"], "operations": 90})
    for number in (one, other):
        run_change(number)
        assert barn_site.state(number) == "done"
    charts = current_view().volume("charts")
    assert (charts.labels, charts.operations) == (("nightly",), 90)
