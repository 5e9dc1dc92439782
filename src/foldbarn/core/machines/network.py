"""Network ports of nodes: what is wrong with them, addresses in sequence, and what must be open between whom.

Addresses and prefixes: RFC 4291 (IPv6, with its subnet-router anycast address), RFC 5952 (how they are
written), RFC 4632 (CIDR). Speeds are bytes per second.
"""

from __future__ import annotations

import ipaddress
import re
from collections import Counter, defaultdict
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Literal
from urllib.parse import urlsplit

from foldbarn.core.errors import NotPossible
from foldbarn.core.names import natural_key
from foldbarn.core.units import MB, say_list

Interface = ipaddress.IPv4Interface | ipaddress.IPv6Interface
Network = ipaddress.IPv4Network | ipaddress.IPv6Network
SLOWEST_STORAGE = 125 * MB  # 1 Gb/s, the least for a storage port; common practice
PURPOSES = ("management", "storage", "client")


@dataclass(frozen=True, slots=True)
class Port:
    """A network port. neighbour: name of the system at the other end of its cable, as link discovery (IEEE
    802.1AB) tells; empty where unknown.
    """

    node: str
    name: str
    purpose: str
    up: bool
    bytes_per_second: int
    mtu: int = 1500
    addresses: tuple[str, ...] = ()  # with prefix: 10.20.0.11/24
    neighbour: str = ""


@dataclass(frozen=True, slots=True)
class Finding:
    """Something about a node's network (or memory, or clock): fail blocks forming a cluster, doubt warns."""

    weight: Literal["fail", "doubt"]
    node: str
    sentence: str
    cure: str
    port: str = ""


def say_speed(bytes_per_second: int) -> str:
    """Speed as network people say it: "25 Gb/s", "100 Mb/s"."""
    bits = bytes_per_second * 8
    return f"{bits / 10**9:g} Gb/s" if bits >= 10**9 else f"{bits / 10**6:g} Mb/s"


LONGEST_ADDRESS = 300  # characters
_LABEL = re.compile("[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?", re.ASCII)
_PATH = re.compile("[!-~]*", re.ASCII)


def check_address(text: str, whose: str, *, about: str) -> str:
    """An address of an HTTP service, as it is asked for: http or https, a host, perhaps a port and a path
    (RFC 3986).

    whose: as a sentence begins, such as "The witness's address". Raises NotPossible: no such address, a host
    that is none (RFC 1123, or an IP address), a name and password inside it, a query.
    """
    shown = text.strip()
    next_step = "Write it as https://10.10.0.5:7400 or https://name.example/path."

    def refused(why: str) -> NotPossible:
        return NotPossible(f"{whose} {why}.", about=about, next_step=next_step)

    if len(shown) > LONGEST_ADDRESS:
        raise refused(f"has {len(shown)} characters; {LONGEST_ADDRESS} are the most")
    try:
        parts = urlsplit(shown)
        host, port = parts.hostname or "", parts.port
    except ValueError:
        raise refused("is none that could be asked") from None
    if parts.scheme not in ("http", "https"):
        raise refused("starts with http:// or https://")
    if "@" in parts.netloc:
        raise refused("holds a name or password; these are never put into an address")
    if parts.query or parts.fragment or not _PATH.fullmatch(shown):
        raise refused("may have a path of plain characters, and nothing after it")
    if port == 0 or not _is_host(host):
        raise refused("names no host that could be asked")
    return shown.rstrip("/")


def _is_host(host: str) -> bool:
    """Whether this is an IP address, or a name of RFC 1123."""
    try:
        ipaddress.ip_address(host)
    except ValueError:
        labels = host.removesuffix(".").split(".")
        return len(host) <= 253 and all(_LABEL.fullmatch(label) for label in labels)
    return True


def read_interface(text: str) -> Interface:
    """An address with its prefix. Raises NotPossible."""
    try:
        if "/" not in text:
            raise ValueError("no prefix length")
        return ipaddress.ip_interface(text.strip())
    except ValueError as error:
        raise NotPossible(
            f"'{text}' is not an address with a prefix length.",
            about="start",
            next_step="Write it as 10.20.0.11/24 or fd00:20::11/64.",
        ) from error


def port_findings(ports: Sequence[Port], nodes: Sequence[str]) -> list[Finding]:
    """Everything about the storage network of these nodes that is wrong or doubtful."""
    found: list[Finding] = []
    storage = [p for p in ports if p.purpose == "storage" and p.node in nodes]
    for node in sorted(nodes, key=natural_key):
        found += _one_node(node, [p for p in storage if p.node == node])
    found += _subnets(storage, nodes)
    found += _same_address([p for p in ports if p.node in nodes])
    found += _cables(storage, nodes)
    return found


def _one_node(node: str, ports: list[Port]) -> list[Finding]:
    found = []
    good = [p for p in ports if p.up and p.bytes_per_second >= SLOWEST_STORAGE]
    if not good:
        found.append(
            Finding(
                "fail",
                node,
                f"{node} has no storage port of at least 1 Gb/s that is up.",
                "Give one of its ports the purpose storage, or mend its link.",
            )
        )
    elif len(good) == 1:
        found.append(
            Finding(
                "doubt",
                node,
                f"{node} has one storage port that is up; two are advised, for redundancy and throughput.",
                "Connect a second storage port.",
            )
        )
    for port in ports:
        if not port.up:
            found.append(
                Finding(
                    "doubt",
                    node,
                    f"Storage port {port.name} of {node} is down.",
                    "Look at its cable and at the switch.",
                    port.name,
                )
            )
        elif port.bytes_per_second < SLOWEST_STORAGE:
            found.append(
                Finding(
                    "doubt",
                    node,
                    f"Storage port {port.name} of {node} runs at {say_speed(port.bytes_per_second)}, "
                    "below 1 Gb/s.",
                    "Use a faster port for storage.",
                    port.name,
                )
            )
    return found


def _networks(port: Port) -> list[Network]:
    found: list[Network] = []
    for text in port.addresses:
        try:
            interface = ipaddress.ip_interface(text)
        except ValueError:
            continue
        if not interface.is_link_local:
            found.append(interface.network)
    return found


def _subnets(storage: list[Port], nodes: Sequence[str]) -> list[Finding]:
    """A subnet is one of storage's when at least half of the nodes have a storage port in it."""
    found: list[Finding] = []
    up = [p for p in storage if p.up]
    holders: dict[Network, set[str]] = defaultdict(set)
    for port in storage:  # a port that is down still says where it belongs
        for network in _networks(port):
            holders[network].add(port.node)
    right = {network for network, who in holders.items() if 2 * len(who) >= len(nodes) and len(who) > 1}
    for port in up:
        networks = _networks(port)
        if not networks:
            found.append(
                Finding(
                    "fail",
                    port.node,
                    f"Storage port {port.name} of {port.node} has no address.",
                    "Hand out storage addresses in sequence.",
                    port.name,
                )
            )
        elif right and not right.intersection(networks):
            others = say_list([str(n) for n in sorted(right, key=str)])
            words = (
                f"Storage port {port.name} of {port.node} is in {networks[0]}, where the others are in "
                f"{others}."
            )
            found.append(
                Finding(
                    "fail",
                    port.node,
                    words,
                    "Give it an address in the same subnet as the others.",
                    port.name,
                )
            )
    for network in sorted(right, key=str):
        members = [p for p in up if network in _networks(p)]
        mtus, speeds = Counter(p.mtu for p in members), Counter(p.bytes_per_second for p in members)
        usual_mtu, usual_speed = mtus.most_common(1)[0][0], speeds.most_common(1)[0][0]
        for port in members:
            whose = f"Storage port {port.name} of {port.node} has"
            if port.mtu != usual_mtu:
                words = f"{whose} an MTU of {port.mtu}, the others in {network} have {usual_mtu}."
                found.append(
                    Finding(
                        "fail",
                        port.node,
                        words,
                        "Set the same MTU everywhere: larger packets would be lost.",
                        port.name,
                    )
                )
            if port.bytes_per_second != usual_speed:
                words = (
                    f"{whose} a speed of {say_speed(port.bytes_per_second)}, the others in {network} "
                    f"have {say_speed(usual_speed)}."
                )
                found.append(
                    Finding(
                        "doubt",
                        port.node,
                        words,
                        "The slowest port sets the pace of what crosses it.",
                        port.name,
                    )
                )
    return found


def _same_address(ports: list[Port]) -> list[Finding]:
    holders: dict[object, list[Port]] = defaultdict(list)
    for port in ports:
        for text in port.addresses:
            try:
                address = ipaddress.ip_interface(text).ip
            except ValueError:
                continue
            if not address.is_link_local:
                holders[address].append(port)
    return [
        Finding(
            "fail",
            who[0].node,
            f"{address} is the address of {say_list([f'{p.name} of {p.node}' for p in who])}.",
            "Give each port an address of its own.",
            who[0].name,
        )
        for address, who in holders.items()
        if len(who) > 1
    ]


def _cables(storage: list[Port], nodes: Sequence[str]) -> list[Finding]:
    """A cable straight from node to node serves exactly two nodes; a third could never join its subnet."""
    direct = [p for p in storage if p.neighbour in nodes and p.neighbour != p.node]
    if not direct or len(nodes) == 2:
        return []
    pairs = sorted({tuple(sorted((p.node, p.neighbour))) for p in direct})
    return [
        Finding(
            "fail",
            a,
            f"A direct cable joins {a} and {b}; it can carry storage only between exactly two nodes, "
            f"and {len(nodes)} are chosen.",
            "Connect these ports to a switch.",
        )
        for a, b in pairs
    ]


def hand_out(start: str, count: int, taken: Collection[str] = ()) -> list[str]:
    """`count` addresses with prefix, in sequence from `start`, without those taken.

    The network's own address and the broadcast address of IPv4 are never handed out (but in /31 and /32
    networks, RFC 3021), nor the subnet-router anycast address of IPv6 (RFC 4291, 2.6.1). IPv6 is written as
    RFC 5952 says. Raises NotPossible where the network is too small for them all.
    """
    first = read_interface(start)
    network = first.network
    used = {read_interface(t).ip if "/" in t else ipaddress.ip_address(t) for t in taken}
    last = int(network.broadcast_address)
    barred: set[int] = set()
    if network.version == 4 and network.prefixlen < 31:
        barred = {int(network.network_address), last}
    elif network.version == 6 and network.prefixlen < 127:
        barred = {int(network.network_address)}
    kind = type(first.ip)
    found: list[str] = []
    at = int(first.ip)
    while len(found) < count and at <= last:
        address = kind(at)
        if at not in barred and address not in used:
            found.append(f"{address}/{network.prefixlen}")
        at += 1
    if len(found) < count:
        raise NotPossible(
            f"From {first} on, {network} has room for {len(found)} more addresses; {count} are needed.",
            about="start",
            next_step="Start lower, or use a larger network.",
        )
    return found


@dataclass(frozen=True, slots=True)
class Opening:
    """A line of the port plan. source and target: fold barn, node, keeper, witness, client, bmc or mail;
    tested: agents can try it.
    """

    name: str
    source: str
    target: str
    protocol: Literal["tcp", "udp"]
    first: int
    last: int
    why: str
    purpose: str  # which of the target's addresses
    tested: bool = False

    @property
    def ports(self) -> str:
        """One port, or a range."""
        return str(self.first) if self.first == self.last else f"{self.first} to {self.last}"


PORT_PLAN = (
    Opening("agent", "fold barn", "node", "tcp", 7400, 7400, "reports and orders", "management"),
    Opening(
        "votes",
        "keeper",
        "keeper",
        "tcp",
        7410,
        7411,
        "keepers agree on who leads",
        "management",
        tested=True,
    ),
    Opening("witness", "keeper", "witness", "tcp", 7412, 7412, "the vote that stands apart", "management"),
    Opening(
        "strips", "node", "node", "tcp", 7500, 7507, "copies of strips between nodes", "storage", tested=True
    ),
    Opening("time", "node", "node", "udp", 123, 123, "clocks that agree (NTP)", "management"),
    Opening("bmc", "fold barn", "bmc", "tcp", 443, 443, "hardware read over Redfish", "management"),
    Opening("iscsi", "client", "node", "tcp", 3260, 3260, "block volumes (iSCSI)", "client"),
    Opening("nvme", "client", "node", "tcp", 4420, 4420, "block volumes (NVMe over TCP)", "client"),
    Opening("nfs", "client", "node", "tcp", 2049, 2049, "shares (NFS 4)", "client"),
    Opening("mail", "fold barn", "mail", "tcp", 25, 25, "notifications (SMTP)", "management"),
)
