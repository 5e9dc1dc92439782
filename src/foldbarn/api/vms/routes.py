"""Virtual machines: what the API has."""

from __future__ import annotations

from fastapi import APIRouter

from foldbarn.api.vms.models import DescribedOut, DescriptorIn, VmOut, VmPage
from foldbarn.api.vms.pictures import described_out, vm_page, vms_out
from foldbarn.core.touching import Thing
from foldbarn.core.vms.ovf import read_descriptor
from foldbarn.services import site
from foldbarn.store import changes as changes_kept
from foldbarn.store import vms as vms_kept
from foldbarn.store.database import transaction

routes = APIRouter()
HISTORY = 20  # changes, the newest


@routes.get("/vms")
def vms() -> list[VmOut]:
    """All virtual machines, those in the bin among them."""
    return vms_out(site.outlook())


@routes.get("/vms/{name}")
def vm(name: str) -> VmPage:
    """A virtual machine with its volumes."""
    outlook = site.outlook()
    found = outlook.view.vm(name)
    with transaction() as session:
        history = changes_kept.that_touched(session, [Thing.VM], found.number, HISTORY)
        return vm_page(outlook, found, vms_kept.stored(session, found.number), history)


@routes.post("/vms/descriptor")
def read(descriptor: DescriptorIn) -> DescribedOut:
    """What a descriptor (DMTF DSP0243) says of a virtual machine; nothing is made by it."""
    return described_out(read_descriptor(descriptor.text))
