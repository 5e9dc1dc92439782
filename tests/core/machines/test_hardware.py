"""Verdicts with all their reasons, one disk seen many times, and what ordinary tools print."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.errors import NotPossible
from foldbarn.core.machines.hardware import POOL_SIGNATURE, ReportedDisk, clearable, judge
from foldbarn.core.machines.health import Grade, Health
from foldbarn.core.machines.identity import Sight, find_boxes, plain_wwn, same_disks
from foldbarn.core.machines.reading import (
    kind_of_file,
    node_of_file,
    read_disks,
    read_health,
    read_inventory,
    read_ports,
    serial_of_smart,
)
from foldbarn.core.units import GB


def disk(**facts: object) -> ReportedDisk:
    plain = {
        "bay": "1",
        "kernel_name": "sda",
        "serial": "S",
        "wwn": "",
        "model": "",
        "media": "ssd",
        "size_bytes": 10 * GB,
    }
    return ReportedDisk(**(plain | facts))  # type: ignore[arg-type]


def codes(d: ReportedDisk, **known: str) -> list[str]:
    return [r.code for r in judge(d, **known).reasons]  # type: ignore[arg-type]


def test_a_verdict_gives_every_reason() -> None:
    assert judge(disk()).fit
    everything = disk(
        mounted=("/srv",),
        partition_table="gpt",
        partitions=2,
        signature="xfs",
        size_bytes=GB - 1,
        read_only=True,
        removable=True,
        health=Health(passed=False, failure_predicted=True),
        serial="",
    )
    assert [r.sentence for r in judge(everything).reasons] == [
        "it is in use at /srv",
        "it carries a gpt partition table with 2 partitions",
        "it carries a file-system signature (xfs)",
        "it is too small: 999,999,999 bytes, where 1 GB is the least",
        "it is read-only",
        "it is removable",
        "its own health test says it is failing",
        "its node's BMC predicts that it will fail",
        "it shows neither a serial number nor a world-wide name, so it could not be told from others",
    ]
    assert codes(disk(boot=True, partition_table="gpt", mounted=("/",))) == ["boot"]
    assert judge(disk(size_bytes=GB)).fit
    assert (
        "RAID signature (linux_raid_member)" in judge(disk(signature="linux_raid_member")).reasons[0].sentence
    )


def test_a_pools_mark_is_respected_by_site_and_pool() -> None:
    ours = disk(signature=POOL_SIGNATURE, label="quayside", owner="site-a")
    assert codes(ours, site_mark="site-a", pool="quayside") == []
    assert codes(ours, site_mark="site-a") == ["marked"]
    assert codes(ours, site_mark="site-b", pool="quayside") == ["claimed"]
    assert "another site" in judge(ours, site_mark="site-b").reasons[0].sentence


def test_only_what_a_disk_carries_can_be_cleared() -> None:
    assert clearable(codes(disk(signature="ext4", partition_table="dos")))
    assert not clearable(codes(disk(boot=True, partition_table="gpt", mounted=("/",))))
    assert not clearable(codes(disk(signature="ext4", mounted=("/srv",))))
    assert not clearable(codes(disk(signature="ext4", size_bytes=1)))
    assert not clearable([])


def test_entries_of_one_disk_are_joined_and_paths_listed() -> None:
    device = {
        "type": "disk",
        "size": 10 * GB,
        "rota": False,
        "tran": "sata",
        "serial": "S1",
        "wwn": "0x5000C5",
        "model": "m",
    }
    found = read_disks(
        "n",
        {
            "blockdevices": [
                device | {"name": "sdb"},
                device | {"name": "sdd", "wwn": "naa.5000c5"},
                device | {"name": "sde", "wwn": "0x6"},
            ]
        },
    )
    assert [d.paths for d in found] == [
        ("sdb", "sdd"),
        ("sde",),
    ]  # the same serial under another world-wide name is another disk


def test_a_world_wide_name_is_the_same_however_written() -> None:
    assert {
        plain_wwn(t)
        for t in (
            "0x5000C500A1B2C3D4",
            "naa.5000c500a1b2c3d4",
            "5000C500-A1B2-C3D4",
            "wwn-0x5000c500a1b2c3d4",
        )
    } == {"5000c500a1b2c3d4"}
    assert plain_wwn("eui.0025385B01400000") == "0025385b01400000"
    assert [plain_wwn(t) for t in (None, "", "0x0000000000000000")] == ["", "", ""]


def test_views_without_a_world_wide_name_are_joined_by_serial_and_model() -> None:
    sights = [
        Sight("a", "sda", "w1", "S", "m"),
        Sight("a", "sdb", "", "S", "m"),
        Sight("b", "sda", "", "S", "other"),
        Sight("b", "sdb", "", "", ""),
    ]
    assert same_disks(sights) == [[0, 1], [2], [3]]
    assert same_disks([*sights, Sight("b", "sde", "", "", "")])[-1] == [
        4
    ]  # without any identity nothing is joined


@given(
    st.lists(
        st.tuples(
            st.sampled_from("ab"), st.sampled_from(["", "w1", "w2"]), st.sampled_from(["", "s1", "s2"])
        ),
        max_size=8,
    )
)
def test_every_view_is_in_exactly_one_group_and_names_agree_inside_it(
    views: list[tuple[str, str, str]],
) -> None:
    sights = [Sight(node, f"sd{i}", wwn, serial, "m") for i, (node, wwn, serial) in enumerate(views)]
    groups = same_disks(sights)
    assert sorted(i for g in groups for i in g) == list(range(len(sights)))
    for group in groups:
        assert len({sights[i].wwn for i in group if sights[i].wwn}) <= 1
    for wwn in ("w1", "w2"):
        assert sum(any(sights[i].wwn == wwn for i in g) for g in groups) <= 1


def test_disks_of_a_box_reached_by_two_nodes_make_an_enclosure_and_missing_paths_are_said() -> None:
    sights = [
        Sight(node, f"sd{n}", f"w{n}", f"s{n}", "m")
        for n in range(3)
        for node in ("skua", "auk")
        if (n, node) != (2, "auk")
    ]
    sights.append(Sight("skua", "sdx", "own", "own", "m"))
    groups = same_disks(sights)
    said = {f"wwn:w{n}": "shelf-1" for n in range(3)}
    boxes = find_boxes(sights, groups, said)
    assert [(b.name, b.nodes, b.disks) for b in boxes] == [("shelf-1", ("auk", "skua"), (0, 1, 2))]
    assert boxes[0].missing == ((2, "auk", "auk has no path to it"),)
    unsaid = find_boxes(sights, groups)  # without an id, the disks that the same nodes see
    assert [(b.name, b.disks) for b in unsaid] == [("auk-skua", (0, 1))]


def test_one_path_fewer_than_its_neighbours_is_a_missing_path() -> None:
    sights = [
        Sight(node, f"{path}{n}", f"w{n}", "", "m")
        for n in range(2)
        for node in ("a", "b")
        for path in ("p", "q")
        if (n, node, path) != (1, "b", "q")
    ]
    assert find_boxes(sights, same_disks(sights))[0].missing == ((1, "b", "b has 1 of 2 paths to it"),)


NODE = {"name": "n", "room": "r", "rack": "k"}


@pytest.mark.parametrize(
    ("report", "words"),
    [
        (None, "agent protocol"),
        ([], "agent protocol"),
        ({}, "agent protocol"),
        ({"node": {}}, "agent protocol"),
        ({"node": NODE | {"name": ""}, "lsblk": {"blockdevices": []}}, "agent protocol"),
        (
            {"node": NODE, "lsblk": {"blockdevices": [{"type": "disk", "name": "sda", "size": "big"}]}},
            "not a number of bytes",
        ),
        (
            {"node": NODE, "lsblk": {"blockdevices": [{"type": "disk", "name": "sda", "size": "3.5T"}]}},
            "not a number of bytes",
        ),
        (
            {"node": NODE, "lsblk": {"blockdevices": [{"type": "disk", "name": "sda", "size": True}]}},
            "not a number of bytes",
        ),
        ({"node": NODE, "lsblk": {"blockdevices": [{}] * 5000}}, "2,048 at the most"),
        ({"node": NODE, "lsblk": {"blockdevices": [None]}}, "not as lsblk prints it"),
        ({"node": NODE, "lsblk": {"blockdevices": []}, "ip": {}}, "no list of links"),
    ],
)
def test_a_report_of_another_shape_is_refused(report: object, words: str) -> None:
    with pytest.raises(NotPossible, match=words):
        read_inventory(report)


def test_sizes_as_text_and_flags_as_digits_are_those_of_older_tools() -> None:
    old = {
        "name": "sda",
        "size": "1000204886016",
        "rota": "1",
        "ro": "0",
        "rm": "1",
        "type": "disk",
        "mountpoint": "/srv",
        "serial": "S",
    }
    found = read_disks("n", {"blockdevices": [old]})[0]
    assert (found.size_bytes, found.media, found.read_only, found.removable, found.mounted) == (
        1000204886016,
        "hdd",
        False,
        True,
        ("/srv",),
    )


def test_mounts_are_found_however_deep() -> None:
    deep = {
        "name": "sda",
        "size": 10**10,
        "serial": "S",
        "children": [
            {
                "type": "part",
                "children": [{"type": "crypt", "children": [{"type": "lvm", "mountpoints": ["/"]}]}],
            }
        ],
    }
    found = read_disks(
        "n",
        {
            "blockdevices": [
                deep,
                {"name": "zram0", "type": "disk", "size": 0},
                {"name": "sr0", "type": "rom", "size": 1},
            ]
        },
    )
    assert [(d.kernel_name, d.boot, d.partitions) for d in found] == [("sda", True, 1)]


def test_ports_without_a_cable_are_left_out() -> None:
    links = [
        {"ifname": "lo", "flags": ["LOOPBACK"], "link_type": "loopback"},
        {"ifname": "veth3", "link_type": "ether"},
        {
            "ifname": "eno1",
            "operstate": "UP",
            "mtu": 9000,
            "link_speed_mbit": 25000,
            "addr_info": [{"local": "10.0.0.1", "prefixlen": 24, "scope": "global"}],
        },
    ]
    found = read_ports(links, {"eno1": "storage"})
    assert [(p.name, p.purpose, p.up, p.bytes_per_second, p.mtu, p.addresses) for p in found] == [
        ("eno1", "storage", True, 3_125_000_000, 9000, ("10.0.0.1/24",))
    ]


def test_files_are_known_by_their_content_and_nodes_by_their_names() -> None:
    assert kind_of_file({"blockdevices": []}) == "lsblk"
    assert kind_of_file({"smartctl": {}, "serial_number": "S"}) == "smartctl"
    assert kind_of_file([{"ifname": "lo"}]) == "ip"
    assert kind_of_file({"node": {}, "lsblk": {}}) == "agent"
    assert kind_of_file({"nodes": []}) == "several"
    for content in ({"hits": 3}, [], [1], "x", None):
        with pytest.raises(NotPossible):
            kind_of_file(content)
    names = (
        "fulmar.lsblk.json",
        "fulmar-smartctl-sda.json",
        "inv/fulmar/ip.json",
        "fulmar_smartctl_sda.json",
        "fulmar.quay.example_lsblk.json",
        "fulmar\\lsblk.json",
    )
    assert [node_of_file(n) for n in names] == ["fulmar"] * 6
    assert node_of_file("lsblk.json") == ""
    with pytest.raises(NotPossible, match="names no serial"):
        serial_of_smart({"smartctl": {}})


def test_health_that_is_no_health_is_refused() -> None:
    for content in (
        [],
        {"ata_smart_attributes": {"table": [{"id": 5}]}},
        {"nvme_smart_health_information_log": {"percentage_used": "much"}},
    ):
        with pytest.raises(NotPossible, match="smartctl"):
            read_health(content)


def test_how_healthy_a_disk_is_goes_by_what_it_says_and_names_the_figures() -> None:
    assert Health().grade() == (Grade.UNKNOWN, [])
    assert Health(passed=True, hours=4000, temperature=31).grade() == (Grade.GOOD, [])
    assert Health(passed=True, reallocated=313).grade() == (Grade.WARNING, ["313 sectors reallocated"])
    grade, why = Health(passed=False, pending=2).grade()
    assert grade is Grade.BAD
    assert why == ["its own health test says it is failing", "2 sectors pending"]
    # NVMe critical warning, bit 3 (NVM Express Base Specification, SMART / Health Information log).
    assert Health(critical_warning=0b1000).grade()[0] is Grade.BAD
    assert Health(critical_warning=0b0001).grade()[0] is Grade.WARNING
