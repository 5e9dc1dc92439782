"""Volumes on chosen nodes and disks, against what the stand-in nodes hold."""

from __future__ import annotations

from typing import Any

import pytest
from conftest import ME, Site
from sqlalchemy import select
from test_changes import find_again, held, lose, should_hold

from foldbarn.changes.engine import moving
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.pools.rebuild import WriteAgain
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.pools.only_on import stray_strips
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.core.watch.lamps import Lamp, Outlook
from foldbarn.services import changes
from foldbarn.store.database import transaction
from foldbarn.store.tables import MoveRow
from foldbarn.store.views import current_view

pytestmark = pytest.mark.pooled


def done(site: Site, kind: str, **params: Any) -> None:
    number = site.do(kind, **params)
    assert site.state(number) == "done", site.problem(number)


def lies_on(name: str = "charts") -> set[str]:
    view = current_view()
    rows = {
        int(r) for ply in view.volume(name).plies for r in view.rows(ply).reshape(-1) if r < len(view.disks)
    }
    return {view.nodes[view.disks[row].node].name for row in rows}


def three_of(site: Site) -> list[str]:
    """Nodes of three racks that have disks in the pool."""
    view, found = current_view(), {}
    for row in view.in_pool(view.pools[0]).tolist():
        node = view.nodes[view.disks[row].node]
        found.setdefault(node.rack, node.name)
    return sorted(found.values())[:3]


def test_it_is_made_grown_marked_and_held_otherwise_where_it_may_lie_alone(barn_site: Site) -> None:
    names = three_of(barn_site)
    barn_site.volume(size="20 GiB", only_on=names)
    assert lies_on() == set(names)
    done(barn_site, "grow-volume", volume="charts", size="30 GiB")
    done(barn_site, "take-snapshot", volumes=["charts"], name="noon", room=20)
    done(barn_site, "grow-room", volume="charts", room=50)
    assert lies_on() == set(names)
    barn_site.yard.machines.speed = 600.0
    done(barn_site, "save-policy", name="pair", copies=2, level="rack")
    done(barn_site, "keep-policy", volumes=["charts"], policy="pair")
    done(barn_site, "save-policy", name="two-and-one", data=2, parity=1, level="node")
    done(barn_site, "keep-policy", volumes=["charts"], policy="two-and-one")
    assert lies_on() == set(names)
    assert held(barn_site) == should_hold()


def test_it_is_moved_while_it_is_in_use_and_back_where_that_is_withdrawn(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.volume(size="40 GiB")
    names = three_of(barn_site)
    assert lies_on() > set(names)
    preview = changes.preview("keep-on", {"volume": "charts", "only_on": names})
    assert preview.blockers == []
    barn_site.yard.machines.speed = 600.0

    def refuses(*_: Any) -> str:
        raise NotPossible("A node refuses.")

    with monkeypatch.context() as patched:
        patched.setattr(WriteAgain, "carry_out", refuses)
        number = barn_site.do("keep-on", volume="charts", only_on=names)
    assert barn_site.state(number) == "paused"
    view = current_view()
    state = Outlook(view, 0.0, 0.0).volume(0)
    astray = int(stray_strips(view, view.volume("charts").whole).sum())
    assert state.lamp == Lamp.WATCH
    assert f"{astray} strips of it lie elsewhere than on what was chosen for it." in state.reason
    assert not Outlook(view, 0.0, 0.0).at_ease(0)
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn"
    assert not current_view().volume("charts").only_on
    done(barn_site, "keep-on", volume="charts", only_on=names)
    assert lies_on() == set(names)
    assert held(barn_site) == should_hold()
    view = current_view()
    assert Outlook(view, 0.0, 0.0).volume(0).lamp == Lamp.SOUND
    done(barn_site, "keep-on", volume="charts", only_on=[])  # nothing has to move for that
    assert not current_view().volume("charts").only_on


def test_what_waits_to_be_moved_home_is_not_called_off(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Though the disk that it leaves can be read."""
    for name, few in (("BATCH", 4), ("UNDER_WAY", 1)):
        monkeypatch.setattr(moving, name, few)
    barn_site.volume(size="40 GiB")
    barn_site.yard.machines.speed = 600.0
    done(barn_site, "keep-on", volume="charts", only_on=three_of(barn_site))
    with transaction() as session:
        assert "withdrawn" not in set(session.scalars(select(MoveRow.state)))


def test_a_node_that_is_lost_is_made_up_for_on_the_others_that_were_chosen(barn_site: Site) -> None:
    view = current_view()
    mine = sorted({view.nodes[view.disks[row].node].name for row in view.in_pool(view.pools[0]).tolist()})
    chosen = [name for name in mine if name != three_of(barn_site)[0]]
    barn_site.volume(size="20 GiB", only_on=chosen, copies=2)
    gone = sorted(lies_on())[0]
    barn_site.yard.machines.speed = 600.0
    lose(barn_site, gone)
    done(barn_site, "rebuild", pool="quayside")
    view = current_view()
    assert fate_of(view, view.volume("charts")).state == DataState.WHOLE
    assert lies_on() <= set(chosen) - {gone}
    find_again(barn_site, gone)


def test_a_disk_that_replaces_a_chosen_one_takes_its_part(barn_site: Site) -> None:
    view = current_view()
    pool = view.pools[0]
    by_rack: dict[int, list[str]] = {}
    for row in view.in_pool(pool).tolist():
        by_rack.setdefault(int(view.disk_rack[row]), []).append(view.disks[row].name)
    fresh = next(
        d.name
        for row, d in enumerate(view.disks)
        if view.is_fit(d) and d.media == "ssd" and int(view.disk_rack[row]) in by_rack
    )
    rack = view.nodes[view.disk(fresh).node].rack
    others = [names[0] for other, names in by_rack.items() if other != rack]
    old = by_rack[rack][0]
    chosen = [old, *others[:2]]
    barn_site.volume(size="10 GiB", only_on=chosen)
    barn_site.yard.machines.speed = 600.0
    done(barn_site, "replace-disk", disk=old, by=fresh)
    view = current_view()
    volume = view.volume("charts")
    names = {d.name for d in view.disks if d.number in volume.only_on.disks}
    assert names == {fresh, *chosen[1:]}
    lies = {view.disks[int(r)].name for r in view.rows(volume.whole).reshape(-1)}
    assert lies == names


@pytest.mark.parametrize(
    ("only_on", "words"),
    [
        (["heron"], "There is no node and no disk named 'heron'."),
        (["fulmar"], "3 copies need 3 racks; of what was chosen, 1 in quayside can take it now."),
        (["skua-boot"], "of what was chosen, 0 in quayside can take it now."),
    ],
)
def test_what_cannot_be_is_refused(barn_site: Site, only_on: list[str], words: str) -> None:
    wish = {"name": "charts", "pool": "quayside", "size": "4 GiB", "only_on": only_on}
    with pytest.raises(BarnError) as refused:
        changes.carry_out(ME, "create-volume", wish)
    assert refused.value.sentence.endswith(words)
    barn_site.volume(size="4 GiB")
    (note,) = changes.preview("keep-on", {"volume": "charts", "only_on": only_on}).blockers
    assert note.sentence.endswith(words)
    (same,) = changes.preview("keep-on", {"volume": "charts", "only_on": []}).blockers
    assert same.sentence == "Nothing would be different."


def test_a_thin_one_takes_room_where_it_may(barn_site: Site) -> None:
    names = three_of(barn_site)
    barn_site.volume(size="40 GiB", only_on=names, thin=True)
    done(barn_site, "save-policy", name="plain", copies=3, level="rack")
    barn_site.yard.machines.speed = 600.0
    done(barn_site, "keep-policy", volumes=["charts"], policy="plain")  # it is filled up
    assert not (current_view().volume("charts").whole.unwritten).all()
    assert lies_on() == set(names)


def test_several_at_once_lie_there_too(barn_site: Site) -> None:
    names = three_of(barn_site)
    number = barn_site.do("create-volume", name="web-{1..3}", pool="quayside", size="2 GiB", only_on=names)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    for name in ("web-1", "web-2", "web-3"):
        assert lies_on(name) == set(names)


def test_what_is_said_of_losing_a_node_turns_out_so(barn_site: Site) -> None:
    barn_site.volume(size="10 GiB")
    names = three_of(barn_site)
    wish = {"volume": "charts", "only_on": names}
    (note,) = [note for note in changes.preview("keep-on", wish).warnings if note.code == "heals-no-more"]
    assert "charts needs 3 racks; of those chosen for it, without" in note.sentence
    barn_site.yard.machines.speed = 600.0
    done(barn_site, "keep-on", **wish)
    lose(barn_site, names[0])
    done(barn_site, "rebuild", pool="quayside")
    view = current_view()
    assert fate_of(view, view.volume("charts")).state == DataState.REDUCED
    assert lies_on() == set(names)  # nothing was written elsewhere
    # Free to lie anywhere, it is whole again by itself.
    done(barn_site, "keep-on", volume="charts", only_on=[])
    done(barn_site, "rebuild", pool="quayside")
    view = current_view()
    assert fate_of(view, view.volume("charts")).state == DataState.WHOLE
