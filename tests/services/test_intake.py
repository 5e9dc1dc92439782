"""Ways in: files good and bad, BMCs, enclosures, the site's text, clearing, arranging, renaming, addresses;
against the real PostgreSQL and yard.
"""

from __future__ import annotations

import json
from typing import Any

import httpx
import pytest
from conftest import ME, Site, Yard, serve
from hypothesis import given
from hypothesis import strategies as st
from told import in_words, told

from foldbarn.changes.engine.effects import Checks, Levels
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.text import BadText, SiteText, read_text, text_of, write_text
from foldbarn.core.errors import NotAllowed, NotPossible, Unreachable
from foldbarn.core.pools.protection import Level
from foldbarn.core.site import Contact
from foldbarn.house.postgres import free_port
from foldbarn.services import changes, cluster, files, intake
from foldbarn.services.files import File, take_files
from foldbarn.store.views import current_view
from foldbarn.yard.machines import Machines
from foldbarn.yard.scenario import StandInDisk, StandInNode, StandInPort
from foldbarn.yard.server import make_app as make_yard


def lsblk(*serials: str, **facts: Any) -> str:
    plain = {
        "type": "disk",
        "size": 4 * 10**12,
        "rota": False,
        "tran": "sata",
        "model": "m",
        "mountpoints": [None],
    }
    return json.dumps(
        {
            "blockdevices": [
                plain | {"name": f"sd{chr(97 + i)}", "serial": s, "wwn": f"0x5{s}"} | facts
                for i, s in enumerate(serials)
            ]
        }
    )


def results(*named: tuple[str, str]) -> list[tuple[str, str]]:
    return [(o.result, o.sentence) for o in take_files(ME, [File(n, t) for n, t in named])]


def test_files_of_several_nodes_in_any_order_make_awaited_nodes(database: str) -> None:
    smart = json.dumps(
        {"smartctl": {"version": [7, 3]}, "serial_number": "A1", "smart_status": {"passed": False}}
    )
    links = json.dumps(
        [{"ifname": "stor0", "operstate": "UP", "mtu": 9000, "link_type": "ether", "link_speed_mbit": 25000}]
    )
    found = results(
        ("auk.smartctl-sda.json", smart),
        ("tern.lsblk.json", lsblk("B1")),
        ("auk.ip.json", links),
        ("auk.lsblk.json", lsblk("A1", "A2")),
    )
    assert found == [
        ("taken", "Health of a disk of auk."),
        ("taken", "1 disk of tern."),
        ("taken", "1 network port of auk."),
        ("taken", "2 disks of auk."),
    ]
    view = current_view()
    assert [(n.name, n.contact) for n in view.nodes] == [("auk", Contact.AWAITED), ("tern", Contact.AWAITED)]
    assert view.disk("auk-sda").why == ["its own health test says it is failing"]
    assert view.disk("auk-sdb").role == "unclaimed"
    assert view.nodes[0].ports[0].bytes_per_second == 3_125_000_000
    with pytest.raises(NotPossible, match="auk is not heard"):  # known, but nobody there could prepare it
        changes.carry_out(ME, "form-pool", {"name": "p", "disks": ["auk-sdb", "tern-sda"], "copies": 1})


def test_files_again_bring_up_to_date_and_health_may_come_later(database: str) -> None:
    assert results(("auk.lsblk.json", lsblk("A1", "A2"))) == [("taken", "2 disks of auk.")]
    assert results(("auk.lsblk.json", lsblk("A2"))) == [("taken", "1 disk of auk.")]
    assert {d.serial: d.present for d in current_view().disks} == {"A1": False, "A2": True}
    smart = {
        "smartctl": {},
        "serial_number": "A2",
        "nvme_smart_health_information_log": {"critical_warning": 8},
    }
    assert results(("auk.smartctl.json", json.dumps(smart))) == [("taken", "Health of 1 disk of auk.")]
    assert "its media are read-only" in next(d for d in current_view().disks if d.serial == "A2").why
    assert results(("auk.smartctl.json", json.dumps(smart | {"serial_number": "Z"}))) == [
        ("refused", "auk has no disk with serial number Z.")
    ]


BAD_FILES = [
    ("x.lsblk.json", "", "It ends in the middle (line 1)."),
    ("x.lsblk.json", "<html>", "It is not JSON (line 1)."),
    ("x.lsblk.json", lsblk("A")[:-9], "It ends in the middle (line 1)."),
    (
        "x.lsblk.json",
        '{"hits": 3, "took": 1}',
        "It is JSON, but of another tool: it has hits, took at its top.",
    ),
    ("x.lsblk.json", "[1, 2]", "It is JSON, but not of a tool that Fold Barn reads."),
    ("lsblk.json", lsblk("A"), "Neither the file nor its name says which node it is of."),
    (
        "x.lsblk.json",
        lsblk("A", size="3.5T"),
        "Disk sda has a size of '3.5T', which is not a number of bytes.",
    ),
    ("x.lsblk.json", lsblk("A", size=-5), "Disk sda has a size of '-5', which is not a number of bytes."),
    (
        "x.lsblk.json",
        lsblk("A", size=10**19),
        "Disk sda has a size of '10000000000000000000', which is not a number of bytes.",
    ),
    (
        "x.lsblk.json",
        json.dumps({"blockdevices": [{"name": "a", "size": 1}] * 5000}),
        "5,000 block devices are listed; a node has 2,048 at the most.",
    ),
    ("x.lsblk.json", '{"blockdevices": ' + "[" * 200_000, "It ends in the middle"),
    (
        "x.lsblk.json",
        " " * 17_000_000,
        "It is too large: 17 MB, where a node's inventory has 16 MB at the most.",
    ),
    (
        "x.smartctl.json",
        '{"smartctl": {}}',
        "This smartctl output names no serial number, so its disk is unknown.",
    ),
    (
        "x.smartctl.json",
        '{"smartctl": {}, "serial_number": "A"}',
        "x is not known yet; what lsblk says of it is needed first.",
    ),
    ("no!name.lsblk.json", lsblk("A"), "'no!name' cannot be a name."),
]


@pytest.mark.parametrize(("name", "text", "sentence"), BAD_FILES)
def test_a_bad_file_is_refused_with_a_sentence_and_the_others_are_taken(
    database: str, name: str, text: str, sentence: str
) -> None:
    found = take_files(ME, [File(name, text), File("good.lsblk.json", lsblk("G1"))])
    assert found[0].result == "refused"
    assert found[0].sentence.startswith(sentence)
    assert found[1].result == "taken"
    assert [n.name for n in current_view().nodes] == ["good"]


def test_disks_without_or_with_the_same_serial_number_are_told_apart_and_unfit(database: str) -> None:
    devices = json.loads(lsblk("", "", "S", "S"))["blockdevices"]
    for device, wwn in zip(devices, ("", "", "0x51", "0x52"), strict=True):
        device["wwn"] = wwn
    assert results(("auk.lsblk.json", json.dumps({"blockdevices": devices})))[0][0] == "taken"
    reasons = [[r.code for r in d.reasons] for d in current_view().disks]
    assert reasons == [["nameless"], ["nameless"], ["serial-twice"], ["serial-twice"]]


def test_a_node_whose_agent_reports_takes_no_files(barn_site: Site) -> None:
    assert results(("fulmar.lsblk.json", lsblk("X"))) == [
        ("skipped", "fulmar's own agent reports, and knows better than a file.")
    ]
    assert len(current_view().disks) == 93


def test_an_agent_takes_over_from_a_description_without_doubling_disks(database: str, yard: Yard) -> None:
    files.read_bmc(ME, f"{yard.url}/bmc/skua", "yard", "yard")
    before = current_view()
    assert (before.node("skua").contact, len(before.disks)) == (Contact.AWAITED, 11)
    assert {r.code for d in before.disks for r in d.reasons} == {"not-inspected"}
    intake.welcome_agent(yard.agent("skua"))
    after = current_view()
    assert (after.node("skua").contact, len(after.disks)) == (Contact.HEARD, 11)
    assert {d.name for d in after.disks} == {d.name for d in before.disks}
    assert after.disk("skua-3").why == ["it carries a file-system signature (ext4)"]
    assert after.disk("skua-5").paths == ("skua:sdf", "skua:sdg")


def test_a_bmc_that_is_none_or_refuses_is_said(database: str, yard: Yard) -> None:
    with pytest.raises(NotAllowed, match="does not accept this name and password"):
        files.read_bmc(ME, f"{yard.url}/bmc/skua", "yard", "guess")
    with pytest.raises(NotPossible, match="does not speak Redfish"):
        files.read_bmc(ME, f"{yard.url}/levers", "yard", "yard")
    with pytest.raises(Unreachable, match="cannot be read"):
        files.read_bmc(ME, "http://127.0.0.1:1", "yard", "yard")
    with pytest.raises(NotPossible, match="starts with http:// or https://"):
        files.read_bmc(ME, "skua.bmc", "yard", "yard")
    assert current_view().nodes == ()


@pytest.fixture
def shelf(database: str) -> Any:
    """Two nodes that reach the same shelf of three disks; auk lacks a path to the third."""
    shared = {"shared_with": ("auk",), "enclosure": "shelf-1"}
    disks = [
        StandInDisk(f"s{n}", f"SH{n}", f"0x5000c500aa00000{n}", "Geo D12", "hdd", 12 * 10**12, **shared)
        for n in (1, 2, 3)
    ]  # type: ignore[arg-type]
    disks[2].shared_with = ()
    own = [
        StandInDisk("1", f"OWN{n}", f"0x5000c500bb00000{n}", "Holm S3840", "ssd", 3_840 * 10**9)
        for n in (1, 2)
    ]
    ports = [StandInPort("stor0", "storage", 25_000, addresses=("10.20.0.1/24",))]
    port = free_port()
    machines = Machines(
        [
            StandInNode("skua", "R", "k1", 0, [own[0], *disks], ports),
            StandInNode("auk", "R", "k2", 0, [own[1]], ports),
        ]
    )
    served = serve(make_yard(machines, f"http://127.0.0.1:{port}", ""), port)
    yield Yard(served.url, machines)
    served.stop()


def test_disks_of_a_box_that_two_nodes_reach_are_one_disk_each_and_a_fault_domain(shelf: Yard) -> None:
    intake.welcome_agent(shelf.agent("skua"))
    intake.welcome_agent(shelf.agent("auk"))
    view = current_view()
    assert len(view.disks) == 5
    assert [(e.name, e.nodes) for e in view.enclosures] == [("shelf-1", ("auk", "skua"))]
    assert sorted(view.disk("skua-s1").paths) == ["auk:sdb", "skua:sdb"]
    assert view.disk("skua-s3").missing_paths == ("auk has no path to it",)
    names = view.domain_names(Level.NODE)
    domains = {d.name: names[view.domain_of(Level.NODE)[i]] for i, d in enumerate(view.disks)}
    assert domains == {
        "skua-1": "skua",
        "auk-1": "auk",
        "skua-s1": "shelf-1",
        "skua-s2": "shelf-1",
        "skua-s3": "shelf-1",
    }
    shelf.machines.cable(shelf.machines.disks["SH3"], "auk")  # which was lacking
    intake.welcome_agent(shelf.agent("auk"))
    assert current_view().disk("skua-s3").missing_paths == ()


# The site's text. ----------------------------------------------------------------------------------


def test_the_sites_text_is_read_and_written_back_without_loss(barn_site: Site) -> None:
    described = text_of(current_view())
    again = read_text(write_text(described))
    assert again == described
    assert [len(n.disks) for r in again.rooms for k in r.racks for n in k.nodes] == [
        11,
        9,
        11,
        11,
        11,
        9,
        11,
        9,
        11,
    ]


names = st.text("abcdefgh-0123456789 #:{}[]'\"éñ", min_size=1, max_size=12).filter(lambda s: s == s.strip())


@given(
    st.lists(names, min_size=1, max_size=4, unique_by=str.casefold),
    st.integers(1, 2**50),
    st.sampled_from(["yes", "null", "1e3", "0x10", "~", "a: b", "- x"]),
)
def test_any_text_survives_writing_and_reading(rooms: list[str], size: int, odd: str) -> None:
    made = SiteText.model_validate(
        {
            "site": odd,
            "rooms": [
                {
                    "name": n,
                    "racks": [
                        {
                            "name": f"{n}.r",
                            "nodes": [
                                {
                                    "name": f"n{i}",
                                    "memory": size,
                                    "disks": [
                                        {"bay": odd, "size": size, "medium": "ssd", "serial": f"{odd}{i}"}
                                    ],
                                }
                            ],
                        }
                    ],
                }
                for i, n in enumerate(rooms)
            ],
        }
    )
    assert read_text(write_text(made)) == made


BOMB = "a: &a [x,x]\nb: &b [*a,*a]\nc: [*b,*b]\n"


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        (
            "site: S\nrooms:\n  - name: R\n    racks:\n      - name: K\n        nods: []\n",
            6,
            "There is no key 'nods' here.",
        ),
        ("site: S\nrooms:\n  - racks: []\n", 3, "'name' is missing."),
        ("site: S\nrooms: many\n", 2, "'rooms' is not usable: input should be a valid list."),
        ("site: S\nrooms:\n  - name: [1]\n", 3, "'name' is not usable: input should be a valid string."),
        ("site: S\nrooms:\n  - name: R\n  - name: r\n", 4, "There are two rooms named 'r'."),
        (BOMB, 1, "Anchors and aliases are not read; write it out."),
        ("site: S\nsite: T\n", 2, "There are two keys 'site' here."),
        ("site: [S\n", 2, "This is not YAML"),
        ("- a\n- b\n", 1, "A site's text begins with 'site:' and its name."),
        ("", 1, "A site's text begins with 'site:' and its name."),
        ("[" * 5000, 1, "It nests deeper than 16 levels here."),
        ("site: S\nrooms: " + "[{racks: " * 9, 2, "It nests deeper than 16 levels here."),
        (
            "site: S\n" + "".join(f"k{n}: 1\n" for n in range(200_000)),
            65,
            "There are more than 64 keys in one place",
        ),
        ("site: S\nrooms: [" + "1," * 300_000 + "]", 2, "There are more than 300,000 values up to here."),
        ("site: S\n? [a]\n: b\n", 2, "A key is one word here"),
        ("site: S\n---\nsite: T\n", 3, "There is a second document; a text has one."),
        ("site: S\x00", 1, "This is not YAML"),
    ],
)
def test_each_error_of_a_text_has_its_line(text: str, line: int, words: str) -> None:
    with pytest.raises(BadText) as caught:
        read_text(text)
    assert caught.value.errors[0][0] == line
    assert caught.value.errors[0][1].startswith(words)


NODE = "site: S\nrooms:\n  - name: R\n    racks:\n      - name: K\n        nodes:\n          - name: n\n"


@pytest.mark.parametrize(
    ("more", "line", "words"),
    [
        (
            "            disks:\n              - {bay: 1, size: 3 bananas, medium: ssd}\n",
            9,
            "'size' is not usable: 'bananas' is not a unit of size.",
        ),
        (
            "            disks:\n              - {bay: 1, size: 3 TB, medium: tape}\n",
            9,
            "'medium' is not usable",
        ),
        (
            "            disks:\n              - {bay: 1, size: true, medium: ssd}\n",
            9,
            "'size' is not usable: a size is a number and a unit",
        ),
        (
            "            ports:\n              - {name: p, addresses: [10.0.0.1]}\n",
            9,
            "'addresses' is not usable: '10.0.0.1' is not an address with a prefix",
        ),
        ("            cores: -4\n", 8, "'cores' is not usable"),
    ],
)
def test_each_error_of_a_node_has_its_line(more: str, line: int, words: str) -> None:
    with pytest.raises(BadText) as caught:
        read_text(NODE + more)
    assert caught.value.errors[0][0] == line
    assert caught.value.errors[0][1].startswith(words)


def test_a_text_makes_awaited_nodes_and_keeps_its_own_words(barn_site: Site) -> None:
    text = "# by hand\nsite: Test site\nrooms:\n  - name: Loft\n    racks:\n      - name: L-1\n"
    text += "        nodes:\n          - name: auk\n            memory: 64 GiB\n"
    text += (
        "            disks:\n              - {bay: 1, size: 4 TB, medium: hdd, serial: Z1}\n          "
        "- name: skua\n"
    )
    preview = changes.preview("describe", {"text": text})
    assert ("auk", "not known yet", "Loft, L-1") in in_words(preview)
    assert ("skua", "South Quay, SQ-2", "Loft, L-1") in in_words(preview)
    number = barn_site.do("describe", text=text)
    assert barn_site.problem(number) == ""
    view = current_view()
    assert (view.node("auk").contact, view.node("auk").memory_bytes) == (Contact.AWAITED, 64 * 2**30)
    assert {n.name for n in view.nodes if view.racks[n.rack].name == "L-1"} == {"auk", "skua"}
    assert view.racks[view.node("fulmar").rack].name == "NQ-1"  # what the text does not name stays
    from foldbarn.services.site import site_row
    from foldbarn.store.database import transaction

    with transaction() as session:
        assert site_row(session).description == text


# Arranging, names, addresses, clearing, lights. -----------------------------------------------------


def layout(**racks: list[str]) -> list[dict[str, Any]]:
    return [{"name": "Hall", "racks": [{"name": name, "nodes": nodes} for name, nodes in racks.items()]}]


ALL = ["fulmar", "gannet", "petrel", "razorbill", "kittiwake", "dunlin", "turnstone", "whimbrel", "skua"]


def test_arranging_moves_everything_at_once_and_can_be_taken_back(barn_site: Site) -> None:
    preview = changes.preview("arrange", {"rooms": layout(A=ALL[:5], B=ALL[5:])})
    assert [(e.level, e.domains) for e in told(preview, Levels).before] == [
        ("room", 2),
        ("rack", 4),
        ("node", 9),
    ]
    assert [(e.level, e.domains) for e in told(preview, Levels).after] == [
        ("room", 1),
        ("rack", 2),
        ("node", 9),
    ]
    assert any("only one room" in w.sentence for w in preview.warnings)
    assert any("only two racks" in w.sentence for w in preview.warnings)
    number = barn_site.do("arrange", rooms=layout(A=ALL[:5], B=ALL[5:]))
    assert barn_site.state(number) == "done"
    assert [(r.name, [k.name for k in current_view().racks]) for r in current_view().rooms] == [
        ("Hall", ["A", "B"])
    ]
    assert preview.undo is not None
    barn_site.do(preview.undo["kind"], **preview.undo["params"])
    assert [r.name for r in current_view().rooms] == ["North Quay", "South Quay"]
    assert [n.name for n in current_view().nodes] == ALL


@pytest.mark.pooled
def test_arranging_says_whose_copies_would_stand_together(barn_site: Site) -> None:
    barn_site.volume()
    preview = changes.preview("arrange", {"rooms": layout(A=ALL[:5], B=ALL[5:])})
    assert any("of charts would have copies in the same rack" in w.sentence for w in preview.warnings)


@pytest.mark.parametrize(
    ("rooms", "words"),
    [
        (layout(A=ALL[:8]), "skua stands nowhere"),
        (layout(A=[*ALL, "puffin"]), "There is no node named puffin"),
        (layout(A=ALL, B=["skua"]), "skua stands in two places"),
        (layout(A=ALL[:5], a=ALL[5:]), "Two racks are named"),
        (layout(**{" A": ALL}), "cannot be the name of a rack"),
        (layout(**{"x" * 64: ALL}), "cannot be the name of a rack"),
    ],
)
def test_a_bad_arrangement_is_refused(barn_site: Site, rooms: list[dict[str, Any]], words: str) -> None:
    with pytest.raises(NotPossible, match=words):
        changes.carry_out(ME, "arrange", {"rooms": rooms})


def test_renaming_by_a_pattern_follows_to_the_disks_and_the_agents_keep_their_names(barn_site: Site) -> None:
    number = barn_site.do("rename", nodes=["fulmar", "petrel"], pattern="heron-{09..10}")
    assert barn_site.state(number) == "done"
    view = current_view()
    third = next(d.serial for d in barn_site.yard.machines.nodes["petrel"].disks if d.bay == "3")
    assert (view.node("heron-10").agent_name, view.disk("heron-10-3").serial) == ("petrel", third)
    intake.welcome_agent(barn_site.yard.agent("petrel"))  # the agent goes on reporting under its own name
    assert len(current_view().nodes) == 9
    assert (
        barn_site.state(
            barn_site.do("rename", nodes=["heron-09", "heron-10"], names=["heron-10", "heron-09"])
        )
        == "done"
    )  # names can be swapped
    assert current_view().node("heron-09").agent_name == "petrel"
    for wish, words in (
        ({"nodes": ["skua"], "pattern": "GANNET"}, "exists already"),
        ({"nodes": ["skua"], "pattern": "a{1..2}"}, "stands for 2 names, and 1 node"),
        ({"nodes": ["skua", "skua"], "pattern": "a{1..2}"}, "named twice"),
        ({"nodes": [], "pattern": "a"}, "No node is chosen"),
        ({"nodes": ["skua"], "pattern": "-"}, "cannot be a name"),
    ):
        with pytest.raises(Exception, match=words):
            changes.carry_out(ME, "rename", wish)


def test_addresses_are_handed_out_in_natural_order_and_read_back(barn_site: Site) -> None:
    number = barn_site.do("address-ports", nodes=["skua", "fulmar"], port="stor0", start="10.99.0.7/24")
    assert barn_site.state(number) == "done"
    assert barn_site.yard.machines.addresses == {
        "fulmar:stor0": ["10.99.0.7/24"],
        "skua:stor0": ["10.99.0.8/24"],
    }
    with pytest.raises(NotPossible, match="room for 0 more"):
        changes.carry_out(
            ME, "address-ports", {"nodes": ["skua"], "port": "stor0", "start": "10.10.0.255/24"}
        )
    with pytest.raises(NotPossible, match="skua has no port named 'eth9'"):
        changes.carry_out(ME, "address-ports", {"nodes": ["skua"], "port": "eth9", "start": "10.10.0.1/24"})
    preview = changes.preview("address-ports", {"nodes": ["skua"], "port": "stor0", "start": "10.10.0.11/24"})
    assert in_words(preview)[0][2] == "10.10.0.20/24"  # 11 to 19 are taken by the management ports


def test_clearing_names_what_is_destroyed_and_wants_the_name_typed(barn_site: Site) -> None:
    preview = changes.preview("clear-disk", {"disk": "skua-3"})
    assert [(before, after) for _, before, after in in_words(preview)] == [
        ("it carries a file-system signature (ext4)", "nothing")
    ]
    assert preview.type_to_confirm == "skua-3"
    with pytest.raises(NotPossible, match="Type skua-3 to confirm"):
        changes.carry_out(ME, "clear-disk", {"disk": "skua-3", "typed": "skua-4"})
    number = barn_site.do("clear-disk", disk="skua-3", typed="skua-3")
    assert barn_site.state(number) == "done"
    intake.welcome_agent(barn_site.yard.agent("skua"))
    assert current_view().disk("skua-3").role == "unclaimed"
    for name, words in (
        ("skua-boot", "is never cleared"),
        ("skua-3", "it is fit as it is"),
        ("skua-99", "no disk named"),
    ):
        with pytest.raises(Exception, match=words):
            changes.carry_out(ME, "clear-disk", {"disk": name, "typed": name})


def test_a_disk_that_was_mounted_between_preview_and_step_is_not_cleared(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    from foldbarn.yard import agent as stand_in

    number = changes.carry_out(ME, "clear-disk", {"disk": "skua-3", "typed": "skua-3"})
    real = stand_in._device
    monkeypatch.setattr(
        stand_in,
        "_device",
        lambda m, d, n: real(m, d, n) | ({"mountpoints": ["/srv"]} if d.signature else {}),
    )
    run_change(number)
    assert barn_site.state(number) == "paused"
    assert "skua-3 is in use now: /srv." in barn_site.problem(number)
    assert barn_site.yard.machines.cleared == set()


def test_a_disk_that_vanished_between_preview_and_step_pauses_the_change(barn_site: Site) -> None:
    number = changes.carry_out(ME, "clear-disk", {"disk": "skua-3", "typed": "skua-3"})
    barn_site.yard.machines.pulled.add(current_view().disk("skua-3").serial)
    run_change(number)
    assert "skua no longer shows skua-3." in barn_site.problem(number)


def test_a_disk_of_another_site_is_claimed_and_can_be_cleared(barn_site: Site) -> None:
    serial = current_view().disk("skua-4").serial
    barn_site.yard.machines.pool_of[serial], barn_site.yard.machines.site_of[serial] = (
        "quayside",
        "another-site",
    )
    intake.welcome_agent(barn_site.yard.agent("skua"))
    disk = current_view().disk("skua-4")
    assert (disk.why, disk.clearable) == (["another site has claimed it for its pool 'quayside'"], True)
    assert barn_site.state(barn_site.do("clear-disk", disk="skua-4", typed="skua-4")) == "done"
    assert serial not in barn_site.yard.machines.pool_of


def test_a_disks_light_is_lit_and_put_out(barn_site: Site) -> None:
    serial = current_view().disk("skua-4").serial
    cluster.light(ME, "skua-4", True)
    assert barn_site.yard.machines.lit == {serial}
    assert current_view().disk("skua-4").lit
    cluster.light(ME, "skua-4", False)
    assert barn_site.yard.machines.lit == set()


def test_a_purpose_that_a_person_gave_outlasts_reports_and_can_be_taken_back(barn_site: Site) -> None:
    wish = {"nodes": ["fulmar"], "port": "stor1", "purpose": "client"}
    preview = changes.preview("purpose-ports", wish)
    assert in_words(preview) == [("fulmar, stor1", "storage", "client")]
    assert any("fulmar has one storage port that is up" in c.sentence for c in told(preview, Checks).rows)
    assert barn_site.state(barn_site.do("purpose-ports", **wish)) == "done"
    intake.welcome_agent(barn_site.yard.agent("fulmar"))
    assert {p.name: p.purpose for p in current_view().node("fulmar").ports} == {
        "stor0": "storage",
        "stor1": "client",
        "mgmt0": "management",
    }
    assert preview.undo is not None
    barn_site.do(preview.undo["kind"], **preview.undo["params"])
    assert current_view().node("fulmar").ports[1].purpose == "storage"
    with pytest.raises(NotPossible, match="fulmar has no port named 'eth7'"):
        changes.carry_out(ME, "purpose-ports", wish | {"port": "eth7"})


def test_what_was_entered_of_the_cluster_is_there_when_it_is_formed(
    api: httpx.Client, barn_site: Site
) -> None:
    text = (
        "site: Test site\nrooms: []\ncluster:\n  name: quay\n  keepers: [fulmar, kittiwake]\n  service "
        "address: 10.10.0.5/24\n"
    )
    text += "  witness: {name: lamp-room, address: http://w}\n"
    barn_site.do("describe", text=text)
    found = api.get("/api/text").json()
    assert found["taken"] == text
    entered = {
        "name": "quay",
        "keepers": ["fulmar", "kittiwake"],
        "service_address": "10.10.0.5/24",
        "witness_url": "http://w",
        "dedicated": [],
    }
    assert found["cluster"] == entered


def test_bodies_beyond_64_mb_are_refused_before_they_are_read(api: httpx.Client) -> None:
    answer = api.post(
        "/api/intake/files", content=b" " * 65_000_000, headers={"content-type": "application/json"}
    )
    assert answer.status_code == 413
    assert answer.json()["detail"] == "What was sent is larger than 64 MB."

    def endless() -> Any:
        for _ in range(70):
            yield b" " * 1_000_000

    answer = api.post("/api/intake/files", content=endless(), headers={"content-type": "application/json"})
    assert answer.status_code == 413


def test_a_text_means_the_nodes_it_was_previewed_with_whatever_they_are_called_by_then(
    barn_site: Site,
) -> None:
    text = "site: Test site\nrooms:\n  - name: Loft\n    racks:\n      - name: L-1\n        nodes:\n"
    text += "          - {name: skua, dedicated: true}\n          - {name: fulmar}\n"
    renamed = changes.carry_out(ME, "rename", {"nodes": ["skua", "dunlin"], "names": ["tern", "skua"]})
    change = changes.carry_out(ME, "describe", {"text": text})  # which waits for its turn
    run_change(renamed)
    run_change(change)
    assert (barn_site.state(change), barn_site.problem(change)) == ("done", "")
    view = current_view()
    assert {n.name for n in view.nodes if view.racks[n.rack].name == "L-1"} == {"tern", "fulmar"}
    assert {n.name for n in view.nodes if n.dedicated} == {"tern"}
    # By now the name skua means another node, also where an agent calls its own so.
    assert ("skua", "South Quay, SQ-1", "Loft, L-1") in in_words(changes.preview("describe", {"text": text}))


def test_a_text_that_names_one_node_twice_is_refused(barn_site: Site) -> None:
    barn_site.do("rename", nodes=["skua"], names=["tern"])
    text = "site: Test site\nrooms:\n  - name: Loft\n    racks:\n      - name: L-1\n        nodes:\n"
    text += "          - {name: skua}\n          - {name: tern}\n"
    with pytest.raises(NotPossible, match="skua and tern in the text are one node: tern"):
        changes.carry_out(ME, "describe", {"text": text})
