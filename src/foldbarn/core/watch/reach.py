"""How hosts reach volumes: the state of each way, and of each host."""

from __future__ import annotations

from collections.abc import Sequence

from foldbarn.core.hosts.lanes import Lane
from foldbarn.core.site import Contact, Host, VmHost
from foldbarn.core.units import say_count, say_list
from foldbarn.core.watch.states import Lamp, State, worst


def lane_state(lane: Lane) -> State:
    """How one volume reaches one host."""
    host, volume = lane.host.name, lane.volume.name
    paths = say_count(lane.width, "path")
    if not lane.volume.served:
        return State(Lamp.AWAY, f"{volume} {'is in the bin' if lane.volume.binned else 'is offline'}.")
    if not lane.live:
        return _not_connected(lane)
    if hangs_by_one(lane):
        words = f"{host} reaches {volume} by one path of {lane.width}: the next loss parts them."
        return State(Lamp.WATCH, f"{words} {_why_lost(lane)}")
    if lane.live < lane.width:
        why = _why_lost(lane)
        return State(Lamp.WATCH, f"{host} reaches {volume} by {lane.live} of {paths}. {why}")
    if lane.missing is not None:
        words = f"{host}, {lane.missing.gate}: {lane.missing.reason}"
        return State(Lamp.WATCH, words)
    at = f"mounted at {lane.mounted}" if lane.mounted else "connected"
    where = "" if lane.untold is None else f" {lane.untold.reason}"
    return State(Lamp.SOUND, f"{volume} is {at}, by {paths}.{where}")


def hangs_by_one(lane: Lane) -> bool:
    """Whether a host reaches a volume by one path left of several."""
    return lane.volume.served and lane.live == 1 and lane.width > 1


def is_parted(lane: Lane) -> bool:
    """Whether a host that is to use a volume is not connected to it."""
    return lane.volume.served and not lane.live


def is_lost(lane: Lane) -> bool:
    """Whether a host has a volume mounted that it reaches no more."""
    return is_parted(lane) and bool(lane.mounted)


def _why_lost(lane: Lane) -> str:
    """Why paths are not connected, each reason once."""
    return " ".join(dict.fromkeys(path.reason for path in lane.paths if not path.live))


def _not_connected(lane: Lane) -> State:
    host, volume = lane.host.name, lane.volume.name
    if is_lost(lane):
        words = f"{host} has {volume} mounted at {lane.mounted}, and reaches it by none of its paths."
        return State(Lamp.FAILED, words)
    if lane.host.agent_url and lane.host.contact in (Contact.SILENT, Contact.GARBLED):
        return State(Lamp.NOT_HEARD, f"{host} is not heard, and is not connected to {volume}.")
    step = lane.missing or lane.untold
    if step is None:
        return State(Lamp.WATCH, f"{host} is not connected to {volume}.")
    return State(Lamp.WATCH, f"{host}, {step.gate}: {step.reason}")


def of_host(host: Host, lanes: Sequence[Lane]) -> State:
    """A host with all that is attached to it."""
    own = State(Lamp.SOUND, "Nothing is attached to it." if not lanes else "It reaches all that it is to.")
    if host.agent_url and host.contact in (Contact.SILENT, Contact.GARBLED):
        own = State(Lamp.NOT_HEARD, f"{host.name} is not heard. {host.reason}")
    elif host.agent_url and host.contact == Contact.AWAITED:
        own = State(Lamp.WATCH, f"{host.name} has not told yet how it is.")
    return worst([own, *(lane_state(lane) for lane in lanes)])


def vm_host_state(host: Host, runs: VmHost) -> State:
    """How a host is as one that runs virtual machines."""
    if runs.contact == Contact.AWAITED:
        return State(Lamp.WATCH, f"{host.name} has not told yet what it runs.")
    if runs.contact != Contact.HEARD:
        return State(Lamp.NOT_HEARD, f"{host.name} does not tell what it runs. {runs.reason}".strip())
    if runs.missing:
        words = f"The account by which {host.name} is asked lacks {say_list(list(runs.missing))}."
        return State(Lamp.WATCH, words)
    return State(Lamp.SOUND, f"{host.name} tells what it runs.")
