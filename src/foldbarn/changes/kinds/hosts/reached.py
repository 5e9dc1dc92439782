"""That hosts reach volumes by what a change takes away."""

from __future__ import annotations

from collections.abc import Callable

from foldbarn.changes.engine.effects import Note, warning
from foldbarn.core.hosts.lanes import Lane, Path, lanes_of
from foldbarn.core.site import SiteView
from foldbarn.core.units import say_list


def loses_paths(view: SiteView, goes: Callable[[Lane, Path], bool]) -> list[Note]:
    """Of the hosts that are connected by paths which go; with the volumes that they reach by them."""
    lost = [lane for lane in lanes_of(view) if any(path.live and goes(lane, path) for path in lane.paths)]
    if not lost:
        return []
    hosts = list(dict.fromkeys(lane.host.name for lane in lost))
    volumes = list(dict.fromkeys(lane.volume.name for lane in lost))
    cut = [lane for lane in lost if not any(path.live and not goes(lane, path) for path in lane.paths)]
    words = (
        f"{say_list(hosts)} {'reach' if len(hosts) > 1 else 'reaches'} {say_list(volumes)} by paths that go."
    )
    if cut:
        names = list(dict.fromkeys(f"{lane.host.name} from {lane.volume.name}" for lane in cut))
        words += f" That parts {say_list(names)}."
    step = "Have them connect anew afterwards: which portals there are then is shown with the volumes."
    return [warning("loses-paths", words, next_step=step)]


def served_until_logged_in(view: SiteView, goes: Callable[[Lane, Path], bool]) -> list[Note]:
    """Of the nodes that are to serve volumes no more, that they do so until the hosts which are connected
    there have logged in elsewhere (core.hosts.gateways.chosen_anew).
    """
    found = [(lane, path) for lane in lanes_of(view) for path in lane.paths if path.live and goes(lane, path)]
    if not found:
        return []
    nodes = list(dict.fromkeys(path.node for _, path in found))
    hosts = list(dict.fromkeys(lane.host.name for lane, _ in found))
    volumes = list(dict.fromkeys(lane.volume.name for lane, _ in found))
    words = f"{say_list(nodes)} {'serve' if len(nodes) > 1 else 'serves'} {say_list(volumes)} to "
    words += f"{say_list(hosts)}, until {'they have' if len(hosts) > 1 else 'it has'} logged in elsewhere."
    step = "Have that done before anything is switched off: the commands stand with the volumes."
    return [warning("hosts-log-in", words, next_step=step)]
