"""What clients type to mount a share, by protocol and version of address, and what stands in their tables.

NFS: RFC 1813, 7530, 8881; the forms of `mount`, `mount.nfs` and `mount.cifs` are those of their manual pages.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from foldbarn.core.shares.share import FileAddress, Protocol, Share

USUAL_PLACE = "/mnt/{share}"


@dataclass(frozen=True, slots=True)
class HowToMount:
    """by: the name, or an address of version 4 or 6. commands: typed one after the other; table: the line
    for /etc/fstab.
    """

    protocol: Protocol
    by: str
    commands: tuple[str, ...]
    table: str


def source_of(protocol: Protocol, server: str, share: str) -> str:
    """What is mounted, as clients write it."""
    if protocol is Protocol.SMB:
        return f"//{server}/{share}"
    return f"[{server}]:/{share}" if ":" in server else f"{server}:/{share}"


def options_of(protocol: Protocol, *, at: str = "", user: str = "") -> str:
    """at: the address, where a client is not to look for the name itself; user: of SMB."""
    match protocol:
        case Protocol.NFS3:
            return "vers=3"
        case Protocol.NFS41:
            return "vers=4.1"
        case Protocol.SMB:
            by = f",ip={at}" if at else ""
            return f"vers=3.1.1,username={user or 'USER'}{by}"


def how_to_mount(share: Share, address: FileAddress, place: str = "") -> list[HowToMount]:
    """By each of its protocols, by name and by each of its addresses."""
    where = place or USUAL_PLACE.format(share=share.name)
    found = []
    for protocol in share.protocols:
        for by in (address.name, *address.at):
            smb = protocol is Protocol.SMB
            # By SMB a server is called by its name, and found by an address beside that.
            source = source_of(protocol, address.name if smb else by, share.name)
            user = share.users[0].name if share.users else ""
            options = options_of(protocol, at=by if smb and by != address.name else "", user=user)
            kind = "cifs" if smb else "nfs"
            commands = (f"mkdir -p {where}", f"mount -t {kind} -o {options} {source} {where}")
            kept = options if not smb else options.replace(f"username={user or 'USER'}", _CREDENTIALS)
            table = f"{source} {where} {kind} {kept},_netdev 0 0"
            found.append(HowToMount(protocol, by, commands, table))
    return found


_CREDENTIALS = "credentials=/etc/cifs-credentials"


def read_source(source: str) -> tuple[str, str]:
    """Server and share of what is mounted, as `findmnt` prints it; empty for what is neither NFS nor SMB."""
    if source.startswith("//"):
        server, _, share = source[2:].partition("/")
        return server, share.strip("/")
    if source.startswith("["):
        server, _, share = source[1:].partition("]:")
        return server, share.strip("/")
    server, colon, share = source.partition(":")
    return (server, share.strip("/")) if colon else ("", "")


def is_mount_of(source: str, share: Share, addresses: Sequence[FileAddress]) -> bool:
    """Whether what a client has mounted is this share, at any of these addresses."""
    server, path = read_source(source)
    known = {name for one in addresses for name in (one.name, *one.at)}
    return path == share.name and server.lower() in known
