"""How the file service is: its addresses, their names, and what of its shares does not hang on volumes."""

from __future__ import annotations

from foldbarn.core.shares.addresses import carrier_of
from foldbarn.core.shares.naming import faults_of, said_faults
from foldbarn.core.shares.quotas import Fill, said_fill
from foldbarn.core.shares.share import FileAddress, Share
from foldbarn.core.site import Contact, SiteView
from foldbarn.core.watch.states import Lamp, State, worst


def served_state(view: SiteView, share: Share) -> State:
    """Whether clients reach it, as far as nodes tell."""
    address = view.files.numbered(share.address) if view.files is not None else None
    if address is None:
        return State(Lamp.SHORT, "The file service is switched off.")
    node = carrier_of(view, address)
    if node is None:
        return State(Lamp.SHORT, f"No node that is heard has {address.at[0]}, at which it is served.")
    if not view.volume_numbered(share.volume).served:
        return State(Lamp.AWAY, "A person took its volume from its clients.")
    return State(Lamp.SOUND, f"Served at {address.name} by {node.name}.")


def fill_state(share: Share) -> State:
    lamp = {Fill.WELL: Lamp.SOUND, Fill.WARNED: Lamp.WATCH, Fill.FULL: Lamp.SHORT}[share.fill]
    return State(lamp, said_fill(share.used, share.quota, share.warn, share.fill))


def address_state(view: SiteView, address: FileAddress) -> State:
    """Where an address of the file service is, and whether its name is known as it should be."""
    node, home = carrier_of(view, address), view.node_numbered(address.home)
    if node is None:
        where = State(Lamp.SHORT, "No node that is heard has it.")
    elif node.number == home.number:
        where = State(Lamp.SOUND, f"At home on {node.name}.")
    elif home.contact == Contact.HEARD:
        words = f"Served by {node.name}: {home.name}, where it is at home, has yet to take it."
        where = State(Lamp.MENDING, words)
    else:
        where = State(Lamp.MENDING, f"Served by {node.name}: {home.name}, where it is at home, is not heard.")
    faults = faults_of(address)
    if not faults:
        return where
    return State(worst([where, State(Lamp.WATCH, "")]).lamp, f"{where.reason} {said_faults(faults)}")
