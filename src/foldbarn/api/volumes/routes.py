"""Volumes: what the API has."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from foldbarn.api.common import Number
from foldbarn.api.volumes.models import ExtentOut, HeatOut, MoreOut, ServedOut, VolumeOut, VolumePage
from foldbarn.api.volumes.pictures import (
    extent_out,
    heat_out,
    more_out,
    served_out,
    volume_out,
    volume_page,
)
from foldbarn.core.policies.policy import MOST_SHARE
from foldbarn.core.policies.shares import foreseen
from foldbarn.core.touching import Thing
from foldbarn.core.volumes.pace import Pace
from foldbarn.services import site
from foldbarn.store import changes as changes_kept
from foldbarn.store import heat as heat_kept
from foldbarn.store import moves
from foldbarn.store import pace as pace_kept
from foldbarn.store import volumes as volumes_kept
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

routes = APIRouter()
HISTORY = 20  # changes, the newest


@routes.get("/volumes")
def volumes() -> list[VolumeOut]:
    outlook = site.outlook()
    return [volume_out(outlook, i) for i in range(len(outlook.view.volumes))]


@routes.get("/volumes/{name}")
def volume(name: str) -> VolumePage:
    """A volume and where it lies."""
    outlook = site.outlook()
    with transaction() as session:
        number = outlook.view.volume(name).number
        history = changes_kept.that_touched(session, Thing.VOLUME, number, HISTORY)
        carriers = moves.carriers(session, [ply.number for ply in outlook.view.volume(name).plies])
        return volume_page(outlook, name, volumes_kept.row_of(session, number), history, carriers)


@routes.get("/volumes/{name}/room")
def room(name: str) -> MoreOut:
    """How much more its pool would take with this volume's protection; found by trying, and so a question of
    its own.
    """
    return more_out(current_view(), name)


@routes.get("/volumes/{name}/heat")
def heat(name: str) -> HeatOut:
    """How often a volume is asked for, how unevenly, and how quickly it answers."""
    view = current_view()
    volume = view.volume(name)
    with transaction() as session:
        pace = pace_kept.read_pace(session, volume.number) or Pace()
        return heat_out(view, volume, heat_kept.read_heat(session, volume.number), pace)


@routes.get("/volumes/{name}/share")
def share(name: str, share: Annotated[int, Query(ge=0, le=MOST_SHARE)]) -> list[ServedOut]:
    """What a share of the fast tier, in per cent, would bring a volume, and take from the others that share
    it. Nothing where that cannot be told.
    """
    view = current_view()
    volume = view.volume(name)
    with transaction() as session:
        known = {number: found for number, (found, _) in heat_kept.read_all(session).items()}
    return [served_out(view, one) for one in foreseen(view, volume, known, share)]


@routes.get("/volumes/{name}/extents/{number}")
def extent(name: str, number: Number) -> ExtentOut:
    """Where the copies of one extent lie; extents count from 0."""
    return extent_out(current_view(), name, number)
