"""Hosts: what the API has."""

from __future__ import annotations

from fastapi import APIRouter

from foldbarn.api.hosts.models import HostPage, HostsOut, LaneOut
from foldbarn.api.hosts.pictures import host_page, hosts_out, lane_out
from foldbarn.core.touching import Thing
from foldbarn.services import site
from foldbarn.store import changes as changes_kept
from foldbarn.store import hosts as hosts_kept
from foldbarn.store.database import transaction

routes = APIRouter()
HISTORY = 20  # changes, the newest


@routes.get("/hosts")
def hosts() -> HostsOut:
    """All hosts, and how they reach what is attached to them."""
    return hosts_out(site.outlook())


@routes.get("/hosts/{name}")
def host(name: str) -> HostPage:
    """A host, with the way of each of its volumes to it, gate by gate."""
    outlook = site.outlook()
    with transaction() as session:
        number = outlook.view.host(name).number
        history = changes_kept.that_touched(session, [Thing.HOST], number, HISTORY)
        return host_page(outlook, name, hosts_kept.stored(session, number), history)


@routes.get("/volumes/{name}/attachments")
def attachments(name: str) -> list[LaneOut]:
    """The hosts that a volume is attached to, and its way to each, gate by gate."""
    outlook = site.outlook()
    return [lane_out(lane) for lane in outlook.lanes_from(outlook.view.volume(name))]
