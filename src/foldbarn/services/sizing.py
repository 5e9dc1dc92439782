"""The sizing bench: plans of machines on paper, and the site's own as one of them."""

from __future__ import annotations

from dataclasses import replace

from foldbarn.core.errors import BarnError
from foldbarn.core.pools.sizing import Settings, Sizing, read_plan, size_up, write_plan
from foldbarn.core.site import SiteView
from foldbarn.store.views import current_view


def size_plan(text: str, settings: Settings) -> Sizing | BarnError:
    """What a plan comes to, or why it comes to nothing."""
    try:
        return size_up(read_plan(text), settings)
    except BarnError as error:
        return error


def plan_of_site() -> str:
    """The machines that are here, as a plan: members of the cluster, or all nodes where there is none."""
    view = current_view()
    members = [n for n in view.nodes if n.member] or list(view.nodes)
    return write_plan(_only(view, {n.name for n in members}))


def _only(view: SiteView, names: set[str]) -> SiteView:
    rows = {row: i for i, row in enumerate(r for r, n in enumerate(view.nodes) if n.name in names)}
    disks = tuple(replace(d, node=rows[d.node]) for d in view.disks if d.node in rows)
    return SiteView(
        view.name, view.revision, view.rooms, view.racks, tuple(view.nodes[r] for r in rows), disks
    )
