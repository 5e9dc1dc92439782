"""Thin volumes with real agents: room follows what is written, a full pool refuses writes and goes on, and
whatever is killed in between, nothing is written where it would not be kept.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from conftest import ME, Site, at_hour, begun, stand_still
from sqlalchemy import select
from test_changes import find_again, lose
from test_keeping import dies_in_the_middle
from test_leaving import held, should_hold
from test_policies import plan_of, refusals, save

from foldbarn.changes.engine import giving, moving
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.errors import Unreachable
from foldbarn.core.policies.conformance import Standing, conformance
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.filling import filling_of
from foldbarn.core.units import GIB
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.core.volumes.thin import ahead_of, to_set_aside
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp
from foldbarn.links.agents import Agent
from foldbarn.services import changes, watching
from foldbarn.services import giving as services_giving
from foldbarn.services.giving import give_room
from foldbarn.services.heat import HeatTaker
from foldbarn.store import giving as store_giving
from foldbarn.store import pools
from foldbarn.store.database import transaction
from foldbarn.store.tables import NodeRow, SettingAsideRow
from foldbarn.store.views import current_view
from foldbarn.yard import consumers, fluid, thin

pytestmark = pytest.mark.pooled
THIN = {"name": "thin", "copies": 2, "level": "node", "thin": True}


def as_lean(site: Site) -> None:
    """A thin volume of 200 extents; time stands still."""
    still(site)
    site.do("create-volume", name="v", pool="quayside", size="200 GiB", thin=True)


lean = begun(as_lean, speed=0.0)


def live(site: Site, seconds: float) -> None:
    """The stand-ins live for so long, and every node that has power reports."""
    for _ in range(10):
        fluid.advance(site.yard.machines, seconds / 10)
    hear(site)


def hear(site: Site) -> None:
    with transaction() as session:
        nodes = [(n.id, n.agent_name, n.agent_url) for n in session.scalars(select(NodeRow))]
    for number, name, url in nodes:
        if site.yard.machines.power[name]:
            watching.note_report(number, Agent(url).report())


def set_aside() -> int:
    """Extents of the first volume for which room is set aside."""
    return int((~to_set_aside(current_view().volumes[0])).sum())


def still(site: Site) -> None:
    """Time stands still but where a test lets the stand-ins live."""
    stand_still(site.yard.machines)


def test_room_follows_what_is_written_and_every_node_holds_what_is_placed(barn_site: Site) -> None:
    still(barn_site)
    save(barn_site, **THIN)
    preview = plan_of("create-volume", name="v", policy="thin", size="200 GiB")
    assert "Takes room as it is written." in str(preview.effects)
    barn_site.do("create-volume", name="v", policy="thin", size="200 GiB")
    extents = current_view().volumes[0].extents
    assert set_aside() == ahead_of(extents) < extents
    give_room()
    assert set_aside() == ahead_of(extents)  # nobody has asked
    before = set_aside()
    for _ in range(3):
        live(barn_site, 1800)
        give_room()
        assert set_aside() > before
        before = set_aside()
        assert held(barn_site) == should_hold()
    machines = barn_site.yard.machines
    assert not any(machines.closed.values())
    # Ahead of what is written, and no more than that.
    watching.sum_written()
    volume = current_view().volumes[0]
    written = volume.written_bytes / volume.size_bytes * extents
    assert written <= set_aside() <= written + 2 * ahead_of(extents) + 1
    assert fate_of(current_view(), volume).state == DataState.WHOLE
    found = conformance(current_view(), volume)
    assert found is not None
    assert found.standing == Standing.KEPT
    assert pool_space(current_view(), current_view().pools[0]).promised == 2 * extents
    barn_site.erase("v")
    assert not held(barn_site)
    assert not machines.thin


def test_nothing_is_looked_at_anew_while_nobody_wants_room(
    lean: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    looks: list[bool] = []
    giver = services_giving.RoomGiver()

    def looked() -> bool:
        looks.append(give_room())
        return looks[-1]

    monkeypatch.setattr(services_giving, "give_room", looked)
    for _ in range(4):
        giver.give()
    assert len(looks) == 1  # and then nobody wanted any, of a site that is as it was
    before = set_aside()
    live(lean, 1800)
    giver.give()
    assert set_aside() > before
    for _ in range(5):  # until the nodes have heard that they have what they wanted
        live(lean, 1)
        giver.give()
    assert looks[-1] is False
    many = len(looks)
    giver.give()
    giver.give()
    assert len(looks) == many
    lean.do("rename-volume", volume="v", name="w")
    giver.give()
    assert len(looks) == many + 1


def test_what_is_asked_of_an_extent_begins_when_it_is_opened(
    lean: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    at_hour(lean.yard.machines, 8)
    live(lean, 1800)
    with monkeypatch.context() as patch:
        patch.setattr(giving, "_open", lambda *_: None)
        give_room()
    [told] = Agent(lean.yard.agent("petrel")).asked().plies.values()
    assert told[0].max() < ahead_of(200)  # of what is shut nothing is told
    live(lean, 1800)
    give_room()
    new = [e for told in [Agent(lean.yard.agent("petrel")).asked()] for e in told.plies.values()]
    [(extents, operations)] = new
    assert (operations[extents >= ahead_of(200)] == 0).all()
    assert (operations[extents < ahead_of(200)] > 0).any()


def fill(site: Site, monkeypatch: pytest.MonkeyPatch, cap: float = 4.0) -> None:
    """A thin volume that is promised more than there is, and has been written until there was no more."""
    monkeypatch.setattr(giving, "AT_ONCE", 20_000)
    still(site)
    site.do("set-pool", pool="quayside", overcommit_cap=cap)
    most = pool_space(current_view(), current_view().pools[0])
    size = int(most.usable * most.extent_bytes * 4)
    save(site, **THIN)
    site.do("create-volume", name="v", policy="thin", size=f"{size}")
    for _ in range(4):
        live(site, 12 * 3600)
        give_room()


def outlook() -> Outlook:
    return Outlook(current_view(), 0.0, 60.0)


def test_a_full_pool_refuses_writes_loudly_and_goes_on_when_there_is_room(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    fill(barn_site, monkeypatch)
    view = current_view()
    space, volume = pool_space(view, view.pools[0]), view.volumes[0]
    assert space.free == 0
    assert space.ledger.held_back > 0  # nobody's healing was given away
    assert volume.short is not None
    assert volume.short.refuses
    state = outlook().volume(0)
    assert state.lamp == Lamp.SHORT
    assert "Writes are refused: it wants room for" in state.reason
    assert "v refuses writes" in [a.title for a in outlook().attention()]
    assert fate_of(view, volume).state == DataState.WHOLE
    assert held(barn_site) == should_hold()
    # It is said beside whatever else is amiss.
    lose(barn_site, "petrel", given_up=False)
    assert "are missing" in (both := outlook().volume(0).reason) or "is not heard" in both
    assert "Writes are refused" in both
    titles = [a.title for a in outlook().attention()]
    assert {"v refuses writes", "v is short of copies"} <= set(titles)
    find_again(barn_site, "petrel")
    before, machines = set_aside(), barn_site.yard.machines
    give_room()
    assert set_aside() == before
    assert any(filling.refuses for filling in machines.filling.values())
    # Disks are added: what was refused goes on by itself.
    free = [d.name for d in view.disks if d.role == "unclaimed" and d.media == "ssd"]
    barn_site.do("grow-pool", pool="quayside", disks=free)
    live(barn_site, 10)
    give_room()
    assert set_aside() > before
    volume = current_view().volumes[0]
    before_that = view.volumes[0].short
    assert before_that is not None
    assert volume.short is None or volume.short.extents < before_that.extents
    assert held(barn_site) == should_hold()


def test_what_may_be_promised_ends_at_the_cap(barn_site: Site) -> None:
    space = pool_space(current_view(), current_view().pools[0])
    size = int(space.usable * space.extent_bytes * 1.2)
    wish = {"name": "v", "pool": "quayside", "size": f"{size}", "thin": True}
    [said] = refusals("create-volume", **wish)
    assert "up to its cap on overcommit of 1" in said
    barn_site.do("set-pool", pool="quayside", overcommit_cap=1.5)
    plan = plan_of("create-volume", **wish)
    assert not plan.blockers
    [warned] = [w.sentence for w in plan.warnings if w.code == "overcommitted"]
    assert "120%" in warned


@pytest.mark.parametrize("dies", ["told", "recorded", "opened"])
def test_killed_at_any_moment_nothing_is_written_where_it_would_not_be_kept(
    lean: Site, monkeypatch: pytest.MonkeyPatch, dies: str
) -> None:
    class Dies(BaseException):
        pass

    live(lean, 1800)
    before, machines = set_aside(), lean.yard.machines

    def die(*_: Any, **__: Any) -> Any:
        raise Dies

    where = {"told": "_tell", "recorded": "finish", "opened": "_open"}[dies]
    with monkeypatch.context() as patch:
        patch.setattr(giving, where, die)
        with pytest.raises(Dies):
            give_room()
    # Meanwhile everything is looked at and compared.
    assert set_aside() > before
    lean.do("rebuild", pool="quayside")
    assert fate_of(current_view(), current_view().volumes[0]).state == DataState.WHOLE
    ply = current_view().volumes[0].whole.number
    closed = set(machines.closed.get(ply, ()))
    assert closed == (set(range(before, set_aside())) if dies == "opened" else set())
    live(lean, 60)
    give_room()
    assert not machines.closed.get(ply)
    with transaction() as session:
        assert not session.scalars(select(SettingAsideRow)).all()
    assert held(lean) == should_hold()
    live(lean, 60)
    assert machines.filling[ply].strips == () or not machines.filling[ply].refuses


def test_room_that_is_given_while_a_pool_is_compared_is_not_taken_for_missing(
    lean: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    """All of it happens between the nodes' answers and the look at what is placed; consumers write there."""
    live(lean, 1800)
    before, ask = set_aside(), moving._ask_what_is_held

    def give_meanwhile(*args: Any) -> Any:
        answers = ask(*args)
        give_room()
        live(lean, 600)
        return answers

    monkeypatch.setattr(moving, "_ask_what_is_held", give_meanwhile)
    number = lean.do("rebuild", pool="quayside")
    assert lean.state(number) == "done", lean.problem(number)
    assert set_aside() > before
    assert fate_of(current_view(), current_view().volumes[0]).state == DataState.WHOLE
    assert held(lean) == should_hold()


def test_where_a_node_is_out_what_was_begun_is_taken_back_and_asked_for_again(
    lean: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    live(lean, 1800)
    before = set_aside()

    def cut(*_: Any) -> Any:
        raise Unreachable("No answer.")

    with monkeypatch.context() as patch:
        patch.setattr(giving, "_tell", cut)
        give_room()
        give_room()
    assert set_aside() > before
    lose(lean, "petrel", given_up=False)
    give_room()  # what was begun is taken back, and begun on other nodes
    view = current_view()
    assert fate_of(view, view.volumes[0]).unavailable == 0
    late = view.volumes[0].whole.placement[before:]
    rows = view.row_of_number[late[late[:, 0] > 0]]
    assert view.disk_ready[rows].all()
    assert set_aside() > before
    find_again(lean, "petrel")
    lean.do("rebuild", pool="quayside")
    assert held(lean) == should_hold()


def test_deleted_while_room_is_set_aside_nothing_is_left_behind(
    lean: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    live(lean, 1800)
    tell = giving._tell

    def told_late(orders: Any) -> None:
        lean.erase("v")
        tell(orders)

    with monkeypatch.context() as patch:
        patch.setattr(giving, "_tell", told_late)
        give_room()
    assert not current_view().volumes
    assert held(lean)
    lean.do("rebuild", pool="quayside")
    assert not held(lean)


def test_it_grows_on_while_it_is_written_anew_and_nothing_of_that_is_missing(barn_site: Site) -> None:
    still(barn_site)
    save(barn_site, **THIN)
    save(barn_site, name="parity", data=2, parity=1, level="node", thin=True)
    barn_site.do("create-volume", name="v", policy="thin", size="200 GiB")
    live(barn_site, 1800)
    give_room()
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["v"], "policy": "parity"})
    dies_in_the_middle(barn_site, number)
    still(barn_site)
    volume = current_view().volumes[0]
    assert volume.anew is not None
    before, anew = set_aside(), int((~volume.anew.unwritten).sum())
    live(barn_site, 3600)
    give_room()
    assert set_aside() > before
    grown = current_view().volumes[0].anew
    assert grown is not None
    assert int((~grown.unwritten).sum()) > anew
    there = set_aside()
    barn_site.yard.machines.speed = 5000.0
    run_change(number)
    still(barn_site)
    assert barn_site.problem(number) == ""
    assert barn_site.state(number) == "done"
    assert current_view().volumes[0].whole.scheme.k == 2
    assert set_aside() == -(-there // 2)
    assert held(barn_site) == should_hold()
    # And on as parity.
    live(barn_site, 3600)
    give_room()
    assert set_aside() > -(-there // 2)
    assert held(barn_site) == should_hold()


def test_a_policy_that_sets_all_aside_is_kept_once_that_is_done(barn_site: Site) -> None:
    still(barn_site)
    save(barn_site, **THIN)
    save(barn_site, name="thick", copies=2, level="node")
    barn_site.do("create-volume", name="v", policy="thin", size="200 GiB")
    barn_site.do("keep-policy", volumes=["v"], policy="thick")
    found = conformance(current_view(), current_view().volumes[0])
    assert found is not None
    assert found.standing == Standing.CATCHING_UP
    assert "196 extents have none yet" in found.sentence()
    give_room()
    found = conformance(current_view(), current_view().volumes[0])
    assert found is not None
    assert found.standing == Standing.KEPT
    assert set_aside() == 200
    assert held(barn_site) == should_hold()
    # And thin again: what is set aside stays so.
    barn_site.do("keep-policy", volumes=["v"], policy="thin")
    live(barn_site, 600)
    give_room()
    assert set_aside() == 200


def test_one_that_would_not_fit_whole_is_not_promised_so(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    save(barn_site, name="thick", copies=2, level="node")
    fill(barn_site, monkeypatch)
    [said] = refusals("keep-policy", volumes=["v"], policy="thick")
    assert "would not fit" in said


def test_nonsense_about_what_is_wanted_is_told_as_such_and_harms_no_other(lean: Site) -> None:
    machines = lean.yard.machines
    ply = current_view().volumes[0].whole.number
    with transaction() as session:
        row = session.scalars(select(NodeRow).where(NodeRow.name == "petrel")).one()
        row.wants = {
            str(ply): {"strips": [[0, 10**12]], "refuses": True},
            "999": {"strips": [[0, 5]], "refuses": True},
        }
    give_room()
    assert set_aside() == 200  # all of it, and no more than that
    assert np.all([machines.closed.get(ply, set()) == set()])
    assert held(lean) == should_hold()


def test_it_is_full_when_that_was_foretold(barn_site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    """Tried out: consumers write so much every hour, until there is no room."""
    for module in (consumers, thin):
        monkeypatch.setattr(module, "written_share", lambda _, age: min(age / (200 * 3600.0), 1.0))
    still(barn_site)
    disks = barn_site.disks(nodes=("razorbill", "skua"))
    wish = {"copies": 2, "level": "node", "headroom": None, "overcommit_cap": 4.0, "extent_bytes": 16 * GIB}
    barn_site.pool(name="small", disks=disks, **wish)
    pool = current_view().pool("small")
    size = pool_space(current_view(), pool).usable * 16 * GIB * 3
    barn_site.do("create-volume", name="v", pool="small", size=f"{size}", thin=True)
    taker = HeatTaker()
    for _ in range(6):
        live(barn_site, 2 * 3600)
        give_room()
        taker.take()
    found = filling_of(current_view(), current_view().pool("small"))
    assert found is not None
    assert [name for name, _ in found.volumes] == ["v"]
    clock = barn_site.yard.machines.clock
    assert "is full in about" in " ".join(a.title for a in outlook().attention())
    while current_view().volumes[0].short is None:
        live(barn_site, 2 * 3600)
        give_room()
        assert barn_site.yard.machines.clock - clock < 2 * found.latest
    took = barn_site.yard.machines.clock - clock
    assert found.earliest - 7200 <= took <= found.latest + 7200
    assert took == pytest.approx(found.seconds, rel=0.05)


def test_a_disk_that_is_out_keeps_no_other_extent_from_being_opened(
    lean: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    live(lean, 1800)
    with monkeypatch.context() as patch:
        patch.setattr(giving, "_open", lambda *_: None)
        give_room()
    volume = current_view().volumes[0]
    closed = lean.yard.machines.closed[volume.whole.number]
    assert len(closed) > 4
    lose(lean, "petrel", given_up=False)
    live(lean, 60)
    give_room()
    assert not closed


def test_two_that_finish_the_same_at_once_ask_for_no_comparison(
    lean: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    live(lean, 1800)
    tell, left = giving._tell, [True]

    def told(orders: Any) -> None:
        tell(orders)
        while left:
            left.clear()
            with transaction() as session:
                begun = store_giving.begun(session)
            assert begun
            giving.finish(begun[0])

    with monkeypatch.context() as patch:
        patch.setattr(giving, "_tell", told)
        give_room()
    with transaction() as session:
        assert not store_giving.begun(session)
        assert not any(pools.looks(session).values())
    assert not any(lean.yard.machines.closed.values())
    assert held(lean) == should_hold()
