"""Changes: what the API has."""

from __future__ import annotations

from fastapi import APIRouter, Response

from foldbarn.api.changes.models import Accepted, Ask, ChangeOut, ChangePage, Deed, Defaults, RateIn, Wish
from foldbarn.api.changes.pictures import change_out, change_page, wish_defaults
from foldbarn.api.common import Number, person
from foldbarn.changes.engine.preview import Preview
from foldbarn.core.touching import touched
from foldbarn.services import changes
from foldbarn.store import records, touching
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

routes = APIRouter()


@routes.post("/changes/preview")
def preview(wish: Wish) -> Preview:
    """What a change would do now; what stands against it is in its blockers."""
    return changes.preview(wish.kind, wish.params)


@routes.get("/changes/defaults")
def defaults() -> Defaults:
    """What a wish begins with, the same as where a field is left out."""
    return wish_defaults()


@routes.post("/changes", status_code=202)
def carry_out(deed: Deed) -> Accepted:
    """Carries a change out. With the digest of an outdated preview it is refused (409) with a fresh one."""
    return Accepted(
        number=changes.carry_out(person(), deed.kind, deed.params, deed.digest, reason=deed.reason)
    )


@routes.get("/changes")
def all_changes() -> list[ChangeOut]:
    """The last hundred changes, newest first."""
    with transaction() as session:
        return [change_out(*found) for found in changes.recent(session)]


@routes.get("/changes/{number}")
def change(number: Number) -> ChangePage:
    with transaction() as session:
        found = touched(current_view(), touching.of_change(session, number))
        return change_page(*changes.one(session, number), records.of_change(session, number), found)


@routes.post("/changes/{number}/ask", status_code=204)
def ask(number: Number, wish: Ask) -> Response:
    """Asks a change to pause, go on, or be withdrawn."""
    changes.ask(person(), number, wish.what)
    return Response(status_code=204)


@routes.put("/changes/{number}/rate", status_code=204)
def slow_down(number: Number, wish: RateIn) -> Response:
    """Slows down a change that moves data, or lets it go as fast as its pool allows again."""
    changes.limit(person(), number, wish.bytes_per_second)
    return Response(status_code=204)
