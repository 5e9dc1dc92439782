"""Addresses of the file service: which there are, which node each is at home on, and where it goes when that
falls away. Method: docs/methods.md, "Addresses of the file service".
"""

from __future__ import annotations

import ipaddress
from collections import Counter
from collections.abc import Mapping, Sequence

from foldbarn.core.errors import Conflict, NotPossible
from foldbarn.core.names import natural_key
from foldbarn.core.shares.rules import read_address
from foldbarn.core.shares.share import FileAddress, FileService, Share
from foldbarn.core.site import Contact, Node, SiteView
from foldbarn.core.units import say_count, say_list

MOST_ADDRESSES = 64


def read_range(text: str, about: str = "addresses") -> list[str]:
    """Addresses that stand alone, in ranges, or both, with commas or spaces between them, in the order of
    their numbers. Raises NotPossible.
    """
    found: list[tuple[int, int]] = []
    for word in text.replace(" - ", "-").replace(",", " ").split():
        first, hyphen, last = word.partition("-")
        version, low = _read(first, about)
        other, high = _read(last, about) if hyphen else (version, low)
        if version != other:
            raise NotPossible(f"'{word}' begins in one version and ends in another.", about=about)
        if high < low:
            step = f"Write {last}-{first}."
            raise NotPossible(f"The range {word} runs backwards.", about=about, next_step=step)
        if high - low >= MOST_ADDRESSES or len(found) + high - low >= MOST_ADDRESSES:
            words = f"{word} are more than {MOST_ADDRESSES} addresses, which are the most of one service."
            raise NotPossible(words, about=about)
        found += [(version, number) for number in range(low, high + 1)]
    twice = [one for one, count in Counter(found).items() if count > 1]
    if twice:
        raise NotPossible(f"{_written(*twice[0])} is named twice.", about=about)
    if not found:
        raise NotPossible("The file service needs an address.", about=about)
    if len({version for version, _ in found}) > 1:
        words = "Addresses of both versions stand in one range."
        raise NotPossible(words, about=about, next_step="Give those of version 6 a field of their own.")
    return [_checked(_written(*one), about) for one in sorted(found)]


def _read(text: str, about: str) -> tuple[int, int]:
    try:
        return read_address(text)
    except NotPossible as error:
        raise NotPossible(error.sentence, about=about) from error


def _written(version: int, number: int) -> str:
    return str(ipaddress.IPv4Address(number) if version == 4 else ipaddress.IPv6Address(number))


def _checked(address: str, about: str) -> str:
    found = ipaddress.ip_address(address)
    for is_so, what in (
        (found.is_multicast, "is for groups"),
        (found.is_loopback, "never leaves a machine"),
        (found.is_unspecified, "stands for none"),
        (found.is_link_local, "is known on one link only"),
        (found == ipaddress.ip_address("255.255.255.255"), "is for everybody"),
    ):
        if is_so:
            raise NotPossible(f"{address} {what}: no client can mount from it.", about=about)
    return address


def paired(four: Sequence[str], six: Sequence[str]) -> list[tuple[str, ...]]:
    """Addresses of both versions, those of one place together. Raises NotPossible where their numbers
    differ.
    """
    if six and four and len(four) != len(six):
        words = f"{say_count(len(four), 'address', 'addresses')} of version 4, and {len(six)} of version 6."
        raise NotPossible(
            words, about="addresses6", next_step="Give each node one of both, or leave one out."
        )
    if not four or not six:
        return [(address,) for address in (*four, *six)]
    return list(zip(four, six, strict=True))


def against_taken(view: SiteView, wanted: Sequence[str], *, about: str = "addresses") -> list[Conflict]:
    """Addresses that something else here has already: a port of a node, a host, the cluster itself."""
    taken: dict[tuple[int, int], str] = {}
    for node in view.nodes:
        for port in node.ports:
            for address in port.addresses:
                taken.setdefault(read_address(address.split("/")[0]), f"{port.name} of {node.name}")
    for host in view.hosts:
        for address in host.facts.addresses:
            taken.setdefault(read_address(address), host.name)
    if view.cluster is not None and view.cluster.service_address:
        own = view.cluster.service_address.split("/")[0]
        taken.setdefault(read_address(own), f"the cluster {view.cluster.name}, as its service address")
    return [
        Conflict(f"{address} belongs to {whose}.", about=about)
        for address in wanted
        if (whose := taken.get(read_address(address)))
    ]


def could_serve(view: SiteView) -> list[Node]:
    """Nodes that may have an address of the file service: members of the cluster that stay."""
    return [node for node in view.nodes if node.member and not node.given_up]


def homes_for(view: SiteView, count: int, keep: Mapping[int, int] | None = None) -> list[int]:
    """Numbers of the nodes on which so many addresses are to be at home, as far apart as can be: those of
    fewest first, then in rooms, racks and on nodes where none is yet. keep: by place, the nodes that some
    are at home on already. Raises NotPossible where no node could.
    """
    nodes = could_serve(view)
    if not nodes:
        words = "No node belongs to a cluster: the file service is served by one."
        raise NotPossible(words, about="addresses", next_step="Form a cluster first.")
    kept = {place: node for place, node in (keep or {}).items() if any(n.number == node for n in nodes)}
    by_number = {node.number: node for node in nodes}
    busy = Counter(kept.values())
    found = dict(kept)
    for place in range(count):
        if place in found:
            continue
        others = [by_number[number] for number in found.values()]
        racks = Counter(node.rack for node in others)
        rooms = Counter(view.racks[node.rack].room for node in others)
        best = min(
            nodes,
            key=lambda n, racks=racks, rooms=rooms: (  # type: ignore[misc]
                busy[n.number],
                n.contact != Contact.HEARD,
                rooms[view.racks[n.rack].room],
                racks[n.rack],
                natural_key(n.name),
            ),
        )
        found[place] = best.number
        busy[best.number] += 1
    return [found[place] for place in range(count)]


def carriers(homes: Sequence[tuple[int, str]], able: Sequence[str]) -> dict[int, str]:
    """Which node has each address, of those that can: the one that it is at home on, else that with fewest,
    and of several alike the first by name. Nodes that reckon with the same facts come to the same.

    homes: number of the address, and its node. Where no node can, no address is had.
    """
    could = sorted(set(able), key=natural_key)
    found = {number: node for number, node in homes if node in could}
    has = Counter(found.values())
    for number, _ in sorted(homes):
        if number not in found and could:
            mine = min(could, key=lambda node: has[node])
            found[number] = mine
            has[mine] += 1
    return found


def anew(view: SiteView) -> dict[int, int]:
    """By number of an address, the node on which it is to be at home, where the one that it has is no member
    of the cluster any more, or is given up.
    """
    if view.files is None:
        return {}
    could = {node.number for node in could_serve(view)}
    addresses = view.files.addresses
    keep = {place: one.home for place, one in enumerate(addresses) if one.home in could}
    if len(keep) == len(addresses) or not could:
        return {}
    homes = homes_for(view, len(addresses), keep)
    return {one.number: homes[place] for place, one in enumerate(addresses) if one.home != homes[place]}


def with_fewest(service: FileService, shares: Sequence[Share]) -> FileAddress:
    """The address at which fewest shares are served."""
    has = Counter(share.address for share in shares)
    return min(service.addresses, key=lambda one: (has[one.number], natural_key(one.at[0])))


def carrier_of(view: SiteView, address: FileAddress) -> Node | None:
    """The node that has an address now, as it tells; none where none that is heard tells so."""
    heard = (node for node in view.nodes if node.contact == Contact.HEARD)
    return next((node for node in heard if address.number in node.files.carries), None)


def said_homes(view: SiteView, homes: Sequence[int]) -> str:
    """For people: nodes, each once."""
    names = [view.node_numbered(number).name for number in dict.fromkeys(homes)]
    return f"{say_count(len(homes), 'address', 'addresses')} on {say_list(names)}"
