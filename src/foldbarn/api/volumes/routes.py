"""Volumes: what the API has."""

from __future__ import annotations

from fastapi import APIRouter

from foldbarn.api.common import Number
from foldbarn.api.volumes.models import ExtentOut, VolumeOut, VolumePage
from foldbarn.api.volumes.pictures import extent_out, volume_out, volume_page
from foldbarn.services import site
from foldbarn.store import volumes as volumes_kept
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

routes = APIRouter()


@routes.get("/volumes")
def volumes() -> list[VolumeOut]:
    outlook = site.outlook()
    return [volume_out(outlook, i) for i in range(len(outlook.view.volumes))]


@routes.get("/volumes/{name}")
def volume(name: str) -> VolumePage:
    """A volume and where it lies."""
    outlook = site.outlook()
    with transaction() as session:
        stored = volumes_kept.row_of(session, outlook.view.volume(name).number)
        return volume_page(outlook, name, stored)


@routes.get("/volumes/{name}/extents/{number}")
def extent(name: str, number: Number) -> ExtentOut:
    """Where the copies of one extent lie; extents count from 0."""
    return extent_out(current_view(), name, number)
