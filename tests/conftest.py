"""Fixtures: a real PostgreSQL, the real yard over real HTTP, and the whole barn as processes."""

from __future__ import annotations

import asyncio
import os
import re
import shutil
import subprocess
import threading
import time
from collections.abc import Callable, Coroutine, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from functools import partial
from http import HTTPStatus
from pathlib import Path
from typing import Any

import httpx
import psycopg
import pytest
import uvicorn
from hypothesis import HealthCheck
from hypothesis import settings as hypothesis_settings
from playwright.sync_api import Browser, BrowserContext, Locator, Page, Response, expect
from playwright.sync_api import TimeoutError as PlaywrightTimeoutError
from sqlalchemy import create_engine
from tenacity import wait_fixed
from xdist.scheduler import LoadScopeScheduling

from foldbarn.api.app import make_app as make_api
from foldbarn.changes.engine import runner
from foldbarn.changes.engine.queue import _sender
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.actors import Actor
from foldbarn.core.errors import Unreachable
from foldbarn.core.units import DAY_SECONDS
from foldbarn.house import barn as house_module
from foldbarn.house.barn import Barn
from foldbarn.house.demo import Demo
from foldbarn.house.postgres import Postgres, free_port
from foldbarn.links import name_servers, outbound
from foldbarn.services import changes, intake
from foldbarn.settings import settings
from foldbarn.store import database as database_module
from foldbarn.store import views
from foldbarn.store.database import forget_connections, transaction
from foldbarn.store.founding import found_site
from foldbarn.store.migrate import migrate
from foldbarn.store.tables import ChangeRow
from foldbarn.yard.machines import Machines
from foldbarn.yard.scenario import skerry_ferries
from foldbarn.yard.server import make_app as make_yard

ME = Actor("Ines Marrow")  # the site's operator
PROJECT = Path(__file__).resolve().parents[1]
LIST_MS = 10_000  # for which a list that was opened may not be there yet
PATIENCE = 6  # seconds that a whole barn gives an agent to answer
MOST_LOOKS = 5  # at previews made anew, before what they show is carried out
MEMORY_WANTED = 2 * 1024**3  # bytes that must be free in memory for the tests' state to lie there
LOOK_SECONDS = 0.4  # of whole barns: those that look all the time take the machine from the other tests
os.environ["FOLDBARN_LOOK_SECONDS"] = "0.05"  # the stand-ins' time runs fast, so copies end soon
os.environ["FOLDBARN_DEAD_AFTER_SECONDS"] = "2"  # of a worker that a test has killed
# A machine that is busy with other tests may be slow to show any: that is no reason to start anything again.
house_module.HUNG_SECONDS = 300.0
# Statements are compiled once for all of a run's databases, which have the same tables.
database_module.create_engine = partial(create_engine, execution_options={"compiled_cache": {}})
# No deadline: machines differ. In CI the examples are the same every time; elsewhere new ones are tried.
hypothesis_settings.register_profile(
    "barn",
    deadline=None,
    max_examples=60,
    database=None,
    print_blob=True,
    derandomize=bool(os.environ.get("CI")),
    suppress_health_check=[HealthCheck.too_slow],
)
hypothesis_settings.load_profile("barn")


LONGEST_FIRST = (
    "web",
    "house",
    "changes",
    "api",
    "services",
)  # folders; what whole barns need is mostly waiting

WHOLE_BARNS = ("web", "house")  # folders


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The long files go first, so that neither worker is left with one when the other has nothing to do."""
    rank = {folder: place for place, folder in enumerate(LONGEST_FIRST)}
    here = PROJECT / "tests"
    items.sort(key=lambda item: rank.get(item.path.relative_to(here).parts[0], len(rank)))


USUAL_SPEED = 5000.0  # of the stand-ins' time in tests, against ours


class Hands(LoadScopeScheduling):  # type: ignore[misc]
    """Who runs which tests. A file stays together: what its tests share is made once. Whole barns stand one
    after the other, on one worker: each of them takes a good part of a core though nobody asks anything of
    it, so that three side by side leave next to nothing for what they are there for.
    """

    def _split_scope(self, nodeid: str) -> str:
        file = nodeid.partition("::")[0]
        return "whole barns" if Path(file).parts[1] in WHOLE_BARNS else file


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> Hands | None:
    return Hands(config, log) if config.getvalue("dist") == "loadfile" else None


@pytest.fixture(scope="session")
def workplace() -> Iterator[Path]:
    """A folder for state that PostgreSQL's own account can walk into: in memory where the machine has such a
    place, since each test copies a database and drops it again, which is hundreds of files."""
    memory = Path("/dev/shm")
    roomy = os.access(memory, os.W_OK) and shutil.disk_usage(memory).free > MEMORY_WANTED
    folder = (memory / "foldbarn" if roomy else PROJECT / ".barn") / f"test-{os.getpid()}"
    folder.mkdir(parents=True)
    yield folder
    if not os.environ.get("BARN_KEEP_STATE"):
        shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def postgres(workplace: Path) -> Iterator[Postgres]:
    server = Postgres(workplace / "shared", quick=True)
    server.start()
    os.environ["FOLDBARN_DATABASE_URL"] = server.url("foldbarn")
    _forget_connections()
    migrate()
    _forget_connections()
    yield server
    _forget_connections()
    server.stop()


def _forget_connections() -> None:
    """Settings and connections are kept for a process's life; a test that changes databases drops them."""
    settings.cache_clear()
    forget_connections()
    if _sender.cache_info().currsize:
        _sender().close()
    _sender.cache_clear()
    views.forget()


@contextmanager
def _database_from(postgres: Postgres, template: str) -> Iterator[str]:
    """A database copied from another; settings point at it meanwhile."""
    name = f"test{time.monotonic_ns()}"
    admin = postgres.url("postgres").replace("+psycopg", "")
    with psycopg.connect(admin, autocommit=True) as connection:
        connection.execute(f"create database {name} template {template} strategy file_copy")
    os.environ["FOLDBARN_DATABASE_URL"] = postgres.url(name)
    _forget_connections()
    yield postgres.url(name)
    _forget_connections()
    with psycopg.connect(admin, autocommit=True) as connection:
        connection.execute(f"drop database {name} with (force)")


@pytest.fixture
def database(postgres: Postgres) -> Iterator[str]:
    """A fresh database, migrated; settings point at it."""
    with _database_from(postgres, "foldbarn") as url:
        found_site("Test site", "Ines Marrow", 30.0)
        yield url


@pytest.fixture(scope="session")
def stage() -> Iterator[Stage]:
    """At one address for a whole run, so that agents keep theirs from test to test."""
    stage = Stage(free_port())
    yield stage
    stage.served.stop()


@dataclass(frozen=True)
class Start:
    """What tests begin from, each with a copy: the name of a database, and the file of the machines that
    belong to it.
    """

    database: str
    machines: Path


@contextmanager
def _start(postgres: Postgres, workplace: Path, name: str, template: str) -> Iterator[Start]:
    """One to be filled: a database copied from another, to which settings point meanwhile."""
    with psycopg.connect(postgres.url("postgres").replace("+psycopg", ""), autocommit=True) as connection:
        connection.execute(f"create database {name} template {template} strategy file_copy")
    os.environ["FOLDBARN_DATABASE_URL"] = postgres.url(name)
    _forget_connections()
    yield Start(name, workplace / f"{name}.machines")
    _forget_connections()


@pytest.fixture(scope="session")
def welcomed(postgres: Postgres, workplace: Path, stage: Stage) -> Start:
    """All nodes of the yard have reported in."""
    with _start(postgres, workplace, "welcomed", "foldbarn") as start:
        found_site("Test site", "Ines Marrow", 30.0)
        with stage.yard(start.machines) as yard:
            for node in yard.machines.nodes:
                intake.welcome_agent(yard.agent(node))
    return start


@pytest.fixture(scope="session")
def pooled(postgres: Postgres, workplace: Path, stage: Stage, welcomed: Start) -> Start:
    """And the pool that most tests need is formed, as change 1."""
    with _start(postgres, workplace, "pooled", welcomed.database) as start:
        shutil.copy(welcomed.machines, start.machines)
        with stage.yard(start.machines) as yard:
            site = Site(yard)
            assert site.state(site.pool()) == "done"
    return start


def stand_still(machines: Machines) -> None:
    """From here on the stand-ins' time passes as a test lets it: no tick is on its way any more."""
    with machines.advancing:
        machines.speed = 0.0


def at_hour(machines: Machines, hour: float, times: float = 1.0) -> None:
    """Consumers want so many times what they usually do, at an hour of the stand-ins' next day: on a busy
    machine this one may be far gone by now, and time never runs backwards. It stands still there.
    """
    stand_still(machines)
    machines.consumers = times
    machines.clock = (machines.clock // DAY_SECONDS + 1) * DAY_SECONDS + hour * 3600.0


def pick(where: Page | Locator, label: str, option: str) -> None:
    """Chooses by its words from a list, as a person does: one that closes as the page is laid out anew under
    it is opened once more.
    """
    field = where.get_by_label(label, exact=True)
    page = where if isinstance(where, Page) else where.page
    wanted = page.get_by_role("option", name=option)
    field.press("Enter")
    try:
        wanted.wait_for(timeout=LIST_MS)
    except PlaywrightTimeoutError:
        field.press("Enter")
    wanted.click()


def blocker(where: Page | Locator, words: str) -> Locator:
    """The blocker that says this, whatever others stand beside it while a wish is still being typed."""
    return where.locator("[data-note=blocker]").filter(has_text=words)


def carry_out(page: Page, press: Callable[[], None] | None = None) -> None:
    """Carries out what is previewed, and follows it. Where the site has changed meanwhile, the fresh preview
    is carried out, as a person does who has looked at it: machines may report something new at any time.
    """
    deed = press or page.get_by_role("button", name="Carry out").click
    for _ in range(MOST_LOOKS):
        with page.expect_response(_is_deed) as answer:
            deed()
        if answer.value.status != HTTPStatus.CONFLICT:
            break
    expect(page).to_have_url(re.compile(r"/changes/\d+$"))


def _is_deed(response: Response) -> bool:
    return response.request.method == "POST" and response.url.endswith("/api/changes")


def be_patient(patches: pytest.MonkeyPatch, machines: Machines) -> None:
    """Who has power has a minute to answer, so that a busy machine is never taken for a dead one; who has
    none is not waited for at all, as it would answer nothing for as long as one has patience.
    """
    asked = outbound._Outbound._bounded

    async def ask(here: Any, method: str, url: str, *rest: Any) -> outbound.Answer:
        names = [url.partition(f"/{of}/")[2].partition("/")[0] for of in ("agents", "witness", "vm-hosts")]
        power = machines.power | {name: host.power for name, host in machines.hosts.items()}
        if not all(power.get(name, True) for name in names):
            raise Unreachable("No answer.", about=url)
        return await asked(here, method, url, *rest)

    patches.setattr(outbound._Outbound, "_bounded", ask)
    patches.setattr(name_servers, "PATIENCE_SECONDS", 60.0)
    patches.setenv("FOLDBARN_ANSWER_SECONDS", "60")
    settings.cache_clear()
    patches.setattr(runner, "PAUSES", wait_fixed(0.02))  # between tries, all of which are made


def run_async(work: Coroutine[Any, Any, Any]) -> Any:
    """In a thread of its own: the browser that other tests drive keeps an event loop in this one."""
    with ThreadPoolExecutor(max_workers=1) as crew:
        return crew.submit(asyncio.run, work).result()


@dataclass
class Served:
    """An application on a real port, in a thread."""

    url: str
    server: uvicorn.Server
    thread: threading.Thread

    def stop(self) -> None:
        self.server.should_exit = True
        self.thread.join(80)


def serve(app: Any, port: int) -> Served:
    server = uvicorn.Server(
        uvicorn.Config(app, host="127.0.0.1", port=port, log_level="warning", timeout_graceful_shutdown=1)
    )
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    deadline = time.monotonic() + 10
    while not server.started:
        assert time.monotonic() < deadline, "the application did not start"
        time.sleep(0.01)
    return Served(f"http://127.0.0.1:{port}", server, thread)


@dataclass
class Yard:
    """The real yard over HTTP, with its machines at hand so that tests can look at what is truly there."""

    url: str
    machines: Machines
    name_server: str = ""

    def agent(self, node: str) -> str:
        return f"{self.url}/agents/{node}"

    def strips(self, pool: str | None = None) -> int:
        """Strips on all disks."""
        return sum(
            len(s)
            for serial, s in self.machines.strips.items()
            if pool is None or self.machines.pool_of.get(serial) == pool
        )


class Stage:
    """One server for all yards of a run; each test brings its own on."""

    def __init__(self, port: int) -> None:
        self.app: Any = None
        self.loop: asyncio.AbstractEventLoop | None = None
        self.served = serve(self, port)
        self.names_port = free_port()

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "lifespan":
            await self.app(scope, receive, send)
            return
        self.loop = asyncio.get_running_loop()
        while (message := await receive())["type"] != "lifespan.shutdown":
            await send({"type": f"{message['type']}.complete"})
        await send({"type": "lifespan.shutdown.complete"})

    def _in_server(self, work: Coroutine[Any, Any, Any]) -> None:
        assert self.loop
        asyncio.run_coroutine_threadsafe(work, self.loop).result(160)

    @contextmanager
    def yard(self, file: Path | str = ":memory:", speed: float = USUAL_SPEED) -> Iterator[Yard]:
        machines = Machines(skerry_ferries(), file)
        # At such a speed the hour of the day, and what consumers have asked, would be as fast as the machine
        # is: they want nothing, until a test wants them to.
        machines.speed, machines.consumers = speed, 0.0
        self.app = make_yard(machines, self.served.url, "", names_port=self.names_port)
        clock = self.app.router.lifespan_context(self.app)
        self._in_server(clock.__aenter__())
        os.environ["FOLDBARN_YARD_URL"] = self.served.url
        settings.cache_clear()
        try:
            yield Yard(self.served.url, machines, f"127.0.0.1:{self.names_port}")
        finally:
            self._in_server(clock.__aexit__(None, None, None))
            machines.close()
            os.environ.pop("FOLDBARN_YARD_URL")
            settings.cache_clear()


@pytest.fixture
def yard(stage: Stage) -> Iterator[Yard]:
    with stage.yard() as yard:
        yield yard


@dataclass
class Site:
    """A site of the yard's nodes, driven in this process: what the work process would do, step by step."""

    yard: Yard

    def disks(self, media: str = "ssd", nodes: tuple[str, ...] = ()) -> list[str]:
        view = views.current_view()
        return [
            d.name
            for d in view.disks
            if d.media == media and d.role == "unclaimed" and (not nodes or view.nodes[d.node].name in nodes)
        ]

    def do(self, kind: str, **params: Any) -> int:
        """Carries a change out to its end or pause."""
        number = changes.carry_out(ME, kind, params)
        run_change(number)
        return number

    def pool(self, name: str = "quayside", **params: Any) -> int:
        params.setdefault("disks", self.disks(nodes=("fulmar", "petrel", "kittiwake", "turnstone")))
        return self.do("form-pool", name=name, **params)

    def volume(self, name: str = "charts", **params: Any) -> int:
        return self.do("create-volume", **({"name": name, "pool": "quayside", "size": "100 GiB"} | params))

    def erase(self, volume: str) -> int:
        """Deletes a volume and empties the bin of it; the number of the second change."""
        self.do("delete-volume", volume=volume, typed=volume)
        view = views.current_view()
        pool = view.pools[view.volume(volume).pool].name
        return self.do("empty-bin", pool=pool, volumes=[volume], typed=volume)

    def state(self, number: int) -> str:
        with transaction() as session:
            return session.get_one(ChangeRow, number).state

    def problem(self, number: int) -> str:
        with transaction() as session:
            return session.get_one(ChangeRow, number).problem


@pytest.fixture
def new_site(
    postgres: Postgres, workplace: Path, stage: Stage
) -> Callable[..., AbstractContextManager[Site]]:
    """Makes a site of its own from a start, for as long as it is needed."""

    @contextmanager
    def make(start: Start, speed: float = USUAL_SPEED) -> Iterator[Site]:
        machines = workplace / f"{time.monotonic_ns()}.machines"
        shutil.copy(start.machines, machines)
        with stage.yard(machines, speed) as yard, _database_from(postgres, start.database):
            yield Site(yard)
        machines.unlink()

    return make


@pytest.fixture
def barn_site(
    request: pytest.FixtureRequest,
    new_site: Callable[..., AbstractContextManager[Site]],
    monkeypatch: pytest.MonkeyPatch,
) -> Iterator[Site]:
    """A site whose nodes have just reported in; of a test marked `pooled`, one with the pool quayside."""
    with_pool = request.node.get_closest_marker("pooled") is not None
    start: Start = request.getfixturevalue("pooled" if with_pool else "welcomed")
    with new_site(start) as site:
        be_patient(monkeypatch, site.yard.machines)
        yield site
        settings.cache_clear()


@pytest.fixture(scope="session")
def starts() -> dict[str, Start]:
    """Starts that were made for the tests of one file."""
    return {}


def begun(
    build: Callable[[Site], None],
    *,
    on: str = "pooled",
    speed: float = USUAL_SPEED,
) -> Any:
    """A fixture: a site as `build` leaves it, which begins on another start. That is done once, and each test
    has a copy. speed: of the yard's time, in each test.
    """

    @pytest.fixture
    def site(
        request: pytest.FixtureRequest,
        postgres: Postgres,
        workplace: Path,
        stage: Stage,
        starts: dict[str, Start],
        new_site: Callable[..., AbstractContextManager[Site]],
        monkeypatch: pytest.MonkeyPatch,
    ) -> Iterator[Site]:
        name = f"{build.__module__.rpartition('.')[2]}_{build.__name__}"
        before: Start = request.getfixturevalue(on)
        if name not in starts:
            with (
                _start(postgres, workplace, name, before.database) as start,
                monkeypatch.context() as patches,
            ):
                shutil.copy(before.machines, start.machines)
                with stage.yard(start.machines) as yard:
                    be_patient(patches, yard.machines)
                    build(Site(yard))
            starts[name] = start
        with new_site(starts[name], speed) as made:
            be_patient(monkeypatch, made.yard.machines)
            yield made
            settings.cache_clear()

    return site


@pytest.fixture
def api(barn_site: Site) -> Iterator[httpx.Client]:
    """The API on a real port over the same database."""
    served = serve(make_api(), free_port())
    with httpx.Client(base_url=served.url, timeout=90.0, trust_env=False) as client:
        yield client
    served.stop()


@dataclass
class Running:
    """The whole barn as processes."""

    barn: Barn
    keeper: threading.Thread
    api: httpx.Client
    demo: Demo

    @property
    def url(self) -> str:
        return self.barn.url

    def erase(self, *volumes: str) -> None:
        """Deletes volumes of a pool, and empties its bin of them."""
        pool = self.api.get(f"/volumes/{volumes[0]}").json()["pool"]
        for name in volumes:
            self.demo.carry_out("delete-volume", {"volume": name, "typed": name})
        typed = volumes[0] if len(volumes) == 1 else pool
        self.demo.carry_out("empty-bin", {"pool": pool, "volumes": list(volumes), "typed": typed})

    def pull(self, **lever: Any) -> None:
        self.api.post("/yard", json=lever).raise_for_status()

    def _process(self, name: str) -> subprocess.Popen[bytes]:
        process = self.barn.postgres.process if name == "postgres" else self.barn.children[name].process
        assert process
        return process

    def pid(self, name: str) -> int:
        return self._process(name).pid

    def alive(self, name: str) -> bool:
        return self._process(name).poll() is None


@pytest.fixture(scope="module")
def running(workplace: Path, request: pytest.FixtureRequest) -> Iterator[Running]:
    """A bare barn: machines that have only just reported in; a short grace time, and stand-ins whose time
    runs fast.

    In a module that sets NOBODY_REPORTS, the stand-ins wait until a test announces them; SETTINGS are more of
    the environment that it sets.
    """
    name = request.module.__name__.rpartition(".")[2]
    alone = getattr(request.module, "NOBODY_REPORTS", False)
    barn = Barn(
        workplace / name,
        free_port(),
        quick=True,
        # A machine that is busy with other tests may answer late: that is no silence here.
        environment={
            "FOLDBARN_GRACE_SECONDS": "4",
            "FOLDBARN_SILENT_SECONDS": "14",
            "FOLDBARN_ANSWER_SECONDS": str(PATIENCE),
            "FOLDBARN_LOOK_SECONDS": str(LOOK_SECONDS),
        }
        | ({"YARD_HOME": ""} if alone else {})
        | getattr(request.module, "SETTINGS", {}),
    )
    stop = threading.Event()

    def keep() -> None:
        while not stop.is_set():
            barn.look()
            time.sleep(0.1)

    try:
        barn.start()
        keeper = threading.Thread(target=keep, daemon=True)
        keeper.start()
        with httpx.Client(base_url=f"{barn.url}/api", timeout=90.0, trust_env=False) as client:
            engineer = Demo(barn.url)
            running = Running(barn, keeper, client, engineer)
            if not alone:
                running.demo.wait(
                    lambda: client.get("/barn").json()["counts"]["nodes"] == 9, "the nodes to report in"
                )
            yield running
            engineer.close()
    finally:
        stop.set()
        time.sleep(0.3)
        barn.stop()


@pytest.fixture(scope="session")
def browser_type_launch_args(browser_type_launch_args: dict[str, Any]) -> dict[str, Any]:
    quiet = [
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
    ]
    return {**browser_type_launch_args, "executable_path": "/usr/bin/chromium", "args": quiet}


expect.set_options(timeout=90_000)  # a machine that is busy with other tests may take long to draw a page


@pytest.fixture(scope="session")
def browser_context_args(browser_context_args: dict[str, Any]) -> dict[str, Any]:
    return {**browser_context_args, "viewport": {"width": 1280, "height": 800}}


@pytest.fixture(scope="module")
def window(browser: Browser, browser_context_args: dict[str, Any]) -> Iterator[BrowserContext]:
    """One for each module, as a person has one: what it has loaded once it need not load again."""
    context = browser.new_context(**browser_context_args)
    yield context
    context.close()


@pytest.fixture
def tab(window: BrowserContext) -> Iterator[Page]:
    tab = window.new_page()
    tab.set_default_timeout(90_000)
    yield tab
    tab.close()
