"""A site of which 20,000 volumes are attached to 1,000 hosts, by two nodes of a thousand each."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from foldbarn.core.hosts.attachments import Attachment, FileSystem, Serving, Target
from foldbarn.core.hosts.initiators import Initiator, Transport, target_name
from foldbarn.core.machines.network import Port
from foldbarn.core.policies.policy import Policy, Wishes
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import (
    Contact,
    Disk,
    Host,
    Node,
    Pool,
    Rack,
    Role,
    Room,
    SiteView,
    plain_volume,
)

NODES, VOLUMES, HOSTS, POLICIES, MARK = 1000, 20_000, 1000, 5, "bench"


def reached_site() -> SiteView:
    """Every volume keeps a policy, and every host is connected to all of its volumes by all paths but one."""
    pool = Pool(1, "p", 2**30, mirror(2, Level.NODE), None)
    racks = tuple(Rack(n + 1, f"rack-{n + 1}", n % 2) for n in range(50))
    placed = np.array([[1, 2]], dtype=np.int32)
    policies = tuple(Policy(n, f"p{n}", 1, Wishes(pool.usual, 1)) for n in range(1, POLICIES + 1))
    volumes = [
        replace(plain_volume(n + 1, f"v{n}", 0, 2**30, pool.usual, placed), policy=(n % POLICIES + 1, 1))
        for n in range(VOLUMES)
    ]
    hosts = [Host(n + 1, f"h{n}", "", (Initiator(Transport.ISCSI, _own(n)),)) for n in range(HOSTS)]
    targets, sessions = [], [set[tuple[str, str, str]]() for _ in range(NODES)]
    for number in range(VOLUMES):
        host, gateways = number % HOSTS, (number % NODES, (number + 25) % NODES)
        name = target_name(Transport.ISCSI, MARK, number + 1)
        one = Attachment(host + 1, Transport.ISCSI, at="/srv/x")
        targets.append(Target(number + 1, FileSystem.XFS, tuple(n + 1 for n in gateways), (one,)))
        for place, node in enumerate(gateways):
            for port in range(2 - place):
                sessions[node].add((name, _own(host), _address(node, port)))
    nodes = []
    for number in range(NODES):
        ports = tuple(_port(number, port) for port in (0, 1))
        node = Node(number + 1, f"n{number}", number % 50, Contact.HEARD, ports=ports)
        mine = frozenset(sessions[number])
        nodes.append(replace(node, serving=Serving(frozenset((t, i) for t, i, _ in mine), mine)))
    disks = [Disk(n + 1, f"d{n}", "1", n, "ssd", 2**40, f"S{n}", Role.CAPACITY, pool=0) for n in range(NODES)]
    return SiteView(
        name="reached",
        revision=1,
        rooms=(Room(1, "A"), Room(2, "B")),
        racks=racks,
        nodes=tuple(nodes),
        disks=tuple(disks),
        pools=(pool,),
        volumes=tuple(volumes),
        policies=policies,
        mark=MARK,
        hosts=tuple(hosts),
        targets=tuple(targets),
    )


def _own(host: int) -> str:
    return f"iqn.2019-04.example.bench:h{host}"


def _address(node: int, port: int) -> str:
    return f"10.{20 + port}.{node // 250}.{node % 250 + 1}"


def _port(node: int, port: int) -> Port:
    return Port(f"n{node}", f"stor{port}", "storage", True, 1, 9000, (f"{_address(node, port)}/16",))
