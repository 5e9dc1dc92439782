"""Keeping watch: silence and return, grace times, and what starts by itself. Time is set in the database,
never waited for.
"""

from __future__ import annotations

import asyncio
import time
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from threading import Event
from typing import Any

import pytest
from conftest import ME, Site, run_async, stand_still
from sqlalchemy import func, select, update

from foldbarn.changes.engine.runner import run_change
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import Conflict, NotPossible, Unreachable
from foldbarn.core.site import Contact
from foldbarn.house.postgres import free_port
from foldbarn.links import agents
from foldbarn.links.agents import NOTHING_NEW, Garbled, Report
from foldbarn.services import intake, site, watching
from foldbarn.services.duties import Duty, Round
from foldbarn.settings import settings
from foldbarn.store import duties, nodes
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import ChangeRow, DiskRow, DiskWorkRow, DutyRow, NodeRow, PoolRow, SiteRow, StepRow
from foldbarn.store.views import current_view
from foldbarn.yard import agent, council
from foldbarn.yard.post import PostBox, open_post


def number_of(node: str) -> int:
    with transaction() as session:
        return session.scalars(select(NodeRow.id).where(NodeRow.name == node)).one()


def heard(node: str, seconds_ago: float) -> None:
    with transaction() as session:
        session.execute(
            update(NodeRow)
            .where(NodeRow.name == node)
            .values(heard_at=datetime.now(UTC) - timedelta(seconds=seconds_ago))
        )


def silent_for(node: str, seconds: float) -> None:
    heard(node, seconds)
    watching.note_failure(number_of(node), Unreachable("No answer within 2 s."))


def report(barn_site: Site, node: str, **more: Any) -> None:
    machines = barn_site.yard.machines
    facts = {"inventory_version": agent.inventory_version(machines, node), **agent.counters(machines, node)}
    watching.note_counters({number_of(node): watching.note_report(number_of(node), facts | more)})


def started() -> list[tuple[str, str, str]]:
    with transaction() as session:
        return [
            (c.kind, c.about, c.reason)
            for c in session.scalars(
                select(ChangeRow).where(ChangeRow.actor == BY_ITSELF).order_by(ChangeRow.id)
            )
        ]


def judge() -> None:
    watching.Watch()._judge()


def test_one_missed_answer_is_not_silence(barn_site: Site) -> None:
    heard("petrel", 1.0)
    watching.note_failure(number_of("petrel"), Unreachable("No answer within 2 s."))
    assert current_view().node("petrel").contact == "heard"
    silent_for("petrel", 3.5)
    node = current_view().node("petrel")
    assert (node.contact, node.reason, node.given_up) == ("silent", "No answer within 2 s.", False)


def test_nonsense_is_told_apart_from_silence_at_once(barn_site: Site) -> None:
    heard("petrel", 0.1)
    watching.note_failure(number_of("petrel"), Garbled("The answer is not JSON but text/html."))
    assert current_view().node("petrel").contact == "garbled"


def test_since_counts_from_the_last_report_and_survives_a_change_of_reason(barn_site: Site) -> None:
    silent_for("petrel", 10.0)
    since = current_view().node("petrel").since
    assert datetime.now(UTC).timestamp() - since == pytest.approx(10.0, abs=2.0)
    watching.note_failure(number_of("petrel"), Unreachable("Nothing listens at its address."))
    node = current_view().node("petrel")
    assert (node.since, node.reason) == (since, "Nothing listens at its address.")


@pytest.mark.parametrize(("seconds", "given_up"), [(15.0, False), (31.0, True)])
def test_a_node_is_given_up_after_its_grace_time_and_not_before(
    barn_site: Site, seconds: float, given_up: bool
) -> None:
    silent_for("petrel", seconds)
    watching.give_up()
    assert current_view().node("petrel").given_up is given_up


@pytest.mark.pooled
def test_a_rebuild_starts_once_when_a_node_with_data_is_given_up(barn_site: Site) -> None:
    barn_site.volume()
    silent_for("petrel", 31.0)
    barn_site.yard.machines.power["petrel"] = False
    judge()
    judge()
    assert started() == [("rebuild", "quayside", "75 strips lie on disks that are given up.")]


def test_nothing_starts_where_nothing_can_be_mended(barn_site: Site) -> None:
    barn_site.pool(disks=barn_site.disks(nodes=("fulmar", "petrel", "kittiwake")), headroom=None)
    barn_site.volume()
    silent_for("petrel", 31.0)
    judge()
    assert started() == []
    outlook = site.outlook()
    assert outlook.volume(0).reason.endswith(
        "It cannot be made whole as things are. 100 strips of charts have no place: it needs 3 "
        "racks, 2 racks take strips."
    )


@pytest.mark.pooled
def test_a_returning_node_is_heard_and_its_pools_are_looked_at(barn_site: Site) -> None:
    barn_site.volume()
    silent_for("petrel", 31.0)
    watching.give_up()
    report(barn_site, "petrel")
    node = current_view().node("petrel")
    assert (node.contact, node.given_up, node.reason) == ("heard", False, "")
    judge()
    assert started() == [("rebuild", "quayside", "petrel is back.")]
    with transaction() as session:
        change = session.scalars(select(ChangeRow.id).where(ChangeRow.kind == "rebuild")).one()
    run_change(change)
    with transaction() as session:
        assert session.scalars(select(PoolRow.look_reason)).one() == ""
    judge()
    assert len(started()) == 1


@pytest.mark.pooled
def test_a_node_back_within_its_grace_time_starts_nothing(barn_site: Site) -> None:
    barn_site.volume()
    silent_for("petrel", 10.0)
    report(barn_site, "petrel")
    judge()
    assert started() == []


@pytest.mark.pooled
def test_a_pulled_disk_is_missing_and_given_up_in_its_turn(barn_site: Site) -> None:
    barn_site.volume()
    serial = current_view().disk("petrel-3").serial
    barn_site.yard.machines.pulled.add(serial)
    report(barn_site, "petrel")
    disk = current_view().disk("petrel-3")
    assert (disk.present, disk.given_up, disk.pool) == (False, False, 0)
    with transaction() as session:
        session.execute(
            update(DiskRow)
            .where(DiskRow.serial == serial)
            .values(missing_since=datetime.now(UTC) - timedelta(seconds=31))
        )
    judge()
    assert current_view().disk("petrel-3").given_up
    assert [s[:2] for s in started()] == [("rebuild", "quayside")]
    barn_site.yard.machines.pulled.clear()
    report(barn_site, "petrel")
    disk = current_view().disk("petrel-3")
    assert (disk.present, disk.given_up) == (True, False)


def test_counters_become_rates_and_a_reset_gives_none(barn_site: Site) -> None:
    serial = current_view().disk("petrel-1").serial

    def rates() -> tuple[float | None, float | None]:
        return site.disk_work()["petrel-1"]

    report(barn_site, "petrel", disks={serial: {"read_bytes": 1000, "written_bytes": 0}})
    assert rates() == (None, None)
    with transaction() as session:
        session.execute(update(DiskWorkRow).values(at=datetime.now(UTC) - timedelta(seconds=2)))
    report(barn_site, "petrel", disks={serial: {"read_bytes": 5000, "written_bytes": 800}})
    read, written = rates()
    assert read == pytest.approx(2000, rel=0.2)
    assert written == pytest.approx(400, rel=0.2)
    with transaction() as session:
        session.execute(update(DiskWorkRow).values(at=datetime.now(UTC) - timedelta(seconds=2)))
    report(barn_site, "petrel", disks={serial: {"read_bytes": 10, "written_bytes": 800}})
    assert rates() == (None, 0.0)


@pytest.mark.pooled
def test_each_round_is_noted_by_the_databases_clock_and_one_that_fails_is_not(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:

    def long_ago() -> float:
        with transaction() as session:
            session.execute(update(SiteRow).values(watched_at=func.now() - timedelta(seconds=60)))
        return site.outlook().unwatched

    assert long_ago() == pytest.approx(60, abs=5)
    assert site.outlook().headline()[0].startswith("Nobody has kept watch for ")
    watch = watching.Watch()
    run_async(watch.look(0))
    assert site.outlook().unwatched < 30
    assert site.outlook().headline()[0] == "Every byte is readable."
    long_ago()
    told = []
    with monkeypatch.context() as patch:
        patch.setattr(watching, "give_up", lambda: 1 / 0)
        patch.setattr(watching, "try_again", lambda: told.append(1))
        with transaction() as session:
            announce(session, "site")
        watch.judge_at = 0.0
        run_async(watch.look(0))
    assert site.outlook().unwatched > 30
    assert told  # one that fails keeps no other from its turn
    with transaction() as session:
        assert [(d.name, d.problem) for d in duties.failing(session)] == [
            ("give up what is away for too long", "ZeroDivisionError")
        ]


def test_each_round_of_duties_tells_of_its_own_and_what_is_no_more_is_forgotten(barn_site: Site) -> None:
    def told() -> dict[str, str]:
        with transaction() as session:
            return {row.name: row.problem for row in duties.all_figures(session)}

    first, second = (
        Round((Duty("one", 1.0, lambda: None), Duty("two", 1.0, lambda: bool(1 / 0)))),
        Round((Duty("three", 1.0, lambda: None),)),
    )
    first.go(1)
    second.go(1)
    assert told() == {"one": "", "two": "ZeroDivisionError", "three": ""}
    with transaction() as session:
        session.execute(
            update(DutyRow).where(DutyRow.name == "two").values(at=func.now() - timedelta(hours=1))
        )
    second.reported_at = 0.0
    second.go(1)
    assert told() == {"one": "", "three": ""}


def test_who_is_slow_to_answer_holds_up_nobody_elses_report_and_is_not_asked_twice(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    slow, quick = number_of("petrel"), number_of("dunlin")
    asked = []
    answers = {"quick"}

    async def report_of(protocol: str, url: str, known: str, seconds: float, turn: object) -> Report:
        asked.append((url, seconds))
        while url not in answers:
            await asyncio.sleep(0.01)
        return NOTHING_NEW

    async def rounds() -> list[set[int]]:
        watch = watching.Watch(judge_at=float("inf"))
        watch.agents, watch.revision = {slow: "slow", quick: "quick"}, 0
        took = []
        monkeypatch.setattr(watching.Watch, "_take", lambda self, answers: took.append(set(answers)))
        await watch.look(0)
        await watch.look(0)  # both would be due again; the slow one's question is still under way
        answers.add("slow")
        while not any(slow in round_ for round_ in took):
            await watch.look(0)
        return took

    monkeypatch.setattr(agents, "_ask_report", report_of)
    monkeypatch.setattr(watching, "ANSWERS_SECONDS", 0.05)
    heard = run_async(rounds())
    assert heard[:2] == [{quick}, {quick}]
    assert slow in heard[-1]
    assert [url for url, _ in asked].count("slow") == 1


def test_nodes_are_heard_while_the_duties_think_and_the_watch_is_not_let_go_of_until_they_have(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    thought, over = Event(), Event()
    thinking, rounds = [], []

    def think(self: watching.Watch) -> None:
        thinking.append(len(rounds))
        thought.wait(timeout=60)
        over.set()

    async def hear(self: watching.Watch, revision: int) -> None:
        rounds.append(revision)

    async def keep() -> None:
        kept = asyncio.create_task(watching.Watch().run())
        while len(rounds) < 5:
            await asyncio.sleep(0.01)
        kept.cancel()
        await asyncio.sleep(0.1)
        assert not kept.done()  # another that keeps watch would judge beside this one
        thought.set()
        with suppress(asyncio.CancelledError):
            await kept

    monkeypatch.setattr(watching.Watch, "_judge", think)
    monkeypatch.setattr(watching.Watch, "_hear", hear)
    monkeypatch.setattr(watching, "TICK_SECONDS", 0.01)
    monkeypatch.setattr(watching, "JUDGE_SECONDS", 0.0)
    run_async(keep())
    assert thinking == [1]  # once, though due all the time: it was not done yet
    assert over.is_set()


def test_one_unanswered_question_is_enough_to_tell_silence_within_its_time() -> None:
    now, heard_at = 1000.0, 998.6
    counts_at = heard_at + settings().silent_seconds - settings().poll_seconds / 2
    # Asked when its turn came, it runs out of time when it counts, and is taken by the round after that.
    asked_at = heard_at + settings().poll_seconds + watching.TICK_SECONDS
    runs_out = asked_at + watching._patience()
    assert counts_at <= runs_out <= heard_at + settings().silent_seconds - watching.TICK_SECONDS
    # Refused at once: asked again when it counts, and not later.
    refused = watching._Pause(heard_at=heard_at, failures=1)
    assert watching._asked_again(refused, now) == pytest.approx(counts_at)
    # Silent for long: ever more rarely.
    lost = [watching._asked_again(watching._Pause(heard_at=0.0, failures=n), now) - now for n in (1, 2, 9)]
    assert lost == pytest.approx([1.5, 2.25, settings().longest_pause_seconds])


def test_most_nodes_silent_at_once_are_asked_once_more_before_they_count(barn_site: Site) -> None:
    view = current_view()
    numbers = [n.number for n in view.nodes]
    lost = Unreachable("No answer within 1.5 s.")

    def after(answers: dict[int, Report | Unreachable], times: int = 1) -> set[str]:
        """Nodes that are shown as silent after so many rounds with these answers."""
        for node in view.nodes:
            heard(node.name, seconds_ago=2.6)
        watch = watching.Watch()
        watch.agents = dict.fromkeys(numbers, "")
        asked_at = time.monotonic() - 2.6
        watch.pauses = {n: watching._Pause(heard_at=asked_at) for n in numbers}
        for _ in range(times):
            watch._take(answers)
        shown = {n.name for n in current_view().nodes if n.contact == Contact.SILENT}
        with transaction() as session:
            session.execute(update(NodeRow).values(contact="heard"))
            announce(session, "site")
        return shown

    one = view.nodes[0]
    others = {n: NOTHING_NEW for n in numbers if n != one.number}
    assert after({one.number: lost, **others}) == {one.name}
    assert after(dict.fromkeys(numbers, lost)) == set()
    assert after(dict.fromkeys(numbers, lost), times=2) == {n.name for n in view.nodes}


def test_a_report_that_says_the_same_is_looked_at_again_where_someone_asked_for_that(barn_site: Site) -> None:
    watch = watching.Watch(judge_at=float("inf"))
    found = {name: number_of(name) for name in ("petrel", "dunlin", "skua", "gannet")}
    watch.agents = dict.fromkeys(found.values(), "")
    watch.pauses = {n: watching._Pause() for n in watch.agents}
    machines = barn_site.yard.machines

    def says(name: str) -> Report:
        facts = {"inventory_version": agent.inventory_version(machines, name), "uptime": 1.0}
        return Report(facts | agent.counters(machines, name), tag="as before")

    watch._take({number: says(name) for name, number in found.items()})
    with transaction() as session:
        nodes.owe(session, [found["petrel"]])
        nodes.ask_inventory(session, [found["dunlin"]])
        session.execute(update(NodeRow).where(NodeRow.name == "skua").values(contact="silent"))
        announce(session, "site")
    watch._know(watching._agents())
    kept = {name for name, number in found.items() if watch.pauses[number].noted is not None}
    assert kept == {"gannet"}
    assert {watch.pauses[n].tag for name, n in found.items() if name not in kept} == {""}
    assert watch.pauses[found["gannet"]].tag == "as before"
    watch._take({number: says(name) for name, number in found.items()})
    with transaction() as session:
        left = watching._agents()
        assert not any(left[n].owes or not left[n].version for n in found.values())


def test_clocks_that_become_known_one_by_one_are_told_together(barn_site: Site) -> None:
    machines = barn_site.yard.machines
    stand_still(machines)  # disks wear as time passes, and that would be news too
    watch = watching.Watch(judge_at=float("inf"), count_at=float("inf"))
    names = {number_of(name): name for name in ("petrel", "dunlin")}
    watch.agents = dict.fromkeys(names, "")
    watch.pauses = {n: watching._Pause() for n in names}

    def says(name: str, **more: float) -> Report:
        facts = {"inventory_version": agent.inventory_version(machines, name), "uptime": 1.0}
        return Report(facts | agent.counters(machines, name) | more)

    watch._take({number: says(name) for number, name in names.items()})
    with transaction() as session:
        session.execute(update(NodeRow).values(clock_offset=None))
        announce(session, "site")
    before = current_view().revision
    fresh = {n: says(name, clock_offset=0.0, clock_error=0.01) for n, name in names.items()}
    watch._take(fresh)
    assert current_view().revision == before
    watch._tell_clocks()
    assert current_view().revision == before + 1
    assert {current_view().node(name).clock_offset for name in names.values()} == {0.0}
    assert not watch.put_off


def test_a_disk_at_rest_is_marked_as_asked_so_that_its_next_rate_is_of_the_last_moment(
    barn_site: Site,
) -> None:
    serial = current_view().disk("petrel-1").serial

    def asked(ago: int, read: int) -> float | None:
        with transaction() as session:
            session.execute(update(DiskWorkRow).values(at=datetime.now(UTC) - timedelta(seconds=ago)))
        report(barn_site, "petrel", disks={serial: {"read_bytes": read, "written_bytes": 0}})
        return site.disk_work()["petrel-1"][0]

    assert [asked(0, 7000), asked(10, 7000), asked(1000, 7000)] == [None, 0.0, 0.0]
    assert asked(1, 9000) == pytest.approx(2000, rel=0.2)
    assert asked(1, 9000) == 0.0
    with transaction() as session:
        session.execute(update(NodeRow).where(NodeRow.name == "petrel").values(contact="silent"))
    assert "petrel-1" not in site.disk_work()  # what it did last says nothing of now


@pytest.mark.parametrize(
    "nonsense",
    [
        {"disks": 5},
        {"disks": {"x": 5}},
        {"disks": {"x": {"read_bytes": 1}}},
        {"disks": {"x": {"read_bytes": -1, "written_bytes": 0}}},
        {"disks": {"x": {"read_bytes": 10**30, "written_bytes": 0}}},
        {"disks": {"x": {"read_bytes": float("nan"), "written_bytes": 0}}},
        {"plies": ["x"]},
        {"plies": {"one": 5}},
        {"plies": {"1": "5"}},
    ],
)
def test_counters_that_are_none_are_refused_and_harm_no_other_node(barn_site: Site, nonsense: Any) -> None:
    numbers = [number_of("petrel"), number_of("dunlin")]
    version = agent.inventory_version(barn_site.yard.machines, "dunlin")
    watch = watching.Watch()
    watch.agents = dict.fromkeys(numbers, "")
    watch.pauses = {n: watching._Pause() for n in numbers}
    good = {"inventory_version": version, "uptime": 1.0}
    watch._take({numbers[0]: Report({"inventory_version": "new"} | nonsense), numbers[1]: Report(good)})
    with transaction() as session:
        petrel, dunlin = (session.get_one(NodeRow, n) for n in numbers)
        assert (petrel.contact, dunlin.contact) == ("garbled", "heard")
        assert petrel.reason.startswith("Its report ")


def test_a_report_without_a_version_or_of_another_node_is_refused(barn_site: Site) -> None:
    with pytest.raises(NotPossible, match="names no version"):
        watching.note_report(number_of("petrel"), {})
    with transaction() as session:
        session.execute(
            update(NodeRow).where(NodeRow.name == "petrel").values(agent_url=barn_site.yard.agent("dunlin"))
        )
    with pytest.raises(NotPossible, match="It says it is dunlin"):
        watching.note_report(number_of("petrel"), {"inventory_version": "other"})


def test_announcing_twice_is_once_and_a_name_is_not_taken_over(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = len(current_view().nodes)
    assert intake.welcome_agent(barn_site.yard.agent("petrel")) == "petrel"
    assert len(current_view().nodes) == before
    monkeypatch.setattr(
        intake.Agent, "inventory", lambda self: agent.inventory(barn_site.yard.machines, "petrel")
    )
    with pytest.raises(Conflict, match="Its node reports already, from another address"):
        intake.welcome_agent("http://127.0.0.1:1/agents/petrel")
    silent_for("petrel", 31.0)
    assert (
        intake.welcome_agent("http://127.0.0.1:1/agents/petrel") == "petrel"
    )  # a silent node may have moved


@pytest.mark.pooled
def test_verdicts_follow_the_reports_and_leave_pooled_disks_their_role(barn_site: Site) -> None:
    machines = barn_site.yard.machines
    machines.disks[current_view().disk("skua-1").serial].signature = "xfs"
    machines.disks[current_view().disk("skua-3").serial].signature = ""
    report(barn_site, "skua")
    report(barn_site, "petrel")
    view = current_view()
    assert (view.disk("skua-1").role, view.disk("skua-1").why) == (
        "unfit",
        ["it carries a file-system signature (xfs)"],
    )
    assert view.disk("skua-3").role == "unclaimed"
    assert view.disk("petrel-1").role == "capacity"


@pytest.mark.parametrize("seconds", [0.0, -1.0, 8 * 86_400.0])
def test_a_grace_time_out_of_bounds_is_refused(database: str, seconds: float) -> None:
    with pytest.raises(NotPossible, match="between 1 second and 7 days"):
        site.set_grace(ME, seconds)


def test_a_silent_witness_is_noticed_and_heard_again(barn_site: Site) -> None:
    for name in barn_site.yard.machines.nodes:
        report(barn_site, name)
    witness = {"witness": "lamp-room", "witness_url": f"{barn_site.yard.url}/witness/lamp-room"}
    number = barn_site.do(
        "form-cluster",
        name="quay",
        members=["fulmar", "kittiwake"],
        keepers=["fulmar", "kittiwake"],
        service_address="10.10.0.5/24",
        **witness,
    )
    assert barn_site.state(number) == "done"
    for name in ("fulmar", "kittiwake"):
        report(barn_site, name, cluster=council.describe(barn_site.yard.machines, name))
    watching.note_witness()
    assert [a.name for a in site.outlook().attention() if a.kind == "cluster"] == []
    barn_site.yard.machines.power["lamp-room"] = False
    watching.note_witness()
    found = next(a for a in site.outlook().attention() if a.kind == "cluster")
    assert (found.title, found.sentence) == (
        "quay is short of votes",
        "2 of 3 votes can be heard, 2 decide: lamp-room silent, none may be lost.",
    )
    barn_site.yard.machines.power["lamp-room"] = True
    watching.note_witness()
    assert current_view().cluster is not None
    assert current_view().cluster.witness_silent == ""  # type: ignore[union-attr]


def test_mail_tells_of_the_forming_and_of_every_new_leader_once(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    box, port = PostBox(), free_port()
    monkeypatch.setenv("FOLDBARN_MAIL_HOST", f"127.0.0.1:{port}")
    settings.cache_clear()
    post = open_post(box, port)
    three = ["fulmar", "petrel", "kittiwake"]

    def hear() -> None:
        for name in three:
            report(barn_site, name, cluster=council.describe(barn_site.yard.machines, name))

    try:
        hear()
        wish = {
            "name": "quay",
            "members": three,
            "keepers": three,
            "service_address": "10.10.0.5/24",
            "mail_to": "storage@skerry.example",
        }
        assert barn_site.state(barn_site.do("form-cluster", **wish)) == "done"
        for leader in ("fulmar", "petrel", "petrel"):
            barn_site.yard.machines.council.leader = leader
            barn_site.yard.machines.council.term += 1
            hear()
            watching.tell_who_leads()
            watching.tell_who_leads()  # another process, or this one started anew
    finally:
        post.stop()
    assert [(m["to"], m["subject"]) for m in box.messages] == [
        ("storage@skerry.example", "quay is formed"),
        ("storage@skerry.example", "petrel leads quay"),
    ]


def test_mail_that_nobody_takes_does_not_undo_a_cluster(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("FOLDBARN_MAIL_HOST", "127.0.0.1:1")
    settings.cache_clear()
    three = ["fulmar", "petrel", "kittiwake"]
    number = barn_site.do(
        "form-cluster",
        name="quay",
        members=three,
        keepers=three,
        service_address="10.10.0.5/24",
        mail_to="storage@skerry.example",
    )
    assert barn_site.state(number) == "done"
    with transaction() as session:
        told = session.scalars(
            select(StepRow).where(StepRow.change_id == number, StepRow.name == "tell")
        ).one()
    assert told.outcome.startswith("The mail server 127.0.0.1 did not take the message")
