"""Samples: what the API has."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from foldbarn.api.samples.models import SamplesOut, Time
from foldbarn.api.samples.pictures import samples_out
from foldbarn.core.watch.samples import TIMES, Sampled
from foldbarn.services import samples
from foldbarn.store.views import current_view

routes = APIRouter()


@routes.get("/samples/{of}/{name}")
def read_samples(
    of: Sampled, name: str, over: Time = "hour", part: Annotated[str, Query(max_length=200)] = ""
) -> SamplesOut:
    """What went through a thing over the last hour, day or week, and what else was going on. part: of a port,
    its own name; name is that of its node.
    """
    view = current_view()
    return samples_out(view, name, over, samples.drawn(view, of, name, part, TIMES[over]))
