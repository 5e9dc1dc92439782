"""Serves the reporting half of the agent protocol (docs/agent-protocol.md), and announces the machine until
it is known.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import secrets
import socket
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import httpx
from fastapi import FastAPI, HTTPException
from pydantic import BaseModel, Field
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from foldbarn.agent.machine import Machine, ToolFailed, traffic
from foldbarn.core.machines.reading import PROTOCOL, tag_of

SAID_SECONDS = 600.0  # between two looks at what disks say of themselves, which takes seconds each
VERSION_SECONDS = 5.0  # how long a version is given without asking the tools again
PROBE_SECONDS = 1.0
ANNOUNCE_SECONDS = 2.0


class Target(BaseModel):
    address: str
    port: int = Field(ge=1, le=65_535)


class Probe(BaseModel):
    targets: list[Target] = Field(max_length=4096)


def make_app(machine: Machine, own_url: str = "", home_url: str = "", key: str = "") -> FastAPI:
    """home_url: where it announces itself; empty for nowhere. key: proves to it that this is the agent it was
    before.
    """
    kept: dict[str, Any] = {"at": 0.0, "version": ""}
    said: dict[str, dict[str, int]] = {}  # by disks of themselves, by serial

    async def look() -> None:
        while True:
            with contextlib.suppress(ToolFailed):
                found = await asyncio.to_thread(machine.said)
                said.clear()
                said.update(found)
            await asyncio.sleep(SAID_SECONDS)

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        tasks = [asyncio.create_task(look())]
        if home_url:
            tasks.append(asyncio.create_task(_announce(own_url, home_url, key)))
        yield
        for task in tasks:
            task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await task

    app = FastAPI(title="Fold Barn agent", lifespan=lifespan, docs_url=None, redoc_url=None, openapi_url=None)

    @app.exception_handler(ToolFailed)
    async def failed(_: Request, error: ToolFailed) -> JSONResponse:
        return JSONResponse({"detail": str(error)}, 500)

    @app.get("/v1/report")
    def report(request: Request) -> Response:
        if time.monotonic() - kept["at"] > VERSION_SECONDS:
            kept.update(at=time.monotonic(), version=machine.version())
        facts = {
            "protocol": PROTOCOL,
            "node": machine.name,
            "inventory_version": kept["version"],
            "cluster": {},
            "disks": machine.counters(),
        }
        tag = tag_of(facts)  # of everything but what grows with time alone
        if request.headers.get("if-none-match") == tag:
            return Response(status_code=304, headers={"ETag": tag})
        return JSONResponse(facts | {"clock": time.time(), "uptime": time.monotonic()}, headers={"ETag": tag})

    @app.get("/v1/inventory")
    def inventory() -> dict[str, Any]:
        return machine.inventory()

    @app.get("/v1/counters")
    def counters() -> dict[str, Any]:
        disks: dict[str, dict[str, Any]] = {**machine.counters()}
        for serial, health in said.items():
            if serial in disks:
                disks[serial] = disks[serial] | {"health": health}
        return {"uptime": time.monotonic(), "disks": disks, "ports": traffic()}

    @app.get("/v1/strips/{serial}")
    def strips(serial: str) -> dict[str, Any]:
        return {"strips": []}

    @app.post("/v1/probe")
    async def probe(wish: Probe) -> dict[str, Any]:
        gate = asyncio.Semaphore(64)

        async def one(target: Target) -> dict[str, Any]:
            async with gate:
                why = await _try(target.address, target.port)
            return {"open": not why, "why": why}

        return {"results": await asyncio.gather(*(one(t) for t in wish.targets))}

    @app.post("/v1/orders")
    def refuse() -> None:
        raise HTTPException(422, "this agent only reports: it changes nothing on its machine")

    @app.get("/v1/orders/{id_}")
    def unknown(id_: str) -> None:
        raise HTTPException(404, f"no order {id_}")

    return app


async def _try(address: str, port: int) -> str:
    """Why no connection can be opened; empty when one can."""
    try:
        _, writer = await asyncio.wait_for(asyncio.open_connection(address, port), PROBE_SECONDS)
    except TimeoutError:
        return "no answer"
    except ConnectionRefusedError:
        return "refused"
    except (OSError, socket.gaierror):
        return "no way there"
    writer.close()
    return ""


def own_key(file: Path) -> str:
    """This agent's secret: made at its first start, readable by its owner only, and the same ever after."""
    file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    try:
        with os.fdopen(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as fresh:
            fresh.write(secrets.token_hex(32))
    except FileExistsError:
        pass
    return file.read_text().strip()


async def _announce(own_url: str, home_url: str, key: str) -> None:
    """Until Fold Barn has answered with the node's name; safe to repeat."""
    async with httpx.AsyncClient(timeout=30.0, trust_env=False) as client:
        while True:
            with contextlib.suppress(httpx.HTTPError):
                if (
                    await client.post(
                        f"{home_url.rstrip('/')}/api/agents", json={"agent_url": own_url, "key": key}
                    )
                ).is_success:
                    return
            await asyncio.sleep(ANNOUNCE_SECONDS)
