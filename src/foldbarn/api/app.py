"""The API as an application."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Annotated

from fastapi import APIRouter, FastAPI, Header
from fastapi.sse import EventSourceResponse, ServerSentEvent
from starlette.middleware.gzip import GZipMiddleware

from foldbarn.api import errors
from foldbarn.api.alerts import routes as alerts
from foldbarn.api.alerts.exposition import expose
from foldbarn.api.changes import routes as changes
from foldbarn.api.cluster import routes as cluster
from foldbarn.api.common import PROBLEMS
from foldbarn.api.consumers import routes as consumers
from foldbarn.api.description import describe
from foldbarn.api.events import Listener
from foldbarn.api.front_end import serve_front_end
from foldbarn.api.guard import Limit, OwnHosts, OwnOrigin, Policies
from foldbarn.api.hosts import routes as hosts
from foldbarn.api.machines import routes as machines
from foldbarn.api.policies import routes as policies
from foldbarn.api.pools import routes as pools
from foldbarn.api.samples import routes as samples
from foldbarn.api.shares import routes as shares
from foldbarn.api.vms import routes as vms
from foldbarn.api.volumes import routes as volumes
from foldbarn.api.watch import routes as watch
from foldbarn.api.yard import routes as yard
from foldbarn.changes.engine.queue import closing_sender
from foldbarn.core.errors import NotFound
from foldbarn.logs import set_up_logs
from foldbarn.settings import settings

router = APIRouter(prefix="/api", responses=PROBLEMS)  # type: ignore[arg-type]
for part in (
    watch,
    pools,
    policies,
    volumes,
    vms,
    shares,
    hosts,
    consumers,
    changes,
    machines,
    cluster,
    samples,
    alerts,
    yard,
):
    router.include_router(part.routes)


def make_app() -> FastAPI:
    set_up_logs()
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
    # A page of 12,000 disks is megabytes, mostly of the same words.
    app.add_middleware(GZipMiddleware, minimum_size=1024, compresslevel=6)
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

    expose(app)
    serve_front_end(app, settings().web_folder)
    describe(app)
    return app
