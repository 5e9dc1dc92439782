"""Processes killed with kill -9, the database restarted under load, agents misbehaving: nothing is lost or
done twice.

One barn for the module; each test leaves it whole again.
"""

from __future__ import annotations

import json
import os
import signal
import threading
import time
from collections.abc import Callable
from typing import Any

import httpx
import psycopg
import pytest
from conftest import PATIENCE, Running

SSD_NODES = ("fulmar", "petrel", "razorbill", "kittiwake", "turnstone")


def disks(running: Running, media: str, nodes: tuple[str, ...] = SSD_NODES) -> list[str]:
    barn = running.api.get("/barn").json()
    found = [
        d
        for room in barn["rooms"]
        for rack in room["racks"]
        for n in rack["nodes"]
        if n["name"] in nodes
        for d in n["disks"]
    ]
    return [d["name"] for d in found if d["media"] == media and d["fit"]]


def wait(running: Running, done: Callable[[], bool], what: str) -> None:
    def patient() -> bool:
        try:
            return done()
        except Exception:  # the process that answers may be the one that was killed
            return False

    running.demo.wait(patient, what)


def change_of(running: Running, number: int) -> dict[str, Any]:
    found: dict[str, Any] = running.api.get(f"/changes/{number}").json()
    return found


def insist(running: Running, kind: str, params: dict[str, Any]) -> int:
    """The number of the change, asked for until it is taken. Where the connection breaks it may have been:
    that is looked up.
    """
    number = 0

    def taken() -> bool:
        nonlocal number
        known = running.api.get("/changes").json()
        number = next((c["number"] for c in known if (c["kind"], c["about"]) == (kind, params["name"])), 0)
        if not number:
            answer = running.api.post("/changes", json={"kind": kind, "params": params})
            number = answer.json().get("number", 0)
        return number > 0

    wait(running, taken, f"{kind} to be taken")
    return number


def volume_is_whole(running: Running, name: str) -> bool:
    page = running.api.get(f"/volumes/{name}").json()
    return bool(page["data"] == "whole" and not page["forming"])


def kill(running: Running, name: str) -> None:
    """Kills a process, once it runs; it is started again without the pause that one which fails for itself
    would get.
    """
    while not running.alive(name):  # killed before, and not started again yet
        time.sleep(0.05)
    if name in running.barn.children:
        running.barn.children[name].failures = 0
    os.kill(running.pid(name), signal.SIGKILL)


def kill_soon(running: Running, name: str, after: float) -> threading.Thread:
    def strike() -> None:
        time.sleep(after)
        kill(running, name)

    thread = threading.Thread(target=strike)
    thread.start()
    return thread


def count_strips(running: Running) -> int:
    """On all disks, as their agents tell."""
    barn = running.api.get("/barn").json()
    nodes = [n for room in barn["rooms"] for rack in room["racks"] for n in rack["nodes"]]
    disks = [(n["name"], d["serial"]) for n in nodes for d in n["disks"] if d["pool"]]
    agents = f"http://127.0.0.1:{(running.barn.state / 'yard.port').read_text()}/agents"
    with httpx.Client(base_url=agents, trust_env=False) as client:
        return sum(len(client.get(f"/{node}/v1/strips/{serial}").json()["strips"]) for node, serial in disks)


@pytest.mark.parametrize("victim", ["work", "serve", "postgres"])
def test_killed_while_forming_a_pool_and_making_a_volume(running: Running, victim: str) -> None:
    nodes = {
        "work": ("fulmar", "petrel", "kittiwake"),
        "serve": ("razorbill", "turnstone"),
        "postgres": ("gannet", "dunlin", "whimbrel"),
    }[victim]
    pool, media = f"pool-{victim}", "hdd" if victim == "postgres" else "ssd"
    running.pull(lever="speed", speed=3000)
    params = {"name": pool, "disks": disks(running, media, nodes), "copies": 2, "headroom": None}
    thread = kill_soon(running, victim, after=0.15)
    number = insist(running, "form-pool", params)
    thread.join()
    wait(running, lambda: change_of(running, number)["state"] == "done", "the pool")
    thread = kill_soon(running, victim, after=0.1)
    number = insist(
        running, "create-volume", {"name": f"v-{victim}", "pool": pool, "size": "200 GiB", "copies": 2}
    )
    thread.join()
    wait(running, lambda: volume_is_whole(running, f"v-{victim}"), "the volume")
    wait(running, lambda: change_of(running, number)["state"] == "done", "the change")
    change = change_of(running, number)
    assert [s["attempt"] for s in change["steps"]] == [1, 1, 1]  # resumed, not tried anew
    page = running.api.get(f"/volumes/v-{victim}").json()
    assert sum(page["shares"].values()) == 400 * 2**30


def test_the_work_process_killed_three_times_while_rebuilding(running: Running) -> None:
    before = count_strips(running)
    # So slow that the copying, which goes on while nobody looks, cannot end before the process is back.
    running.pull(lever="speed", speed=0.4)
    running.pull(lever="cut power", what="petrel")

    def moved() -> int:
        """Bytes that the rebuild under way has moved so far; none before it moves."""
        return sum(
            c["moved_bytes"]
            for c in running.api.get("/changes").json()
            if c["kind"] == "rebuild" and c["state"] == "running"
        )

    seen = 0
    for _ in range(3):
        wait(running, lambda seen=seen: moved() > seen, "the rebuild to get on")
        seen = moved()
        assert seen > 0  # it is in the middle each time
        kill(running, "work")
    running.pull(lever="speed", speed=3000)
    wait(running, lambda: volume_is_whole(running, "v-work"), "the volume to be whole on fewer nodes")
    running.pull(lever="give power", what="petrel")
    wait(running, lambda: levelled_after(running, "petrel"), "the data to be levelled out again")
    assert volume_is_whole(running, "v-work")
    assert count_strips(running) == before  # each strip once; nothing left over on any disk
    copies = [
        s["outcome"]
        for c in running.api.get("/changes").json()
        if c["kind"] == "rebuild"
        for s in c["steps"]
        if s["name"] == "copy"
    ]
    assert copies


def asked_to_look(running: Running) -> bool:
    """Whether a pool is still to be looked at: disks that come back one after another are levelled out by one
    change after another.
    """
    with psycopg.connect(running.barn.postgres.url().replace("+psycopg", "")) as connection:
        found = connection.execute("select count(*) from pool where look_reason <> ''").fetchone()
    return found is not None and found[0] > 0


def settled(running: Running) -> bool:
    """Nothing running or asked for, everything heard, and every pool level."""
    if asked_to_look(running):
        return False
    barn = running.api.get("/barn").json()
    nodes = [n for room in barn["rooms"] for rack in room["racks"] for n in rack["nodes"]]
    return (
        all(n["state"]["lamp"] != "not heard" for n in nodes)
        and all(d["state"]["lamp"] != "not heard" for n in nodes for d in n["disks"] if d["pool"])
        and all(p["imbalance"] <= 0.1 for p in barn["pools"])
        and all(c["state"] == "done" for c in running.api.get("/changes").json())
        and not asked_to_look(running)
    )


def levelled_after(running: Running, what: str) -> bool:
    """Whether what came back was levelled out, and nothing is left to do."""
    reasons = [c["reason"] for c in running.api.get("/changes").json()]
    return f"{what} is back." in reasons and settled(running)


def test_a_node_that_returns_within_the_grace_time_moves_nothing(running: Running) -> None:
    running.pull(lever="speed", speed=3000)
    wait(running, lambda: settled(running), "what was begun before to end")
    running.api.put("/grace", json={"grace_seconds": 60}).raise_for_status()
    before = len(running.api.get("/changes").json())
    running.pull(lever="cut power", what="kittiwake")
    wait(
        running, lambda: running.api.get("/volumes/v-work").json()["data"] == "bare", "the volume to be short"
    )
    state = running.api.get("/volumes/v-work").json()["state"]
    assert state["lamp"] == "short"
    assert "kittiwake is not heard" in state["reason"]
    assert "If nothing returns before, a rebuild starts in about" in state["reason"]
    running.pull(lever="give power", what="kittiwake")
    wait(running, lambda: volume_is_whole(running, "v-work"), "the volume to be whole again")
    assert len(running.api.get("/changes").json()) == before
    running.api.put("/grace", json={"grace_seconds": 4}).raise_for_status()


@pytest.mark.parametrize(
    ("how", "says"), [("garbled", "not in the agent protocol"), ("slowly", f"No answer within {PATIENCE} s.")]
)
def test_an_agent_that_answers_badly_is_shown_as_such(running: Running, how: str, says: str) -> None:
    running.api.put("/grace", json={"grace_seconds": 60}).raise_for_status()

    def skua() -> dict[str, Any]:
        barn = running.api.get("/barn").json()
        return next(
            n["state"]
            for room in barn["rooms"]
            for rack in room["racks"]
            for n in rack["nodes"]
            if n["name"] == "skua"
        )

    running.pull(lever="answer", what="skua", how=how)
    wait(running, lambda: skua()["lamp"] == "not heard", "skua to be shown as not heard")
    assert says in skua()["reason"]
    running.pull(lever="answer", what="skua", how="well")
    wait(running, lambda: skua()["lamp"] == "sound", "skua to be sound again")
    running.api.put("/grace", json={"grace_seconds": 4}).raise_for_status()


def test_a_pulled_disk_is_rebuilt_elsewhere_and_taken_back(running: Running) -> None:
    running.pull(lever="speed", speed=3000)
    running.pull(lever="pull disk", what="fulmar-1")
    wait(
        running, lambda: running.api.get("/volumes/v-work").json()["data"] == "bare", "the volume to be short"
    )
    attention = running.api.get("/barn").json()["attention"]
    assert any(a["title"] == "fulmar-1 is missing" for a in attention)
    wait(running, lambda: volume_is_whole(running, "v-work"), "the volume to be whole without the disk")
    running.pull(lever="return disk", what="fulmar-1")
    wait(
        running,
        lambda: any(
            c["reason"] == "fulmar-1 is back." and c["state"] == "done"
            for c in running.api.get("/changes").json()
        ),
        "the disk to be taken back",
    )
    assert "fulmar-1" in running.api.get("/volumes/v-work").json()["shares"]


def test_the_process_note_names_what_runs(running: Running) -> None:
    note = json.loads((running.barn.state / "processes.json").read_text())
    assert set(note) == {"yard", "serve", "work", "postgres"}
    assert note["serve"] == running.pid("serve")
