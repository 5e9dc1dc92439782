"""What hosts may be called, and which volumes may be attached to whom: what a preview checks and what a step
checks.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from foldbarn.core.errors import BarnError, Conflict, NotFound, NotPossible
from foldbarn.core.hosts.attachments import FileSystem, Target
from foldbarn.core.hosts.initiators import Initiator, Transport, read_initiators
from foldbarn.core.hosts.lanes import Lane, leaving
from foldbarn.core.machines.network import check_address
from foldbarn.core.names import check_name, folded
from foldbarn.core.site import Contact, Host, SiteView, Volume
from foldbarn.core.units import say_count
from foldbarn.core.volumes.bin import against_altering

MOST_HOSTS = 64  # of one volume
_PLACE = re.compile(r"(/[A-Za-z0-9._-]+)+")
LONGEST_PLACE = 200


@dataclass(frozen=True, slots=True)
class HostWish:
    """What a host is to be: as core.site.Host."""

    name: str
    group: str
    initiators: tuple[Initiator, ...]
    agent_url: str


def host_wished(
    view: SiteView,
    name: str,
    group: str,
    initiators: Sequence[str],
    agent_url: str,
    host: int | None = None,
) -> HostWish:
    """What was wished for, if it may be. host: number of the one that is altered; None for a new one.

    Raises NotPossible: no such name, no name of an initiator or one that is none, an address that is none,
    one word for a host and for a group. Raises Conflict: a name that another has.
    """
    others = [other for other in view.hosts if other.number != host]
    name = check_name(name, "host", [other.name for other in others])
    group = check_name(group, "group", []) if group.strip() else ""
    groups = {folded(other.group) for other in others if other.group}
    if folded(name) in groups or folded(group) in {folded(n) for n in (name, *(o.name for o in others))}:
        word = name if folded(name) in groups else group
        words = f"'{word}' would be the name of a host and of a group."
        raise NotPossible(words, about="name", next_step="Give one of them another name.")
    found = read_initiators(initiators)
    if not found:
        raise NotPossible("A host needs a name by which it connects.", about="initiators")
    for other in others:
        if theirs := set(found) & set(other.initiators):
            words = f"{other.name} goes by {min(theirs).name} already."
            raise Conflict(words, about="initiators", next_step="Each host has names of its own.")
    url = check_address(agent_url, "The agent's address", about="agent_url") if agent_url.strip() else ""
    return HostWish(name, group, found, url)


def hosts_called(view: SiteView, words: Sequence[str]) -> list[Host]:
    """The hosts of these names, and of groups of these names, each once. Raises NotFound."""
    found: list[Host] = []
    for word in words:
        mine = [h for h in view.hosts if folded(word.strip()) in (folded(h.name), folded(h.group))]
        if not mine:
            raise NotFound(f"There is no host or group named '{word.strip()}'.", about="hosts")
        found += [host for host in mine if host not in found]
    return found


def check_place(at: str) -> str:
    """Where a volume is to be mounted, trimmed. Raises NotPossible for no place below the root."""
    at = at.strip().rstrip("/")
    parts = at.split("/")
    if len(at) > LONGEST_PLACE or not _PLACE.fullmatch(at) or ".." in parts or "." in parts:
        raise NotPossible(
            f"'{at[:60]}' is no place to mount a volume at.",
            about="at",
            next_step="Write it from the root, such as /srv/charts, with letters, digits, - . and _.",
        )
    return at


def transport_for(host: Host, wished: Transport | None) -> Transport:
    """How a host is to reach a volume: as wished, else by iSCSI where it has such a name. Raises
    NotPossible.
    """
    own = [one.transport for one in host.initiators]
    if wished is None:
        return Transport.ISCSI if Transport.ISCSI in own else own[0]
    if wished not in own:
        words = f"{host.name} has no name for {wished.said}."
        raise NotPossible(words, about="transport", next_step="Give it one, or choose the other transport.")
    return wished


def against_attaching(
    view: SiteView, volume: Volume, target: Target | None, wished: Target
) -> list[BarnError]:
    """Why a volume cannot be attached so. target: as it is; wished: as it would be."""
    found: list[BarnError] = [*_places_taken(view, target, wished)]
    if refusal := against_altering(volume):
        found.append(refusal)
    system = wished.file_system
    if target is not None and target.attachments and target.file_system != system:
        words = f"{volume.name} is attached to be used as {said(target.file_system)}."
        step = "Attach it as that, or detach it from all hosts first."
        found.append(NotPossible(words, about="file_system", next_step=step))
    writers = sum(not one.read_only for one in wished.attachments)
    if writers and volume.origin is not None and volume.origin.shown:
        words = f"{volume.name} shows a snapshot: nobody can write to it."
        found.append(NotPossible(words, about="read_only", next_step="Attach it read-only."))
    if writers > 1 and system is not FileSystem.NONE and not system.shared:
        words = f"{say_count(writers, 'host')} would write to one {system}, which destroys it."
        step = "Choose a file system that hosts share, or attach it to all but one read-only."
        found.append(NotPossible(words, about="file_system", next_step=step))
    if len(wished.attachments) > MOST_HOSTS:
        words = f"{len(wished.attachments)} hosts are too many; {MOST_HOSTS} are the most."
        found.append(NotPossible(words, about="hosts"))
    return found


def _places_taken(view: SiteView, target: Target | None, wished: Target) -> list[NotPossible]:
    """Of hosts at which another volume is to be mounted at the same place: it would be hidden."""
    fresh = {
        (one.host, one.at)
        for one in wished.attachments
        if one.at and (target is None or target.attachment(one.host) is None)
    }
    return [
        NotPossible(
            f"{view.host_numbered(one.host).name} has {view.volume_numbered(other.volume).name} at {one.at}.",
            about="at",
            next_step="Choose another place to mount it at.",
        )
        for other in view.targets
        if other.volume != wished.volume
        for one in other.attachments
        if (one.host, one.at) in fresh
    ]


def said(system: FileSystem) -> str:
    """As what a volume is used, for people."""
    return "a block device" if system is FileSystem.NONE else system.value


def against_parting(lanes: Sequence[Lane], about: str) -> list[NotPossible]:
    """Why hosts cannot be parted from a volume, host by host: those that have it mounted would lose what they
    write. about: the field of the wish.
    """
    return [
        NotPossible(
            f"{lane.host.name} has {lane.volume.name} mounted at {lane.mounted}.",
            about=about,
            next_step=f"On {lane.host.name}, run: {'; '.join(leaving(lane))}",
        )
        for lane in lanes
        if lane.mounted
    ]


def as_blocks(lanes: Sequence[Lane]) -> list[str]:
    """Names of the hosts that are connected to a volume as a block device, and may be using it."""
    return [lane.host.name for lane in lanes if lane.live and lane.target.file_system is FileSystem.NONE]


def cannot_tell(lanes: Sequence[Lane]) -> list[str]:
    """Names of the hosts that are connected, and of which nobody knows whether they have it mounted."""
    plain = FileSystem.NONE
    unknown = [lane for lane in lanes if lane.live and not lane.host.tells]
    return [lane.host.name for lane in unknown if lane.target.file_system is not plain]


def silent(hosts: Sequence[Host]) -> list[str]:
    """Names of those that have an agent and are not heard."""
    return [h.name for h in hosts if h.agent_url and h.contact != Contact.HEARD]
