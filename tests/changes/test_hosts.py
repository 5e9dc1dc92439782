"""Hosts and attachments, against real nodes and stand-in hosts: what is said to be missing is done there, and
found out by looking.
"""

from __future__ import annotations

import pytest
from conftest import ME, Site, begun, run_async
from test_changes import find_again, lose
from test_policies import refusals
from told import in_words
from walking import attach, lane, look, register, type_there, walk

from foldbarn.changes.engine.effects import Promise, Texts
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.errors import NotPossible, Unreachable
from foldbarn.core.hosts.lanes import Gate, Passage, Step
from foldbarn.core.site import Contact
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp
from foldbarn.links.agents import Report
from foldbarn.services import changes
from foldbarn.services.hosts import HostTaker, move_gateways
from foldbarn.services.limits import tell_targets
from foldbarn.store import hosts
from foldbarn.store.database import announce, transaction
from foldbarn.store.views import current_view
from foldbarn.yard import hosts as yard_hosts
from foldbarn.yard import shell

pytestmark = pytest.mark.pooled
ISCSI = [Gate.INITIATOR, Gate.DISCOVERED, Gate.CONNECTED, Gate.MULTIPATH]
NVME = [Gate.INITIATOR, Gate.DISCOVERED, Gate.CONNECTED]
LAST = [Gate.FILE_SYSTEM, Gate.MOUNTED, Gate.KEPT]


def as_used(site: Site) -> None:
    """charts is attached to slipway, and mounted there."""
    site.volume(size="10 GiB")
    register(site, "slipway")
    attach(site, "charts", "slipway", file_system="xfs")
    walk(site, "slipway")


used = begun(as_used)


def test_what_is_said_to_be_missing_is_all_it_takes(barn_site: Site) -> None:
    barn_site.volume(size="10 GiB")
    register(barn_site, "slipway")
    attach(barn_site, "charts", "slipway", file_system="xfs")
    assert walk(barn_site, "slipway") == [*ISCSI, *LAST]
    found = lane("slipway")
    assert (found.live, len(found.paths), found.mounted) == (4, 4, "/srv/charts")
    assert {step.passage for step in found.steps} == {Passage.PASSED}


@pytest.mark.parametrize(
    ("wish", "gates"),
    [
        ({"transport": "nvme", "file_system": "ext4", "at": "/data"}, [*NVME, *LAST]),
        ({"file_system": "none"}, [*ISCSI, Gate.KEPT]),
        ({"transport": "nvme"}, [*NVME, Gate.KEPT]),
        ({"file_system": "gfs2"}, [*ISCSI, Gate.CLUSTER, *LAST]),
    ],
)
def test_each_way_of_using_a_volume_is_walked_to_its_end(
    barn_site: Site, wish: dict[str, str], gates: list[Gate]
) -> None:
    barn_site.volume(size="10 GiB")
    register(barn_site, "slipway")
    attach(barn_site, "charts", "slipway", **wish)
    assert walk(barn_site, "slipway") == gates
    as_block = wish.get("file_system", "none") == "none"
    assert lane("slipway").mounted == ("" if as_block else wish.get("at", "/srv/charts"))


def test_a_group_shares_a_file_system_that_one_of_them_makes(barn_site: Site) -> None:
    barn_site.volume("desks", size="10 GiB")
    names = ("ferry-desk-1", "ferry-desk-2")
    register(barn_site, *names, group="ferry-desks")
    attach(barn_site, "desks", "ferry-desks", file_system="gfs2")
    assert walk(barn_site, names[0], "desks") == [*ISCSI, Gate.CLUSTER, *LAST]
    # What the first has made the second finds there.
    assert walk(barn_site, names[1], "desks") == [*ISCSI, Gate.CLUSTER, Gate.MOUNTED, Gate.KEPT]
    assert len(barn_site.yard.machines.made) == 1
    register(barn_site, "ferry-desk-3", group="ferry-desks")
    attach(barn_site, "desks", "ferry-desks")  # only who is new is attached
    look(barn_site)
    third = lane("ferry-desk-3", "desks").missing
    assert third is not None
    assert third.gate == Gate.INITIATOR
    type_there(barn_site, "ferry-desk-3", *third.commands)
    look(barn_site)
    third = lane("ferry-desk-3", "desks").missing
    assert third is not None
    assert third.gate == Gate.DISCOVERED
    assert third.reason.startswith("Discovery is not set up there: ferry-desk-3 has no record of it at ")


def test_who_may_only_read_mounts_it_so_and_cannot_write(barn_site: Site) -> None:
    barn_site.volume(size="10 GiB")
    register(barn_site, "slipway", "chart-plotter")
    attach(barn_site, "charts", "slipway", file_system="xfs")
    walk(barn_site, "slipway")
    notes = changes.preview("attach-volume", {"volume": "charts", "hosts": ["chart-plotter"]})
    assert [b.sentence for b in notes.blockers] == ["2 hosts would write to one xfs, which destroys it."]
    read = {"volume": "charts", "hosts": ["chart-plotter"], "read_only": True}
    assert [w.code for w in changes.preview("attach-volume", read).warnings] == ["reads-stale"]
    attach(barn_site, "charts", "chart-plotter", read_only=True)
    # One of its cables is out, so half of its paths are lost; it reaches the volume all the same.
    assert walk(barn_site, "chart-plotter") == [*ISCSI, Gate.MOUNTED, Gate.KEPT]
    found = lane("chart-plotter")
    assert (found.live, len(found.paths)) == (2, 4)
    assert {path.reason for path in found.paths if not path.live} == {
        "Port stor1 of chart-plotter, which leads there, is down."
    }
    device = found.seen.device if found.seen else ""
    with pytest.raises(shell.Failed, match="write-protected"):
        type_there(barn_site, "chart-plotter", f"mount {device} /mnt/x")
    with pytest.raises(shell.Failed, match="mounted filesystem"):
        type_there(barn_site, "chart-plotter", f"mkfs.xfs {device}")


def test_what_is_mounted_is_neither_detached_nor_deleted_nor_taken_offline(used: Site) -> None:
    wish = {"volume": "charts", "hosts": ["slipway"]}
    assert refusals("detach-volume", **wish) == ["slipway has charts mounted at /srv/charts."]
    why = "slipway has charts mounted at /srv/charts."
    assert why in refusals("delete-volume", volume="charts", typed="charts")
    assert refusals("offline-volume", volume="charts") == [why]
    assert refusals("delete-host", host="slipway") == ["charts is attached to it."]
    [blocker] = changes.preview("detach-volume", wish).blockers
    assert (blocker.next_step or "").startswith("On slipway, run: umount /srv/charts; ")
    # As it is said how to let go of it, it is let go of.
    [first] = [p for p in changes.preview("detach-volume", wish).every(Promise) if "slipway" in p.title]
    type_there(used, "slipway", *first.sentence.split("; "))
    look(used)
    host = used.yard.machines.hosts["slipway"]
    assert not host.connected and not host.mounts and not host.table and not host.nodes  # noqa: PT018
    number = used.do("detach-volume", **wish)
    assert used.state(number) == "done"
    assert current_view().targets == ()
    with pytest.raises(shell.Failed, match="offers nothing to this host"):
        type_there(used, "slipway", "iscsiadm -m discovery -t sendtargets -p 10.20.0.11:3260")
    assert used.state(used.do("delete-host", host="slipway")) == "done"
    assert current_view().hosts == ()


def test_deleted_it_is_served_to_nobody_and_comes_back_attached(used: Site) -> None:
    type_there(used, "slipway", "umount /srv/charts")
    look(used)
    preview = changes.preview("delete-volume", {"volume": "charts", "typed": "charts"})
    rows = [row for text in preview.every(Texts) for row in text.rows if row.label == "slipway"]
    assert [row.before for row in rows] == ["connected by 4 of 4 paths"]
    used.do("delete-volume", volume="charts", typed="charts")
    look(used)
    found = lane("slipway")
    assert found.live == 0
    assert found.steps[0].reason == "charts is in the bin: its nodes serve none of it."
    assert not any(serving["targets"] for serving in used.yard.machines.serving.values())
    used.do("restore-volume", volume="charts")
    look(used)
    assert lane("slipway").live == 4  # its kernel has tried all the while
    assert walk(used, "slipway") == [Gate.MOUNTED]
    used.do("rename-volume", volume="charts", name="maps")
    look(used)
    assert lane("slipway", "maps").mounted == "/srv/charts"


def test_the_bin_is_emptied_of_a_volume_with_its_attachments(used: Site) -> None:
    type_there(used, "slipway", "umount /srv/charts")
    look(used)
    used.erase("charts")
    look(used)
    assert current_view().targets == ()
    assert used.state(used.do("delete-host", host="slipway")) == "done"


def test_growing_tells_the_host_its_step_before_and_after(used: Site) -> None:
    preview = changes.preview("grow-volume", {"volume": "charts", "size": "20 GiB"})
    [then] = [p for p in preview.every(Promise) if p.title == "Then, on slipway"]
    used.do("grow-volume", volume="charts", size="20 GiB")
    look(used)
    step = lane("slipway").missing
    assert step is not None
    assert step.gate == Gate.GROWN
    assert "; ".join(step.commands) == then.sentence
    assert walk(used, "slipway") == [Gate.GROWN]
    [made] = used.yard.machines.made.values()
    assert made.bytes > 0.9 * 20 * 2**30


def test_after_a_loss_of_power_it_comes_back_by_itself_where_that_was_seen_to(used: Site) -> None:
    machines = used.yard.machines
    host = machines.hosts["slipway"]
    yard_hosts.lose_power(host)
    look(used)
    assert lane("slipway").live == 0
    yard_hosts.start(machines, host)
    look(used)
    assert (lane("slipway").mounted, lane("slipway").live) == ("/srv/charts", 4)
    # Without its line in the table of file systems it does not.
    type_there(used, "slipway", "sed -i '\\#[[:space:]]/srv/charts[[:space:]]#d' /etc/fstab")
    look(used)
    step = lane("slipway").missing
    assert step is not None
    assert (step.gate, step.reason) == (
        Gate.KEPT,
        "When the host starts anew, /etc/fstab does not name it.",
    )
    yard_hosts.lose_power(host)
    yard_hosts.start(machines, host)
    look(used)
    assert (lane("slipway").mounted, lane("slipway").live) == ("", 4)
    assert Gate.MOUNTED in walk(used, "slipway")


@pytest.mark.parametrize(
    ("undo", "comes_back"),
    [
        ("", True),
        ("systemctl disable iscsid", False),
        ("systemctl disable multipathd", False),
        ("iscsiadm -m node -o update -n node.startup -v manual", False),
        ("sed -i '\\#[[:space:]]/srv/charts[[:space:]]#d' /etc/fstab", False),
    ],
)
def test_that_it_comes_back_when_the_host_starts_anew_is_as_it_turns_out(
    used: Site, undo: str, comes_back: bool
) -> None:
    machines = used.yard.machines
    if undo:
        type_there(used, "slipway", undo)
    look(used)
    before = lane("slipway")
    assert (before.missing is None) == comes_back
    yard_hosts.lose_power(machines.hosts["slipway"])
    yard_hosts.start(machines, machines.hosts["slipway"])
    look(used)
    after = lane("slipway")
    assert ((after.mounted, after.live, bool(after.seen and after.seen.map)) == ("/srv/charts", 4, True)) == (
        comes_back
    )
    walk(used, "slipway")  # and whatever was undone, what is said then mends it
    assert (lane("slipway").mounted, lane("slipway").live) == ("/srv/charts", 4)


def test_of_hosts_that_see_a_bare_volume_together_one_makes_the_file_system(barn_site: Site) -> None:
    barn_site.volume("desks", size="10 GiB")
    names = ("ferry-desk-1", "ferry-desk-2")
    register(barn_site, *names, group="ferry-desks")
    attach(barn_site, "desks", "ferry-desks", file_system="gfs2")
    for name in names:
        while (step := _next(barn_site, name)).gate != Gate.FILE_SYSTEM:
            type_there(barn_site, name, *step.commands)
    first, second = (_next(barn_site, name) for name in names)
    assert first.commands[0].startswith("mkfs.gfs2 ")
    assert second.reason == "It carries none yet; ferry-desk-1 is to make gfs2 on it."
    type_there(barn_site, names[0], *first.commands)
    [made] = [one.uuid for one in barn_site.yard.machines.made.values()]
    second = _next(barn_site, names[1])  # which believes still that nothing lies there
    assert (
        second.reason
        == "ferry-desk-1 tells that something lies on it, and ferry-desk-2 has not looked since."
    )
    assert walk(barn_site, names[1], "desks") == [Gate.FILE_SYSTEM, Gate.MOUNTED, Gate.KEPT]
    assert [one.uuid for one in barn_site.yard.machines.made.values()] == [made]


def _next(site: Site, host: str) -> Step:
    look(site)
    step = lane(host, "desks").missing
    assert step is not None
    return step


def test_a_line_that_names_a_device_is_doubted(used: Site) -> None:
    host = used.yard.machines.hosts["slipway"]
    host.table = [["/dev/sdb", "/srv/charts", "xfs", "_netdev"]]
    look(used)
    step = lane("slipway").missing
    assert step is not None
    assert "names it by a device that may be another then" in step.reason


def test_a_node_that_serves_it_is_lost_and_another_takes_its_place(used: Site) -> None:
    before = current_view().targets[0].gateways
    names = [current_view().node_numbered(number).name for number in before]
    lose(used, names[0], given_up=False)
    look(used)
    move_gateways()
    assert current_view().targets[0].gateways == before  # it may be back in a moment
    found = lane("slipway")
    assert found.live == 2
    assert [path.reason for path in found.paths if not path.live] == [f"{names[0]} is not heard."] * 2
    lose(used, names[0], given_up=True)
    move_gateways()
    after = current_view().targets[0].gateways
    assert len(after) == 2
    assert before[0] not in after
    assert before[1] in after
    look(used)
    lost = [path for path in lane("slipway").paths if not path.live]
    assert {path.node for path in lost} == {
        current_view().node_numbered(next(n for n in after if n != before[1])).name
    }
    for path in lost:
        type_there(used, "slipway", *path.commands)
    look(used)
    assert lane("slipway").live == 4
    find_again(used, names[0])
    look(used)
    tell_targets()
    assert used.yard.machines.serving[names[0]]["targets"] == {}  # it serves it no more


def test_it_is_served_by_as_many_nodes_as_are_set(used: Site) -> None:
    before = current_view().targets[0].gateways
    preview = changes.preview("set-volume", {"volumes": ["charts"], "serving_nodes": 3})
    assert ("Served to hosts by", "2 nodes", "3 nodes") in in_words(preview)
    [note] = preview.warnings
    used.do("set-volume", volumes=["charts"], serving_nodes=3)
    move_gateways()
    after = current_view().targets[0].gateways
    assert (after[:2], len(after)) == (before, 3)
    third = current_view().node_numbered(after[2]).name
    assert note.sentence == f"Its hosts have to log in at {third} too."
    look(used)
    assert (lane("slipway").live, lane("slipway").width) == (4, 6)
    for path in lane("slipway").paths:
        type_there(used, "slipway", *path.commands)
    look(used)
    assert lane("slipway").live == 6
    # Of fewer, those that were chosen first stay, and nobody is cut off.
    names = [current_view().node_numbered(number).name for number in after]
    preview = changes.preview("set-volume", {"volumes": ["charts"], "serving_nodes": 1})
    assert [note.sentence for note in preview.warnings] == [
        f"{names[1]} and {names[2]} let its hosts in no more, once they are connected to {names[0]}.",
        "One node serves it then: while that is away no host reaches it.",
    ]
    used.do("set-volume", volumes=["charts"], serving_nodes=1)
    move_gateways()
    assert current_view().targets[0].gateways == after[:1]
    look(used)
    assert (lane("slipway").live, lane("slipway").width, lane("slipway").mounted) == (2, 2, "/srv/charts")
    [note] = changes.preview("set-volume", {"volumes": ["charts"], "serving_nodes": 8}).warnings[1:]
    assert "nodes could serve it: those with disks of quayside" in note.sentence
    assert refusals("set-volume", volumes=["charts"], serving_nodes=9) == [
        "A volume is served to hosts by 1 to 8 nodes, not by 9."
    ]


def test_a_node_that_forgets_or_was_told_otherwise_is_told_anew(used: Site) -> None:
    machines = used.yard.machines
    name = current_view().node_numbered(current_view().targets[0].gateways[0]).name
    told = machines.serving[name]
    machines.serving[name] = {"order": "another", "targets": {}}
    look(used)
    assert machines.serving[name]["targets"] == told["targets"]
    assert lane("slipway").live == 4


def test_of_a_host_without_an_agent_what_its_nodes_see_is_known(barn_site: Site) -> None:
    barn_site.volume(size="10 GiB")
    register(barn_site, "slipway", agents=False)
    attach(barn_site, "charts", "slipway", file_system="xfs")
    look(barn_site)
    step = lane("slipway").missing
    assert step is not None
    assert step.gate == Gate.CONNECTED
    type_there(barn_site, "slipway", *step.commands)  # from the first to the last of what it takes
    look(barn_site)
    found = lane("slipway")
    assert (found.live, found.missing) == (4, None)
    assert found.untold is not None
    assert found.untold.gate == Gate.SEEN
    assert "maybe-mounted" in [
        note.code for note in changes.preview("delete-volume", {"volume": "charts"}).warnings
    ]
    wish = {"volume": "charts", "hosts": ["slipway"]}
    assert [note.code for note in changes.preview("detach-volume", wish).warnings] == ["maybe-mounted"]


def test_a_host_that_falls_silent_or_talks_nonsense_is_shown_so(used: Site) -> None:
    view = current_view()
    host = view.host("slipway")
    taker = HostTaker()
    taker.know(view.revision)
    url = host.agent_url
    taker.take({host.number: (url, Unreachable("No answer."))})
    assert current_view().host("slipway").contact == Contact.HEARD  # once is not enough
    taker.take({host.number: (url, Unreachable("No answer."))})
    assert current_view().host("slipway").contact == Contact.SILENT
    outlook = Outlook(current_view(), now=0.0, grace_seconds=30.0)
    assert outlook.host(current_view().host("slipway")).lamp == Lamp.NOT_HEARD
    assert lane("slipway").mounted == ""  # what it told is how it was, and not how it is
    # Another process has found it silent, and it has nothing new to say to us: it is asked for all of it.
    look(used)
    assert current_view().host("slipway").contact == Contact.HEARD
    taker.know(current_view().revision)
    taker.asked[host.number].next_at = 0.0  # its turn has come
    taker.take(run_async(taker.hear()))
    with transaction() as session:
        hosts.note_silent(session, host.number, url, Contact.SILENT, "No answer.")
        announce(session, "site")
    taker.know(current_view().revision)
    taker.take(run_async(taker.hear()))
    assert current_view().host("slipway").contact == Contact.HEARD
    taker.take({host.number: (url, Report({"protocol": "other"}))})
    assert current_view().host("slipway").contact == Contact.GARBLED
    taker.take({host.number: ("http://elsewhere", Report({}))})  # of an agent it has no more
    look(used)
    assert lane("slipway").mounted == "/srv/charts"


def test_what_takes_paths_away_says_whose(used: Site) -> None:
    first, second = (current_view().node_numbered(n).name for n in current_view().targets[0].gateways)
    port = {"nodes": [first], "port": "stor0", "start": "10.20.0.99/24"}
    [note] = changes.preview("address-ports", port).warnings
    assert (note.code, note.sentence) == ("loses-paths", "slipway reaches charts by paths that go.")
    assert changes.preview("address-ports", port | {"port": "mgmt0"}).warnings == []

    def told(*names: str) -> list[str]:
        found = changes.preview("retire", {"what": "node", "names": list(names)}).warnings
        return [note.sentence for note in found if note.code == "hosts-log-in"]

    other = next(n for n in ("petrel", "kittiwake") if n not in (first, second))
    assert told(other) == []
    assert told(first) == [f"{first} serves charts to slipway, until it has logged in elsewhere."]
    words = f"{first} and {second} serve charts to slipway, until it has logged in elsewhere."
    assert told(first, second) == [words]
    # And so it turns out: it keeps its paths until it has those that are shown then.
    number = used.do("retire", what="node", names=[first])
    assert used.state(number) == "done", used.problem(number)
    move_gateways()
    look(used)
    more = [path for path in lane("slipway").paths if not path.live]
    assert (lane("slipway").live, len(more)) == (4, 2)
    assert {path.node for path in more}.isdisjoint({first, second})
    for path in more:
        type_there(used, "slipway", *path.commands)
    look(used)
    move_gateways()
    look(used)
    assert (lane("slipway").live, lane("slipway").width) == (4, 4)
    assert first not in {path.node for path in lane("slipway").paths}


def test_withdrawn_before_its_end_nothing_is_attached_but_who_has_mounted_it_keeps_it(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.volume(size="10 GiB")
    register(barn_site, "slipway")
    wish = {"volume": "charts", "hosts": ["slipway"], "file_system": "xfs"}
    with monkeypatch.context() as patch:
        held_up = NotPossible("Held up.")
        where = "foldbarn.changes.kinds.hosts.attach_volume.tell_for_a_step"
        patch.setattr(where, lambda *_: (_ for _ in ()).throw(held_up))
        number = changes.carry_out(ME, "attach-volume", wish)
        run_change(number)
        assert barn_site.state(number) == "paused"
        walk(barn_site, "slipway")
        changes.ask(ME, number, "withdraw")
        run_change(number)
        assert barn_site.state(number) == "paused"
        assert "slipway has charts mounted at /srv/charts." in barn_site.problem(number)
        type_there(barn_site, "slipway", "umount /srv/charts")
        look(barn_site)
        changes.ask(ME, number, "withdraw")
        run_change(number)
    assert barn_site.state(number) == "withdrawn"
    assert current_view().targets == ()
    look(barn_site)
    assert not any(serving["targets"] for serving in barn_site.yard.machines.serving.values())


def held_up(patch: pytest.MonkeyPatch, kind: str) -> None:
    where = f"foldbarn.changes.kinds.hosts.{kind}.tell_for_a_step"
    patch.setattr(where, lambda *_: (_ for _ in ()).throw(NotPossible("Held up.")))


def test_a_detaching_is_withdrawn_only_where_the_host_may_be_attached_again(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.volume(size="10 GiB")
    register(barn_site, "slipway", "chart-plotter")
    attach(barn_site, "charts", "slipway", file_system="xfs")
    held_up(monkeypatch, "attach_volume")
    number = barn_site.do("detach-volume", volume="charts", hosts=["slipway"])
    assert (barn_site.state(number), current_view().targets) == ("paused", ())
    other = barn_site.do("attach-volume", volume="charts", hosts=["chart-plotter"], file_system="xfs")
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "paused"
    assert "2 hosts would write to one xfs, which destroys it." in barn_site.problem(number)
    changes.ask(ME, other, "withdraw")
    run_change(other)
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert (barn_site.state(other), barn_site.state(number)) == ("withdrawn", "withdrawn")
    [target] = current_view().targets
    assert [one.host for one in target.attachments] == [current_view().host("slipway").number]


def test_an_altering_is_withdrawn_only_where_nobody_has_its_old_names(
    used: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    old = [one.name for one in current_view().host("slipway").initiators]
    held_up(monkeypatch, "save_host")
    fresh = ["iqn.2019-04.example.skerry:slip"]
    number = used.do("save-host", host="slipway", name="slipway", initiators=fresh)
    taken = used.do("save-host", name="other", initiators=old)
    assert (used.state(number), used.state(taken)) == ("paused", "done")
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert used.state(number) == "paused"
    assert "other goes by " in used.problem(number)
    used.do("delete-host", host="other")
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert used.state(number) == "withdrawn"
    assert [one.name for one in current_view().host("slipway").initiators] == old


def test_two_at_once_attach_once_and_of_two_that_would_write_the_second_is_refused(barn_site: Site) -> None:
    barn_site.volume(size="10 GiB")
    register(barn_site, "slipway", "chart-plotter")
    wishes = [
        {"volume": "charts", "hosts": ["slipway"], "file_system": "xfs"},
        {"volume": "charts", "hosts": ["slipway"], "file_system": "xfs"},
        {"volume": "charts", "hosts": ["chart-plotter"], "file_system": "xfs"},
    ]
    numbers = [changes.carry_out(ME, "attach-volume", wish) for wish in wishes]
    for number in numbers:
        run_change(number)
    assert [barn_site.state(number) for number in numbers] == ["done", "done", "withdrawn"]
    assert barn_site.problem(numbers[2]) == "2 hosts would write to one xfs, which destroys it."
    [target] = current_view().targets
    assert len(target.attachments) == 1


def test_altered_and_withdrawn_a_host_is_as_it_was(used: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    before = current_view().host("slipway")
    wish = {"host": "slipway", "name": "slip", "initiators": ["iqn.2019-04.example.skerry:slip"]}
    preview = changes.preview("save-host", wish)
    assert [note.code for note in preview.warnings] == ["loses-paths"]
    where = "foldbarn.changes.kinds.hosts.save_host.tell_for_a_step"
    monkeypatch.setattr(where, lambda *_: (_ for _ in ()).throw(NotPossible("Held up.")))
    number = used.do("save-host", **wish)
    assert (used.state(number), current_view().host("slip").agent_url) == ("paused", "")
    changes.ask(ME, number, "withdraw")
    run_change(number)
    after = current_view().host("slipway")
    assert (after.initiators, after.agent_url) == (before.initiators, before.agent_url)
    look(used)
    assert lane("slipway").mounted == "/srv/charts"


def test_a_preview_says_who_reaches_it_how_and_by_whom_it_is_served(barn_site: Site) -> None:
    barn_site.volume(size="10 GiB")
    register(barn_site, "slipway")
    preview = changes.preview("attach-volume", {"volume": "charts", "hosts": ["slipway"], "read_only": True})
    assert in_words(preview) == [
        ("slipway", "does not reach it", "read-only by iSCSI, as a block device"),
    ]
    [served] = preview.every(Promise)
    number = barn_site.do("attach-volume", volume="charts", hosts=["slipway"], read_only=True)
    assert barn_site.state(number) == "done"
    look(barn_site)
    for path in lane("slipway").paths:
        assert path.node in served.sentence
        assert path.portal in served.sentence
    assert refusals("attach-volume", volume="charts", hosts=["slipway"]) == ["Nothing would be different."]
    for wish, says in (
        ({"hosts": []}, "Name a host, or a group of hosts."),
        ({"hosts": ["nobody"]}, "There is no host or group named 'nobody'."),
        ({"hosts": ["slipway"], "at": "/srv/x"}, "A block device is mounted nowhere."),
        ({"hosts": ["slipway"], "volume": "none"}, "There is no volume named 'none'."),
    ):
        assert refusals("attach-volume", **({"volume": "charts"} | wish)) == [says]  # type: ignore[arg-type]
