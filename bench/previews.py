"""A wish of every kind, on the large site and a node that has joined it with disks nobody uses yet."""

from __future__ import annotations

from typing import Any

import foldbarn.changes.kinds.all_kinds  # noqa: F401  (registers the kinds)
from foldbarn.changes.kinds.machines.arrange import arrangement
from foldbarn.changes.text import text_of, write_text
from foldbarn.core.site import SiteView


def wishes(view: SiteView) -> dict[str, dict[str, Any]]:
    """Parameters by kind; each is one that the site takes, but for what only its agents could tell."""
    pool = view.pools[0].name
    new = [d.name for d in view.disks if d.pool < 0]
    node, disk = view.nodes[7].name, next(d.name for d in view.disks if d.pool >= 0)
    binned = next(v for v in view.volumes if v.binned)
    rooms = [room.model_dump() for room in arrangement(view)]
    first = rooms[0]["racks"]
    first[0]["nodes"], first[1]["nodes"] = first[1]["nodes"], first[0]["nodes"]
    members = [n.name for n in view.nodes[:64]]
    return {
        "form-pool": {"name": "q", "disks": new, "copies": 1, "level": "disk", "headroom": None},
        "create-volume": {"name": "new", "pool": pool, "size": "10 TiB"},
        "delete-volume": {"volume": view.volumes[0].name, "typed": view.volumes[0].name},
        "restore-volume": {"volume": binned.name},
        "empty-bin": {"pool": pool, "typed": binned.name},
        "offline-volume": {"volume": view.volumes[0].name},
        "grow-volume": {"volume": view.volumes[0].name, "size": f"{view.volumes[0].size_bytes * 2} B"},
        "move-extents": {"volume": view.volumes[0].name, "tier": "bulk"},
        "rename-volume": {"volume": view.volumes[0].name, "name": "newer"},
        "save-policy": {"name": "new", "data": 4, "parity": 2, "level": "rack"},
        "keep-policy": {"volumes": [view.volumes[1].name], "policy": "wide"},
        "delete-policy": {"policy": "none"},  # it has none of that name: what is measured is finding that out
        "set-pool": {"pool": pool, "fill_line": 0.8},
        "rebuild": {"pool": pool},
        "grow-pool": {"pool": pool, "disks": new},
        "retire": {"what": "node", "names": [node]},
        "replace-disk": {"disk": disk, "by": new[0]},
        "change-role": {"disks": [disk], "role": "spare", "reason": "to see"},
        "delete-pool": {"pool": pool},
        "clear-disk": {"disk": new[0]},
        "give-up": {"nodes": [node]},
        "arrange": {"rooms": rooms},
        "rename": {
            "nodes": [n.name for n in view.nodes],
            "names": [f"host-{n}" for n in range(len(view.nodes))],
        },
        "purpose-ports": {"nodes": members, "port": "stor0", "purpose": "storage"},
        "address-ports": {"nodes": members, "port": "stor0", "start": "10.10.0.11/16"},
        "describe": {"text": write_text(text_of(view))},
        "form-cluster": {
            "name": "c",
            "members": members,
            "keepers": members[:3],
            "service_address": "10.10.255.1/16",
        },
        "add-node": {"node": node},
        "let-go": {"node": node},
        "save-host": {"name": "newcomer", "initiators": ["iqn.2019-04.example.bench:newcomer"]},
        "attach-volume": {"volume": view.volumes[2].name, "hosts": ["bench-host"], "file_system": "xfs"},
        "detach-volume": {"volume": view.volumes[1].name, "hosts": ["bench-host"]},
        "delete-host": {"host": "bench-host"},
        "take-snapshot": {"volumes": [view.volumes[0].name], "name": "new"},
        # The site keeps no snapshots: what is measured of these is finding that out.
        "delete-snapshot": {"volume": view.volumes[0].name, "snapshots": ["none"], "typed": "none"},
        "restore-snapshot": {"volume": view.volumes[0].name, "snapshot": "none", "keep_as": "now"},
        "copy-snapshot": {"volume": view.volumes[0].name, "snapshot": "none", "name": "new"},
        "show-snapshot": {"volume": view.volumes[0].name, "snapshot": "none", "name": "new"},
        "rename-snapshot": {"volume": view.volumes[0].name, "snapshot": "none", "name": "new"},
        "grow-room": {"volume": view.volumes[0].name, "room": 30},
        "keep-on": {
            "volume": view.volumes[0].name,
            "only_on": [n.name for n in view.nodes[: len(view.nodes) // 2]],
        },
        "move-volume": {"volume": view.volumes[0].name, "pool": view.pools[-1].name},
        "stand-alone": {"volume": view.volumes[0].name},
        "make-vm": {"name": "new", "pool": pool, "disks": [{"size": "1 TiB"}] * 4},
        # There is no VM: what is measured of these is finding that out.
        "delete-vm": {"vm": "none", "typed": "none"},
        "restore-vm": {"vm": "none"},
        "revert-vm": {"vm": "none", "snapshot": "none", "keep_as": "now"},
        "clone-vm": {"vm": "none", "snapshot": "none", "name": "newer"},
        "move-vm": {"vm": "none", "pool": pool},
        "keep-memory": {"vm": "none", "name": "new"},
        "rename-vm": {"vm": "none", "name": "newer"},
        "set-template": {"vm": "none"},
        "power-on": {"vm": "none"},
        "power-off": {"vm": "none"},
        "connect-vm-host": {"host": "bench-host", "url": "https://127.0.0.1", "user": "b", "password": "b"},
        "disconnect-vm-host": {"host": "bench-host"},
        # The file service is not switched on: what is measured of most of these is finding that out.
        "serve-files": {"addresses": "10.30.0.21-10.30.0.24", "names": "files-{1..4}.example"},
        "stop-files": {},
        "make-share": {"name": "new", "pool": pool, "quota": "1 TiB"},
        "alter-share": {"share": "none", "quota": "2 TiB"},
        "rename-share": {"share": "none", "name": "newer"},
        "delete-share": {"share": "none", "typed": "none"},
        "restore-share": {"share": "none"},
        "let-user-in": {"share": "none", "user": "bench"},
        "remove-user": {"share": "none", "user": "bench"},
        # No orchestrator is connected to the site: what is measured of most of these is finding that out.
        "connect-orchestrator": {"name": "bench", "url": "https://127.0.0.1:6443", "token": "none"},
        "disconnect-orchestrator": {"orchestrator": "none"},
        "make-secret": {"orchestrator": "none"},
        "revoke-secret": {"orchestrator": "none", "secret": "none"},
        "grant-policy": {"orchestrator": "none", "namespace": "bench", "policy": "wide"},
        "withdraw-grant": {"orchestrator": "none", "namespace": "bench", "policy": "wide"},
        "publish-class": {"name": "bench", "policy": "wide"},
        "withdraw-class": {"storage_class": "none"},
        "make-claimed": {"claims": [1]},
        "bind-again": {"claim": 1, "to": 2},
        "set-volume": {"volumes": [view.volumes[0].name], "labels": ["bench"], "operations": 500},
    }
