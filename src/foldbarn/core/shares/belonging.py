"""What hangs together with a share: its volume, and who has it mounted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import cast

from foldbarn.core.errors import Conflict, NotPossible
from foldbarn.core.names import LONGEST_NAME, check_name, folded, natural_key
from foldbarn.core.shares.mounting import is_mount_of
from foldbarn.core.shares.share import FileAddress, Mount, Protocol, Share
from foldbarn.core.site import Contact, Host, SiteView, Volume
from foldbarn.core.units import say_list

ENDING = "-files"


def volume_name(share: str) -> str:
    """What the volume of a share is called as it is made."""
    return f"{share}{ENDING}"


def is_binned(view: SiteView, share: Share) -> bool:
    """Whether it was deleted, and can still be brought back."""
    return view.volume_numbered(share.volume).binned is not None


def check_share_name(view: SiteView, name: str, share: int | None = None) -> str:
    """The name, trimmed, if a share (by number; None for one yet to be made) may have it. Raises NotPossible,
    and Conflict where another has it, if only in the bin.
    """
    others = [other for other in view.shares if other.number != share]
    twin = next((other for other in others if folded(other.name) == folded(name.strip())), None)
    if twin is not None and is_binned(view, twin):
        words = f"A share in the bin is called {twin.name}, and comes back under that name."
        raise Conflict(words, about="name", next_step="Choose another name, or empty the bin of it.")
    found = check_name(name, "share", [other.name for other in others])
    longest = LONGEST_NAME - len(ENDING)
    if len(found) > longest:
        words = f"The name has {len(found)} characters; its volume is called after it, and {longest} are the "
        raise NotPossible(f"{words}most.", about="name")
    return found


def against_by_itself(
    view: SiteView, volume: Volume, doing: str, about: str = "volumes"
) -> list[NotPossible]:
    """Why something is not done to a volume by itself: a share lies on it. doing: what is to be done with
    that instead, as a next step.
    """
    share = view.share_of(volume.number)
    if share is None:
        return []
    words = f"{volume.name} holds the share {share.name}."
    return [NotPossible(words, about=about, next_step=doing.format(share=share.name))]


@dataclass(frozen=True, slots=True)
class MountedAt:
    """A client that has a share mounted. host: that which has its address, where one is known; at: where it
    has it, as that tells; empty where nobody tells. kept: whether it stands in the table of the host, so that
    it is mounted again when that starts; None where nobody tells.
    """

    client: str
    protocol: Protocol
    read_only: bool
    user: str
    host: str
    at: str
    kept: bool | None

    @property
    def who(self) -> str:
        return self.host or self.client

    @property
    def said(self) -> str:
        where = f" at {self.at}" if self.at else ""
        return f"{self.who}{where}"


def mounts_of(view: SiteView, share: Share) -> list[MountedAt]:
    """Who has a share mounted, as the nodes tell that are heard; where, as its hosts do."""
    served = _told(view).get(share.number, ())
    owners = _owners(view) if served else {}
    addresses = view.files.addresses if view.files is not None else ()
    found = []
    for mount in served:
        host = owners.get(mount.client)
        at, kept = _places(host, share, addresses)
        found.append(
            MountedAt(
                mount.client,
                mount.protocol,
                mount.read_only,
                mount.user,
                host.name if host is not None else "",
                at,
                kept,
            )
        )
    return found


def _told(view: SiteView) -> dict[int, list[Mount]]:
    """What nodes tell that are heard, by share: sorted once for each picture of the site, as there may be
    tens of thousands when all clients of a site come at once.
    """
    if "mounts" not in view.findings:
        heard = (node for node in view.nodes if node.contact == Contact.HEARD)
        found: dict[int, list[Mount]] = {}
        told = {mount for node in heard for mount in node.files.mounts}
        for mount in sorted(told, key=lambda one: (one.share, natural_key(one.client), one)):
            found.setdefault(mount.share, []).append(mount)
        view.findings["mounts"] = found
    return cast("dict[int, list[Mount]]", view.findings["mounts"])


def _owners(view: SiteView) -> dict[str, Host]:
    """Hosts by their addresses."""
    if "owners" not in view.findings:
        view.findings["owners"] = {a: host for host in view.hosts for a in host.facts.addresses}
    return cast("dict[str, Host]", view.findings["owners"])


def _places(host: Host | None, share: Share, addresses: Sequence[FileAddress]) -> tuple[str, bool | None]:
    if host is None or not host.tells:
        return "", None
    at = sorted(
        (one.at for one in host.facts.shares if is_mount_of(one.source, share, addresses)), key=natural_key
    )
    kept = any(is_mount_of(line.source, share, addresses) for line in host.facts.kept)
    return say_list(at), kept


def against_mounted(view: SiteView, share: Share, about: str) -> list[NotPossible]:
    """Why a share is not taken away: clients have it mounted."""
    mounted = mounts_of(view, share)
    if not mounted:
        return []
    have = "has" if len(mounted) == 1 else "have"
    words = f"{say_list([one.said for one in mounted], 4)} {have} {share.name} mounted."
    return [NotPossible(words, about=about, next_step="Unmount it there first.")]


def untold(view: SiteView, share: Share) -> list[str]:
    """Nodes that may serve a share and cannot tell who has it mounted: they are not heard, and had its
    address when they were.
    """
    return [
        node.name
        for node in view.nodes
        if node.contact != Contact.HEARD and share.address in node.files.carries
    ]
