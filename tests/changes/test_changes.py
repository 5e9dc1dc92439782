"""Changes against the real database and the real yard: preview, steps, resuming, refusals."""

from __future__ import annotations

import dataclasses
import threading
from typing import Any

import pytest
from conftest import ME, Site, stand_still
from sites import changed, make_site
from sqlalchemy import func, select
from tenacity import RetryCallState, Retrying, wait_none
from told import told

from foldbarn.changes.engine import moving, runner
from foldbarn.changes.engine.effects import Domains, Ledgers, OnDisks, Sums
from foldbarn.changes.engine.kind import KINDS
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.pools import form_pool
from foldbarn.changes.kinds.volumes import create_volume
from foldbarn.core.errors import BarnError, NotPossible, Unreachable
from foldbarn.core.site import Role
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.links.agents import Agent
from foldbarn.services import changes, watching
from foldbarn.services.changes import Outdated
from foldbarn.store.database import transaction
from foldbarn.store.tables import ChangeRow, MoveRow, NodeRow, StepRow
from foldbarn.store.views import current_view


class Killed(BaseException):
    """What kill -9 is to the code: nothing catches it."""


def lose(site: Site, node: str, given_up: bool = True) -> None:
    """The node goes silent, and its grace time passes, where it is given up."""
    site.yard.machines.power[node] = False
    with transaction() as session:
        row = session.scalars(select(NodeRow).where(NodeRow.name == node)).one()
        row.contact, row.given_up = "silent", given_up
        watching.announce(session, "site")


def find_again(site: Site, node: str) -> None:
    site.yard.machines.power[node] = True
    with transaction() as session:
        number = session.scalars(select(NodeRow.id).where(NodeRow.name == node)).one()
    watching.note_report(number, {"inventory_version": "new"})


def held(site: Site) -> set[tuple[str, int, int, int]]:
    return {(serial, *strip) for serial, strips in site.yard.machines.strips.items() for strip in strips}


def should_hold() -> set[tuple[str, int, int, int]]:
    view = current_view()
    serial = {d.number: d.serial for d in view.disks}
    return {
        (serial[disk], ply.number, e, s)
        for ply in (*view.plies, *view.plies_anew)
        for e, row in enumerate(ply.placement.tolist())
        for s, disk in enumerate(row)
        if disk > 0
    }


def test_forming_a_pool_claims_prepares_and_checks(barn_site: Site) -> None:
    number = barn_site.pool()
    assert barn_site.state(number) == "done"
    view = current_view()
    assert [p.forming for p in view.pools] == [False]
    assert len(view.in_pool(view.pool("quayside"))) == 32
    assert sorted(barn_site.yard.machines.pool_of.values()) == ["quayside"] * 32


@pytest.mark.pooled
def test_a_volume_is_whole_and_lies_where_the_placement_says(barn_site: Site) -> None:
    preview = changes.preview("create-volume", {"name": "charts", "pool": "quayside", "size": "100 GiB"})
    number = barn_site.volume()
    assert barn_site.state(number) == "done"
    assert held(barn_site) == should_hold()
    assert len(held(barn_site)) == 300
    view = current_view()
    rows, counts = zip(
        *((view.disks[r].name, n) for r, n in enumerate(view.disk_used.tolist()) if n), strict=True
    )
    assert dict(zip(rows, counts, strict=True)) == {
        name: size // 2**30 for name, size in told(preview, OnDisks).arriving.items()
    }  # the preview is the true plan


@pytest.mark.pooled
def test_a_lost_node_is_rebuilt_elsewhere_and_welcomed_back(barn_site: Site) -> None:
    barn_site.volume()
    lose(barn_site, "petrel")
    view = current_view()
    assert fate_of(view, view.volumes[0]).state == DataState.REDUCED
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    view = current_view()
    assert fate_of(view, view.volumes[0]).state == DataState.WHOLE
    with transaction() as session:
        assert session.scalar(select(func.count(MoveRow.id))) == 75  # each lost strip is copied once
    find_again(barn_site, "petrel")
    assert len(held(barn_site)) > 300  # its old strips are still there
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    assert held(barn_site) == should_hold()
    assert len(held(barn_site)) == 300
    view = current_view()
    petrel = view.disk_used[[i for i, d in enumerate(view.disks) if d.name.startswith("petrel")]].sum()
    assert petrel == pytest.approx(75, abs=2)  # a quarter of the strips again


@pytest.mark.pooled
def test_strips_that_a_disk_lost_are_noticed_and_written_again(barn_site: Site) -> None:
    barn_site.volume()
    serial = next(s for s, strips in barn_site.yard.machines.strips.items() if strips)
    barn_site.yard.machines.strips[serial].clear()
    number = barn_site.do("rebuild", pool="quayside")
    with transaction() as session:
        assert "found missing" in session.get_one(StepRow, (number, 1)).outcome
    assert held(barn_site) == should_hold()
    assert len(held(barn_site)) == 300


@pytest.mark.pooled
def test_killed_in_the_middle_of_copying_it_goes_on(barn_site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    barn_site.volume(size="400 GiB")
    lose(barn_site, "petrel")
    barn_site.yard.machines.speed = 10.0
    number = changes.carry_out(ME, "rebuild", {"pool": "quayside"})
    looks = iter(range(100))

    def die_later(self: Any, *args: Any) -> None:
        original(self, *args)
        if next(looks) == 1:  # with orders just given, so that some are surely under way
            raise Killed

    original = moving.Mover._order
    with monkeypatch.context() as patch:
        patch.setattr(moving.Mover, "_order", die_later)
        with pytest.raises(Killed):
            run_change(number)
    with transaction() as session:
        assert session.scalars(select(MoveRow).where(MoveRow.state == "ordered")).first() is not None
    barn_site.yard.machines.speed = 5000.0
    run_change(number)
    view = current_view()
    assert barn_site.state(number) == "done"
    assert fate_of(view, view.volumes[0]).state == DataState.WHOLE


@pytest.mark.pooled
def test_where_a_source_is_lost_in_the_middle_of_copying_another_is_read(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What a node was told to read lies on one that is lost, too, before it has been read."""
    barn_site.volume(size="200 GiB")
    lose(barn_site, "petrel")
    machines = barn_site.yard.machines
    stand_still(machines)
    number = changes.carry_out(ME, "rebuild", {"pool": "quayside"})

    def die_later(self: Any, *args: Any) -> None:
        original(self, *args)
        raise Killed

    original = moving.Mover._order
    with monkeypatch.context() as patch:
        patch.setattr(moving.Mover, "_order", die_later)
        with pytest.raises(Killed):
            run_change(number)
    lost = {d.serial for d in machines.nodes["fulmar"].disks}
    read = {
        r["disk"]
        for o in machines.orders.values()
        if o.kind == "copy"
        for s in o.body["strips"]
        for r in s["reads"]
    }
    assert lost & read
    lose(barn_site, "fulmar")
    machines.speed = 5000.0
    run_change(number)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    assert fate_of(view, view.volumes[0]).unavailable == 0
    assert fate_of(view, view.volumes[0]).bare == 0  # of three racks two are left: two copies of each


@pytest.mark.pooled
def test_an_agent_that_forgets_its_orders_is_told_again(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.volume()
    lose(barn_site, "petrel")
    barn_site.yard.machines.speed = 60.0
    looks = iter(range(1000))

    def forgetful(self: Any, view: Any) -> None:
        if next(looks) == 2:
            for node in barn_site.yard.machines.nodes:
                barn_site.yard.machines.forget_orders(node)
            barn_site.yard.machines.speed = 5000.0
        original(self, view)

    original = moving.Mover._collect
    monkeypatch.setattr(moving.Mover, "_collect", forgetful)
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    view = current_view()
    assert fate_of(view, view.volumes[0]).state == DataState.WHOLE


def test_a_node_that_falls_silent_during_forming_pauses_it_with_the_reason(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    disks = barn_site.disks(nodes=("fulmar", "petrel", "kittiwake"))
    number = changes.carry_out(ME, "form-pool", {"name": "quayside", "disks": disks})
    monkeypatch.setattr(runner, "PAUSES", wait_none())
    monkeypatch.setattr(
        Agent, "send", lambda self, order: (_ for _ in ()).throw(Unreachable("No answer within 2 s."))
    )
    run_change(number)
    assert barn_site.state(number) == "paused"
    assert "did not carry out its order in 5 tries. No answer within 2 s." in barn_site.problem(number)
    monkeypatch.undo()
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done"


def test_pauses_between_tries_grow() -> None:
    tries = [RetryCallState(Retrying(), None, (), {}) for _ in range(7)]
    for number, state in enumerate(tries, 1):
        state.attempt_number = number
    assert [runner.PAUSES(state) for state in tries] == [0.3, 0.6, 1.2, 2.4, 4.8, 8.0, 8.0]


@pytest.mark.pooled
def test_withdrawing_puts_everything_back(barn_site: Site) -> None:
    number = changes.carry_out(ME, "create-volume", {"name": "charts", "pool": "quayside", "size": "10 GiB"})
    changes.ask(ME, number, "pause")
    run_change(number)
    assert barn_site.state(number) == "paused"
    changes.ask(ME, number, "resume")
    run_change(number)
    assert len(held(barn_site)) == 30
    late = changes.carry_out(
        ME,
        "form-pool",
        {"name": "spare", "disks": barn_site.disks("nvme", ("fulmar", "petrel", "kittiwake"))},
        None,
    )
    changes.ask(ME, late, "withdraw")
    run_change(late)
    assert barn_site.state(late) == "withdrawn"
    assert [p.name for p in current_view().pools] == ["quayside"]
    with pytest.raises(NotPossible, match="is withdrawn"):
        changes.ask(ME, late, "resume")


@pytest.mark.pooled
def test_a_volume_withdrawn_half_way_leaves_nothing_behind(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    number = changes.carry_out(ME, "create-volume", {"name": "charts", "pool": "quayside", "size": "10 GiB"})
    monkeypatch.setattr(
        create_volume.ReadStrips,
        "carry_out",
        lambda self, run: (_ for _ in ()).throw(NotPossible("The strips are not there.")),
    )
    run_change(number)
    assert barn_site.problem(number) == "The strips are not there."
    assert len(held(barn_site)) == 30
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn"
    assert held(barn_site) == set()
    assert current_view().volumes == ()


def test_two_people_forming_with_the_same_disks_at_once(barn_site: Site) -> None:
    disks = barn_site.disks(nodes=("fulmar", "petrel", "kittiwake"))
    numbers = [changes.carry_out(ME, "form-pool", {"name": name, "disks": disks}) for name in ("one", "two")]
    threads = [threading.Thread(target=run_change, args=(n,)) for n in numbers]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert [barn_site.state(n) for n in numbers] == [
        "done",
        "waiting",
    ]  # the one that came first, whoever ran first
    run_change(numbers[1])
    assert barn_site.state(numbers[1]) == "withdrawn"  # by itself: there is nothing to wait for
    assert "fulmar-1" in barn_site.problem(numbers[1])


def test_a_change_is_run_by_one_runner_at_a_time(barn_site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    number = changes.carry_out(
        ME,
        "form-pool",
        {"name": "one", "disks": barn_site.disks(nodes=("fulmar", "petrel", "kittiwake"))},
        None,
    )
    inside, go_on, claims = threading.Event(), threading.Event(), []
    original = form_pool.Claim.carry_out

    def slow(self: Any, run: Any, session: Any) -> str:
        claims.append(1)
        inside.set()
        go_on.wait(10)
        return original(self, run, session)

    monkeypatch.setattr(form_pool.Claim, "carry_out", slow)
    first = threading.Thread(target=run_change, args=(number,))
    first.start()
    inside.wait(10)
    run_change(number)  # the second returns at once
    go_on.set()
    first.join()
    assert len(claims) == 1
    assert barn_site.state(number) == "done"


@pytest.mark.pooled
def test_an_outdated_preview_is_refused_with_a_fresh_one(barn_site: Site) -> None:
    wish = {"pool": "quayside", "fill_line": 0.7, "copies": 2}
    old = changes.preview("set-pool", wish)
    barn_site.do("set-pool", pool="quayside", fill_line=0.7)
    with pytest.raises(Outdated) as refused:
        changes.carry_out(ME, "set-pool", wish, old.digest)
    assert refused.value.fresh.revision > old.revision
    assert barn_site.state(changes.carry_out(ME, "set-pool", wish, refused.value.fresh.digest)) == "waiting"


@pytest.mark.pooled
def test_a_preview_is_not_outdated_by_what_makes_it_do_nothing_else(barn_site: Site) -> None:
    wish = {"name": "charts", "pool": "quayside", "size": "100 GiB"}
    old = changes.preview("create-volume", wish)
    barn_site.volume("tides", size="50 GiB")
    same = changes.preview("create-volume", wish)
    assert told(same, OnDisks) != told(old, OnDisks)  # its strips would lie elsewhere by now
    assert same.digest == old.digest
    barn_site.do("set-pool", pool="quayside", allocation_bytes=2**40)
    assert changes.preview("create-volume", wish).digest != old.digest  # it would be of 1 TiB now


POOL = {"name": "p", "disks": ["fulmar-1", "petrel-1", "skua-1"]}


@pytest.mark.parametrize(
    ("kind", "params", "says"),
    [
        ("form-pool", POOL | {"name": ""}, "needs a name"),
        ("form-pool", POOL | {"name": "x" * 70}, "70 characters; 63 are the most"),
        ("form-pool", POOL | {"name": "QUAYside"}, "exists already .as 'quayside'"),
        ("form-pool", POOL | {"disks": []}, "No disk is chosen"),
        ("form-pool", POOL | {"disks": ["fulmar-99"]}, "no disk named fulmar-99"),
        ("form-pool", POOL | {"disks": ["fulmar-boot"]}, "fulmar-boot is not fit: its node boots from it"),
        ("form-pool", POOL | {"disks": ["skua-3"]}, "skua-3 is not fit: it carries a file-system signature"),
        ("form-pool", POOL | {"disks": ["razorbill-1"]}, "razorbill-1 is taken: it belongs to pool quayside"),
        ("form-pool", POOL | {"copies": 4}, "4 copies need 4 racks; the chosen disks lie in 3"),
        ("form-pool", POOL | {"copies": 9}, "between 1 and 5 copies"),
        ("form-pool", POOL | {"level": "planet"}, "'level' is not usable"),
        ("form-pool", POOL | {"colour": "red"}, "'colour' is not usable"),
        ("create-volume", {"name": "v", "pool": "quayside", "size": "0"}, "more than zero"),
        ("create-volume", {"name": "v", "pool": "quayside", "size": "-5 GB"}, "more than zero"),
        ("create-volume", {"name": "v", "pool": "quayside", "size": "12 floppies"}, "not a unit of size"),
        ("create-volume", {"name": "v", "pool": "quayside", "size": "900 PB"}, "are the most for one volume"),
        (
            "create-volume",
            {"name": "v", "pool": "quayside", "size": "90 TB"},
            "does not fit: quayside can take",
        ),
        (
            "create-volume",
            {"name": "v", "pool": "quayside", "size": "1 TB", "copies": 4},
            "4 copies need 4 racks; quayside has room in 3 now",
        ),
        ("create-volume", {"name": "v", "pool": "nowhere", "size": "1 TB"}, "no pool named 'nowhere'"),
        ("create-volume", {"name": "", "pool": "quayside", "size": "1 TB"}, "needs a name"),
        ("rebuild", {"pool": "nowhere"}, "no pool named 'nowhere'"),
        ("sell", {}, "no kind of change named 'sell'"),
    ],
)
def test_bad_input_is_refused_whole_with_a_sentence(
    barn_site: Site, kind: str, params: dict[str, Any], says: str
) -> None:
    barn_site.pool(disks=barn_site.disks(nodes=("razorbill", "kittiwake", "turnstone")))
    before = current_view().revision
    with pytest.raises(BarnError, match=says):
        changes.carry_out(ME, kind, params)
    with transaction() as session:
        assert session.scalar(select(ChangeRow.id).where(ChangeRow.id > 1)) is None
    assert current_view().revision == before


def test_a_pool_too_small_for_one_extent_is_refused() -> None:
    view = make_site([[[0]], [[0]], [[5]]])
    loose = changed(
        view, pools=(), disks=tuple(dataclasses.replace(d, role=Role.UNCLAIMED, pool=-1) for d in view.disks)
    )
    params = form_pool.FormPoolParams(name="p", disks=[d.name for d in view.disks], copies=2)
    preview = KINDS["form-pool"].plan(loose, params)
    assert [b.sentence for b in preview.blockers] == [
        "The pool would be too small to hold one extent of 1 GiB."
    ]


def test_a_preview_says_raw_usable_and_where_each_byte_went_for_two_and_three_copies(barn_site: Site) -> None:
    preview = changes.preview(
        "form-pool",
        {
            "name": "p",
            "disks": barn_site.disks(nodes=("fulmar", "petrel", "razorbill", "kittiwake", "turnstone")),
        },
    )
    ledgers = told(preview, Ledgers).ledgers
    assert [ledger.name for ledger in ledgers] == ["2 copies", "3 copies"]
    for ledger in ledgers:
        assert sum(part.bytes for part in ledger.parts) == ledger.raw.bytes == 40 * 3_840_000_000_000
    assert [row.label for row in told(preview, Sums).rows] == [
        "Raw",
        "Usable with 2 copies",
        "Usable with 3 copies",
    ]
    domains = told(preview, Domains).rows
    assert [d.name for d in domains] == ["NQ-1", "NQ-2", "SQ-1", "SQ-2"]
    assert domains[1].stranded > 0  # two nodes stand in NQ-2: more than three copies can use
    assert any("uneven" in w.sentence for w in preview.warnings)
