"""What happens on the orchestrator's nodes, which are hosts of the yard: disks are connected to, file systems
made and mounted, and all of that undone. By the commands that a person would type there.
"""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from foldbarn.yard import shell
from foldbarn.yard.hosts import StandInHost, live, map_name

if TYPE_CHECKING:
    from foldbarn.yard.machines import Machines

PLACE = "/var/lib/claims/"  # under which a node mounts what pods use


@dataclass(frozen=True, slots=True)
class Wanted:
    """A volume that pods use on a node: under which target it is reached, at which portals, what file system
    is to lie on it (empty for none), and by what name it is mounted. proof: name and secret by which the node
    is let in, empty where its own name is enough; lacks: whether it is to have one, and that is not there.
    share: what is mounted instead, server and path, with what options; empty for what is a disk.
    """

    target: str
    portals: tuple[str, ...]
    file_system: str
    name: str
    proof: tuple[str, str] = ("", "")
    lacks: bool = False
    share: str = ""
    options: str = ""


@dataclass(slots=True)
class Hands:
    """mine: targets that were connected to for pods, by node."""

    machines: Machines
    mine: dict[str, set[str]] = field(default_factory=dict)

    def use(self, wanted: Mapping[str, Mapping[str, Wanted]]) -> dict[str, list[str]]:
        """Does one more step on each node towards what is wanted there, by handle. Which are in use then."""
        found = {}
        for name, host in self.machines.hosts.items():
            if name in wanted and host.power:
                found[name] = self._on(host, wanted[name])
        return found

    def _on(self, host: StandInHost, wanted: Mapping[str, Wanted]) -> list[str]:
        mine = self.mine.setdefault(host.name, set())
        used = []
        for handle, one in sorted(wanted.items()):
            if one.share:
                with contextlib.suppress(shell.Failed):
                    if f"{PLACE}{one.name}" not in host.net:
                        options = f"-o {one.options} " if one.options else ""
                        self._type(host, f"mount -t nfs {options}{one.share} {PLACE}{one.name}")
                    used.append(handle)
                continue
            mine.add(one.target)
            with contextlib.suppress(shell.Failed):  # it is tried again
                if self._reach(host, one):
                    used.append(handle)
        kept = {one.target for one in wanted.values() if not one.share}
        names = {one.name for one in wanted.values()}
        for at in [at for at in host.mounts if at.startswith(PLACE) and at.removeprefix(PLACE) not in names]:
            self._type(host, f"umount {at}")
        for at in [at for at in host.net if at.startswith(PLACE) and at.removeprefix(PLACE) not in names]:
            self._type(host, f"umount {at}")
        for target in sorted(mine - kept):
            with contextlib.suppress(shell.Failed):
                self._leave(host, target)
                mine.discard(target)
        return used

    def _reach(self, host: StandInHost, one: Wanted) -> bool:
        """Whether it can be used by now. Raises Failed."""
        if "iscsid" not in host.active or "multipathd" not in host.active:
            self._type(host, "systemctl enable --now iscsid multipathd")
        if one.lacks:  # what is in use already stays in use
            return any(name == one.target for _, name, _ in host.connected)
        self._prove(host, one)
        for at in one.portals:
            if ["iscsi", one.target, at] not in host.connected:
                with contextlib.suppress(shell.Failed):  # one path is enough to begin with
                    self._type(host, f"iscsiadm -m discovery -t sendtargets -p {at}")
                    self._prove(host, one)
                    self._type(host, f"iscsiadm -m node -T {one.target} -p {at} --login")
                    update = "-o update -n node.startup -v automatic"
                    self._type(host, f"iscsiadm -m node -T {one.target} -p {at} {update}")
        said = next((said for _, target, _, said in live(self.machines, host) if target == one.target), None)
        if said is None or said["disk"] not in host.sizes:
            return False
        disk, at = said["disk"], f"{PLACE}{one.name}"
        if host.sizes[disk] < said["bytes"]:
            self._type(host, "iscsiadm -m session --rescan")
        if not one.file_system:
            return True
        device = f"/dev/mapper/{map_name(disk)}"
        if disk not in host.maps:
            self._type(host, "multipath")
        if disk not in self.machines.made:
            self._type(host, f"mkfs.{one.file_system} {device}")
        if at not in host.mounts:
            self._type(host, f"mount {device} {at}")
        if self.machines.made[disk].bytes < int(host.sizes[disk] * shell.FILLS):
            grow = f"xfs_growfs {at}" if one.file_system == "xfs" else f"resize2fs {device}"
            self._type(host, f"multipathd resize map {map_name(disk)}")
            self._type(host, grow)
        return True

    def _prove(self, host: StandInHost, one: Wanted) -> None:
        """Has its records for a target, if there are any, say by what it logs in."""
        known = any(node[0] == one.target for node in host.nodes)
        if not known or not any(one.proof) or host.proofs.get(one.target) == list(one.proof):
            return
        update = f"iscsiadm -m node -T {one.target} -o update -n node.session.auth"
        for entry, value in zip(("authmethod", "username", "password"), ("CHAP", *one.proof), strict=True):
            self._type(host, f"{update}.{entry} -v {value}")

    def _leave(self, host: StandInHost, target: str) -> None:
        if any(name == target for _, name, _ in host.connected):
            disks = {said["disk"] for _, name, _, said in live(self.machines, host) if name == target}
            for disk in disks & set(host.maps):
                self._type(host, f"multipath -f {map_name(disk)}")
            self._type(host, f"iscsiadm -m node -T {target} --logout")
        if any(node[0] == target for node in host.nodes):
            self._type(host, f"iscsiadm -m node -T {target} -o delete")

    def _type(self, host: StandInHost, line: str) -> None:
        shell.run(self.machines, host, line)
