"""The file service and its shares, against stand-in nodes that are one cluster, and hosts that mount."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import pytest
from conftest import ME, Site, at_hour, begun
from test_changes import lose
from test_cluster import form
from test_policies import plan_of, refusals, save
from walking import look, register, type_there

from foldbarn.changes.engine.effects import Texts
from foldbarn.changes.engine.files import FILES
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.errors import Conflict
from foldbarn.core.shares.addresses import carrier_of
from foldbarn.core.shares.belonging import mounts_of
from foldbarn.core.shares.naming import unnamed
from foldbarn.core.shares.quotas import Fill
from foldbarn.core.shares.share import FileAddress, Heard, Share
from foldbarn.core.shares.takeover import MOVES_WITHIN_SECONDS, takeover, takes_over
from foldbarn.core.site import Contact
from foldbarn.core.units import GIB
from foldbarn.core.watch.asking import Question, answers, is_so
from foldbarn.core.watch.files import address_state
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.shares import share_state
from foldbarn.core.watch.states import Lamp
from foldbarn.links import name_servers
from foldbarn.services import changes, shares
from foldbarn.services.limits import tell_files
from foldbarn.store.views import current_view
from foldbarn.yard import council, fluid
from foldbarn.yard.hosts import lose_power, start
from foldbarn.yard.shell import Failed

pytestmark = pytest.mark.pooled
SERVICE: dict[str, Any] = {
    "addresses": "10.30.0.21-10.30.0.24",
    "addresses6": "fd00:30::21-fd00:30::24",
    "names": "files-{1..4}.skerry.example",
}
OFFICE: list[dict[str, Any]] = [
    {"who": "10.30.0.0/16", "right": "read"},
    {"who": "10.30.9.5", "right": "read-write"},  # slipway
    {"who": "10.30.9.4", "right": "none"},  # chart-plotter
    {"who": "fd00:30::/64", "right": "read", "root": True},
]
PAIR = {"name": "pair", "copies": 2, "level": "node"}


def serve_files(site: Site, **wish: Any) -> int:
    number = site.do("serve-files", **{**SERVICE, "name_server": site.yard.name_server, **wish})
    assert site.state(number) == "done", site.problem(number)
    return number


def share(site: Site, name: str = "charts", **wish: Any) -> int:
    said = {"name": name, "policy": "pair", "quota": "100 GiB", "rules": OFFICE}
    number = site.do("make-share", **{**said, **wish})
    assert site.state(number) == "done", site.problem(number)
    return number


def as_served(site: Site) -> None:
    """A cluster with the file service, a share, and hosts that are known."""
    assert site.state(form(site)) == "done"
    save(site, **PAIR)
    look(site)
    serve_files(site)
    share(site)
    register(site, "slipway", "ferry-desk-1", "chart-plotter")
    see(site)


def see(site: Site) -> None:
    """A round of the watch, as far as shares go."""
    look(site)
    tell_files()
    look(site)
    shares.sum_used()


served = begun(as_served)


def the(name: str = "charts") -> Share:
    return current_view().share(name)


def address(nth: int = 0) -> FileAddress:
    files = current_view().files
    assert files is not None
    return files.addresses[nth]


def home() -> FileAddress:
    """The address at which the share is served."""
    files = current_view().files
    assert files is not None
    return next(one for one in files.addresses if one.number == the().address)


def state(name: str = "charts") -> tuple[Lamp, str]:
    found = share_state(Outlook(current_view(), now=0.0, grace_seconds=30.0), the(name))
    return found.lamp, found.reason


def mount(site: Site, host: str = "slipway", at: str = "/mnt/charts", **options: Any) -> str:
    kind, by = options.pop("kind", "nfs"), options.pop("by", "") or home().name
    name = options.pop("name", "charts")
    said = ",".join(f"{key}={value}" for key, value in ({"vers": "4.1"} | options).items())
    source = f"//{by}/{name}" if kind == "cifs" else f"[{by}]:/{name}" if ":" in by else f"{by}:/{name}"
    return type_there(site, host, f"mount -t {kind} -o {said} {source} {at}")


def fails(says: str, deed: Callable[[], object]) -> None:
    with pytest.raises(Failed) as found:
        deed()
    assert says in str(found.value)


def wait(site: Site, seconds: float, step: float = 0.5) -> None:
    """So much time passes for the cluster."""
    for _ in range(int(seconds / step)):
        council.tick(site.yard.machines, step)


# The service. ----------------------------------------------------------------------------------------------


def test_it_is_served_by_a_cluster(barn_site: Site) -> None:
    assert "there is none yet" in " ".join(refusals("serve-files", **SERVICE))
    assert "The file service is not switched on." in " ".join(refusals("stop-files"))
    save(barn_site, **PAIR)
    wish = {"name": "charts", "policy": "pair", "quota": "1 GiB"}
    assert "The file service is not switched on." in " ".join(refusals("make-share", **wish))


def test_each_address_is_at_home_apart_from_the_others_and_served_there(served: Site) -> None:
    view = current_view()
    assert view.files is not None
    homes = [view.node_numbered(one.home) for one in view.files.addresses]
    assert len({node.number for node in homes}) == 4
    assert {node.rack for node in homes} == set(range(len(view.racks)))  # four racks, one each
    for one, node in zip(view.files.addresses, homes, strict=True):
        assert carrier_of(view, one) is node
        assert address_state(view, one).reason.startswith(f"At home on {node.name}.")
        assert served.yard.machines.files.has[str(one.number)] == node.agent_name


def test_its_names_are_looked_for_forward_and_backward(served: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    view = current_view()
    assert view.files is not None
    [(one, fault)] = unnamed(view.files)
    assert (one.at[0], fault.sentence) == ("10.30.0.23", "10.30.0.23 does not stand for any name.")
    assert fault.record == "23.0.30.10.in-addr.arpa. IN PTR files-3.skerry.example."
    served.yard.machines.names.add(fault.record)
    found()
    assert not unnamed(the_service())
    served.yard.machines.names.how = "lies"
    found()
    assert "files-1.skerry.example stands for 192.0.2.99" in unnamed(the_service())[0][1].sentence
    for how, heard in (
        ("silent", Heard.SILENT),
        ("refuses", Heard.REFUSED),
        ("garbled", Heard.GARBLED),
        ("well", Heard.FOUND),
    ):
        served.yard.machines.names.how = how
        monkeypatch.setattr(name_servers, "PATIENCE_SECONDS", 0.2 if how == "silent" else 60.0)
        found()
        assert {one.forward.heard for one in address().resolved} == {heard}
    assert address_state(current_view(), address()).lamp is Lamp.SOUND


def found() -> None:
    finder = shares.NameFinder()
    finder.go()
    assert finder.answer is not None
    finder.answer.exception(timeout=80)
    finder.go()
    finder.crew.shutdown()


def the_service() -> Any:
    return current_view().files


@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"addresses": "10.20.0.11"}, "1 address of version 4, and 4 of version 6."),
        ({"addresses": "10.20.0.11-10.20.0.14"}, "10.20.0.11 belongs to stor0 of fulmar."),
        ({"addresses": "10.30.9.5-10.30.9.8"}, "10.30.9.5 belongs to slipway."),
        ({"addresses": "10.10.0.3-10.10.0.6"}, "10.10.0.5 belongs to the cluster quay"),
        ({"addresses": "", "addresses6": ""}, "needs addresses"),
        ({"names": "files-{1..3}.skerry.example"}, "3 names for 4 addresses."),
        ({"name_server": "ns.skerry.example"}, "is no address of a name server"),
        ({"nodes": ["fulmar"]}, "1 node for 4 addresses."),
        ({"nodes": ["skua", "fulmar", "gannet", "petrel"]}, "skua cannot serve"),
        ({"addresses": "10.30.0.31-10.30.0.34", "addresses6": ""}, "charts is served at files-1"),
    ],
)
def test_what_cannot_be_served_is_refused(served: Site, wish: dict[str, Any], says: str) -> None:
    assert says in " ".join(refusals("serve-files", **{**SERVICE, **wish}))


def test_it_is_altered_and_altered_back(served: Site) -> None:
    before = the_service()
    number = serve_files(served, addresses="10.30.0.21-10.30.0.23", addresses6="", names="a-{1..3}.example")
    now = the_service()
    assert [one.at for one in now.addresses] == [(f"10.30.0.{n}",) for n in (21, 22, 23)]
    assert [one.number for one in now.addresses] == [one.number for one in before.addresses[:3]]
    assert [one.name for one in now.addresses] == ["a-1.example", "a-2.example", "a-3.example"]
    undo = plan_of("serve-files", **{**SERVICE, "addresses": "10.30.0.21-10.30.0.23"}).blockers
    assert undo  # three and four do not go together
    assert number
    serve_files(served)
    assert [(one.name, one.at) for one in the_service().addresses] == [
        (one.name, one.at) for one in before.addresses
    ]
    refused = " ".join(refusals("stop-files"))
    assert "charts is served by it, or is in the bin." in refused


def test_it_is_switched_off_once_nothing_is_served(served: Site) -> None:
    served.do("delete-share", share="charts", typed="charts")
    assert "is in the bin" in " ".join(refusals("stop-files"))
    served.do("empty-bin", pool="quayside", volumes=["charts-files"], typed="charts-files")
    assert not current_view().shares
    number = served.do("stop-files")
    assert served.state(number) == "done", served.problem(number)
    assert current_view().files is None
    assert not served.yard.machines.files.has
    look(served)
    assert not any(node.files.carries for node in current_view().nodes)


# Where its addresses go. -----------------------------------------------------------------------------------


def carried() -> dict[str, str]:
    view = current_view()
    return {
        one.at[0]: node.name if (node := carrier_of(view, one)) is not None else ""
        for one in the_service().addresses
    }


def test_an_address_moves_when_its_node_goes_and_clients_mounts_go_on(served: Site) -> None:
    mount(served)
    type_there(served, "slipway", "echo ebb > /mnt/charts/tides")
    see(served)
    before, machines = carried(), served.yard.machines
    node = before[home().at[0]]
    machines.power[node] = False
    fails("server not responding", lambda: type_there(served, "slipway", "cat /mnt/charts/tides"))
    gone = 0.0
    while machines.files.has.get(str(the().address)) in ("", node):
        council.tick(machines, 0.5)
        gone += 0.5
        assert gone < 60
    assert gone <= MOVES_WITHIN_SECONDS
    # The mount is as it was, and so is what lies there.
    assert type_there(served, "slipway", "cat /mnt/charts/tides") == "ebb"
    type_there(served, "slipway", "echo flood > /mnt/charts/tides")
    see(served)
    now = carried()
    assert now[home().at[0]] not in ("", node)
    assert {at: n for at, n in now.items() if at != home().at[0]} == {
        at: n for at, n in before.items() if at != home().at[0]
    }
    assert address_state(current_view(), home()).lamp is Lamp.MENDING
    assert f"{node}, where it is at home, has yet to take it" in address_state(current_view(), home()).reason
    machines.power[node] = True
    council.tick(machines, 0.1)
    assert machines.files.has[str(the().address)] != node  # not at once
    wait(served, 10.0)
    see(served)
    assert carried() == before
    assert type_there(served, "slipway", "cat /mnt/charts/tides") == "flood"


def test_when_all_clients_come_at_once_all_are_told_and_their_mounts_outlive_a_node(served: Site) -> None:
    """As after a power cut: thousands that nobody registered, and the node that serves them goes as well."""
    machines = served.yard.machines
    for n in range(40):
        mount(served, at=f"/mnt/{n}")
    one, crowd = machines.hosts["slipway"].net["/mnt/0"], machines.hosts["bridge-1"].net
    first = int(ipaddress.ip_address("10.30.64.0"))
    for n in range(5_000):
        crowd[f"/mnt/{n}"] = replace(one, client=str(ipaddress.ip_address(first + n)), read_only=True)
    see(served)
    carrier = carrier_of(current_view(), home())
    assert carrier is not None
    assert len(mounts_of(current_view(), the())) == 5_001  # a client is one, wherever it has it
    [refused] = refusals("delete-share", share="charts", typed="charts")
    named = "slipway at /mnt/0, /mnt/1, /mnt/2 and 37 more, 10.30.64.0, 10.30.64.1"
    assert refused == f"{named} and 4,998 more have charts mounted."
    # Half of them are gone again, and so is the node: what is left goes on at another one.
    for n in range(2_500):
        del crowd[f"/mnt/{n}"]
    lose(served, carrier.name, given_up=False)
    wait(served, MOVES_WITHIN_SECONDS)
    see(served)
    now = carrier_of(current_view(), home())
    assert now is not None
    assert now.number != carrier.number
    assert len(mounts_of(current_view(), the())) == 2_501
    assert type_there(served, "slipway", "echo ebb > /mnt/39/tides", "cat /mnt/0/tides") == "ebb"
    crowd.clear()
    type_there(served, "slipway", *(f"umount /mnt/{n}" for n in range(40)))
    see(served)
    assert mounts_of(current_view(), the()) == []


def test_what_is_foretold_of_a_node_that_falls_away_is_what_happens(served: Site) -> None:
    machines = served.yard.machines
    assert takeover(current_view()).is_sure
    assert "what clients have mounted goes on" in takeover(current_view()).sentence
    # One of three votes is gone: of the other two each is needed now, and nobody else is.
    keepers = list(machines.council.keepers)
    assert (len(keepers), machines.council.witness) == (3, "")
    lose(served, keepers[0], given_up=False)
    wait(served, MOVES_WITHIN_SECONDS)
    see(served)
    fate = takeover(current_view())
    assert set(fate.needed) == set(keepers[1:])
    assert f"not where that is {keepers[1]} and {keepers[2]}" in fate.sentence
    assert "without any one of them no majority is left" in fate.sentence
    [warned] = [note for note in plan_of("serve-files", **SERVICE).warnings if note.code == "not-taken-over"]
    assert warned.sentence == fate.sentence
    spared = next(
        one for one in the_service().addresses if current_view().node_numbered(one.home).name not in keepers
    )
    after, at_home = takes_over(current_view(), spared), current_view().node_numbered(spared.home).name
    assert after is not None
    lose(served, at_home, given_up=False)
    wait(served, MOVES_WITHIN_SECONDS)
    assert machines.files.has[str(spared.number)] == after.name
    needed = next(
        one for one in the_service().addresses if current_view().node_numbered(one.home).name in keepers[1:]
    )
    assert takes_over(current_view(), needed) is None
    lose(served, current_view().node_numbered(needed.home).name, given_up=False)
    wait(served, MOVES_WITHIN_SECONDS)
    assert machines.files.has == {}
    assert takeover(current_view()).sentence.startswith("The cluster decides nothing now")


def test_without_a_majority_nobody_has_any(served: Site) -> None:
    machines = served.yard.machines
    for name in (*machines.council.keepers, machines.council.witness):
        if name:
            machines.power[name] = False
    wait(served, 5.0)
    assert not machines.files.has
    fails("server not responding", lambda: mount(served))


def test_an_address_has_another_home_once_its_node_leaves_the_cluster(served: Site) -> None:
    view = current_view()
    node = view.node_numbered(home().home)
    shares.move_homes()
    assert home().home == node.number
    heir = next(n for n in view.nodes if n.member and not n.keeper)
    wish = {"node": node.name, "successor": heir.name if node.keeper else ""}
    tables = [effect for effect in plan_of("let-go", **wish).effects if isinstance(effect, Texts)]
    [row] = [row for table in tables for row in table.rows]
    number = served.do("let-go", **wish)
    assert served.state(number) == "done", served.problem(number)
    shares.move_homes()
    assert row.after == current_view().node_numbered(home().home).name  # as the preview has said
    assert home().home != node.number
    tell_files()
    wait(served, 1.0)
    see(served)
    assert carried()[home().at[0]] == current_view().node_numbered(home().home).name


def test_a_node_that_was_away_is_told_when_it_is_back(served: Site) -> None:
    machines = served.yard.machines
    told = dict(machines.files.told)
    served.do("alter-share", share="charts", quota="90 GiB")
    assert all(machines.files.told[node]["order"] != told[node]["order"] for node in told)
    assert not tell_files()  # who knows already
    machines.files.told["fulmar"]["order"] = "from long ago"
    look(served)
    tell_files()
    assert machines.files.told["fulmar"]["order"].startswith("files-")


# Who may mount. --------------------------------------------------------------------------------------------


def test_rules_hold_where_it_is_mounted_and_for_what_is_done_there(served: Site) -> None:
    mount(served)
    type_there(served, "slipway", "echo one > /mnt/charts/note")
    fails("access denied by server", lambda: mount(served, "chart-plotter"))
    fails("requested protocol is not supported", lambda: mount(served, "ferry-desk-1", vers="3"))
    mount(served, "ferry-desk-1")
    assert type_there(served, "ferry-desk-1", "cat /mnt/charts/note") == "one"  # what the other has written
    fails("Read-only", lambda: type_there(served, "ferry-desk-1", "echo x > /mnt/charts/note"))
    assert type_there(served, "slipway", "ls /mnt/charts") == "nobody 4 note"  # root is squashed
    # Shut out while it is mounted: it reaches it no more.
    rules = [{"who": "everyone", "right": "read"}]
    assert "shut-out" not in codes("alter-share", share="charts", rules=rules)
    see(served)
    assert "read-only-then" in codes("alter-share", share="charts", rules=rules)
    served.do("alter-share", share="charts", rules=rules)
    fails("Read-only", lambda: type_there(served, "slipway", "echo x > /mnt/charts/note"))
    none: list[dict[str, Any]] = []
    assert {"shut-out", "nobody-let-in"} <= codes("alter-share", share="charts", rules=none)
    served.do("alter-share", share="charts", rules=none)
    fails("Permission denied", lambda: type_there(served, "slipway", "cat /mnt/charts/note"))


def codes(kind: str, **wish: Any) -> set[str]:
    return {note.code for note in plan_of(kind, **wish).warnings}


def test_by_version_6_and_by_address(served: Site) -> None:
    six = home().at[1]
    mount(served, "ferry-desk-1", by=six)
    see(served)
    [one] = mounts_of(current_view(), the())
    assert (one.host, one.client, one.at) == ("ferry-desk-1", "fd00:30::9:1", "/mnt/charts")
    served.do(
        "alter-share", share="charts", rules=[{"who": "fd00:30::/64", "right": "read-write", "root": True}]
    )
    type_there(served, "ferry-desk-1", "umount /mnt/charts")
    mount(served, "ferry-desk-1", by=six)
    type_there(served, "ferry-desk-1", "echo x > /mnt/charts/note")
    assert type_there(served, "ferry-desk-1", "ls /mnt/charts") == "root 2 note"


def test_users_sign_in_by_smb_with_a_password_that_is_shown_once(served: Site) -> None:
    served.do("alter-share", share="charts", protocols=["nfs4.1", "smb"])
    assert "nobody-signs-in" in codes("alter-share", share="charts", warn=70)
    served.do("let-user-in", share="charts", user="Ines", right="read-write")
    [user] = the().users
    assert user.name == "ines"
    assert not user.shown
    shown = shares.show_password(ME, "charts", "ines")
    assert shown.password not in repr(served.yard.machines.files.told)
    assert shown.password not in user.proof
    with pytest.raises(Conflict, match="shown once"):
        shares.show_password(ME, "charts", "ines")
    assert the().users[0].shown
    options = {"kind": "cifs", "vers": "3.1.1", "username": "ines"}
    fails("Permission denied", lambda: mount(served, **options, password="guess"))
    mount(served, **options, password=shown.password)
    type_there(served, "slipway", "echo by-smb > /mnt/charts/note")
    assert type_there(served, "slipway", "ls /mnt/charts") == "ines 7 note"
    mount(served, at="/mnt/same")
    assert type_there(served, "slipway", "cat /mnt/same/note") == "by-smb"
    see(served)
    assert sorted((one.protocol.value, one.user) for one in mounts_of(current_view(), the())) == [
        ("nfs4.1", ""),
        ("smb", "ines"),
    ]
    # A new one lets in who knows it, and the old one nobody.
    assert "signed-in" in codes("let-user-in", share="charts", user="ines")
    served.do("let-user-in", share="charts", user="ines", right="read")
    type_there(served, "slipway", "umount /mnt/charts")
    fails("Permission denied", lambda: mount(served, **options, password=shown.password))
    mount(served, **options, password=shares.show_password(ME, "charts", "ines").password)
    fails("Read-only", lambda: type_there(served, "slipway", "echo x > /mnt/charts/note"))
    served.do("remove-user", share="charts", user="ines")
    fails("Permission denied", lambda: type_there(served, "slipway", "cat /mnt/charts/note"))
    assert "Nobody called ines" in " ".join(refusals("remove-user", share="charts", user="ines"))


def test_a_host_that_starts_again_mounts_what_stands_in_its_table(served: Site) -> None:
    mount(served)
    type_there(served, "slipway", "echo x > /mnt/charts/note")
    line = f"{home().name}:/charts /mnt/charts nfs vers=4.1,_netdev 0 0"
    type_there(served, "slipway", f"echo '{line}' >> /etc/fstab")
    see(served)
    [one] = mounts_of(current_view(), the())
    assert one.kept
    host = served.yard.machines.hosts["slipway"]
    lose_power(host)
    assert not host.net
    start(served.yard.machines, host)
    assert type_there(served, "slipway", "cat /mnt/charts/note") == "x"


# Quotas. ---------------------------------------------------------------------------------------------------


def test_from_well_to_full_and_well_again_at_once(served: Site) -> None:
    mount(served)
    see(served)
    assert state()[0] is Lamp.SOUND
    type_there(served, "slipway", "fallocate -l 85GiB /mnt/charts/one")
    see(served)
    assert the().fill is Fill.WARNED
    assert state()[0] is Lamp.WATCH
    assert "past its warn level of 80 %" in state()[1]
    fails("Disk quota exceeded", lambda: type_there(served, "slipway", "fallocate -l 20GiB /mnt/charts/two"))
    see(served)
    assert (the().used, the().fill) == (100 * GIB, Fill.FULL)
    assert state()[0] is Lamp.SHORT
    assert "writes that need more room are refused" in state()[1]
    fails("Disk quota exceeded", lambda: type_there(served, "slipway", "echo x > /mnt/charts/three"))
    plan = plan_of("alter-share", share="charts", quota="200 GiB")
    assert [step.step.name for step in plan.steps] == ["extend", "fill-up", "write-share", "tell-files"]
    number = served.do("alter-share", share="charts", quota="200 GiB")
    assert served.state(number) == "done", served.problem(number)
    assert the().fill is Fill.WELL  # at once, before anybody has told anything
    assert current_view().volume("charts-files").size_bytes == 200 * GIB
    type_there(served, "slipway", "echo x > /mnt/charts/three")
    see(served)
    assert state()[0] is Lamp.SOUND


def test_a_quota_is_lowered_and_what_lies_there_stays(served: Site) -> None:
    mount(served)
    type_there(served, "slipway", "fallocate -l 50GiB /mnt/charts/one")
    see(served)
    assert "full-at-once" in codes("alter-share", share="charts", quota="40 GiB")
    number = served.do("alter-share", share="charts", quota="40 GiB")
    assert the().fill is Fill.FULL
    fails("Disk quota exceeded", lambda: type_there(served, "slipway", "echo x > /mnt/charts/two"))
    assert current_view().volume("charts-files").size_bytes == 100 * GIB  # it never shrinks
    assert plan_of("alter-share", share="charts", quota="40 GiB").blockers  # as it is already
    assert number
    type_there(served, "slipway", "rm /mnt/charts/one")
    see(served)
    assert the().fill is Fill.WELL


def test_clients_fill_it_by_themselves_at_an_hour_when_they_work(served: Site) -> None:
    mount(served)
    at_hour(served.yard.machines, 8)
    for _ in range(60):
        fluid.advance(served.yard.machines, 60.0)
    see(served)
    grown = the().used
    assert GIB < grown < 20 * GIB
    type_there(served, "slipway", "umount /mnt/charts")
    for _ in range(60):
        fluid.advance(served.yard.machines, 60.0)
    see(served)
    assert the().used == grown


# Names, deleting, and what hangs together. -----------------------------------------------------------------


def test_renamed_what_is_mounted_goes_on(served: Site) -> None:
    mount(served)
    see(served)
    assert "mounted" in codes("rename-share", share="charts", name="sea-charts")
    served.do("rename-share", share="charts", name="sea-charts")
    type_there(served, "slipway", "echo x > /mnt/charts/note")
    files = current_view().files
    assert files is not None
    by = next(one.name for one in files.addresses if one.number == the("sea-charts").address)
    fails("access denied", lambda: mount(served, "ferry-desk-1", by=by))
    assert the("sea-charts").name == "sea-charts"
    mount(served, "ferry-desk-1", name="sea-charts", by=by)


def test_it_is_not_deleted_while_it_is_mounted_and_comes_back_whole(served: Site) -> None:
    mount(served)
    type_there(served, "slipway", "echo x > /mnt/charts/note")
    see(served)
    said = " ".join(refusals("delete-share", share="charts", typed="charts"))
    assert "slipway at /mnt/charts has charts mounted." in said
    type_there(served, "slipway", "umount /mnt/charts")
    see(served)
    assert "Type charts" in " ".join(refusals("delete-share", share="charts"))
    served.do("delete-share", share="charts", typed="charts")
    assert state()[0] is Lamp.AWAY
    fails("access denied", lambda: mount(served))
    assert "in the bin already" in " ".join(refusals("delete-share", share="charts", typed="charts"))
    name = " ".join(refusals("make-share", name="charts", policy="pair", quota="1 GiB"))
    assert "A share in the bin is called charts" in name
    served.do("restore-share", share="charts")
    mount(served)
    assert type_there(served, "slipway", "cat /mnt/charts/note") == "x"
    assert "is not in the bin" in " ".join(refusals("restore-share", share="charts"))


def test_its_volume_is_not_among_those_that_nobody_uses(served: Site) -> None:
    served.volume("idle")
    outlook = Outlook(current_view(), now=0.0, grace_seconds=30.0)
    assert answers(outlook, Question.UNATTACHED).tolist() == [False, True]
    names = ("charts-files", "idle")
    assert [is_so(outlook, Question.UNATTACHED, row) for row in range(2)] == [False, True]
    assert tuple(volume.name for volume in outlook.view.volumes) == names


def test_nothing_is_done_to_its_volume_behind_its_back(served: Site) -> None:
    for kind, wish in (
        ("delete-volume", {"volumes": ["charts-files"], "typed": "charts-files"}),
        ("attach-volume", {"volume": "charts-files", "hosts": ["slipway"], "file_system": "ext4"}),
    ):
        said = " ".join(refusals(kind, **wish))
        assert "charts-files holds the share charts." in said
    served.do("delete-share", share="charts", typed="charts")
    said = " ".join(refusals("restore-volume", volumes=["charts-files"]))
    assert "charts-files holds the share charts." in said


def test_gone_back_to_a_snapshot_it_holds_what_it_did(served: Site) -> None:
    mount(served)
    type_there(served, "slipway", "echo then > /mnt/charts/note")
    served.do("take-snapshot", volumes=["charts-files"], name="first")
    type_there(served, "slipway", "echo now > /mnt/charts/note")
    served.do("offline-volume", volumes=["charts-files"])
    assert state()[0] is Lamp.AWAY
    fails("server not responding", lambda: type_there(served, "slipway", "cat /mnt/charts/note"))
    number = served.do("restore-snapshot", volume="charts-files", snapshot="first", keep_as="present")
    assert served.state(number) == "done", served.problem(number)
    served.do("offline-volume", volumes=["charts-files"], offline=False)
    assert type_there(served, "slipway", "cat /mnt/charts/note") == "then"


def test_it_goes_to_another_address_while_nobody_holds_on_to_it(served: Site) -> None:
    other = next(one for one in the_service().addresses if one.number != the().address)
    mount(served)
    see(served)
    said = " ".join(refusals("alter-share", share="charts", address=other.name))
    assert "has charts mounted" in said
    type_there(served, "slipway", "umount /mnt/charts")
    see(served)
    number = served.do("alter-share", share="charts", address=other.name)
    assert served.state(number) == "done", served.problem(number)
    fails(
        "access denied", lambda: mount(served, by=address(0).name if other != address(0) else address(1).name)
    )
    mount(served)


def test_its_volume_keeps_another_policy_and_goes_elsewhere_while_it_is_mounted(served: Site) -> None:
    mount(served)
    type_there(served, "slipway", "echo x > /mnt/charts/note")
    save(served, name="three", copies=3, level="node")
    number = served.do("keep-policy", volumes=["charts-files"], policy="three")
    assert served.state(number) == "done", served.problem(number)
    tell_files()
    assert type_there(served, "slipway", "cat /mnt/charts/note") == "x"
    see(served)
    assert state()[0] is Lamp.SOUND, state()


def test_two_of_one_name_and_withdrawn_in_the_middle(served: Site) -> None:
    wish = {"name": "videos", "policy": "pair", "quota": "10 GiB"}
    one, other = (changes.carry_out(ME, "make-share", dict(wish)) for _ in range(2))
    run_change(one)
    run_change(other)
    assert served.state(one) == "done"
    assert "exists already" in served.problem(other)
    assert served.state(other) == "withdrawn", served.problem(other)
    assert [volume.name for volume in current_view().volumes] == ["charts-files", "videos-files"]
    assert [one.name for one in current_view().shares] == ["charts", "videos"]
    assert FILES.wanted(current_view())


def test_who_is_not_heard_may_have_it_mounted(served: Site) -> None:
    mount(served)
    see(served)
    view = current_view()
    node = carrier_of(view, home())
    assert node is not None

    lose(served, node.name, given_up=False)
    assert current_view().node(node.name).contact == Contact.SILENT
    assert state()[0] is Lamp.SHORT  # nobody that is heard has its address
    assert "mounts-unknown" in codes("delete-share", share="charts", typed="charts")
