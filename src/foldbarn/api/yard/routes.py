"""The yard's levers: what the API has."""

from __future__ import annotations

from fastapi import APIRouter

from foldbarn.api.yard.models import LeverIn, YardOut
from foldbarn.links.yard import levers

routes = APIRouter()


@routes.get("/yard")
def yard() -> YardOut:
    """The levers of the stand-ins, where there are any."""
    return YardOut.model_validate(levers())


@routes.post("/yard")
def pull(lever: LeverIn) -> YardOut:
    """Pulls one lever."""
    return YardOut.model_validate(levers(lever.model_dump()))
