"""What previews say of the nodes that serve a volume to hosts, now and then."""

from __future__ import annotations

from collections.abc import Sequence

from foldbarn.changes.engine.effects import Note, warning
from foldbarn.core.hosts.gateways import candidates, choose_gateways
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.units import say_count, say_list


def gateways_of(view: SiteView, after: SiteView, volume: Volume) -> tuple[str, str] | None:
    """Who serves a volume to hosts, and who will; None where it is the same nodes, or it has no hosts."""
    found = _now_and_then(view, after, volume)
    return (_said(view, found[0]), _said(view, found[1])) if found is not None else None


def _now_and_then(view: SiteView, after: SiteView, volume: Volume) -> tuple[Sequence[int], ...] | None:
    target = view.target_of(volume.number)
    if target is None or not target.attachments:
        return None
    then = choose_gateways(after, after.volume_numbered(volume.number), keep=target.gateways)
    return None if set(then) == set(target.gateways) else (target.gateways, then)


def _said(view: SiteView, nodes: Sequence[int]) -> str:
    return say_list([view.node_numbered(number).name for number in nodes])


def hosts_move(view: SiteView, after: SiteView, volume: Volume) -> list[Note]:
    """That hosts have to log in elsewhere, and who serves them no more; nobody is sent away before."""
    found = _now_and_then(view, after, volume)
    if found is None:
        return []
    now, then = found
    fresh = [number for number in then if number not in now]
    gone = [number for number in now if number not in then]
    if not fresh:
        lets = "lets" if len(gone) == 1 else "let"
        words = f"{_said(view, gone)} {lets} its hosts in no more, once they are connected to "
        words += f"{_said(view, then)}."
        return [warning("paths-go", words, about=volume.name)]
    words = f"Its hosts have to log in at {_said(view, fresh)}"
    words += (
        f"; those that are connected to {_said(view, gone)} stay so until they have." if gone else " too."
    )
    return [warning("hosts-log-in", words, about=volume.name, next_step="Their pages have the commands.")]


def fewer_than_set(view: SiteView, volume: Volume) -> list[Note]:
    """That one node alone is to serve a volume, or that fewer could than are set."""
    pool, could = view.pools[volume.pool].name, len(candidates(view, volume.pool))
    if could < volume.serving_nodes:
        words = f"{say_count(could, 'node')} could serve it: those with disks of {pool} and an address at "
        words += "which hosts reach them. Others join in as there are more, until there are "
        words += f"{volume.serving_nodes}."
        return [warning("fewer-could", words, about=volume.name)]
    if volume.serving_nodes == 1:
        words = "One node serves it then: while that is away no host reaches it."
        return [warning("one-gateway", words, about=volume.name)]
    return []
