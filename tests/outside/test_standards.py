"""Ground against what stands outside this project: Redfish's reference client, address standards, brute
force, this machine's tools.
"""

from __future__ import annotations

import ipaddress
import json
import subprocess
from itertools import combinations
from pathlib import Path
from typing import Any

import pytest
import sushy
from conftest import Yard, serve
from sushy import auth

from foldbarn.agent.machine import Machine, memory_bytes, read_stat, traffic
from foldbarn.agent.server import make_app
from foldbarn.core.cluster.quorum import Voter, majority, survivable
from foldbarn.core.machines.hardware import judge
from foldbarn.core.machines.health import Health
from foldbarn.core.machines.network import hand_out
from foldbarn.core.machines.reading import read_health, read_inventory
from foldbarn.house.postgres import free_port
from foldbarn.links.agents import Agent
from foldbarn.links.bmc import Bmc


@pytest.fixture
def client(yard: Yard) -> sushy.Sushy:
    """PyPI's sushy, a general client of DMTF Redfish, walking the stand-in BMC of dunlin."""
    return sushy.Sushy(yard.url, root_prefix="/bmc/dunlin/redfish/v1/", auth=auth.BasicAuth("yard", "yard"))


def word(value: Any) -> str:
    """sushy gives some values as enumerations, others as text."""
    return str(getattr(value, "value", value))


def test_sushy_walks_the_stand_in(client: sushy.Sushy) -> None:
    assert client.redfish_version == "1.17.0"
    systems = client.get_system_collection().get_members()
    assert [(s.name, word(s.power_state)) for s in systems] == [("dunlin", "On")]
    drives = [d for s in systems[0].storage.get_members() for d in s.drives]
    assert len(drives) == 9
    largest = [d for d in drives if d.capacity_bytes == 12 * 10**12]
    assert [d.identity for d in largest] == ["1", "2", "3", "4", "5", "6"]
    assert {(word(d.media_type), word(d.protocol)) for d in largest} == {("HDD", "SATA")}
    assert sum(word(d.protocol) == "NVMe" for d in drives) == 2


def test_sushy_lights_a_drive_and_cuts_the_power(client: sushy.Sushy, yard: Yard) -> None:
    system = client.get_system_collection().get_members()[0]
    drive = next(d for s in system.storage.get_members() for d in s.drives if d.identity == "4")
    drive.set_indicator_led(sushy.INDICATOR_LED_LIT)
    serial = next(d.serial for d in yard.machines.nodes["dunlin"].disks if d.bay == "4")
    assert yard.machines.lit == {serial}
    system.reset_system(sushy.RESET_FORCE_OFF)
    assert not yard.machines.power["dunlin"]
    system.reset_system(sushy.RESET_ON)
    assert yard.machines.power["dunlin"]


def test_sushy_is_refused_with_another_password(yard: Yard) -> None:
    with pytest.raises(sushy.exceptions.AccessError):
        sushy.Sushy(
            yard.url, root_prefix="/bmc/dunlin/redfish/v1/", auth=auth.BasicAuth("yard", "guess")
        ).get_system_collection().get_members()


def test_our_client_and_sushy_read_the_same(client: sushy.Sushy, yard: Yard) -> None:
    bmc = Bmc(f"{yard.url}/bmc/dunlin", "yard", "yard")
    ours = bmc.inventory()
    theirs = [
        d for s in client.get_system_collection().get_members()[0].storage.get_members() for d in s.drives
    ]
    assert {(d.bay, d.serial, d.size_bytes) for d in ours.disks} == {
        (d.identity, d.serial_number, d.capacity_bytes) for d in theirs
    }


@pytest.mark.parametrize(
    ("text", "canonical"),
    [
        # RFC 5952: leading zeros (4.1), as much as possible (4.2.1), not one field (4.2.2), longest run, the
        # first on a tie (4.2.3), case (4.3).
        ("2001:0db8::0001", "2001:db8::1"),
        ("2001:db8:0:0:0:0:2:1", "2001:db8::2:1"),
        ("2001:db8:0:1:1:1:1:1", "2001:db8:0:1:1:1:1:1"),
        ("2001:0:0:1:0:0:0:1", "2001:0:0:1::1"),
        ("2001:db8:0:0:1:0:0:1", "2001:db8::1:0:0:1"),
        ("2001:DB8::ABCD", "2001:db8::abcd"),
    ],
)
def test_ipv6_is_written_as_rfc_5952_says(text: str, canonical: str) -> None:
    assert hand_out(f"{text}/64", 1) == [f"{canonical}/64"]


def test_the_subnet_router_anycast_address_of_rfc_4291_is_never_handed_out() -> None:
    """RFC 4291, 2.6.1: the prefix followed by zeros is the subnet-router anycast address."""
    assert hand_out("2001:db8:7::/64", 2) == ["2001:db8:7::1/64", "2001:db8:7::2/64"]


@pytest.mark.parametrize(
    "network", ["192.0.2.0/29", "198.51.100.64/26", "203.0.113.4/30", "10.0.0.0/31", "2001:db8::/124"]
)
def test_a_whole_network_is_handed_out_as_the_standard_library_counts_its_hosts(network: str) -> None:
    """CIDR arithmetic (RFC 4632, documentation prefixes of RFC 5737) against
    ipaddress.ip_network(...).hosts().
    """
    hosts = [str(h) for h in ipaddress.ip_network(network).hosts()]
    found = hand_out(f"{network.split('/')[0]}/{network.split('/')[1]}", len(hosts))
    assert [a.split("/")[0] for a in found] == hosts


@pytest.mark.parametrize("votes", range(1, 8))
def test_survivable_losses_against_brute_force(votes: int) -> None:
    """Every subset of losses is tried: what is left must be more than half of all votes."""
    voters = [Voter(f"v{i}") for i in range(votes)]
    brute = {
        frozenset(lost)
        for size in range(votes + 1)
        for lost in combinations([v.name for v in voters], size)
        if 2 * (votes - size) > votes
    }
    assert set(survivable(voters)) == brute
    assert 2 * majority(votes) > votes >= 2 * (majority(votes) - 1)


@pytest.mark.parametrize(
    ("bit", "failing"),
    [(0, False), (1, False), (2, True), (3, True), (4, True), (5, False)],
)
def test_nvme_critical_warning_bits(bit: int, failing: bool) -> None:
    """NVM Express Base Specification 2.0, SMART / Health Information: 0 spare, 1 temperature, 2 reliability,
    3 read-only, 4 volatile backup, 5 PMR.

    Which of them forbid new data is our reading: degraded reliability, read-only media, and a failed backup,
    which may lose acknowledged writes with the power. Bit numbers are from memory.
    """
    health = read_health(
        {"nvme_smart_health_information_log": {"critical_warning": 1 << bit, "percentage_used": 0}}
    )
    assert bool(health.failing()) == failing
    assert bool(health.watch()) != failing


def test_nvme_percentage_used_may_pass_100_and_is_no_failure_by_itself() -> None:
    """NVM Express Base Specification 2.0: 'may exceed 100 ... does not necessarily indicate a failure';
    values above 254 are shown as 255. From memory.
    """
    worn = read_health(
        {
            "nvme_smart_health_information_log": {
                "percentage_used": 255,
                "available_spare": 100,
                "available_spare_threshold": 10,
            }
        }
    )
    assert (worn.failing(), len(worn.watch())) == ([], 1)
    low = read_health(
        {"nvme_smart_health_information_log": {"available_spare": 9, "available_spare_threshold": 10}}
    )
    assert low.watch() == ["9 % of its spare blocks left, below its threshold of 10 %"]
    assert (
        read_health(
            {"nvme_smart_health_information_log": {"available_spare": 10, "available_spare_threshold": 10}}
        ).watch()
        == []
    )


def test_ata_attributes_by_their_customary_numbers() -> None:
    """5 reallocated, 197 pending, 198 offline uncorrectable sectors: common practice of drive makers."""
    table = [{"id": n, "raw": {"value": v}} for n, v in ((5, 1), (9, 40_000), (194, 35), (197, 2), (198, 3))]
    found = read_health({"ata_smart_attributes": {"table": table}, "smart_status": {"passed": True}})
    assert found == Health(passed=True, reallocated=1, pending=2, uncorrectable=3)


def here(*command: str) -> Any:
    try:
        return json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
    except (FileNotFoundError, subprocess.CalledProcessError) as error:
        pytest.skip(f"{command[0]} does not run here: {error}")


def test_the_agent_tells_of_this_machine() -> None:
    """The machine that the tests run on, against lsblk, /proc and the kernel's own counters."""
    listed = [
        d
        for d in here("lsblk", "--json", "--bytes", "--nodeps", "--output", "NAME,TYPE,SIZE")["blockdevices"]
        if d["type"] == "disk"
    ]
    served = serve(make_app(Machine("here", "Room", "rack")), free_port())
    try:
        agent = Agent(served.url)
        found = read_inventory(agent.inventory())
        # of the clock an answer says something only when it came quickly: asked again until one did
        report = next(r for _ in range(600) if "clock_offset" in (r := agent.report()))
        counted = agent.counted()
        assert agent.probe([("127.0.0.1", int(served.url.rsplit(":", 1)[1])), ("127.0.0.1", 1)]) == [
            (True, ""),
            (False, "refused"),
        ]
        with pytest.raises(Exception, match="only reports"):
            agent.send({"id": "x", "kind": "clear", "disk": "S"})
    finally:
        served.stop()
    assert (found.node, found.room, found.rack) == ("here", "Room", "rack")
    sizes = {d["size"] for d in listed if not d["name"].startswith(("zram", "ram"))}
    assert {d.size_bytes for d in found.disks} == sizes
    assert found.memory_bytes == memory_bytes(open("/proc/meminfo").read())  # noqa: SIM115
    assert abs(report["clock_offset"]) < 1.0
    assert counted.uptime > 0
    assert counted.disks.keys() == report["disks"].keys()
    assert len(counted.plies) == 0
    root = [d for d in found.disks if "/" in d.mounted]
    assert all("boot" in [r.code for r in judge(d).reasons] for d in root)


def test_what_ports_sent_and_received_is_what_the_kernel_counts(tmp_path: Path) -> None:
    """Linux, Documentation/ABI/testing/sysfs-class-net-statistics: tx_bytes and rx_bytes."""
    for link, sent, received in (("eno1", "7003450\n", "1200400\n"), ("eno2", "5\n", None)):
        counts = tmp_path / link / "statistics"
        counts.mkdir(parents=True)
        (counts / "tx_bytes").write_text(sent)
        if received is not None:  # the other is just going
            (counts / "rx_bytes").write_text(received)
    assert traffic(tmp_path) == {"eno1": {"sent_bytes": 7_003_450, "received_bytes": 1_200_400}}
    assert traffic(tmp_path / "none") == {}


def test_counters_are_sectors_of_512_bytes() -> None:
    """Linux, Documentation/block/stat.rst: fields 3 and 7 are read and write sectors, of 512 bytes whatever
    the device's own.
    """
    text = "  8 1 2048 4 5 6 4096 8 0 10 11 12 13 14 15 16 17"
    assert read_stat(text) == {"read_bytes": 1_048_576, "written_bytes": 2_097_152}
