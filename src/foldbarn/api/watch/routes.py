"""The barn as a whole: what the API has."""

from __future__ import annotations

from fastapi import APIRouter, Response

from foldbarn.api.changes.models import RecordOut
from foldbarn.api.common import person
from foldbarn.api.watch.models import BarnOut, DutyOut, GraceIn, ReadyOut, RestartOut, WorkOut
from foldbarn.api.watch.pictures import barn_out
from foldbarn.services import house, site
from foldbarn.settings import settings
from foldbarn.store import duties as duties_kept
from foldbarn.store import records
from foldbarn.store.database import transaction

routes = APIRouter()


@routes.get("/barn")
def barn() -> BarnOut:
    """The site in one picture: rooms, racks, nodes, disks, ledger, what needs a person."""
    outlook = site.outlook()
    with transaction() as session:
        return barn_out(
            outlook,
            site.site_row(session),
            bool(settings().yard_url),
            house.recent_restarts(),
            duties_kept.failing(session),
        )


@routes.get("/ready")
def ready() -> ReadyOut:
    """Answers while this process serves. instance: which barn's it is."""
    return ReadyOut(instance=settings().instance)


@routes.get("/house")
def read_house() -> list[RestartOut]:
    """Which of Fold Barn's own processes had to be started again, oldest first."""
    return [RestartOut.model_validate(r, from_attributes=True) for r in house.restarts()]


@routes.get("/house/duties")
def read_duties() -> list[DutyOut]:
    """What the watch sees to, how often, and what that has cost since the work process began."""
    with transaction() as session:
        return [DutyOut.model_validate(d, from_attributes=True) for d in duties_kept.all_figures(session)]


@routes.get("/work")
def work() -> WorkOut:
    """How busy the disks are."""
    rates = site.disk_work()
    return WorkOut(read={n: r for n, (r, _) in rates.items()}, write={n: w for n, (_, w) in rates.items()})


@routes.get("/records")
def read_records() -> list[RecordOut]:
    """What was altered besides changes, newest first: settings of the site, lights, tests, machines that
    reported in.
    """
    with transaction() as session:
        return [RecordOut.model_validate(r, from_attributes=True) for r in records.recent(session, limit=100)]


@routes.put("/grace", status_code=204)
def grace(wish: GraceIn) -> Response:
    """Sets how long something may be away before it is rebuilt elsewhere, in seconds."""
    site.set_grace(person(), wish.grace_seconds)
    return Response(status_code=204)
