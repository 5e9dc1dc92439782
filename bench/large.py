"""A large site written straight into the tables: fifty racks, twelve disks a node, one pool of them all."""

from __future__ import annotations

import numpy as np
from sqlalchemy import insert

from foldbarn.store.database import Session
from foldbarn.store.placements import CHUNK
from foldbarn.store.tables import (
    AttachmentRow,
    ChangeRow,
    DiskRow,
    HostRow,
    InitiatorRow,
    NodeRow,
    PlacementRow,
    PlyRow,
    PoolRow,
    RackRow,
    RoomRow,
    TargetRow,
    VolumeRow,
)

RACKS, DISKS_A_NODE, COPIES = 50, 12, 3


def fill(session: Session, *, nodes: int, volumes: int, extents: int) -> None:
    """nodes: a multiple of the racks. extents: of each volume, in three racks drawn at random."""
    session.execute(insert(RoomRow), [{"id": n, "name": f"room {n}"} for n in range(1, 5)])
    racks = [{"id": n, "name": f"rack {n}", "room_id": n % 4 + 1} for n in range(1, RACKS + 1)]
    session.execute(insert(RackRow), racks)
    session.execute(
        insert(NodeRow),
        [
            {"id": n, "name": f"node-{n}", "agent_url": "", "rack_id": n % RACKS + 1, "ports": [_port(n)]}
            for n in range(1, nodes + 1)
        ],
    )
    change = {
        "kind": "form-pool",
        "params": {},
        "about": "p",
        "state": "done",
        "actor": "bench",
        "revision": 1,
        "preview": {"title": "Form pool p"},
    }
    session.execute(insert(ChangeRow), [{"id": n, **change} for n in range(1, volumes + 2)])
    pool = {"id": 1, "name": "p", "strip_bytes": 2**30, "headroom": "node", "forming": False, "change_id": 1}
    scheme = {"k": 1, "m": COPIES - 1, "level": "rack"}
    session.execute(insert(PoolRow), [pool | scheme])
    session.execute(insert(DiskRow), [_disk(n) for n in range(1, nodes * DISKS_A_NODE + 1)])
    session.execute(insert(HostRow), [{"id": 1, "name": "bench-host", "made_by": 1}])
    own = {"host_id": 1, "transport": "iscsi", "name": "iqn.2019-04.example.bench:host"}
    session.execute(insert(InitiatorRow), [own])
    rng = np.random.default_rng(1)
    for number in range(1, volumes + 1):
        volume = {"id": number, "name": f"v{number}", "pool_id": 1, "size_bytes": extents * 2**30}
        session.execute(insert(VolumeRow), [volume | {"forming": False, "change_id": number + 1}])
        session.execute(insert(PlyRow), [{"id": number, "volume_id": number, "extents": extents} | scheme])
        placed = _placed(rng, nodes, extents)
        session.execute(
            insert(PlacementRow),
            [
                {"ply_id": number, "chunk": chunk, "disks": placed[start : start + CHUNK].tobytes()}
                for chunk, start in enumerate(range(0, extents, CHUNK))
            ],
        )
    if volumes > 1:
        session.execute(insert(TargetRow), [{"id": 1, "volume_id": 2, "gateways": [1, 2]}])
        attached = {"target_id": 1, "host_id": 1, "transport": "iscsi", "made_by": 1}
        session.execute(insert(AttachmentRow), [attached])


def _disk(number: int) -> dict[str, object]:
    return {
        "id": number,
        "node_id": (number - 1) // DISKS_A_NODE + 1,
        "name": f"d-{number}",
        "bay": str(number % DISKS_A_NODE),
        "serial": str(number),
        "identity": f"serial:/{number}",
        "kernel_name": "sda",
        "wwn": "",
        "model": "",
        "media": "ssd",
        "size_bytes": 3_840 * 10**9,
        "role": "capacity",
        "pool_id": 1,
    }


def _port(node: int) -> dict[str, object]:
    """A port for storage, with an address of its own."""
    address = f"10.{node // 65536}.{node // 256 % 256}.{node % 256}/8"
    speed = {"up": True, "bytes_per_second": 3_125_000_000}
    return {"name": "stor0", "purpose": "storage", "addresses": [address], **speed}


def _placed(rng: np.random.Generator, nodes: int, extents: int) -> np.ndarray:
    """Disk numbers, [extents, copies]: each copy in another rack, on any node of it, on any disk of that."""
    racks = np.argsort(rng.random((extents, RACKS)), axis=1)[:, :COPIES]
    node = racks + RACKS * rng.integers(0, nodes // RACKS, racks.shape)  # a rack's nodes differ by the racks
    node = (node - 1) % nodes
    return (node * DISKS_A_NODE + rng.integers(1, DISKS_A_NODE + 1, racks.shape)).astype("<i4")
