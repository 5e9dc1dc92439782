"""The shell of a stand-in host: the commands by which a person makes a volume usable there, and looks at it.
They do what those of Linux do, as far as volumes go.
"""

from __future__ import annotations

import shlex
import uuid
from collections.abc import Callable
from typing import TYPE_CHECKING

from foldbarn.core.errors import NotPossible
from foldbarn.core.units import parse_size
from foldbarn.yard.hosts import (
    PROTOCOLS,
    Made,
    Mounted,
    StandInHost,
    against_mounting,
    connect_all,
    disk_named,
    first_of,
    join,
    logged_in,
    map_name,
    mount_share,
    offered,
    probe,
    scan,
)
from foldbarn.yard.past import past_of
from foldbarn.yard.shares import FileMount, NotServed, files_at, read, remove, write

if TYPE_CHECKING:
    from foldbarn.yard.machines import Machines

FILLS = 0.98  # of a device, that a file system has room for
Words = list[str]


class Failed(Exception):
    """What a command says where it does not do what it was told."""


def run(machines: Machines, host: StandInHost, line: str) -> str:
    """Runs one line; what it prints. Raises Failed."""
    try:
        words = shlex.split(line)
    except ValueError as error:
        raise Failed(f"sh: {error}") from error
    if not words:
        return ""
    name = "mkfs" if words[0].startswith("mkfs.") else words[0]
    if name not in _COMMANDS:
        raise Failed(f"sh: {words[0]}: not found")
    return _COMMANDS[name](machines, host, words)


def _option(words: Words, *names: str) -> str:
    """What follows an option; empty where it is not given."""
    return next((words[i + 1] for i, word in enumerate(words[:-1]) if word in names), "")


# Services and files. ---------------------------------------------------------------------------------------


def _systemctl(machines: Machines, host: StandInHost, words: Words) -> str:
    verb, units = words[1] if len(words) > 1 else "", [w for w in words[2:] if not w.startswith("-")]
    if verb not in ("enable", "disable", "start", "stop", "restart") or not units:
        raise Failed("systemctl: enable, disable, start, stop or restart, and a unit")
    known = ("iscsid", "multipathd", "dlm", "corosync", "nvmf-autoconnect")
    if unknown := [unit for unit in units if unit not in known]:
        raise Failed(f"Unit {unknown[0]}.service not found.")
    for unit in units:
        if verb in ("enable", "disable"):
            host.enabled = [u for u in host.enabled if u != unit] + ([unit] if verb == "enable" else [])
        if verb in ("start", "restart") or "--now" in words:
            host.active = [u for u in host.active if u != unit] + ([unit] if verb != "disable" else [])
        if verb == "stop":
            host.active = [u for u in host.active if u != unit]
    scan(machines, host)
    return ""


def _modprobe(machines: Machines, host: StandInHost, words: Words) -> str:
    if words[1:] != ["nvme-tcp"]:
        raise Failed("modprobe: module not found")
    host.active = [*{*host.active, "nvme-tcp"}]
    return ""


def _echo(machines: Machines, host: StandInHost, words: Words) -> str:
    where = [i for i, word in enumerate(words) if word in (">", ">>")]
    if not where:
        return " ".join(words[1:])
    text, file = " ".join(words[1 : where[0]]), words[where[0] + 1] if len(words) > where[0] + 1 else ""
    if file == "/etc/iscsi/initiatorname.iscsi":
        host.names["iscsi"] = text.removeprefix("InitiatorName=").strip()
    elif file == "/etc/nvme/hostnqn":
        host.names["nvme"] = text.strip()
    elif file == "/etc/modules-load.d/nvme-tcp.conf":
        host.enabled = [*{*host.enabled, "nvme-tcp"}]
    elif file == "/etc/nvme/discovery.conf":
        parts = text.split()
        at = f"{_option(parts, '-a')}:{_option(parts, '-s')}"
        host.asks = [*host.asks, *([at] if at not in host.asks else [])]
    elif found := files_at(machines, host, file):
        _into_share(machines, found, text)
    elif file.startswith("/etc/") and file.endswith("-credentials"):
        kept = host.passwords.get(file, []) if words[where[0]] == ">>" else []
        host.passwords[file] = [*kept, text]
    elif file == "/etc/fstab":
        parts = text.split()
        if len(parts) < 4:
            raise Failed("/etc/fstab: a line has what, where, type and options")
        host.table.append(parts[:4])
    else:
        raise Failed(f"sh: {file}: Permission denied")
    return ""


def _sed(machines: Machines, host: StandInHost, words: Words) -> str:
    """Deletes lines that hold a word (/WORD/d), or one between spaces (\\#[[:space:]]WORD[[:space:]]#d)."""
    if len(words) != 4 or words[1] != "-i" or words[3] != "/etc/fstab":
        raise Failed("sed: only -i, lines to delete, and /etc/fstab")
    if words[2].startswith("\\#[[:space:]]"):
        place = words[2].removeprefix("\\#[[:space:]]").removesuffix("[[:space:]]#d")
        host.table = [line for line in host.table if place not in line[1:]]
    else:
        wanted = words[2].removeprefix("/").removesuffix("/d")
        host.table = [line for line in host.table if not any(wanted in part for part in line)]
    return ""


def _udevadm(machines: Machines, host: StandInHost, words: Words) -> str:
    if words[1:3] != ["trigger", "--settle"] or len(words) != 4:
        raise Failed("udevadm: trigger --settle DEVICE")
    probe(machines, host, _found(machines, host, "udevadm", words[3]))
    return ""


def _into_share(machines: Machines, found: tuple[FileMount, str], text: str) -> None:
    mount, path = found
    try:
        write(machines, mount, path, len(text.encode()) + 1, text)
    except NotServed as error:
        raise Failed(f"sh: {path}: {error}") from error


def _fallocate(machines: Machines, host: StandInHost, words: Words) -> str:
    """Makes a file of a size in a share."""
    found = files_at(machines, host, words[-1])
    size = _option(words, "-l")
    if found is None or not size:
        raise Failed("fallocate: -l SIZE, and a file below a share")
    try:
        write(machines, found[0], found[1], parse_size(size))
    except (NotServed, NotPossible) as error:
        raise Failed(f"fallocate: {words[-1]}: {error}") from error
    return ""


def _ls(machines: Machines, host: StandInHost, words: Words) -> str:
    """What lies in a share: whose, how large, and what it is called."""
    found = files_at(machines, host, words[-1].rstrip("/"))
    if found is None:
        raise Failed(f"ls: cannot access '{words[-1]}': No such file or directory")
    try:
        tree = read(machines, found[0])
    except NotServed as error:
        raise Failed(f"ls: {words[-1]}: {error}") from error
    return "\n".join(f"{one.owner} {one.bytes} {path}" for path, one in sorted(tree.items()))


def _rm(machines: Machines, host: StandInHost, words: Words) -> str:
    for word in words[1:]:
        found = files_at(machines, host, word)
        if found is None:
            raise Failed(f"rm: cannot remove '{word}': No such file or directory")
        try:
            remove(machines, *found)
        except NotServed as error:
            raise Failed(f"rm: cannot remove '{word}': {error}") from error
    return ""


def _cat(machines: Machines, host: StandInHost, words: Words) -> str:
    if len(words) == 2 and (found := files_at(machines, host, words[1])):
        try:
            one = read(machines, found[0]).get(found[1])
        except NotServed as error:
            raise Failed(f"cat: {words[1]}: {error}") from error
        if one is None:
            raise Failed(f"cat: {words[1]}: No such file or directory")
        return one.text
    files = {
        "/etc/fstab": "\n".join(" ".join(line) + " 0 0" for line in host.table),
        "/etc/iscsi/initiatorname.iscsi": f"InitiatorName={host.names.get('iscsi', '')}",
        "/etc/nvme/hostnqn": host.names.get("nvme", ""),
    }
    if len(words) != 2 or words[1] not in files:
        raise Failed(f"cat: {' '.join(words[1:])}: No such file or directory")
    return files[words[1]]


# Connections. ----------------------------------------------------------------------------------------------


def _iscsiadm(machines: Machines, host: StandInHost, words: Words) -> str:
    mode, at, target = _option(words, "-m"), _option(words, "-p"), _option(words, "-T")
    if "iscsid" not in host.active:
        raise Failed("iscsiadm: can not connect to iSCSI daemon (111)!")
    if mode == "discovery":
        found = list(offered(machines, host, at)) if at else []
        if not found:
            raise Failed(f"iscsiadm: {at}: no portal answers there, or it offers nothing to this host")
        for name in found:
            if not any(node[:2] == [name, at] for node in host.nodes):
                host.nodes.append([name, at, "manual"])
        return "\n".join(f"{at},1 {name}" for name in found)
    if mode == "session":
        if "--rescan" in words or "-R" in words:
            scan(machines, host)
            return ""
        return "\n".join(f"tcp: {where} {name}" for t, name, where in host.connected if t == "iscsi")
    if mode != "node":
        raise Failed("iscsiadm: -m discovery, node or session")
    mine = [n for n in host.nodes if (not target or n[0] == target) and (not at or n[1] == at)]
    if not mine:
        raise Failed("iscsiadm: No records found")
    return _on_records(machines, host, words, mine)


def _on_records(machines: Machines, host: StandInHost, words: Words, mine: list[list[str]]) -> str:
    what = _option(words, "-o", "--op")
    if "--login" in words or "-l" in words:
        for name, at, _ in mine:
            said = offered(machines, host, at).get(name)
            if said is None:
                raise Failed(f"iscsiadm: Could not login to [{name}, {at}]: no answer, or not let in")
            if logged_in(host, name, at, said) is None:
                raise Failed(f"iscsiadm: Could not login to [{name}, {at}]: authorization failure")
            if ["iscsi", name, at] not in host.connected:
                host.connected.append(["iscsi", name, at])
        scan(machines, host)
    elif "--logout" in words or "-u" in words:
        gone = {(name, at) for name, at, _ in mine}
        _disconnect(machines, host, "iscsi", gone)
    elif what == "update" and _option(words, "-n") == "node.startup":
        for node in mine:
            node[2] = _option(words, "-v")
    elif what == "update" and _option(words, "-n") in _AUTH:
        nth = _AUTH[_option(words, "-n")]
        for name in {name for name, _, _ in mine}:
            proof = host.proofs.setdefault(name, ["", ""])
            if nth is not None:
                proof[nth] = _option(words, "-v")
    elif what == "delete":
        if any(["iscsi", name, at] in host.connected for name, at, _ in mine):
            raise Failed("iscsiadm: This record is in use: log out first")
        host.nodes = [node for node in host.nodes if node not in mine]
        known = {node[0] for node in host.nodes}
        host.proofs = {name: proof for name, proof in host.proofs.items() if name in known}
    else:
        return "\n".join(f"{at},1 {name}" for name, at, _ in mine)
    return ""


# Which part of a proof an entry of a record is; None for one that says only that there is one.
_AUTH = {
    "node.session.auth.authmethod": None,
    "node.session.auth.username": 0,
    "node.session.auth.password": 1,
}


def _disconnect(machines: Machines, host: StandInHost, transport: str, gone: set[tuple[str, str]]) -> None:
    """Lets go of connections, and of the disks that were seen by them alone."""
    kept = [c for c in host.connected if c[0] != transport or (c[1], c[2]) not in gone]
    seen_by = {(target, at) for _, target, at in kept} | {(target, "") for _, target, _ in kept}
    letters = {key: device for key, device in host.letters.items() if _by(key) in seen_by}
    left = {key.split(" ")[0] for key in letters}
    used = {mount.disk for mount in host.mounts.values()}
    if busy := [disk for disk in host.sizes if disk not in left and disk in used]:
        raise Failed(f"a file system on {busy[0]} is mounted")
    host.connected, host.letters = kept, letters
    mine = {f"{target} {at}" for _, target, at in kept}
    host.proved = {key: name for key, name in host.proved.items() if key in mine}
    host.sizes = {disk: size for disk, size in host.sizes.items() if disk in left}
    host.maps = [disk for disk in host.maps if disk in left]


def _by(key: str) -> tuple[str, str]:
    """The target of a device, and its portal; none where all portals are one device."""
    _, target, *at = key.split(" ")
    return target, "".join(at)


def _nvme(machines: Machines, host: StandInHost, words: Words) -> str:
    verb = words[1] if len(words) > 1 else ""
    if "nvme-tcp" not in host.active:
        raise Failed("nvme: /dev/nvme-fabrics: No such device: is the module loaded?")
    if verb == "connect-all":
        connect_all(machines, host)
    elif verb == "disconnect":
        name = _option(words, "-n", "--nqn")
        mine = {(target, at) for transport, target, at in host.connected if target == name}
        if not mine:
            raise Failed(f"nvme: no connection to {name}")
        _disconnect(machines, host, "nvme", mine)
    elif verb == "ns-rescan":
        scan(machines, host)
    elif verb == "list":
        return "\n".join(f"/dev/{device}" for device in host.letters.values() if "nvme" in device)
    else:
        raise Failed("nvme: connect-all, disconnect, ns-rescan or list")
    return ""


# Disks and file systems. -----------------------------------------------------------------------------------


def _multipath(machines: Machines, host: StandInHost, words: Words) -> str:
    if _option(words, "-f"):
        disk = disk_named(machines, host, f"/dev/mapper/{_option(words, '-f')}")
        if not disk:
            raise Failed(f"multipath: no map named {_option(words, '-f')}")
        if any(mount.disk == disk for mount in host.mounts.values()):
            raise Failed("multipath: map in use")
        host.maps.remove(disk)
        return ""
    if "multipathd" not in host.active:
        raise Failed("multipath: multipathd does not run")
    join(host)
    return "\n".join(map_name(disk) for disk in host.maps)


def _multipathd(machines: Machines, host: StandInHost, words: Words) -> str:
    if words[1:3] != ["resize", "map"] or len(words) != 4:
        raise Failed("multipathd: resize map NAME")
    if not disk_named(machines, host, f"/dev/mapper/{words[3]}"):
        raise Failed("fail")
    return "ok"


def _mkfs(machines: Machines, host: StandInHost, words: Words) -> str:
    kind, device = words[0].removeprefix("mkfs."), words[-1]
    disk = _found(machines, host, words[0], device)
    if kind not in ("ext4", "xfs", "gfs2"):
        raise Failed(f"sh: {words[0]}: not found")
    if any(mount.disk == disk for one in machines.hosts.values() for mount in one.mounts.values()):
        raise Failed(f"{words[0]}: {device} contains a mounted filesystem")
    if _read_only(machines, host, disk):
        raise Failed(f"{words[0]}: {device}: Read-only file system")
    own = uuid.uuid5(uuid.NAMESPACE_URL, f"{disk} {len(machines.made)} {machines.clock}")
    if disk in machines.made:
        machines.made_before.append(machines.made[disk])
    first = first_of(machines, disk)
    kept = past_of(machines, first)
    since = max(kept[1].marks, default=0) if kept else 0
    machines.made[disk] = Made(kind, str(own), int(host.sizes[disk] * FILLS), first, since)
    probe(machines, host, disk)
    return f"{device}: UUID={own}"


def _read_only(machines: Machines, host: StandInHost, disk: str) -> bool:
    """Whether the nodes let this host only read a disk."""
    allows = [
        said["allows"].get(own)
        for serving in machines.serving.values()
        for said in serving["targets"].values()
        if said["disk"] == disk
        for own in host.names.values()
    ]
    return "read-write" not in allows


def _found(machines: Machines, host: StandInHost, command: str, device: str) -> str:
    disk = disk_named(machines, host, device)
    if not disk:
        raise Failed(f"{command}: {device}: No such file or directory")
    return disk


def _mount(machines: Machines, host: StandInHost, words: Words) -> str:
    rest = [w for i, w in enumerate(words[1:], 1) if w[0] != "-" and words[i - 1] not in ("-o", "-t")]
    options = set(_option(words, "-o").split(","))
    if not rest:
        lines = [f"{mount.disk} on {at}" for at, mount in host.mounts.items()]
        return "\n".join([*lines, *(f"{share.source} on {at}" for at, share in host.net.items())])
    kind = _option(words, "-t")
    if len(rest) == 1:
        line = next((one for one in host.table if one[1] == rest[0]), None)
        if line is None:
            raise Failed(f"mount: {rest[0]}: can't find in /etc/fstab.")
        rest, options = [line[0], line[1]], options | set(line[3].split(","))
        kind = line[2]
    source, at = rest[0], rest[1].rstrip("/")
    if kind in PROTOCOLS:
        if at in host.net or at in host.mounts:
            raise Failed(f"mount: {at}: already mounted.")
        try:
            mount_share(machines, host, kind, source, at, sorted(options))
        except NotServed as error:
            raise Failed(f"mount.{kind}: {error}") from error
        return ""
    disk = _found(machines, host, "mount", source)
    made = machines.made.get(disk)
    if made is None:
        raise Failed(f"mount: {at}: wrong fs type, bad option, bad superblock on {source}.")
    if at in host.mounts:
        raise Failed(f"mount: {at}: already mounted.")
    problem = against_mounting(machines, host, disk, options)
    if not problem and _read_only(machines, host, disk) and "ro" not in options:
        problem = f"{source} is write-protected: mount it with -o ro."
    if problem:
        raise Failed(f"mount: {at}: {problem}")
    host.mounts[at] = Mounted(disk, "ro" in options)
    probe(machines, host, disk)
    return ""


def _umount(machines: Machines, host: StandInHost, words: Words) -> str:
    if len(words) == 2 and words[1].rstrip("/") in host.net:
        del host.net[words[1].rstrip("/")]
        return ""
    if len(words) != 2 or words[1].rstrip("/") not in host.mounts:
        raise Failed(f"umount: {' '.join(words[1:])}: not mounted.")
    del host.mounts[words[1].rstrip("/")]
    return ""


def _grow(machines: Machines, host: StandInHost, words: Words) -> str:
    """Lets a file system fill its device."""
    what = words[-1].rstrip("/")
    mount = host.mounts.get(what)
    disk = mount.disk if mount else disk_named(machines, host, what)
    made = machines.made.get(disk)
    kind = {"xfs_growfs": "xfs", "resize2fs": "ext4", "gfs2_grow": "gfs2"}[words[0]]
    if made is None or made.kind != kind:
        raise Failed(f"{words[0]}: {what} is not a mounted {kind} filesystem")
    made.bytes = int(host.sizes[disk] * FILLS)
    return ""


def _lsblk(machines: Machines, host: StandInHost, words: Words) -> str:
    lines = ["NAME  SIZE  FSTYPE  MOUNTPOINT"]
    for key, device in host.letters.items():
        disk = key.split(" ")[0]
        made = machines.made.get(disk)
        at = next((place for place, mount in host.mounts.items() if mount.disk == disk), "")
        lines.append(f"{device}  {host.sizes[disk]}  {made.kind if made else ''}  {at}".rstrip())
    return "\n".join(lines)


def _nothing(machines: Machines, host: StandInHost, words: Words) -> str:
    return ""


_COMMANDS: dict[str, Callable[[Machines, StandInHost, Words], str]] = {
    "systemctl": _systemctl,
    "modprobe": _modprobe,
    "echo": _echo,
    "sed": _sed,
    "udevadm": _udevadm,
    "cat": _cat,
    "iscsiadm": _iscsiadm,
    "nvme": _nvme,
    "multipath": _multipath,
    "multipathd": _multipathd,
    "mkfs": _mkfs,
    "mkdir": _nothing,
    "mount": _mount,
    "umount": _umount,
    "xfs_growfs": _grow,
    "resize2fs": _grow,
    "gfs2_grow": _grow,
    "lsblk": _lsblk,
    "fallocate": _fallocate,
    "ls": _ls,
    "rm": _rm,
}
