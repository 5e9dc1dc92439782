"""What a cluster could be made of: who keeps votes, and where it answers, each with the reason."""

from __future__ import annotations

import ipaddress
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from itertools import combinations, zip_longest

from foldbarn.core.cluster.forming import KEEPERS, Wish, voters
from foldbarn.core.cluster.quorum import Voter, domain_losses, doubts, tolerates, vote_sentence
from foldbarn.core.errors import NotPossible
from foldbarn.core.machines.network import hand_out, read_interface
from foldbarn.core.names import natural_key
from foldbarn.core.site import Contact, Node, SiteView
from foldbarn.core.units import say_list

# Networks in which a service address is looked for, first to last: where clients are, then where people are.
PURPOSES = ("client", "management", "storage")

MOST_TRIED = 12  # nodes, those that stand farthest apart; every choice among them is tried


@dataclass(frozen=True, slots=True)
class Proposal:
    """keepers: names, in natural order; witness: its name, where it should have a vote; service_address: with
    prefix, empty where none is free. Each with its reason.
    """

    keepers: tuple[str, ...]
    witness: str
    votes_because: str
    service_address: str
    address_because: str


def propose(view: SiteView, members: Collection[str], witness: str = "") -> Proposal:
    """Of these members (by name), and of a witness (by name) that answers, where there is one.

    The best votes are those with least against them; of these, those that stand the most losses of a room, a
    rack or a node; of these, the fewest.
    """
    able = [n for n in view.nodes if n.name in members and n.contact == Contact.HEARD]
    spread = _spread(view, able)
    choices = [(chosen, "") for count in KEEPERS for chosen in combinations(spread[:MOST_TRIED], count)]
    if witness:
        choices += [(chosen, witness) for chosen in combinations(spread[:MOST_TRIED], 2)]
    if not choices:
        words = "Three nodes that are heard are needed, or two and a witness."
        return Proposal((), "", words, "", "Choose keepers first.")
    keepers, by = min(choices, key=lambda choice: _against(_voters(view, *choice)))
    names = tuple(sorted((n.name for n in keepers), key=natural_key))
    address, because = _address(view, keepers)
    return Proposal(names, by, _votes_because(_voters(view, keepers, by)), address, because)


def _spread(view: SiteView, nodes: Iterable[Node]) -> list[Node]:
    """Nodes so that any first few stand as far apart as they can: each in another room, then in another
    rack, while there is one.
    """

    def by(of: Iterable[Node], where: str) -> list[list[Node]]:
        groups: dict[int, list[Node]] = {}
        for node in of:
            rack = view.racks[node.rack]
            groups.setdefault(rack.room if where == "room" else rack.number, []).append(node)
        return list(groups.values())

    def in_turn(groups: Sequence[Sequence[Node]]) -> list[Node]:
        return [node for turn in zip_longest(*groups) for node in turn if node is not None]

    ordered = sorted(nodes, key=lambda n: natural_key(n.name))
    return in_turn([in_turn(by(room, "rack")) for room in by(ordered, "room")])


def _voters(view: SiteView, keepers: Sequence[Node], witness: str) -> list[Voter]:
    names = tuple(n.name for n in keepers)
    return voters(view, Wish("", names, names, "", witness))


def _against(votes: Sequence[Voter]) -> tuple[int, int, int]:
    """How much is against these votes: the less, the better."""
    stands = sum(loss.decides for loss in domain_losses(votes))
    return len(doubts(votes)), len(domain_losses(votes)) - stands - tolerates(len(votes)), len(votes)


def _votes_because(votes: Sequence[Voter]) -> str:
    found = [f"{vote_sentence(votes)}."]
    fatal = [loss.what for loss in domain_losses(votes) if not loss.decides]
    if fatal:
        found.append(f"Losing {'' if len(fatal) == 1 else 'any of '}{say_list(fatal)} takes the majority.")
    else:
        found.append("No room, rack or node that is lost alone takes the majority.")
    if fatal and not any(v.witness for v in votes):
        apart = [*[v for v in votes if not v.witness][:2], Voter("a witness", witness=True)]
        if all(loss.decides for loss in domain_losses(apart)):
            found.append("Two keepers and a witness that stands apart would outlast that.")
    return " ".join(found)


def _address(view: SiteView, keepers: Sequence[Node]) -> tuple[str, str]:
    """The lowest address that nothing known here has, in a network in which every keeper has a port."""
    used = {
        str(read_interface(address).ip)
        for node in view.nodes
        for port in node.ports
        for address in port.addresses
    }
    for purpose in PURPOSES:
        common = _networks(keepers[0], purpose)
        for keeper in keepers[1:]:
            common = [network for network in common if network in _networks(keeper, purpose)]
        for network in common:
            # The first address is commonly the gateway's, which no node reports (common practice).
            gateway = str(network.network_address + 1)
            try:
                found = hand_out(f"{network.network_address}/{network.prefixlen}", 1, [*used, gateway])[0]
            except NotPossible:
                continue
            because = f"The lowest of {network} that no port known here has; each keeper has a {purpose} port"
            return found, f"{because} there."
    return "", "There is no network in which every keeper has a port, or none has an address left."


def _networks(node: Node, purpose: str) -> list[ipaddress.IPv4Network | ipaddress.IPv6Network]:
    """Those of a node's ports that are up, each once."""
    found = [
        read_interface(a).network for p in node.ports if p.purpose == purpose and p.up for a in p.addresses
    ]
    return [n for n in dict.fromkeys(found) if not n.is_link_local and n.num_addresses > 4]
