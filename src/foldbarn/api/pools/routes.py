"""Pools: what the API has."""

from __future__ import annotations

from fastapi import APIRouter, Response

from foldbarn.api.pools.models import PlanText, PoolOut, PoolPage, SizingIn, SizingOut, SizingPage, Variant
from foldbarn.api.pools.pictures import pool_out, pool_page_out, sizing_out
from foldbarn.changes.text import text_of, write_text
from foldbarn.core.errors import BarnError
from foldbarn.core.pools.sizing import LEFT_OUT, comparison_csv, read_plan
from foldbarn.services import changes, site
from foldbarn.services import sizing as sizing_service
from foldbarn.store.database import transaction

routes = APIRouter()


@routes.get("/pools")
def pools() -> list[PoolOut]:
    outlook = site.outlook()
    return [pool_out(outlook, i) for i in range(len(outlook.view.pools))]


@routes.get("/pools/{name}")
def pool(name: str) -> PoolOut:
    outlook = site.outlook()
    return pool_out(outlook, outlook.view.pool_row(outlook.view.pool(name)))


@routes.get("/pools/{name}/page")
def pool_page(name: str) -> PoolPage:
    """Everything told of one pool: roles and bindings, what other protections would hold, what to buy, its
    settings.
    """
    outlook = site.outlook()
    with transaction() as session:
        number = outlook.view.pool(name).number
        running = changes.touching_pool(session, number)
        return pool_page_out(outlook, name, running, site.compressed(number))


@routes.post("/sizing")
def size_plans(wish: SizingIn) -> SizingPage:
    """What up to three plans of machines come to, side by side. A plan that cannot be read says why, line by
    line.
    """
    return SizingPage(variants=[_sized(v) for v in wish.variants], left_out=LEFT_OUT)


@routes.post("/sizing/csv", response_class=Response, responses={200: {"content": {"text/csv": {}}}})
def size_plans_csv(wish: SizingIn) -> Response:
    """The comparison as CSV. Refused where a plan cannot be read."""
    found = []
    for variant in wish.variants:
        sizing = sizing_service.size_plan(variant.text, variant.meant())
        if isinstance(sizing, BarnError):
            raise sizing
        found.append((variant.name, sizing))
    return Response(
        comparison_csv(found),
        media_type="text/csv",
        headers={"Content-Disposition": 'attachment; filename="sizing.csv"'},
    )


@routes.post("/sizing/text")
def size_plan_text(wish: PlanText) -> PlanText:
    """A plan as the site's text."""
    return PlanText(text=write_text(text_of(read_plan(wish.text))))


@routes.get("/sizing/site")
def size_site() -> PlanText:
    """The machines that are here, as a plan."""
    return PlanText(text=sizing_service.plan_of_site())


def _sized(variant: Variant) -> SizingOut:
    sizing = sizing_service.size_plan(variant.text, variant.meant())
    if isinstance(sizing, BarnError):
        return SizingOut(name=variant.name, problem=sizing.sentence, next_step=sizing.next_step or "")
    return sizing_out(variant.name, sizing)
