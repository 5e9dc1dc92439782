"""What becomes of addresses of the file service when a node falls away. The nodes' cluster deals them out, by
a majority of its votes, to members that are heard.
"""

from __future__ import annotations

from dataclasses import dataclass

from foldbarn.core.cluster.votes import votes_now
from foldbarn.core.shares.addresses import carriers, could_serve
from foldbarn.core.shares.share import FileAddress
from foldbarn.core.site import Contact, Node, SiteView
from foldbarn.core.units import say_list

# Within so many seconds an address is back on another node: what its cluster needs to notice (2 s), and a
# few times that for the rest. Of NFS a client waits 90 s for what it had open (RFC 8881, 8.4.2, from memory).
MOVES_WITHIN_SECONDS = 10.0


@dataclass(frozen=True, slots=True)
class Takeover:
    """decides: whether the cluster does, now. others: whether a second node could have an address at all.
    needed: names of the nodes without any one of which the cluster would decide nothing.
    """

    decides: bool
    others: bool
    needed: tuple[str, ...]

    @property
    def is_sure(self) -> bool:
        """Whether any one node may fall away."""
        return self.decides and self.others and not self.needed

    @property
    def sentence(self) -> str:
        if not self.decides:
            return "The cluster decides nothing now: no address goes to another node."
        if not self.others:
            return "No other node could take over: an address goes where its node does."
        words = f"Where a node falls away its address is back on another within {MOVES_WITHIN_SECONDS:.0f} s"
        if not self.needed:
            return f"{words}, and what clients have mounted goes on."
        these = "it" if len(self.needed) == 1 else "any one of them"
        without = f"without {these} no majority is left."
        return f"{words}; not where that is {say_list(list(self.needed))}: {without}"


def takeover(view: SiteView) -> Takeover:
    """Were one node to fall away, of those that are heard now."""
    able = _able(view)
    return Takeover(
        decides=votes_now(view).spare >= 0,
        others=len(able) > 1,
        needed=tuple(n.name for n in view.nodes if _is_heard(n) and votes_now(view, n.number).spare < 0),
    )


def takes_over(view: SiteView, address: FileAddress) -> Node | None:
    """The node that would have an address were its home to fall away, by the rule that nodes go by too; none
    where nobody could, or would say who.
    """
    if view.files is None or votes_now(view, address.home).spare < 0:
        return None
    by_name = {node.name: node for node in view.nodes}
    homes = [(one.number, view.node_numbered(one.home).name) for one in view.files.addresses]
    others = [node.name for node in _able(view) if node.number != address.home]
    return by_name.get(carriers(homes, others).get(address.number, ""))


def _able(view: SiteView) -> list[Node]:
    return [node for node in could_serve(view) if _is_heard(node)]


def _is_heard(node: Node) -> bool:
    return node.contact == Contact.HEARD
