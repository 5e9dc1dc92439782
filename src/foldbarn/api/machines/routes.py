"""Machines: what the API has."""

from __future__ import annotations

from fastapi import APIRouter, Response

from foldbarn.api.common import person
from foldbarn.api.machines.models import (
    AgentIn,
    AgentOut,
    BmcIn,
    BmcOut,
    DiskPage,
    FilesIn,
    LightIn,
    MachinesOut,
    OutcomeOut,
    TextOut,
)
from foldbarn.api.machines.pictures import disk_page, machines_out, text_out
from foldbarn.changes.text import read_text, text_of, write_text
from foldbarn.core.machines.health import Health
from foldbarn.core.touching import Thing
from foldbarn.services import cluster, files, intake, site
from foldbarn.store import changes as changes_kept
from foldbarn.store import disks
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

routes = APIRouter()
HISTORY = 20  # changes, the newest


@routes.get("/machines")
def machines() -> MachinesOut:
    """Every node and disk with all that is known of it."""
    return machines_out(site.outlook())


@routes.get("/disks/{name}")
def disk(name: str) -> DiskPage:
    """What a disk says of itself, what it holds, what its loss would mean, and what was done with it."""
    view = current_view()
    found = view.disk(name)
    with transaction() as session:
        health = Health(**disks.health_of(session, found.number))
        history = changes_kept.that_touched(session, [Thing.DISK], found.number, HISTORY)
    return disk_page(view, found, health, history)


@routes.post("/intake/files")
def take_files(wish: FilesIn) -> list[OutcomeOut]:
    """Inventory files: each is taken or refused by itself, with a sentence."""
    found = files.take_files(person(), [files.File(f.name, f.text) for f in wish.files])
    return [OutcomeOut.model_validate(o, from_attributes=True) for o in found]


@routes.post("/intake/bmc")
def read_bmc(wish: BmcIn) -> BmcOut:
    """Reads a node's hardware from its BMC over Redfish."""
    node, disks, new = files.read_bmc(person(), wish.bmc_url, wish.user, wish.password)
    return BmcOut(node=node, disks=disks, new=new)


@routes.get("/text")
def text() -> TextOut:
    """The site as text."""
    with transaction() as session:
        taken = site.site_row(session).description
    return text_out(write_text(text_of(current_view())), taken, read_text(taken) if taken else None)


@routes.put("/disks/{name}/light", status_code=204)
def light(name: str, wish: LightIn) -> Response:
    """Turns a disk's location light on or off."""
    cluster.light(person(), name, wish.on)
    return Response(status_code=204)


@routes.post("/agents")
def agent(announcement: AgentIn) -> AgentOut:
    """An agent says where it can be reached."""
    return AgentOut(node=intake.welcome_agent(announcement.agent_url, announcement.key))
