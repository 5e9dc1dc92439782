"""The demo's data, made through the product's own changes over its API."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import httpx

WAIT_SECONDS = 240.0
GO_ON = 3  # times that a change which pauses is let go on
NODES = 9
LIVED_SECONDS, FAST = (
    5 * 3600.0,
    10_000.0,
)  # of the stand-ins' time before anyone looks, and how fast that goes

POOLS: list[dict[str, Any]] = [
    {"name": "quayside", "media": "ssd", "leave": ["turnstone-8"], "copies": 3, "headroom": "node"},
    {
        "name": "deepwater",
        "media": "hdd",
        "leave": [],
        "copies": 2,
        "headroom": "node",
        "serves": "fast tier",  # where what is written to it lands
        "overrides": {"gannet-c2": {"role": "spare", "reason": "kept to stand in for a worn one"}},
    },
]
CLUSTER: dict[str, Any] = {
    # One keeper in each room, and a witness that stands apart from both: either room may be lost.
    "name": "quay",
    "members": ["fulmar", "gannet", "petrel", "razorbill", "kittiwake", "dunlin", "turnstone", "whimbrel"],
    "keepers": ["fulmar", "turnstone"],
    "witness": "lamp-room",
    "service_address": "10.10.0.5/24",
}
POLICIES: list[dict[str, Any]] = [
    {
        "name": "steady-three",
        "copies": 3,
        "level": "rack",
        "cache": "write-back",
        "meant_for": "what must not stop",
    },
    {"name": "plain-pair", "copies": 2, "level": "rack", "meant_for": "what a backup brings back"},
    {
        "name": "land-and-settle",
        "data": 2,
        "parity": 1,
        "level": "rack",
        "landing": 5,
        "meant_for": "many small writes",
    },
    {
        "name": "seldom-read",
        "data": 2,
        "parity": 1,
        "level": "rack",
        "thin": True,
        "meant_for": "archives",
    },
    {
        "name": "busy-rises",
        "copies": 2,
        "level": "rack",
        "share": 10,
        "meant_for": "what is read unevenly",
    },
    {"name": "scratch", "copies": 1, "level": "disk", "meant_for": "what can be made again"},
]
VOLUMES = [
    ("ticketing-db", "quayside", "4 TB", "steady-three"),
    ("timetable", "quayside", "1500 GB", "steady-three"),
    ("crew-roster", "quayside", "800 GB", "steady-three"),
    ("berth-planner", "quayside", "2 TB", "plain-pair"),
    ("charts", "quayside", "3 TB", "plain-pair"),
    ("cargo-desk", "deepwater", "14 TB", "busy-rises"),
    ("deck-cameras", "deepwater", "22 TB", "land-and-settle"),
    ("tide-archive", "deepwater", "9 TB", "seldom-read"),
]


class Demo:
    """Plays the platform engineer's part."""

    def __init__(self, url: str) -> None:
        self.client = httpx.Client(base_url=f"{url}/api", timeout=30.0, trust_env=False)

    def close(self) -> None:
        self.client.close()

    def fill(self) -> None:
        """Forms the cluster and the pools and makes the volumes, unless the site has pools already. Raises
        RuntimeError when a step does not end.
        """
        self.wait(lambda: self.barn()["counts"]["nodes"] >= NODES, "all nodes to report in")
        if self.barn()["counts"]["pools"]:
            return
        self.wait(
            lambda: all(n["clock_offset"] is not None for n in self.client.get("/machines").json()["nodes"]),
            "every node's clock",
        )
        self.client.post("/cluster/ports").raise_for_status()
        self.carry_out(
            "form-cluster", {**CLUSTER, "witness_url": self.client.get("/yard").json()["witness_url"]}
        )
        disks = [
            d
            for room in self.barn()["rooms"]
            for rack in room["racks"]
            for node in rack["nodes"]
            for d in node["disks"]
        ]
        for pool in POOLS:
            ours = {
                d["name"].rpartition("-")[0]
                for d in disks
                if d["media"] == pool["media"] and d["role"] != "boot"
            } - {"skua"}
            chosen = [
                d["name"]
                for d in disks
                if d["media"] in (pool["media"], "nvme")
                and d["fit"]
                and d["name"] not in pool["leave"]
                and d["name"].rpartition("-")[0] in ours
            ]
            params = {
                k: v for k, v in pool.items() if k in ("name", "copies", "headroom", "serves", "overrides")
            }
            self.carry_out("form-pool", {**params, "disks": chosen})
        for policy in POLICIES:
            self.carry_out("save-policy", policy)
        changes = [
            self.start("create-volume", {"name": name, "pool": pool, "size": size, "policy": policy})
            for name, pool, size, policy in VOLUMES
        ]
        for change in changes:
            self.await_end(change)
        self.live(LIVED_SECONDS)

    def live(self, seconds: float) -> None:
        """Lets consumers use what they were given for a while, in the stand-ins' own time."""
        before = self.client.get("/yard").raise_for_status().json()
        self._speed(FAST)
        self.wait(
            lambda: self.client.get("/yard").json()["clock_seconds"] - before["clock_seconds"] >= seconds,
            "the stand-ins to live a while",
        )
        self._speed(before["speed"])
        self.wait(
            lambda: any(v["written_bytes"] for v in self.barn()["volumes"]), "what they wrote to be summed up"
        )

    def _speed(self, speed: float) -> None:
        self.client.post("/yard", json={"lever": "speed", "speed": speed}).raise_for_status()

    def barn(self) -> dict[str, Any]:
        found: dict[str, Any] = self.client.get("/barn").raise_for_status().json()
        return found

    def start(self, kind: str, params: dict[str, Any]) -> int:
        answer = self.client.post(
            "/changes", json={"kind": kind, "params": params, "reason": "Setting up the demo"}
        )
        if answer.is_error:
            raise RuntimeError(f"{kind} {params.get('name')}: {answer.json().get('detail', answer.text)}")
        number: int = answer.json()["number"]
        return number

    def carry_out(self, kind: str, params: dict[str, Any]) -> None:
        self.await_end(self.start(kind, params))

    def await_end(self, change: int) -> None:
        """Where it pauses, it is let go on a few times, as a person would: a busy machine is no reason to
        give up. Raises RuntimeError.
        """
        went_on = 0

        def ended() -> bool:
            nonlocal went_on
            found = self.client.get(f"/changes/{change}").raise_for_status().json()
            if found["state"] == "paused":
                if went_on == GO_ON:
                    raise RuntimeError(f"{found['title']} paused: {found['problem']}")
                went_on += 1
                self.client.post(f"/changes/{change}/ask", json={"what": "resume"}).raise_for_status()
            return bool(found["state"] == "done")

        self.wait(ended, f"change {change}")

    def wait(
        self, done: Callable[[], bool], what: str, seconds: float = WAIT_SECONDS, pause: float = 0.1
    ) -> None:
        deadline = time.monotonic() + seconds
        while not done():
            if time.monotonic() > deadline:
                raise RuntimeError(f"Waited {seconds:.0f} s for {what}.")
            time.sleep(pause)
