"""The yard's one process: every agent under /agents/NODE, the levers under /levers, and the fluid's ticks."""

from __future__ import annotations

import asyncio
import itertools
import json
import logging
import os
import sqlite3
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Annotated, Any, Literal

import httpx
from fastapi import FastAPI, HTTPException, Query, Request, Response
from pydantic import BaseModel, Field
from starlette.middleware.trustedhost import TrustedHostMiddleware

from foldbarn.core.machines.reading import PROTOCOL, WITNESS_PROTOCOL, tag_of
from foldbarn.logs import set_up_logs
from foldbarn.yard import agent, council, hosts, redfish, shares, shell, thin, vm_hosts
from foldbarn.yard.fluid import tick
from foldbarn.yard.machines import Machines, Spurt
from foldbarn.yard.names import open_names
from foldbarn.yard.orchestrator import administering
from foldbarn.yard.orchestrator.hands import Hands, Wanted
from foldbarn.yard.orchestrator.standing import StandIn
from foldbarn.yard.post import ACCOUNT, PASSWORD, PostBox, open_post
from foldbarn.yard.scenario import WITNESS, crowd, skerry_ferries, tender_nodes

log = logging.getLogger(__name__)
TICK_SECONDS = 0.1
SLOW_SECONDS = 6.0
WAIT_FOR_ROOM_SECONDS = 1.0  # between two tries to write where there is no room
FASTEST = 10_000.0
HANDS_SECONDS = 10.0


class Lever(BaseModel):
    """One pull: `what` names a node or a disk, where the lever needs one. lasts: seconds of the stand-ins'
    time, after which they go at the speed of before; 0 for good.
    """

    lever: Literal[
        "cut power",
        "give power",
        "pull disk",
        "return disk",
        "answer",
        "forget orders",
        "speed",
        "consumers",
        "shut port",
        "open port",
        "unplug",
        "plug",
        "run",
        "apply",
        "remove",
        "name server",
        "record",
        "unrecord",
        "mail server",
    ]
    what: str = ""
    # of a command, the name of a host's port, or manifests
    text: str = Field(default="", max_length=100_000)
    how: Literal["well", "slowly", "garbled", "silent", "refuses", "lies"] = "well"
    port: int = Field(default=0, ge=0, le=65_535)
    speed: float = Field(default=1.0, ge=0.0, le=FASTEST)
    lasts: float = Field(default=0.0, ge=0.0, le=1e8)
    times: float = Field(default=1.0, ge=0.0, le=1000.0)  # what consumers want, against what they usually do


def make_app(
    machines: Machines,
    own_url: str,
    home_url: str,
    mail_port: int = 0,
    stand_in: StandIn | None = None,
    names_port: int = 0,
) -> FastAPI:
    """The yard as a web application. home_url: where the agents report in; empty for nowhere. mail_port: of
    the mail host, names_port: of the name server; 0 for none. stand_in: an orchestrator that stands beside
    the machines, and answers already.
    """
    box = PostBox()

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        post = open_post(box, mail_port) if mail_port else None
        named = await open_names(machines.names, names_port) if names_port else None
        if stand_in and stand_in.server:
            stand_in.server.api.hands = _hands_on(machines)
        tasks = [
            asyncio.create_task(_run_ticks(machines)),
            asyncio.create_task(_report_in(machines, own_url, home_url)),
        ]
        for task in tasks:
            task.add_done_callback(_say_why_it_ended)
        yield
        for task in tasks:
            task.cancel()
        if post:
            post.stop()
        if named:
            await named.stop()
        if stand_in and stand_in.server:
            stand_in.server.api.hands = None  # it would wait for us, as we do for it
            await asyncio.to_thread(stand_in.stop)
        machines.keep_facts()
        machines.flush()

    app = FastAPI(title="Yard", lifespan=lifespan, docs_url=None, redoc_url=None, openapi_url=None)
    app.add_middleware(TrustedHostMiddleware, allowed_hosts=["127.0.0.1", "localhost", "[::1]"])

    async def answer(node: str, body: Any, request: Request, tag: str = "") -> Response:
        """As the node's levers say: not at all, slowly, nonsense, or well."""
        while not machines.power[
            node
        ]:  # a server without power answers nothing; the caller's patience ends first
            if await request.is_disconnected():
                break
            await asyncio.sleep(0.25)
        if machines.answers[node] == "slowly":
            await asyncio.sleep(SLOW_SECONDS)
        if machines.answers[node] == "garbled":
            return Response("<html>it works!</html>", media_type="text/html")
        text = json.dumps(body() if callable(body) else body)
        return Response(text, media_type="application/json", headers={"ETag": tag} if tag else None)

    app.include_router(redfish.router(machines))
    app.include_router(vm_hosts.router(machines))

    def known(node: str) -> str:
        if node not in machines.nodes:
            raise HTTPException(404, f"no node {node}")
        return node

    @app.get("/agents/{node}/v1/report")
    async def report(node: str, request: Request) -> Response:
        known(node)
        facts: dict[str, Any] = {
            "protocol": PROTOCOL,
            "node": node,
            "inventory_version": agent.inventory_version(machines, node),
        }
        facts |= {"cluster": council.describe(machines, node), "plies": agent.written(machines, node)}
        if compressed := agent.compressed(machines, node):
            facts["compressed"] = compressed
        facts |= {"wants": thin.wants(machines, node), "terms": machines.terms.get(node, "")}
        facts |= {"serves": hosts.serves(machines, node), "files": shares.tells(machines, node)}
        facts |= agent.counters(machines, node)
        tag = tag_of(facts)  # of everything but what grows with time alone
        if (
            request.headers.get("if-none-match") == tag
            and machines.answers[node] == "well"
            and machines.power[node]
        ):
            return Response(status_code=304, headers={"ETag": tag})
        facts |= {"clock": time.time() + machines.nodes[node].clock_offset, "uptime": machines.clock}
        return await answer(node, facts, request, tag)

    @app.post("/agents/{node}/v1/probe")
    async def probe(node: str, body: dict[str, Any], request: Request) -> Response:
        known(node)
        try:
            found = agent.probe(machines, node, body["targets"])
        except (KeyError, TypeError, ValueError) as error:
            raise HTTPException(422, f"the probe lacks or misnames {error}") from error
        return await answer(node, {"results": found}, request)

    @app.get("/witness/{name}/v1/report")
    async def witness(name: str, request: Request) -> dict[str, Any]:
        if name != WITNESS:
            raise HTTPException(404, f"no witness {name}")
        while not machines.power[name] and not await request.is_disconnected():
            await asyncio.sleep(0.25)
        return {"protocol": WITNESS_PROTOCOL, "name": name}

    @app.get("/agents/{node}/v1/inventory")
    async def inventory(node: str, request: Request) -> Response:
        return await answer(known(node), lambda: agent.inventory(machines, node), request)

    @app.get("/agents/{node}/v1/counters")
    async def counters(node: str, request: Request) -> Response:
        return await answer(known(node), lambda: agent.counted(machines, node), request)

    @app.get("/agents/{node}/v1/asked")
    async def asked(node: str, request: Request) -> Response:
        return await answer(known(node), lambda: agent.asked(machines, node), request)

    @app.get("/agents/{node}/v1/strips")
    async def strips_of(node: str, ply: Annotated[list[int], Query()], request: Request) -> Response:
        return await answer(node, {"plies": agent.strips_of(machines, known(node), ply)}, request)

    @app.get("/agents/{node}/v1/strips/{serial}")
    async def strips(node: str, serial: str, request: Request) -> Response:
        try:
            found = agent.strips_on(machines, known(node), serial)
        except council.BadOrder as error:
            raise HTTPException(404, str(error)) from error
        return await answer(node, {"strips": found}, request)

    @app.post("/agents/{node}/v1/orders")
    async def take(node: str, body: dict[str, Any], request: Request) -> Response:
        known(node)
        if not machines.power[node]:
            return await answer(node, {}, request)
        try:
            order = agent.take_order(machines, node, body)
        except council.BadOrder as error:
            raise HTTPException(422, str(error)) from error
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            raise HTTPException(422, f"the order lacks or misnames {error}") from error
        return await answer(node, agent.describe_order(order), request)

    @app.get("/agents/{node}/v1/orders/{id_}")
    async def order(node: str, id_: str, request: Request) -> Response:
        found = machines.orders.get(id_)
        if found is None or found.node != known(node):
            raise HTTPException(404, f"no order {id_}")
        return await answer(node, lambda: agent.describe_order(found), request)

    @app.delete("/agents/{node}/v1/orders/{id_}")
    async def cancel(node: str, id_: str, request: Request) -> Response:
        known(node)
        if machines.power[node] and agent.cancel_order(machines, id_) is None:
            raise HTTPException(404, f"no order {id_}")
        return await answer(node, {"id": id_}, request)

    @app.get("/hosts/{name}/v1/report")
    async def host_report(name: str, request: Request) -> Response:
        host = machines.hosts.get(name)
        if host is None:
            raise HTTPException(404, f"no host {name}")
        while not host.power and not await request.is_disconnected():
            await asyncio.sleep(0.25)
        facts = hosts.report(machines, host)
        tag = tag_of(facts)
        if request.headers.get("if-none-match") == tag:
            return Response(status_code=304, headers={"ETag": tag})
        return Response(json.dumps(facts), media_type="application/json", headers={"ETag": tag})

    @app.get("/levers")
    async def levers() -> dict[str, Any]:
        return standing("")

    def standing(printed: str) -> dict[str, Any]:
        return {
            "speed": machines.speed,
            "consumers": machines.consumers,
            "clock_seconds": machines.clock,
            "nodes": [
                {
                    "name": n.name,
                    "power": machines.power[n.name],
                    "answers": machines.answers[n.name],
                    "disks": [
                        {"name": f"{n.name}-{d.bay}", "inside": d.serial not in machines.pulled}
                        for d in n.disks
                    ],
                }
                for n in machines.nodes.values()
            ]
            + [{"name": WITNESS, "power": machines.power[WITNESS], "answers": "well", "disks": []}],
            "hosts": [
                {
                    "name": host.name,
                    "power": host.power,
                    "ports": [
                        {"name": n.name, "address": ", ".join(n.addresses), "up": n.up} for n in host.nics
                    ],
                    "initiators": sorted(host.names.values()),
                    "agent_url": f"{own_url}/hosts/{host.name}",
                    "service_url": f"{own_url}/vm-hosts/{host.name}" * (host.name in machines.vm_hosts),
                    "accounts": vm_hosts.accounts() if host.name in machines.vm_hosts else [],
                }
                for host in machines.hosts.values()
            ],
            "orchestrators": [administering.describe(stand_in)] if stand_in else [],
            "printed": printed,
            "shut": [{"node": node, "port": port} for node, port in sorted(machines.shut)],
            "mails": list(box.messages),
            "mail_server": {
                "at": f"127.0.0.1:{mail_port}" if mail_port else "",
                "how": box.how,
                "certificate": box.certificate,
                "account": ACCOUNT,
                "password": PASSWORD,
            },
            "name_server": f"127.0.0.1:{names_port}" if names_port else "",
            "names": {"how": machines.names.how, "zone": machines.names.zone},
            "witness_url": f"{own_url}/witness/{WITNESS}",
            "bmc_urls": {name: f"{own_url}/bmc/{name}" for name in machines.nodes},
        }

    @app.post("/levers")
    async def pull(lever: Lever) -> dict[str, Any]:
        printed = ""
        if lever.lever in ("apply", "remove"):
            if stand_in is None or lever.what != stand_in.name:
                raise HTTPException(404, f"There is no stand-in orchestrator named '{lever.what}'.")
            try:
                deed = administering.apply if lever.lever == "apply" else administering.remove
                printed = await deed(stand_in, lever.text)
            except administering.Failed as error:
                raise HTTPException(422, str(error)) from error
        elif lever.lever in ("name server", "record", "unrecord"):
            _on_names(machines, lever)
        elif lever.lever == "mail server":
            box.how = lever.how
        elif lever.what in machines.hosts:
            printed = _on_host(machines, machines.hosts[lever.what], lever)
        elif lever.lever == "speed":
            usual = machines.usual_speed
            machines.spurt = Spurt(machines.clock + lever.lasts, usual) if lever.lasts else None
            machines.speed = lever.speed
        elif lever.lever == "consumers":
            machines.consumers = lever.times
        elif lever.lever in ("pull disk", "return disk"):
            serial = machines.disk_at(lever.what)
            if serial is None:
                raise HTTPException(404, f"There is no stand-in disk named '{lever.what}'.")
            (machines.pulled.add if lever.lever == "pull disk" else machines.pulled.discard)(serial)
            if lever.lever == "pull disk":
                agent.lose_unsettled(machines, serial)
        elif lever.what == WITNESS and lever.lever in ("cut power", "give power"):
            machines.power[WITNESS] = lever.lever == "give power"
        elif lever.what not in machines.nodes:
            raise HTTPException(404, f"There is no stand-in node named '{lever.what}'.")
        elif lever.lever == "answer":
            if lever.how not in ("well", "slowly", "garbled"):
                raise HTTPException(422, f"A node does not answer '{lever.how}'.")
            machines.answers[lever.what] = lever.how
        elif lever.lever in ("shut port", "open port"):
            (machines.shut.add if lever.lever == "shut port" else machines.shut.discard)(
                (lever.what, lever.port)
            )
        elif lever.lever == "forget orders":
            machines.forget_orders(lever.what)
        else:
            machines.power[lever.what] = lever.lever == "give power"
            if not machines.power[lever.what]:
                _lose_unfinished(machines)
        machines.keep_facts()
        machines.flush()
        return standing(printed)

    return app


def _on_names(machines: Machines, lever: Lever) -> None:
    """Pulls a lever of the name server."""
    try:
        if lever.lever == "record":
            machines.names.add(lever.text.strip())
        elif lever.lever == "unrecord":
            machines.names.remove(lever.text.strip())
        else:
            machines.names.how = lever.how
    except ValueError as error:
        raise HTTPException(422, str(error)) from error


def _on_host(machines: Machines, host: hosts.StandInHost, lever: Lever) -> str:
    """Pulls a lever of a host; what a command printed there."""
    if lever.lever == "cut power":
        hosts.lose_power(host)
        vm_hosts.lose_power(machines, host.name)
    elif lever.lever == "give power":
        hosts.start(machines, host)
    elif lever.lever in ("plug", "unplug"):
        for nic in host.nics:
            if nic.name == lever.text:
                nic.up = lever.lever == "plug"
    elif lever.lever == "run":
        if not host.power:
            raise HTTPException(422, f"{host.name} has no power.")
        try:
            return shell.run(machines, host, lever.text)
        except shell.Failed as error:
            raise HTTPException(422, str(error)) from error
    else:
        raise HTTPException(422, f"A host has no lever '{lever.lever}'.")
    return ""


def _hands_on(machines: Machines) -> Callable[[dict[str, dict[str, Wanted]]], dict[str, list[str]]]:
    """What the orchestrator has done on its nodes is done where the machines are, between their ticks."""
    loop, hands = asyncio.get_running_loop(), Hands(machines)

    async def use(wanted: dict[str, dict[str, Wanted]]) -> dict[str, list[str]]:
        return hands.use(wanted)

    return lambda wanted: asyncio.run_coroutine_threadsafe(use(wanted), loop).result(HANDS_SECONDS)


def _lose_unfinished(machines: Machines) -> None:
    """A strip that was being written when the power went starts over."""
    for order in machines.orders.values():
        for copy in order.copies:
            if not copy.done and not machines.works(copy.target):
                copy.moved = 0.0


async def _run_ticks(machines: Machines) -> None:
    last = time.monotonic()
    for number in itertools.count():
        await asyncio.sleep(TICK_SECONDS)
        now = time.monotonic()
        tick(machines, now - last)
        council.tick(machines, now - last)
        last = now
        if number % 10 == 0:
            machines.keep_facts()
        try:
            machines.flush()
        except (
            sqlite3.Error
        ) as error:  # the machines' time goes on, and what is queued is written when there is room
            log.error("could not write: %s", error)
            await asyncio.sleep(WAIT_FOR_ROOM_SECONDS)


def _say_why_it_ended(task: asyncio.Task[None]) -> None:
    if not task.cancelled() and (error := task.exception()) is not None:
        log.error("the yard stands still", exc_info=error)


async def _report_in(machines: Machines, own_url: str, home_url: str) -> None:
    """Every agent announces itself until it is known; safe to repeat."""
    if not home_url:
        return
    waiting = list(machines.nodes)
    async with httpx.AsyncClient(timeout=5.0, trust_env=False) as client:
        while waiting:
            for node in list(waiting):
                try:
                    said = {"agent_url": f"{own_url}/agents/{node}", "key": machines.keys[node]}
                    answer = await client.post(f"{home_url}/api/agents", json=said)
                except httpx.HTTPError:
                    break
                if answer.is_success:
                    waiting.remove(node)
            await asyncio.sleep(0.5)


def app_from_environment() -> FastAPI:
    """For the process that runs the yard: YARD_STATE (a file), YARD_URL (its own), YARD_HOME (where to report
    in), YARD_CROWD (so many nodes of one kind in place of the demo's), YARD_ORCHESTRATOR_PORT and
    YARD_ORCHESTRATOR (where one answers, and a folder for what it keeps; none without).
    """
    state = os.environ.get("YARD_STATE", ":memory:")
    crowded = int(os.environ.get("YARD_CROWD", "0"))
    machines = Machines(
        crowd(crowded) if crowded else skerry_ferries(), Path(state) if state != ":memory:" else state
    )
    set_up_logs()
    stand_in = None
    if port := int(os.environ.get("YARD_ORCHESTRATOR_PORT", "0")):
        stand_in = StandIn("tender", Path(os.environ["YARD_ORCHESTRATOR"]), tender_nodes())
        stand_in.start(port)
    return make_app(
        machines,
        os.environ["YARD_URL"],
        os.environ.get("YARD_HOME", ""),
        int(os.environ.get("YARD_MAIL_PORT", "0")),
        stand_in,
        int(os.environ.get("YARD_NAMES_PORT", "0")),
    )
