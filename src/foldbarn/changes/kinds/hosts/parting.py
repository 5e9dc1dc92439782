"""What a person should know before hosts are parted from a volume."""

from __future__ import annotations

from collections.abc import Sequence

from foldbarn.changes.engine.effects import Note, warning
from foldbarn.core.hosts.attaching import as_blocks, cannot_tell
from foldbarn.core.hosts.lanes import Lane
from foldbarn.core.units import say_list


def may_be_in_use(lanes: Sequence[Lane]) -> list[Note]:
    """Of hosts that are connected to a volume, or to one of several, that some may be using it, as far as
    nobody can tell.
    """
    found = []
    if unknown := list(dict.fromkeys(cannot_tell(lanes))):
        what = _named([lane for lane in lanes if cannot_tell([lane])], lanes)
        words = f"{say_list(unknown)} {'are' if len(unknown) > 1 else 'is'} connected, and nobody tells "
        words += f"whether {what} is mounted there."
        found.append(warning("maybe-mounted", words, about="hosts", next_step="Look there first."))
    if plain := list(dict.fromkeys(as_blocks(lanes))):
        what = _named([lane for lane in lanes if as_blocks([lane])], lanes)
        words = f"{say_list(plain)} {'are' if len(plain) > 1 else 'is'} connected to {what} as a block "
        words += "device, and may be using it."
        found.append(warning("block-device", words, about="hosts", next_step="Stop what uses it first."))
    return found


def _named(lanes: Sequence[Lane], of: Sequence[Lane]) -> str:
    """The volume of some lanes; by name where others are spoken of as well."""
    if len({lane.volume.number for lane in of}) == 1:
        return "it"
    return say_list(list(dict.fromkeys(lane.volume.name for lane in lanes)), 3)
