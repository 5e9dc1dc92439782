"""Claims: from one that is made to one that is bound, a thousand at once, and fifty thousand that are
watched.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, suppress
from functools import partial
from pathlib import Path
from typing import Any

from foldbarn.core.claims.rights import manifests
from foldbarn.core.errors import BarnError
from foldbarn.house.barn import Barn
from foldbarn.house.demo import Demo
from foldbarn.house.postgres import free_port
from foldbarn.links import orchestrators as link
from foldbarn.links.orchestrators import Mirror, Orchestrator, Thing
from foldbarn.yard.orchestrator.administering import describe
from foldbarn.yard.orchestrator.kinds import BY_KIND
from foldbarn.yard.orchestrator.machinery import Api
from foldbarn.yard.orchestrator.standing import StandIn

SPACE = "bench"
OURS = "fold-barn"  # as events say who tells
SINGLE, MANY, WATCHED = 5, 1000, 50_000
AT_ONCE = 8
TOGETHER = 100  # of the crowd that are made in one go
PATIENCE = 900.0
REST_SECONDS = 20.0


def claim(name: str, storage_class: str = "bench") -> Thing:
    spec = {"storageClassName": storage_class, "accessModes": ["ReadWriteOnce"]}
    return {"metadata": {"name": name}, "spec": {**spec, "resources": {"requests": {"storage": "1Gi"}}}}


class Watched:
    """All claims of an orchestrator, as its administrator sees them."""

    def __init__(self, stand_in: StandIn) -> None:
        self.admin = Orchestrator(stand_in.url, stand_in.authority.decode(), stand_in.admin_token)
        self.mirror = Mirror(self.admin, link.CLAIMS)
        self.changed = threading.Condition()
        threading.Thread(target=self._go_on, daemon=True).start()

    def _go_on(self) -> None:
        while not self.mirror.stopped:
            with suppress(BarnError):  # such as that it forgot meanwhile what was missed: all is listed anew
                for _ in self.mirror.go_on():
                    with self.changed:
                        self.changed.notify_all()

    def bound(self) -> int:
        things = list(self.mirror.things.values())
        return sum((one.get("status") or {}).get("phase") == "Bound" for one in things)

    def wait(self, true: Callable[[], bool]) -> None:
        until = time.monotonic() + PATIENCE
        with self.changed:
            while not true():
                if time.monotonic() > until:
                    raise AssertionError("claims were not bound in time")
                self.changed.wait(0.02)

    def make(self, names: Iterable[str]) -> None:
        with ThreadPoolExecutor(max_workers=AT_ONCE) as crew:
            list(crew.map(lambda name: self.admin.ask("POST", link.CLAIMS.path(SPACE), claim(name)), names))


def prepared(barn: Barn, stand_in: StandIn, engineer: Demo) -> Watched:
    """A pool, a policy that a namespace may have, and an orchestrator that is connected."""
    engineer.wait(lambda: engineer.barn()["counts"]["nodes"] >= 9, "all nodes to report in")
    nodes = ("fulmar", "petrel", "kittiwake", "turnstone")
    disks = [f"{node}-{bay}" for node in nodes for bay in range(1, 9)]
    engineer.carry_out("form-pool", {"name": "quayside", "disks": disks})
    engineer.carry_out("save-policy", {"name": "pairs", "copies": 2, "level": "node"})
    connect(stand_in, engineer)
    engineer.carry_out("publish-class", {"name": "bench", "policy": "pairs"})
    granted = {"orchestrator": stand_in.name, "namespace": SPACE, "policy": "pairs"}
    engineer.carry_out("grant-policy", granted)
    return Watched(stand_in)


def connect(stand_in: StandIn, engineer: Demo) -> None:
    assert stand_in.server is not None
    api = stand_in.server.api
    for thing in [*manifests(), {"kind": "Namespace", "metadata": {"name": SPACE}}]:
        api.create(BY_KIND[thing["kind"]], thing["metadata"].get("namespace", ""), thing)
    engineer.wait(lambda: bool(describe(stand_in)["token"]), "the account's token")
    there = describe(stand_in)
    engineer.carry_out("connect-orchestrator", {k: there[k] for k in ("name", "url", "authority", "token")})


def resident(barn: Barn) -> int:
    """Bytes of memory that the work process holds."""
    process = barn.children["work"].process
    assert process is not None
    pages = int(Path(f"/proc/{process.pid}/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE")


def claims(folder: Path, row: Callable[..., None], rest: Callable[[Any], float]) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    barn, stand_in = Barn(folder / "claims", free_port()), StandIn("bench", folder / "bench-orchestrator")
    stand_in.start(free_port())
    try:
        barn.start()
        with closing(Demo(barn.url)) as engineer:
            watched = prepared(barn, stand_in, engineer)
            engineer.client.post("/yard", json={"lever": "consumers", "times": 0}).raise_for_status()
            singles = []
            for number in range(SINGLE):
                start = time.perf_counter()
                watched.make([f"one-{number}"])
                watched.wait(lambda wanted=number + 1: watched.bound() >= wanted)  # type: ignore[misc]
                singles.append(time.perf_counter() - start)
            middle = sorted(singles)[SINGLE // 2]
            row("a claim, from its making to bound", middle, "of a second", middle)
            start = time.perf_counter()
            watched.make(f"many-{number}" for number in range(MANY))
            watched.wait(lambda: watched.bound() >= SINGLE + MANY)
            seconds = time.perf_counter() - start
            row(
                f"{MANY:,} claims made at once, until the last is bound", seconds, "of a minute", seconds / 60
            )
            before = resident(barn)
            crowd(stand_in)
            kept = SINGLE + MANY + WATCHED
            engineer.wait(
                lambda: engineer.client.get("/claims?per=1", timeout=120.0).json()["kept"] >= kept,
                "all claims to be seen",
                seconds=PATIENCE,
                pause=2.0,
            )
            engineer.wait(
                lambda: told(stand_in) >= WATCHED, "each to be told why it waits", PATIENCE, pause=2.0
            )
            time.sleep(REST_SECONDS)
            share, full = rest(barn), resident(barn)
            row(
                f"the work process, {WATCHED:,} claims watched: in each second",
                share,
                "of a processor",
                share,
            )
            time.sleep(REST_SECONDS)
            later = resident(barn)
            row(
                "its memory a while later, beside at first",
                0.0,
                f"of {full / 1e6:,.0f} MB, {before / 1e6:,.0f} MB without them",
                later / full,
            )
            watched.mirror.stop()
    finally:
        barn.stop()
        stand_in.stop()


def told(stand_in: StandIn) -> int:
    """Events by which Fold Barn has told somebody something."""
    assert stand_in.server is not None
    api: Api = stand_in.server.api
    found: list[int] = []

    def count() -> None:
        events = api.objects.all(BY_KIND["Event"])
        found.append(sum(one["source"].get("component") == OURS for one in events))

    stand_in.between_turns(count)
    return found[0]


def crowd(stand_in: StandIn) -> None:
    """Claims of a class that is not there: each is told why it waits."""
    assert stand_in.server is not None
    api: Api = stand_in.server.api

    def some(first: int) -> None:
        for number in range(first, first + TOGETHER):
            api.create(BY_KIND["PersistentVolumeClaim"], SPACE, claim(f"crowd-{number:05d}", "benc"))

    for first in range(0, WATCHED, TOGETHER):
        stand_in.between_turns(partial(some, first))
        time.sleep(0.05)  # for those that watch
