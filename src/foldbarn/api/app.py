"""The web application: the API under /api, and the built front end for everything else."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, FastAPI, Header, Response
from fastapi import Path as PathParameter
from fastapi.responses import FileResponse
from fastapi.sse import EventSourceResponse, ServerSentEvent
from starlette.staticfiles import StaticFiles

from foldbarn.api import errors, pictures, pool_pictures
from foldbarn.api.description import describe
from foldbarn.api.events import Listener
from foldbarn.api.guard import Limit, OwnHosts, OwnOrigin, Policies
from foldbarn.api.models import (
    Accepted,
    AgentIn,
    AgentOut,
    Ask,
    BarnOut,
    BmcIn,
    BmcOut,
    ChangeOut,
    ChangePage,
    ClusterPage,
    Deed,
    DutyOut,
    ExtentOut,
    FilesIn,
    GraceIn,
    LeverIn,
    LightIn,
    MachinesOut,
    OutcomeOut,
    PassphraseIn,
    PlanText,
    PoolOut,
    PoolPage,
    PortsTested,
    RateIn,
    ReadyOut,
    RecordOut,
    RestartOut,
    SizingIn,
    SizingOut,
    SizingPage,
    TextOut,
    Variant,
    VolumeOut,
    VolumePage,
    Wish,
    WitnessIn,
    WitnessOut,
    WorkOut,
    YardOut,
)
from foldbarn.changes.engine.preview import Preview
from foldbarn.changes.engine.queue import closing_sender
from foldbarn.changes.text import read_text, text_of, write_text
from foldbarn.core.actors import Actor
from foldbarn.core.errors import BarnError, NotFound
from foldbarn.core.pools.protection import mirror
from foldbarn.core.pools.sizing import LEFT_OUT, Settings, comparison_csv, read_plan
from foldbarn.links.yard import levers
from foldbarn.services import changes, cluster, files, house, intake, site
from foldbarn.services import sizing as sizing_service
from foldbarn.settings import settings
from foldbarn.store import duties as duties_kept
from foldbarn.store import records
from foldbarn.store import volumes as volumes_kept
from foldbarn.store.changes import operator
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

# Every refusal is a problem of RFC 9457; see api/errors.py.
PROBLEM = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
PROBLEMS = {
    status: {"description": description, "content": PROBLEM}
    for status, description in {
        400: "The request could not be read.",
        403: "Not allowed.",
        404: "There is no such thing.",
        405: "Not a method of this address.",
        409: "The site has moved on.",
        413: "Too large.",
        415: "Not JSON.",
        422: "Not possible.",
        502: "An outside system does not answer.",
        503: "The database does not answer.",
    }.items()
}
Number = Annotated[int, PathParameter(ge=0, le=2**63 - 1)]  # what the database's bigint holds


def person() -> Actor:
    """Who is asking: Fold Barn has one user, whose name the site knows."""
    with transaction() as session:
        return operator(session)


router = APIRouter(prefix="/api", responses=PROBLEMS)  # type: ignore[arg-type]


@router.get("/barn")
def barn() -> BarnOut:
    """The site in one picture: rooms, racks, nodes, disks, ledger, what needs a person."""
    outlook = site.outlook()
    with transaction() as session:
        return pictures.barn_out(
            outlook,
            site.site_row(session),
            bool(settings().yard_url),
            house.recent_restarts(),
            duties_kept.failing(session),
        )


@router.get("/ready")
def ready() -> ReadyOut:
    """Answers while this process serves. instance: which barn's it is."""
    return ReadyOut(instance=settings().instance)


@router.get("/house")
def read_house() -> list[RestartOut]:
    """Which of Fold Barn's own processes had to be started again, oldest first."""
    return [RestartOut.model_validate(r, from_attributes=True) for r in house.restarts()]


@router.get("/house/duties")
def read_duties() -> list[DutyOut]:
    """What the watch sees to, how often, and what that has cost since the work process began."""
    with transaction() as session:
        return [DutyOut.model_validate(d, from_attributes=True) for d in duties_kept.all_figures(session)]


@router.get("/pools")
def pools() -> list[PoolOut]:
    outlook = site.outlook()
    return [pool_pictures.pool_out(outlook, i) for i in range(len(outlook.view.pools))]


@router.get("/pools/{name}")
def pool(name: str) -> PoolOut:
    outlook = site.outlook()
    return pool_pictures.pool_out(outlook, outlook.view.pool_row(outlook.view.pool(name)))


@router.get("/pools/{name}/page")
def pool_page(name: str) -> PoolPage:
    """Everything told of one pool: roles and bindings, what other protections would hold, what to buy, its
    settings.
    """
    outlook = site.outlook()
    with transaction() as session:
        running = changes.touching_pool(session, outlook.view.pool(name).number)
        return pool_pictures.pool_page(outlook, name, running)


@router.post("/sizing")
def size_plans(wish: SizingIn) -> SizingPage:
    """What up to three plans of machines come to, side by side. A plan that cannot be read says why, line by
    line.
    """
    return SizingPage(variants=[_sized(v) for v in wish.variants], left_out=LEFT_OUT)


@router.post("/sizing/csv", response_class=Response, responses={200: {"content": {"text/csv": {}}}})
def size_plans_csv(wish: SizingIn) -> Response:
    """The comparison as CSV. Refused where a plan cannot be read."""
    found = []
    for variant in wish.variants:
        sizing = sizing_service.size_plan(variant.text, _settings(variant))
        if isinstance(sizing, BarnError):
            raise sizing
        found.append((variant.name, sizing))
    return Response(
        comparison_csv(found),
        media_type="text/csv",
        headers={"Content-Disposition": 'attachment; filename="sizing.csv"'},
    )


@router.post("/sizing/text")
def size_plan_text(wish: PlanText) -> PlanText:
    """A plan as the site's text."""
    return PlanText(text=write_text(text_of(read_plan(wish.text))))


@router.get("/sizing/site")
def size_site() -> PlanText:
    """The machines that are here, as a plan."""
    return PlanText(text=sizing_service.plan_of_site())


def _settings(variant: Variant) -> Settings:
    # The bench sizes mirrors, whose extents are one strip of data.
    same = variant.model_dump(exclude={"name", "text", "copies", "level", "extent_bytes"})
    return Settings(scheme=mirror(variant.copies, variant.level), strip_bytes=variant.extent_bytes, **same)


def _sized(variant: Variant) -> SizingOut:
    sizing = sizing_service.size_plan(variant.text, _settings(variant))
    if isinstance(sizing, BarnError):
        return SizingOut(name=variant.name, problem=sizing.sentence, next_step=sizing.next_step or "")
    return pool_pictures.sizing_out(variant.name, sizing)


@router.get("/volumes")
def volumes() -> list[VolumeOut]:
    outlook = site.outlook()
    return [pictures.volume_out(outlook, i) for i in range(len(outlook.view.volumes))]


@router.get("/volumes/{name}")
def volume(name: str) -> VolumePage:
    """A volume and where it lies."""
    outlook = site.outlook()
    with transaction() as session:
        stored = volumes_kept.row_of(session, outlook.view.volume(name).number)
        return pictures.volume_page(outlook, name, stored)


@router.get("/volumes/{name}/extents/{number}")
def extent(name: str, number: Number) -> ExtentOut:
    """Where the copies of one extent lie; extents count from 0."""
    return pictures.extent_out(current_view(), name, number)


@router.get("/work")
def work() -> WorkOut:
    """How busy the disks are."""
    rates = site.disk_work()
    return WorkOut(read={n: r for n, (r, _) in rates.items()}, write={n: w for n, (_, w) in rates.items()})


@router.post("/changes/preview")
def preview(wish: Wish) -> Preview:
    """What a change would do now; what stands against it is in its blockers."""
    return changes.preview(wish.kind, wish.params)


@router.post("/changes", status_code=202)
def carry_out(deed: Deed) -> Accepted:
    """Carries a change out. With the digest of an outdated preview it is refused (409) with a fresh one."""
    return Accepted(
        number=changes.carry_out(person(), deed.kind, deed.params, deed.digest, reason=deed.reason)
    )


@router.get("/changes")
def all_changes() -> list[ChangeOut]:
    """The last hundred changes, newest first."""
    with transaction() as session:
        return [pictures.change_out(*found) for found in changes.recent(session)]


@router.get("/changes/{number}")
def change(number: Number) -> ChangePage:
    with transaction() as session:
        return pictures.change_page(*changes.one(session, number), records.of_change(session, number))


@router.get("/records")
def read_records() -> list[RecordOut]:
    """What was altered besides changes, newest first: settings of the site, lights, tests, machines that
    reported in.
    """
    with transaction() as session:
        return [RecordOut.model_validate(r, from_attributes=True) for r in records.recent(session, limit=100)]


@router.post("/changes/{number}/ask", status_code=204)
def ask(number: Number, wish: Ask) -> Response:
    """Asks a change to pause, go on, or be withdrawn."""
    changes.ask(person(), number, wish.what)
    return Response(status_code=204)


@router.put("/changes/{number}/rate", status_code=204)
def slow_down(number: Number, wish: RateIn) -> Response:
    """Slows down a change that moves data, or lets it go as fast as its pool allows again."""
    changes.limit(person(), number, wish.bytes_per_second)
    return Response(status_code=204)


@router.get("/machines")
def machines() -> MachinesOut:
    """Every node and disk with all that is known of it."""
    return pictures.machines_out(site.outlook())


@router.post("/intake/files")
def take_files(wish: FilesIn) -> list[OutcomeOut]:
    """Inventory files: each is taken or refused by itself, with a sentence."""
    found = files.take_files(person(), [files.File(f.name, f.text) for f in wish.files])
    return [OutcomeOut.model_validate(o, from_attributes=True) for o in found]


@router.post("/intake/bmc")
def read_bmc(wish: BmcIn) -> BmcOut:
    """Reads a node's hardware from its BMC over Redfish."""
    node, disks, new = files.read_bmc(person(), wish.bmc_url, wish.user, wish.password)
    return BmcOut(node=node, disks=disks, new=new)


@router.get("/text")
def text() -> TextOut:
    """The site as text."""
    with transaction() as session:
        taken = site.site_row(session).description
    return pictures.text_out(write_text(text_of(current_view())), taken, read_text(taken) if taken else None)


@router.put("/disks/{name}/light", status_code=204)
def light(name: str, wish: LightIn) -> Response:
    """Turns a disk's location light on or off."""
    cluster.light(person(), name, wish.on)
    return Response(status_code=204)


@router.get("/cluster")
def read_cluster() -> ClusterPage:
    """The cluster, its votes, and who reaches what."""
    return pictures.cluster_out(current_view())


@router.post("/cluster/ports")
def test_ports() -> PortsTested:
    """Has the agents try every opening of the port plan."""
    return PortsTested(tries=cluster.try_ports(person()))


@router.post("/cluster/passphrase", status_code=204)
def passphrase(wish: PassphraseIn) -> Response:
    """Whether a passphrase opens the cluster's key: 204 when it does, 403 when not."""
    cluster.try_passphrase(wish.passphrase)
    return Response(status_code=204)


@router.post("/witness")
def witness(wish: WitnessIn) -> WitnessOut:
    """The name of the witness at an address."""
    return WitnessOut(name=cluster.ask_witness(wish.url))


@router.post("/agents")
def agent(announcement: AgentIn) -> AgentOut:
    """An agent says where it can be reached."""
    return AgentOut(node=intake.welcome_agent(announcement.agent_url, announcement.key))


@router.put("/grace", status_code=204)
def grace(wish: GraceIn) -> Response:
    """Sets how long something may be away before it is rebuilt elsewhere, in seconds."""
    site.set_grace(person(), wish.grace_seconds)
    return Response(status_code=204)


@router.get("/yard")
def yard() -> YardOut:
    """The levers of the stand-ins, where there are any."""
    return YardOut.model_validate(levers())


@router.post("/yard")
def pull(lever: LeverIn) -> YardOut:
    """Pulls one lever."""
    return YardOut.model_validate(levers(lever.model_dump()))


def make_app() -> FastAPI:
    listener = Listener()

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        with closing_sender():
            task = asyncio.create_task(listener.run())
            yield
            task.cancel()

    app = FastAPI(
        title="Fold Barn",
        version="0.1.0",
        lifespan=lifespan,
        openapi_url="/api/openapi.json",
        docs_url=None,
        redoc_url=None,
        generate_unique_id_function=lambda route: route.name,
    )
    # From the outside in: what browsers are told, names of this machine only (so that no page elsewhere can
    # reach the API under a name of its own), our own pages only, bodies within bounds.
    app.add_middleware(Limit)
    app.add_middleware(OwnOrigin)
    app.add_middleware(OwnHosts)
    app.add_middleware(Policies)
    errors.install(app)
    app.include_router(router)

    @app.get("/api/events", include_in_schema=False, response_class=EventSourceResponse)
    async def events(last_event_id: Annotated[str | None, Header()] = None) -> AsyncIterator[ServerSentEvent]:
        """News of what has changed, by topic. A page that comes back says which event it heard last."""
        async for event in listener.events(last_event_id):
            yield event

    @app.get("/api/{rest:path}", include_in_schema=False)
    def unknown(rest: str) -> None:
        raise NotFound(f"The API has nothing at /api/{rest}.")

    _serve_front_end(app, settings().web_folder)
    describe(app)
    return app


def _serve_front_end(app: FastAPI, folder: Path) -> None:
    if not (folder / "index.html").is_file():
        return
    app.mount("/assets", StaticFiles(directory=folder / "assets"), name="assets")

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> FileResponse:
        """A file of the front end, or its one page for every address the router knows."""
        if any(part.startswith(".") for part in path.split("/")):
            raise NotFound("There is no such file.")
        if path and (wanted := _file_at(folder, path)):
            return FileResponse(wanted)
        return FileResponse(folder / "index.html", headers={"Cache-Control": "no-cache"})


def _file_at(folder: Path, path: str) -> Path | None:
    """A file of the folder; None where there is none, or the path is none that a file could have."""
    try:
        wanted = (folder / path).resolve()
        return wanted if wanted.is_file() and wanted.is_relative_to(folder.resolve()) else None
    except (OSError, ValueError):
        return None
