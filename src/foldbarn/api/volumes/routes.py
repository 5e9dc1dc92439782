"""Volumes: what the API has."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import StreamingResponse

from foldbarn.api.common import Number
from foldbarn.api.volumes.models import (
    Asked,
    AskedPage,
    ExtentOut,
    HeatOut,
    KinOut,
    LineageOut,
    MoreOut,
    ServedOut,
    VolumePage,
    VolumesOut,
)
from foldbarn.api.volumes.pictures import (
    extent_out,
    heat_out,
    more_out,
    served_out,
    volume_list,
    volume_page,
    volume_table,
    volumes_out,
)
from foldbarn.core.policies.policy import MOST_SHARE
from foldbarn.core.policies.shares import foreseen
from foldbarn.core.touching import Thing
from foldbarn.core.volumes.lineage import Link, lineage_of
from foldbarn.core.volumes.pace import Pace
from foldbarn.core.watch.kin import lamps_of
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
def volumes(asked: Annotated[AskedPage, Query()]) -> VolumesOut:
    """The volumes of which all that is asked is true, page by page."""
    outlook = site.outlook()
    found = asked.listed(outlook)
    return volumes_out(outlook, found, page=asked.page, per=asked.per)


@routes.get("/volumes.csv", response_class=StreamingResponse)
def volumes_as_table(asked: Annotated[Asked, Query()]) -> StreamingResponse:
    """The same volumes, all of them, as a table of comma-separated values (RFC 4180)."""
    outlook = site.outlook()
    rows = volume_table(outlook, asked.listed(outlook).rows.tolist())
    return _to_keep(rows, "text/csv; charset=utf-8; header=present", "volumes.csv")


@routes.get("/volumes.json", response_class=StreamingResponse)
def volumes_as_json(asked: Annotated[Asked, Query()]) -> StreamingResponse:
    """The same volumes, all of them, with all that is known of each."""
    outlook = site.outlook()
    rows = volume_list(outlook, asked.listed(outlook).rows.tolist())
    return _to_keep(rows, "application/json", "volumes.json")


def _to_keep(text: Iterator[str], media_type: str, name: str) -> StreamingResponse:
    kept = {"Content-Disposition": f'attachment; filename="{name}"'}
    return StreamingResponse(text, media_type=media_type, headers=kept)


@routes.get("/lineage/{link}/{name}")
def lineage(link: Link, name: str) -> LineageOut:
    """All that depends on a thing, and all that it depends on."""
    outlook = site.outlook()
    found = lineage_of(outlook.view, link, name)
    lamps = lamps_of(outlook, found)
    kin = [KinOut(link=kind, names=list(names), lamp=lamps[kind]) for kind, names in found.kin.items()]
    return LineageOut(link=found.link, name=found.name, kin=kin)


@routes.get("/volumes/{name}")
def volume(name: str) -> VolumePage:
    """A volume and where it lies."""
    outlook = site.outlook()
    with transaction() as session:
        number = outlook.view.volume(name).number
        history = changes_kept.that_touched(session, [Thing.VOLUME, Thing.TARGET], number, HISTORY)
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
