"""Policies: what the API has."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Response

from foldbarn.api.policies.models import (
    AdoptionOut,
    BenchIn,
    BenchOut,
    MeasuredOut,
    PaperIn,
    PolicyOut,
    PolicyPage,
    PolicyTextIn,
    PolicyTextOut,
)
from foldbarn.api.policies.pictures import (
    adoption_out,
    bench_csv,
    bench_out,
    measured_out,
    paper_out,
    policy_out,
    policy_page,
)
from foldbarn.changes.kinds.policies.save_policy import SavePolicyParams
from foldbarn.changes.kinds.volumes.several import MOST_VOLUMES
from foldbarn.changes.policy_text import read_policy, write_policy
from foldbarn.core.touching import Thing
from foldbarn.store import changes as changes_kept
from foldbarn.store import heat as heat_kept
from foldbarn.store import moves
from foldbarn.store import pace as pace_kept
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

routes = APIRouter()
HISTORY = 20  # changes, the newest


@routes.get("/policies")
def policies() -> list[PolicyOut]:
    """Each policy as it says now, with what every pool says to it."""
    view = current_view()
    return [policy_out(view, policy) for policy in view.current_policies]


@routes.get("/bench")
def bench(asked: Annotated[BenchIn, Query()]) -> BenchOut:
    """Schemes side by side on the disks of a pool, spread over a level, under a load of consumers."""
    return bench_out(current_view(), asked)


@routes.get("/bench/csv", response_class=Response, responses={200: {"content": {"text/csv": {}}}})
def bench_as_csv(asked: Annotated[BenchIn, Query()]) -> Response:
    """The same as comma-separated values (RFC 4180)."""
    return Response(
        bench_csv(bench_out(current_view(), asked)),
        media_type="text/csv",
        headers={"Content-Disposition": 'attachment; filename="schemes.csv"'},
    )


@routes.post("/sizing/schemes")
def paper_bench(asked: PaperIn) -> BenchOut:
    """Schemes side by side on machines on paper."""
    return paper_out(asked)


@routes.post("/policies/read")
def read_as_text(asked: PolicyTextIn) -> SavePolicyParams:
    """What a policy's text wishes for, to be previewed: upon the newest version where there is one of that
    name.
    """
    versions = {p.name: p.version for p in current_view().current_policies}
    return read_policy(asked.text, versions)


@routes.post("/policies/write")
def write_as_text(wished: SavePolicyParams) -> PolicyTextOut:
    """The text of what is wished for."""
    return PolicyTextOut(text=write_policy(wished))


@routes.get("/adoptions")
def adoptions(
    volume: Annotated[list[str], Query(min_length=1, max_length=MOST_VOLUMES)],
) -> list[AdoptionOut]:
    """Each policy as it says now, and what it would take for these volumes to keep it."""
    view = current_view()
    volumes = list({v.number: v for v in map(view.volume, volume)}.values())
    return [adoption_out(view, volumes, policy) for policy in view.current_policies]


@routes.get("/policies/{name}/measured")
def measured(name: str) -> list[MeasuredOut]:
    """What is asked of the volumes that keep it, and how they fare beside what was to be expected."""
    view = current_view()
    found = view.policy(name)
    with transaction() as session:
        heat = {number: known for number, (known, _) in heat_kept.read_all(session).items()}
        paces = pace_kept.read_all(session)
    return measured_out(view, found, heat, paces)


@routes.get("/policies/{name}")
def policy(name: str) -> PolicyPage:
    """A policy, its versions, and how the volumes that keep it stand to it."""
    view = current_view()
    found = view.policy(name)
    with transaction() as session:
        history = changes_kept.that_touched(session, [Thing.POLICY], found.number, HISTORY)
        plies = [p.number for v in view.volumes if v.policy and v.policy[0] == found.number for p in v.plies]
        return policy_page(view, found, history, moves.carriers(session, plies))
