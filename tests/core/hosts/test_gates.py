"""The way of a volume to a host: gates, paths, and who serves it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import make_site

from foldbarn.core.errors import NotPossible
from foldbarn.core.hosts.attaching import against_attaching, check_place, host_wished, hosts_called
from foldbarn.core.hosts.attachments import Attachment, FileSystem, Serving, Target
from foldbarn.core.hosts.facts import Facts, Kept, Seen, from_kept, read_report, to_keep
from foldbarn.core.hosts.gateways import check_serving, choose_gateways, chosen_anew, portals_of
from foldbarn.core.hosts.initiators import Initiator, Transport, target_name, wwid
from foldbarn.core.hosts.lanes import Gate, Lane, Passage, _file_system, lanes_of, leaving
from foldbarn.core.machines.network import Port
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import Contact, Host, Rack, Room, SiteView, plain_volume
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp

MARK, OWN, SIZE = "a-site", "iqn.2019-04.example.skerry:slipway", 10 * 2**30
TARGET, DISK = target_name(Transport.ISCSI, MARK, 1), wwid(Transport.ISCSI, MARK, 1)
AT = "/srv/charts"
PORTALS = [f"10.2{n}.0.{node}:3260" for node in (1, 2) for n in (0, 1)]


def ports(node: int, purpose: str = "storage") -> tuple[Port, ...]:
    addresses = [(f"10.2{n}.0.{node}/24",) for n in (0, 1)]
    return tuple(Port(f"n{node}", f"stor{n}", purpose, True, 1, 9000, a) for n, a in enumerate(addresses))


def site(facts: Facts | None = None, *, contact: Contact = Contact.HEARD, live: int = 0) -> SiteView:
    """Four nodes in two rooms, and slipway, which charts is attached to, over n1 and n3; live: so many of its
    paths are connected. facts: what slipway tells; None for a host without an agent.
    """
    view = make_site([[[40], [40]], [[40], [40]]])
    nodes = [replace(node, ports=ports(node.number)) for node in view.nodes]
    lets_in = frozenset({(TARGET, OWN)})
    portals = [(0, f"10.2{n}.0.1") for n in (0, 1)] + [(1, f"10.2{n}.0.2") for n in (0, 1)]
    for row in (0, 1):
        mine = frozenset((TARGET, OWN, at) for node, at in portals[:live] if node == row)
        nodes[row] = replace(nodes[row], serving=Serving(lets_in, mine))
    host = Host(9, "slipway", "", (Initiator(Transport.ISCSI, OWN),))
    if facts is not None:
        host = replace(host, agent_url="http://slipway", contact=contact, facts=facts)
    return replace(
        view,
        mark=MARK,
        rooms=(Room(1, "A"), Room(2, "B")),
        racks=(Rack(1, "R1", 0), Rack(2, "R2", 1)),
        nodes=tuple(nodes),
        volumes=(
            plain_volume(1, "charts", 0, SIZE, mirror(2, Level.NODE), np.array([[1, 3]], dtype=np.int32)),
        ),
        hosts=(host,),
        targets=(Target(1, FileSystem.XFS, (1, 2), (Attachment(9, Transport.ISCSI, at=AT),)),),
    )


DONE = Facts(
    names=(OWN,),
    services=("iscsid", "multipathd"),
    enabled=("iscsid", "multipathd"),
    known=tuple((TARGET, at) for at in PORTALS),
    by_itself=tuple((TARGET, at) for at in PORTALS),
    disks=(Seen(DISK, ("/dev/sdb", "/dev/sdd"), SIZE, f"/dev/mapper/3{DISK[2:]}", "xfs", "u-1", SIZE, AT),),
    kept=(Kept("UUID=u-1", AT),),
)
# What each gate wants of it, from the first to the last.
STEPS = [
    replace(DONE, names=(), services=(), known=(), by_itself=(), disks=(), kept=()),
    replace(DONE, services=(), known=(), by_itself=(), disks=(), kept=()),
    replace(DONE, known=(), by_itself=(), disks=(), kept=()),
    replace(DONE, by_itself=(), disks=(), kept=()),
    replace(DONE, by_itself=(), disks=(), kept=()),
    replace(DONE, by_itself=(), disks=(Seen(DISK, ("/dev/sdb",), SIZE),), kept=()),
    replace(DONE, by_itself=(), disks=(Seen(DISK, ("/dev/sdb",), SIZE, "/dev/mapper/x"),), kept=()),
    replace(
        DONE, by_itself=(), disks=(Seen(DISK, ("/dev/sdb",), SIZE, "/dev/mapper/x", "xfs", "u-1"),), kept=()
    ),
    replace(DONE, by_itself=(), kept=()),
    replace(DONE, kept=()),
    DONE,
]
OPEN = [
    Gate.INITIATOR,
    Gate.INITIATOR,
    Gate.DISCOVERED,
    Gate.CONNECTED,
    Gate.SEEN,
    Gate.MULTIPATH,
    Gate.FILE_SYSTEM,
    Gate.MOUNTED,
    Gate.KEPT,
    Gate.KEPT,
    None,
]


def lane(view: SiteView) -> Lane:
    [found] = lanes_of(view)
    return found


@pytest.mark.parametrize("done", range(len(STEPS)))
def test_each_gate_opens_after_the_one_before(done: int) -> None:
    found = lane(site(STEPS[done], live=4 if done >= 4 else 0))
    assert (found.missing.gate if found.missing else None) == OPEN[done]
    after = [step.passage for step in found.steps]
    if OPEN[done] is not None:
        place = next(i for i, step in enumerate(found.steps) if step.gate == OPEN[done])
        assert set(after[:place]) == {Passage.PASSED}
        assert found.steps[place].commands
        assert all(step.passage in (Passage.AFTER, Passage.PASSED) for step in found.steps[place + 1 :])
    else:
        assert set(after) == {Passage.PASSED}


@given(
    done=st.integers(0, len(STEPS) - 1),
    live=st.integers(0, 4),
    tells=st.booleans(),
    contact=st.sampled_from(Contact),
)
def test_of_all_gates_at_most_one_is_to_be_passed_next(
    done: int, live: int, tells: bool, contact: Contact
) -> None:
    found = lane(site(STEPS[done] if tells else None, live=live, contact=contact))
    passages = [step.passage for step in found.steps]
    assert passages.count(Passage.OPEN) <= 1
    if Passage.OPEN in passages:
        assert Passage.UNTOLD not in passages[passages.index(Passage.OPEN) :]
        assert Passage.AFTER not in passages[: passages.index(Passage.OPEN)]
    else:
        assert Passage.AFTER not in passages
    for step in found.steps:
        assert not step.commands or step.passage in (Passage.OPEN, Passage.UNTOLD)
        assert step.reason.endswith(".")
    if not tells and not live:
        # Nobody tells how far it is, so all that it may take is said.
        assert found.missing is not None
        assert found.missing.commands[0] == "systemctl enable --now iscsid"
        assert found.missing.commands[-1].endswith("--login")
    # Of what a host does not tell, nothing is held to be done but what its nodes see.
    if not (tells and contact == Contact.HEARD):
        seen = {Gate.LET_IN, Gate.INITIATOR, Gate.DISCOVERED, Gate.CONNECTED}
        assert {step.gate for step in found.steps if step.passage == Passage.PASSED} <= seen
        assert found.seen is None
    assert found.live == live
    assert [path.portal for path in found.paths] == PORTALS


def test_who_does_not_tell_is_shown_what_to_do_and_under_which_name_the_disk_will_be() -> None:
    found = lane(site(live=2))
    assert found.missing is None
    assert found.untold is not None
    assert found.untold.gate == Gate.SEEN
    assert found.untold.reason == "Nothing on slipway tells: it has no agent."
    [made] = [step for step in lane(site(STEPS[6], live=4)).steps if step.gate == Gate.FILE_SYSTEM]
    assert made.commands == ("mkfs.xfs /dev/mapper/x",)


def test_a_lost_path_says_whose_fault_it_is() -> None:
    view = site(replace(DONE, known=DONE.known[:3], down=(("stor0", "10.20.9.5/16"),)), live=0)
    down = replace(view.nodes[0].ports[0], up=False)
    nodes = (replace(view.nodes[0], ports=(down, view.nodes[0].ports[1])), *view.nodes[1:])
    reasons = [path.reason for path in lane(replace(view, nodes=nodes)).paths]
    assert reasons == [
        "Port stor0 of n1 is down.",
        "slipway knows of it, and is not connected.",
        "Port stor0 of slipway, which leads there, is down.",
        "slipway has no record of it at 10.21.0.2:3260.",
    ]
    away = replace(view, nodes=(replace(view.nodes[0], contact=Contact.SILENT), *view.nodes[1:]))
    assert [path.reason for path in lane(away).paths][:2] == ["n1 is not heard."] * 2
    shut = replace(view, nodes=(replace(view.nodes[0], serving=Serving()), *view.nodes[1:]))
    assert [path.reason for path in lane(shut).paths][:2] == ["n1 does not let it in."] * 2


@pytest.mark.parametrize(
    ("live", "lamp", "says"),
    [
        (4, Lamp.SOUND, "charts is mounted at /srv/charts, by 4 paths."),
        (3, Lamp.WATCH, "slipway reaches charts by 3 of 4 paths."),
        (1, Lamp.WATCH, "slipway reaches charts by one path of 4: the next loss parts them."),
        (0, Lamp.FAILED, "slipway has charts mounted at /srv/charts, and reaches it by none of its paths."),
    ],
)
def test_losing_paths_is_said_on_the_way_on_the_host_and_where_it_matters_on_the_volume(
    live: int, lamp: Lamp, says: str
) -> None:
    outlook = Outlook(site(DONE, live=live), now=0.0, grace_seconds=30.0)
    host = outlook.view.hosts[0]
    assert outlook.host(host).lamp == lamp
    assert outlook.host(host).reason.startswith(says) or lamp == Lamp.SOUND
    matters = live in (0, 1)
    assert (says in outlook.volume(0).reason) == matters
    assert [a.name for a in outlook.attention() if a.kind == "host"] == ["slipway"] * matters
    assert outlook.volume(0).lamp == (Lamp.WATCH if matters else Lamp.SOUND)


def test_a_host_that_lost_power_is_not_heard_and_one_that_calls_itself_otherwise_says_so() -> None:
    silent = Outlook(site(DONE, contact=Contact.SILENT), now=0.0, grace_seconds=30.0)
    assert silent.host(silent.view.hosts[0]).lamp == Lamp.NOT_HEARD
    other = replace(DONE, names=("iqn.2019-04.example.skerry:other",))
    step = lane(site(other)).missing
    assert step is not None
    assert step.gate == Gate.INITIATOR
    assert "calls itself iqn.2019-04.example.skerry:other" in step.reason


@pytest.mark.parametrize(
    ("lacks", "says"),
    [
        (replace(DONE, enabled=("iscsid",)), "multipathd does not start."),
        (replace(DONE, enabled=()), "iscsid and multipathd do not start."),
        (replace(DONE, by_itself=()), "it does not connect by itself."),
        (replace(DONE, kept=()), "/etc/fstab does not name it."),
        (replace(DONE, kept=(Kept("UUID=other", AT),)), "/etc/fstab names something else there."),
        (
            replace(DONE, kept=(Kept("/dev/sdb", AT),)),
            "/etc/fstab names it by a device that may be another then.",
        ),
    ],
)
def test_that_it_comes_back_is_said_only_where_all_that_it_takes_does(lacks: Facts, says: str) -> None:
    step = lane(site(lacks, live=4)).missing
    assert step is not None
    assert (step.gate, step.reason) == (Gate.KEPT, f"When the host starts anew, {says}")
    assert step.commands


def shared(*told: Facts | None) -> list[Lane]:
    """Ways of charts to hosts that share it, by what each tells; None for a host without an agent."""
    view, hosts, attached = site(), [], []
    for number, facts in enumerate(told):
        own = Initiator(Transport.ISCSI, f"{OWN}-{number}")
        host = Host(number + 1, f"h{number}", "", (own,))
        if facts is not None:
            host = replace(host, agent_url="http://h", contact=Contact.HEARD, facts=facts)
        hosts.append(host)
        attached.append(Attachment(number + 1, Transport.ISCSI, at=AT))
    target = Target(1, FileSystem.GFS2, (1, 2), tuple(attached))
    return lanes_of(replace(view, hosts=tuple(hosts), targets=(target,)))


def test_a_file_system_is_made_on_one_host_and_never_where_another_sees_one() -> None:
    bare = replace(DONE, disks=(Seen(DISK, ("/dev/sdb",), SIZE, "/dev/mapper/x"),))
    made = replace(DONE, disks=(Seen(DISK, ("/dev/sdb",), SIZE, "/dev/mapper/x", "gfs2", "u-1"),))

    def told(*facts: Facts | None) -> list[tuple[str, ...]]:
        """What each host is told to do about the file system, whatever comes before it."""
        steps = [next(s for s in map(_file_system, [one]) if s) for one in shared(*facts)]
        return [step.commands for step in steps]

    make, look = (
        "mkfs.gfs2 -p lock_dlm -t h0:charts -j 2 /dev/mapper/x",
        "udevadm trigger --settle /dev/mapper/x",
    )
    assert told(bare, bare) == [(make,), (look,)]
    assert told(made, bare) == [(), (look,)]
    assert told(bare, made) == [(look,), ()]  # made on the other one, though the first was to make it
    assert all("mkfs" not in command for command in told(None, made)[0])


def test_what_was_written_to_is_not_made_anew_without_a_word() -> None:
    view = site(STEPS[6], live=4)
    [written] = [replace(volume, written_bytes=10**12) for volume in view.volumes]
    step = lane(replace(view, volumes=(written,))).missing
    assert step is not None
    assert "1.00 TB of it was written: look whether that is still wanted." in step.reason


def test_what_a_host_tells_is_quoted_for_its_shell() -> None:
    disk = replace(DONE.disks[0], mounted="/mnt/my disk; reboot", size_bytes=SIZE // 2)
    found = lane(site(replace(DONE, disks=(disk,)), live=4))
    assert found.missing is not None
    assert found.missing.commands[-1] == "xfs_growfs '/mnt/my disk; reboot'"
    assert leaving(found)[0] == "umount '/mnt/my disk; reboot'"


def test_what_carries_something_else_is_never_to_be_made_anew() -> None:
    disk = replace(DONE.disks[0], file_system="ext4", mounted="")
    step = lane(site(replace(DONE, disks=(disk,), kept=()), live=4)).missing
    assert step is not None
    assert (step.gate, step.commands) == (Gate.FILE_SYSTEM, ())
    assert "It carries ext4, and xfs is meant to be made on it" in step.reason


def test_after_growing_the_host_sees_its_old_size_then_its_file_system_does() -> None:
    small = replace(DONE.disks[0], size_bytes=SIZE // 2, room_bytes=SIZE // 2)
    found = lane(site(replace(DONE, disks=(small,)), live=4)).missing
    assert found is not None
    assert found.gate == Gate.GROWN
    assert found.commands == (
        "iscsiadm -m session --rescan",
        f"multipathd resize map 3{DISK[2:]}",
        f"xfs_growfs {AT}",
    )
    seen = replace(small, size_bytes=SIZE)
    after = lane(site(replace(DONE, disks=(seen,)), live=4)).missing
    assert after is not None
    assert (after.gate, after.commands) == (Gate.GROWN, (f"xfs_growfs {AT}",))


@given(
    names=st.lists(st.text(max_size=9)),
    pairs=st.lists(st.tuples(st.text(max_size=5), st.text(max_size=5))),
    size=st.integers(1, 2**50),
)
def test_what_a_host_told_is_kept_as_it_was(
    names: list[str], pairs: list[tuple[str, str]], size: int
) -> None:
    told = Facts(
        names=tuple(names),
        known=tuple(pairs),
        disks=(Seen("0x3", ("/dev/sdb",), size),),
        kept=tuple(Kept(*pair) for pair in pairs),
        down=tuple(pairs),
    )
    assert from_kept(to_keep(told)) == told


@pytest.mark.parametrize(
    "broken",
    [
        {"protocol": "foldbarn-agent/1"},
        {"initiators": None},
        {"initiators": [7]},
        {"lsblk": {}},
        {"lsblk": {"blockdevices": [{"type": "disk", "wwn": "0x3"}]}},
        {"iscsi": {"nodes": [{"target": "a"}]}},
        {"fstab": None},
        {"services": []},
        {"nvme": {"subsystems": [{"NQN": "a", "Paths": [{"Transport": "tcp"}]}]}},
        {"ip": [{"ifname": "stor0", "addr_info": [{"local": "10.20.0", "prefixlen": 24}]}]},
        {"enabled": [7]},
    ],
)
def test_a_report_of_another_shape_is_refused(broken: dict[str, object]) -> None:
    good = {
        "protocol": "foldbarn-host/1",
        "initiators": [],
        "lsblk": {"blockdevices": []},
        "fstab": {},
        "services": {},
    }
    assert read_report(good) == Facts()
    with pytest.raises(NotPossible):
        read_report(good | broken)


# Who serves it. ------------------------------------------------------------------------------------------


def test_two_nodes_serve_a_volume_as_far_apart_as_can_be_and_those_that_serve_least() -> None:
    view = replace(site(), targets=())
    volume = view.volumes[0]
    assert choose_gateways(view, volume) == (1, 3)  # one in each room
    busy = replace(view, targets=(Target(2, FileSystem.NONE, (1, 3), ()),))
    assert choose_gateways(busy, volume) == (2, 4)
    one_down = replace(view.nodes[0].ports[0], up=False)
    worse = (replace(view.nodes[0], ports=(one_down, view.nodes[0].ports[1])), *view.nodes[1:])
    assert choose_gateways(replace(view, nodes=worse), volume) == (2, 3)
    assert choose_gateways(view, volume, keep=(1, 2)) == (1, 2)  # those that serve go on


def test_as_many_serve_it_as_are_set_and_none_is_dropped_that_a_host_still_needs() -> None:
    view = site()

    def with_set(nodes: int, view: SiteView = view) -> SiteView:
        return replace(view, volumes=(replace(view.volumes[0], serving_nodes=nodes), *view.volumes[1:]))

    served = view.targets[0].gateways
    three = chosen_anew(with_set(3))[1]
    assert (three[:2], len(three)) == (served, 3)
    assert len(chosen_anew(with_set(8))[1]) == len(view.nodes)  # there are no more

    # Of fewer, one goes on beside the others as long as a host is connected there, and not to the others.
    def connected(*numbers: int) -> SiteView:
        nodes = tuple(
            replace(
                node,
                serving=Serving(sessions=frozenset({(TARGET, OWN, portals_of(node)[0].address)}))
                if node.number in numbers
                else Serving(),
            )
            for node in view.nodes
        )
        return replace(view, nodes=nodes)

    assert chosen_anew(with_set(1, connected(served[1]))) == {}
    assert chosen_anew(with_set(1, connected(*served))) == {1: served[:1]}
    for wrong in (0, 9):
        with pytest.raises(NotPossible, match="by 1 to 8 nodes, not by"):
            check_serving(wrong)


def test_who_is_given_up_is_replaced_and_nobody_else() -> None:
    view = site()
    assert chosen_anew(view) == {}
    gone = (replace(view.nodes[0], given_up=True, contact=Contact.SILENT), *view.nodes[1:])
    assert chosen_anew(replace(view, nodes=gone)) == {1: (2, 3)}
    silent = (replace(view.nodes[0], contact=Contact.SILENT), *view.nodes[1:])
    assert chosen_anew(replace(view, nodes=silent)) == {}  # it may be back in a moment
    bare = tuple(replace(node, ports=()) for node in view.nodes)
    assert chosen_anew(replace(view, nodes=bare)) == {}  # there is nothing better
    with pytest.raises(NotPossible, match="No node with disks of p has an address"):
        choose_gateways(replace(view, nodes=bare), view.volumes[0])


def test_hosts_are_served_at_ports_for_clients_where_there_are_any() -> None:
    node = site().nodes[0]
    both = replace(node, ports=(*ports(1), *ports(7, "client")))
    assert [portal.address for portal in portals_of(node)] == ["10.20.0.1", "10.21.0.1"]
    assert [portal.address for portal in portals_of(both)] == ["10.20.0.7", "10.21.0.7"]


# What may be wished. -------------------------------------------------------------------------------------


def wished(system: FileSystem, *read_only: bool) -> Target:
    hosts = [Attachment(n, Transport.ISCSI, only) for n, only in enumerate(read_only)]
    return Target(1, system, (1,), tuple(hosts))


def test_several_hosts_write_only_to_what_is_made_for_that() -> None:
    view = site()
    volume = view.volumes[0]

    def says(target: Target) -> list[str]:
        return [error.sentence for error in against_attaching(view, volume, None, target)]

    assert says(wished(FileSystem.XFS, False, True)) == []
    assert says(wished(FileSystem.XFS, False, False)) == [
        "2 hosts would write to one xfs, which destroys it."
    ]
    assert says(wished(FileSystem.GFS2, False, False, False)) == []
    assert says(wished(FileSystem.NONE, False, False)) == []
    assert says(wished(FileSystem.NONE, *[True] * 65)) == ["65 hosts are too many; 64 are the most."]
    [error] = against_attaching(view, volume, wished(FileSystem.XFS, False), wished(FileSystem.EXT4, False))
    assert error.sentence == "charts is attached to be used as xfs."


def test_two_volumes_are_not_mounted_at_one_place() -> None:
    view = site()
    maps = replace(view.volumes[0], number=2, name="maps")
    view = replace(view, volumes=(*view.volumes, maps))
    there = Target(2, FileSystem.XFS, (1, 2), (Attachment(9, Transport.ISCSI, at=AT),))
    [error] = against_attaching(view, maps, None, there)
    assert error.sentence == "slipway has charts at /srv/charts."
    other = Target(2, FileSystem.XFS, (1, 2), (Attachment(9, Transport.ISCSI, at="/srv/maps"),))
    assert against_attaching(view, maps, None, other) == []


@pytest.mark.parametrize(
    "place", ["", "srv", "/", "/srv/../etc", "/srv/a b", "/srv/./a", "//a", "/" + "a" * 200]
)
def test_a_volume_is_mounted_at_a_place_below_the_root(place: str) -> None:
    with pytest.raises(NotPossible, match="is no place to mount a volume at"):
        check_place(place)
    assert check_place(" /srv/charts/ ") == "/srv/charts"


def test_a_host_has_names_of_its_own_and_no_groups_name() -> None:
    view = replace(site(), hosts=(replace(site().hosts[0], group="plain"),))
    fresh = ["iqn.2019-04.example.skerry:new"]
    assert host_wished(view, "new", "", fresh, "").name == "new"
    for name, group, names, says in (
        ("new", "", [OWN], f"slipway goes by {OWN} already."),
        ("new", "", [], "A host needs a name by which it connects."),
        ("Slipway", "", fresh, "A host named 'Slipway' exists already"),
        ("plain", "", fresh, "'plain' would be the name of a host and of a group."),
        ("new", "slipway", fresh, "'slipway' would be the name of a host and of a group."),
        ("new", "new", fresh, "'new' would be the name of a host and of a group."),
    ):
        with pytest.raises(Exception, match=says.split("(")[0].replace(".", r"\.")):
            host_wished(view, name, group, names, "")
    assert host_wished(view, "slipway", "desks", [OWN], "", host=9).group == "desks"
    assert [host.name for host in hosts_called(view, ["PLAIN", "slipway"])] == ["slipway"]
