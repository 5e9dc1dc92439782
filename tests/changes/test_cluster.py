"""Forming a cluster against the real yard: votes, proof of failover, killed at every step, two at once,
adding and letting go.
"""

from __future__ import annotations

import threading
import time
from dataclasses import replace
from typing import Any

import pytest
from conftest import ME, Site
from sqlalchemy import select, update

from foldbarn.changes.engine import runner
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.cluster.sealing import open_key
from foldbarn.core.cluster.forming import Tie, bond_of, prechecks, reach_matrix, wish_of
from foldbarn.core.cluster.proposing import propose
from foldbarn.core.errors import NotAllowed, NotPossible
from foldbarn.core.site import Contact
from foldbarn.links.agents import Garbled
from foldbarn.services import changes, cluster
from foldbarn.services.watching import Watch, note_failure, note_report
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import ChangeRow, ClusterRow, NodeRow, StepRow
from foldbarn.store.views import current_view
from foldbarn.yard import council


class Killed(BaseException):
    """The process is gone at this moment."""


EIGHT = ["fulmar", "gannet", "petrel", "razorbill", "kittiwake", "dunlin", "turnstone", "whimbrel"]
WISH: dict[str, Any] = {
    "name": "quay",
    "members": EIGHT,
    "keepers": ["fulmar", "petrel", "kittiwake"],
    "service_address": "10.10.0.5/24",
}


def hear(site: Site) -> None:
    """What the watch does in a second: every node that has power reports."""
    from foldbarn.links.agents import Agent

    with transaction() as session:
        rows = list(session.execute(select(NodeRow.id, NodeRow.agent_url, NodeRow.name)))
    for number, url, name in rows:
        if site.yard.machines.power[name]:
            note_report(number, Agent(url).report())


def number_of(node: str) -> int:
    with transaction() as session:
        return session.scalars(select(NodeRow.id).where(NodeRow.name == node)).one()


def form(site: Site, **wish: Any) -> int:
    return site.do("form-cluster", **(WISH | wish))


def steps(number: int) -> dict[int, str]:
    with transaction() as session:
        return {
            s.number: s.state for s in session.scalars(select(StepRow).where(StepRow.change_id == number))
        }


def test_a_cluster_is_formed_and_has_shown_that_it_can_lose_its_leader(barn_site: Site) -> None:
    hear(barn_site)
    number = form(barn_site)
    assert barn_site.problem(number) == ""
    assert barn_site.state(number) == "done"
    assert len(steps(number)) == 1 + 2 * 8 + 5
    told = barn_site.yard.machines.council
    assert (told.members, told.keepers, told.leader, told.address) == (
        EIGHT,
        ["fulmar", "petrel", "kittiwake"],
        "fulmar",
        "10.10.0.5/24",
    )
    assert told.term == 3  # elected, handed over, handed back
    hear(barn_site)
    formed = current_view().cluster
    assert formed is not None
    assert (formed.leader, formed.forming, formed.term) == ("fulmar", False, 3)
    assert [n.name for n in current_view().nodes if n.keeper] == ["fulmar", "petrel", "kittiwake"]


def test_the_leader_falls_silent_and_another_leads(barn_site: Site) -> None:
    hear(barn_site)
    form(barn_site)
    barn_site.yard.machines.power["fulmar"] = False
    deadline = time.monotonic() + 60
    while barn_site.yard.machines.council.leader != "petrel":
        assert time.monotonic() < deadline, "nobody took over"
        time.sleep(0.05)
    with transaction() as session:
        session.execute(update(NodeRow).where(NodeRow.name == "fulmar").values(contact="silent"))
        announce(session, "site")
    hear(barn_site)
    formed = current_view().cluster
    assert formed is not None
    assert (formed.leader, formed.term) == ("petrel", 4)
    barn_site.yard.machines.power["petrel"] = False  # two of three gone: nobody may decide
    assert council.describe(barn_site.yard.machines, "kittiwake")["leader"] == ""


def test_two_keepers_and_a_witness_survive_the_loss_of_a_keeper(barn_site: Site) -> None:
    hear(barn_site)
    witness = {"witness": "lamp-room", "witness_url": f"{barn_site.yard.url}/witness/lamp-room"}
    wish = {"members": ["fulmar", "kittiwake"], "keepers": ["fulmar", "kittiwake"]}
    with pytest.raises(NotPossible, match="Two keepers alone"):
        changes.carry_out(ME, "form-cluster", WISH | wish)
    number = form(barn_site, **wish, **witness)
    assert barn_site.state(number) == "done"
    barn_site.yard.machines.power["kittiwake"] = False
    assert council.decides(barn_site.yard.machines)
    barn_site.yard.machines.power["lamp-room"] = False
    assert not council.decides(barn_site.yard.machines)


@pytest.mark.parametrize("with_witness", [True, False])
def test_what_is_said_of_proposed_votes_holds_when_each_room_loses_its_power(
    barn_site: Site, with_witness: bool
) -> None:
    hear(barn_site)
    machines, view = barn_site.yard.machines, current_view()
    witness = "lamp-room" if with_witness else ""
    found = propose(view, EIGHT, witness)
    url = f"{barn_site.yard.url}/witness/lamp-room" if with_witness else ""
    wish = {"keepers": list(found.keepers), "witness": witness, "witness_url": url}
    number = form(barn_site, service_address=found.service_address, **wish)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    promised = "No room, rack or node that is lost alone takes the majority." in found.votes_because
    assert promised == with_witness
    decides = {}
    for row, room in enumerate(view.rooms):
        dark = [n.name for n in view.nodes if view.racks[n.rack].room == row]
        machines.power.update(dict.fromkeys(dark, False))
        decides[room.name] = council.decides(machines)
        machines.power.update(dict.fromkeys(dark, True))
    fatal = {room for room, still in decides.items() if not still}
    assert fatal == {r.name for r in view.rooms if f"room {r.name}" in found.votes_because}
    assert bool(fatal) != promised
    # The address was nobody's: no port of any stand-in has it.
    taken = {a.split("/")[0] for n in view.nodes for p in n.ports for a in p.addresses}
    assert found.service_address.split("/")[0] not in taken


def test_a_witness_beside_members_is_refused_or_written_down_with_the_reason(barn_site: Site) -> None:
    hear(barn_site)
    witness = {"witness": "lamp-room", "witness_url": f"{barn_site.yard.url}/witness/lamp-room"}
    wish = {"members": ["fulmar", "kittiwake"], "keepers": ["fulmar", "kittiwake"], **witness}
    with pytest.raises(
        NotPossible, match="would share room North Quay with fulmar: what takes them takes its vote"
    ):
        changes.carry_out(ME, "form-cluster", WISH | wish | {"witness_room": "North Quay"})
    beside = {"witness_room": "North Quay", "witness_rack": "NQ-1"}
    with pytest.raises(NotPossible, match="would share rack NQ-1 with fulmar"):
        changes.carry_out(ME, "form-cluster", WISH | wish | beside)
    number = form(barn_site, **wish, witness_room="North Quay", witness_reason="there is no third room")
    assert barn_site.state(number) == "done"
    cluster = current_view().cluster
    assert cluster is not None
    assert cluster.witness_reason == "there is no third room"


def test_a_witness_that_is_someone_else_stops_the_forming_before_any_node_is_touched(barn_site: Site) -> None:
    hear(barn_site)
    number = form(barn_site, witness="light-ship", witness_url=f"{barn_site.yard.url}/witness/lamp-room")
    assert barn_site.state(number) == "paused"
    assert "is the witness lamp-room, not light-ship" in barn_site.problem(number)
    assert barn_site.yard.machines.council.prepared == []
    assert current_view().cluster is not None  # half formed, and says so
    assert current_view().cluster.forming  # type: ignore[union-attr]
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn"
    assert current_view().cluster is None


@pytest.mark.parametrize("moment", ["before", "after"])
def test_killed_before_or_after_each_step_is_recorded_it_goes_on_without_doing_one_twice(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch, moment: str
) -> None:
    hear(barn_site)
    number = changes.carry_out(ME, "form-cluster", WISH | {"members": EIGHT[:3], "keepers": EIGHT[:3]})
    finish, next_step, died = runner._finish_step, runner._next_step, 0
    for victim in range(1, 13):

        def unrecorded(session: Any, run: Any, outcome: str, victim: int = victim) -> None:
            if run.step == victim:
                raise Killed
            finish(session, run, outcome)

        def recorded(run: Any, victim: int = victim) -> bool:
            step, more = run.step, next_step(run)
            if step == victim:
                raise Killed
            return more

        with monkeypatch.context() as patch:
            if moment == "before":
                patch.setattr(runner, "_finish_step", unrecorded)
            else:
                patch.setattr(runner, "_next_step", recorded)
            with pytest.raises(Killed):
                run_change(number)
            died += 1
    run_change(number)
    assert died == 12
    assert barn_site.problem(number) == ""
    assert barn_site.state(number) == "done"
    told = barn_site.yard.machines.council
    assert (told.members, told.leader, told.term) == (EIGHT[:3], "fulmar", 3)


def test_power_lost_in_the_middle_pauses_with_the_reason_and_goes_on_when_it_is_back(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    hear(barn_site)
    monkeypatch.setenv("FOLDBARN_ATTEMPTS", "2")
    from foldbarn.settings import settings

    settings.cache_clear()
    number = changes.carry_out(ME, "form-cluster", WISH)
    barn_site.yard.machines.power["razorbill"] = False
    run_change(number)
    assert barn_site.state(number) == "paused"
    assert "razorbill did not carry out its order in 2 tries" in barn_site.problem(number)
    barn_site.yard.machines.power["razorbill"] = True
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done"


def test_two_people_form_at_once_and_one_is_told(barn_site: Site) -> None:
    hear(barn_site)
    first = changes.carry_out(ME, "form-cluster", WISH)
    second = changes.carry_out(ME, "form-cluster", WISH | {"name": "other"})
    crew = [threading.Thread(target=run_change, args=(n,)) for n in (first, second)]
    for member in crew:
        member.start()
    for member in crew:
        member.join()
    assert [barn_site.state(n) for n in (first, second)] == ["done", "waiting"]
    run_change(second)
    assert barn_site.state(second) == "withdrawn"
    assert "Another cluster has been formed meanwhile." in barn_site.problem(second)
    assert current_view().cluster is not None  # the winner's stays
    assert len(barn_site.yard.machines.council.members) == 8
    with pytest.raises(NotPossible, match="is formed already; a site has one"):
        changes.carry_out(ME, "form-cluster", WISH | {"name": "third"})


@pytest.mark.parametrize(
    ("wish", "words"),
    [
        ({"name": ""}, "The cluster needs a name"),
        ({"keepers": ["fulmar"]}, "3 or 5, or 2 and a witness"),
        (
            {"keepers": ["fulmar", "petrel", "skua"]},
            "skua would be a keeper, but is not among the chosen nodes",
        ),
        ({"members": [*EIGHT, "puffin"]}, "There is no node named puffin"),
        ({"service_address": "10.10.0.11/24"}, "is the address of mgmt0 of fulmar already"),
        ({"service_address": "10.10.0.0/24"}, "stands for its whole network"),
        ({"service_address": ""}, "No service address is given"),
        ({"service_address": "over there"}, "is not an address with a prefix length"),
        ({"encrypted": True, "passphrase": "short"}, "12 are the least"),
        ({"mail_to": "the watch"}, "is not a mail address"),
        ({"witness": "w", "witness_url": "ftp://w"}, "starts with http"),
        ({"members": ["fulmar"], "keepers": ["fulmar"]}, "a cluster has at least two"),
    ],
)
def test_a_bad_wish_is_refused_whole_with_a_sentence(
    barn_site: Site, wish: dict[str, Any], words: str
) -> None:
    with pytest.raises(NotPossible, match=words):
        changes.carry_out(ME, "form-cluster", WISH | wish)
    with transaction() as session:
        assert session.scalars(select(ChangeRow)).all() == []
        assert session.get(ClusterRow, 1) is None


def test_the_passphrase_is_recorded_nowhere_and_opens_the_key(barn_site: Site) -> None:
    hear(barn_site)
    secret = "three herons on a mast"
    number = form(barn_site, encrypted=True, passphrase=secret)
    assert barn_site.state(number) == "done"
    with transaction() as session:
        change = session.get_one(ChangeRow, number)
        assert secret not in str(change.params) + str(change.preview)
        kept = dict(session.get_one(ClusterRow, 1).sealed_key)
        # The key is the cluster's alone: not even sealed does it stay in the record of the change.
        payloads = str(list(session.scalars(select(StepRow.payload).where(StepRow.change_id == number))))
        assert secret not in payloads
        assert kept["sealed"] not in payloads
    assert len(open_key(secret, kept)) == 32
    cluster.try_passphrase(secret)
    with pytest.raises(NotAllowed, match="does not open"):
        cluster.try_passphrase(secret + "!")


def test_a_shut_port_is_found_by_the_agents_and_blocks_forming(barn_site: Site) -> None:
    hear(barn_site)
    barn_site.yard.machines.shut.add(("dunlin", 7503))
    tries = cluster.try_ports(ME)
    assert tries == 9 * 8 * (2 + 8)  # nine nodes, to eight others each: two ports for votes, eight for strips
    assert {c[:3] for c in current_view().closed_ports} == {
        (n.name, "dunlin", 7503) for n in current_view().nodes if n.name != "dunlin"
    }
    with pytest.raises(NotPossible, match="cannot reach dunlin on 7503: refused"):
        changes.carry_out(ME, "form-cluster", WISH)
    reached = {(r.source, r.target): (r.reached, r.of) for r in reach_matrix(current_view(), EIGHT)}
    assert reached["fulmar", "dunlin"] == (0, 8)
    assert reached["dunlin", "fulmar"] == (10, 10)
    assert number_formed_without(barn_site, "dunlin") == "done"


def number_formed_without(site: Site, name: str) -> str:
    return site.state(form(site, members=[n for n in EIGHT if n != name]))


def test_a_node_is_added_and_let_go(barn_site: Site) -> None:
    hear(barn_site)
    form(barn_site)
    hear(barn_site)
    number = barn_site.do("add-node", node="skua")
    assert barn_site.state(number) == "done"
    assert "skua" in barn_site.yard.machines.council.members
    with pytest.raises(NotPossible, match="is a member already"):
        changes.carry_out(ME, "add-node", {"node": "skua"})
    number = barn_site.do("let-go", node="skua")
    assert barn_site.state(number) == "done"
    assert "skua" not in barn_site.yard.machines.council.members
    assert not current_view().node("skua").member


def test_a_keeper_is_let_go_only_when_the_quorum_survives_it(barn_site: Site) -> None:
    hear(barn_site)
    form(barn_site)
    hear(barn_site)
    with pytest.raises(NotPossible, match="Name another keeper first"):
        changes.carry_out(ME, "let-go", {"node": "fulmar"})
    number = barn_site.do("let-go", node="fulmar", successor="gannet")
    assert barn_site.problem(number) == ""
    assert barn_site.state(number) == "done"
    hear(barn_site)
    told = barn_site.yard.machines.council
    assert sorted(told.keepers) == ["gannet", "kittiwake", "petrel"]
    assert told.leader in told.keepers
    assert "fulmar" not in told.members
    assert wish_of(current_view()).keepers == ("gannet", "petrel", "kittiwake")


def test_a_vote_that_was_given_away_meanwhile_is_not_brought_back_by_who_joins(barn_site: Site) -> None:
    """Added while another change of the cluster is under way: it joins the cluster that stands by then."""
    hear(barn_site)
    form(barn_site)
    hear(barn_site)
    first = changes.carry_out(ME, "let-go", {"node": "fulmar", "successor": "gannet"})
    second = changes.carry_out(ME, "add-node", {"node": "skua"})
    run_change(first)
    hear(barn_site)
    run_change(second)
    assert barn_site.state(second) == "done", barn_site.problem(second)
    assert sorted(barn_site.yard.machines.council.keepers) == ["gannet", "kittiwake", "petrel"]
    assert set(wish_of(current_view()).keepers) == {"gannet", "kittiwake", "petrel"}


def test_nobody_gets_a_vote_from_itself(barn_site: Site) -> None:
    hear(barn_site)
    form(barn_site)
    hear(barn_site)
    with pytest.raises(NotPossible, match="razorbill cannot get the vote: it is the one that leaves"):
        changes.carry_out(ME, "let-go", {"node": "razorbill", "successor": "razorbill"})


def test_a_node_that_was_let_go_unheard_is_sent_away_when_it_returns(barn_site: Site) -> None:
    """And one of somebody else's cluster is left alone, also where we once let it go."""
    hear(barn_site)
    form(barn_site)
    hear(barn_site)
    machines = barn_site.yard.machines
    machines.power["gannet"] = False
    note_failure(number_of("gannet"), Garbled("It answers nonsense."))
    assert barn_site.state(barn_site.do("let-go", node="gannet")) == "done"
    assert "gannet" in machines.council.members
    watch = Watch()
    watch._judge()
    assert "gannet" in machines.council.members  # it cannot be told yet
    machines.power["gannet"] = True
    machines.council.name = "other"
    hear(barn_site)
    watch._judge()
    assert "gannet" in machines.council.members  # of another cluster by now
    machines.council.name = "quay"
    hear(barn_site)
    watch._judge()
    assert "gannet" not in machines.council.members
    assert "turnstone" in machines.council.members
    hear(barn_site)
    assert barn_site.state(barn_site.do("add-node", node="gannet")) == "done"
    hear(barn_site)
    watch._judge()
    assert "gannet" in machines.council.members  # a member again, and heard: it stays


def test_a_node_that_a_withdrawn_forming_could_not_tell_is_sent_away_when_it_returns(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    hear(barn_site)
    number = changes.carry_out(ME, "form-cluster", WISH)
    machines, next_step = barn_site.yard.machines, runner._next_step

    def until_all_joined(run: Any) -> bool:
        more = next_step(run)
        if len(machines.council.members) == len(EIGHT):
            raise Killed
        return more

    with monkeypatch.context() as patch:
        patch.setattr(runner, "_next_step", until_all_joined)
        with pytest.raises(Killed):
            run_change(number)
    machines.power["gannet"] = False
    note_failure(number_of("gannet"), Garbled("It answers nonsense."))
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn"
    assert machines.council.members == ["gannet"]
    machines.power["gannet"] = True
    hear(barn_site)
    Watch()._judge()
    assert machines.council.members == []


def test_letting_go_weighs_the_votes_that_would_be_left(barn_site: Site) -> None:
    hear(barn_site)
    form(barn_site, keepers=["fulmar", "petrel", "kittiwake", "dunlin", "turnstone"])
    hear(barn_site)
    view = current_view()
    four = bond_of(view, "fulmar")
    assert four is not None
    assert (four.tie, "4 keepers would be left, and a cluster has 3 or 5" in four.sentence) == (
        Tie.VOTE,
        True,
    )
    assert bond_of(view, "fulmar", "gannet") is None
    assert bond_of(view, "gannet") is None
    silent = {"petrel", "kittiwake", "dunlin"}
    nodes = tuple(replace(n, contact=Contact.SILENT) if n.name in silent else n for n in view.nodes)
    few = bond_of(replace(view, nodes=nodes), "fulmar", "gannet")
    assert few is not None
    assert few.tie == Tie.QUORUM
    assert "dunlin, kittiwake and petrel are not heard" in few.sentence
    assert "of 5 votes left, 3 decide" in few.sentence


def test_a_node_that_holds_data_is_not_let_go(barn_site: Site) -> None:
    hear(barn_site)
    form(barn_site)
    barn_site.pool()
    with pytest.raises(NotPossible, match="are in a pool"):
        changes.carry_out(ME, "let-go", {"node": "turnstone"})
    barn_site.volume()
    with pytest.raises(NotPossible, match=r"turnstone holds .* strips"):
        changes.carry_out(ME, "let-go", {"node": "turnstone"})


def test_prechecks_name_what_is_doubtful_and_what_would_cure_it(barn_site: Site) -> None:
    hear(barn_site)
    view = current_view()
    from foldbarn.changes.kinds.cluster.form_cluster import FormClusterParams

    everyone = FormClusterParams(
        **(WISH | {"members": [*EIGHT, "skua"], "keepers": ["fulmar", "gannet", "petrel"]})
    ).wish()
    found = {(c.name, c.result): c for c in prechecks(view, everyone)}
    assert "The clock of skua is 0.7 s ahead." in found["clocks", "doubt"].sentence
    doubtful = [c.sentence for c in prechecks(view, everyone) if c.result == "doubt"]
    assert "Fulmar and gannet share rack NQ-1: losing it takes 2 votes at once." in doubtful
    assert "Losing room North Quay would leave no majority." in doubtful
    assert "Storage port stor1 of kittiwake is down." in doubtful
    assert "The port plan has not been tested." in doubtful
    assert all(c.cure for c in prechecks(view, everyone) if c.result != "pass")
    assert not [c for c in prechecks(view, everyone) if c.result == "fail"]
