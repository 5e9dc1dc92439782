"""The demo command as a person runs it: ready line, everything kept over a restart, everything stopped, two
side by side.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from conftest import LOOK_SECONDS, PROJECT

from foldbarn.house.postgres import free_port


class Demo:
    """./barn demo in a process of its own."""

    def __init__(self, state: Path, port: int, *options: str) -> None:
        command = [
            sys.executable,
            "-m",
            "foldbarn.house.commands",
            "demo",
            "--state",
            str(state),
            "--port",
            str(port),
            "--quick",
            *options,
        ]
        self.state, self.url = state, f"http://127.0.0.1:{port}"
        self.process = subprocess.Popen(
            command,
            stdout=subprocess.PIPE,
            text=True,
            env={
                **os.environ,
                "PYTHONPATH": str(PROJECT / "src"),
                "FOLDBARN_LOOK_SECONDS": str(LOOK_SECONDS),
            },
            cwd=PROJECT,
        )

    def ready(self) -> None:
        assert self.process.stdout
        said = []
        for line in self.process.stdout:
            if line.strip() == f"Fold Barn is ready at {self.url}":
                return
            said.append(line)
        raise AssertionError(f"the demo ended before it was ready: {''.join(said)}")

    def pids(self) -> list[int]:
        return list(json.loads((self.state / "processes.json").read_text()).values())

    def stop(self) -> int:
        self.process.send_signal(signal.SIGTERM)
        self.process.communicate(timeout=200)
        return self.process.returncode

    def get(self, path: str) -> dict:
        return httpx.get(f"{self.url}/api{path}", trust_env=False, timeout=90).json()


@pytest.fixture(scope="module")
def bare(workplace: Path) -> Iterator[Demo]:
    """One of bare machines, which no test of the module harms; the last one starts it anew."""
    demo = Demo(workplace / "bare", free_port(), "--bare")
    demo.ready()
    yield demo
    if demo.process.poll() is None:
        demo.stop()


def gone(pids: list[int]) -> None:
    """Waits until none of them is left."""
    deadline = time.monotonic() + 60
    while any(Path(f"/proc/{pid}").exists() for pid in pids):
        assert time.monotonic() < deadline, "a process was left behind"
        time.sleep(0.1)


def test_two_demos_side_by_side_keep_their_state_and_stop_everything(bare: Demo, workplace: Path) -> None:
    full = Demo(workplace / "full", free_port())
    try:
        full.ready()
        barn = full.get("/barn")
        assert barn["counts"] == {"nodes": 9, "disks": 93, "pools": 2, "volumes": 27}
        assert [a["title"] for a in barn["attention"] if a["kind"] == "volume"] == []  # each has its room
        assert bare.get("/barn")["counts"]["pools"] == 0
        index = httpx.get(full.url, trust_env=False)
        assert "<title>Fold Barn</title>" in index.text
        deep = httpx.get(f"{full.url}/volumes/charts", trust_env=False)
        assert deep.text == index.text  # deep links are served
        before = full.get("/volumes/charts")
        pids = full.pids()
        assert len(set(pids + bare.pids())) == 8
    finally:
        code = full.stop()
    assert code == 0
    gone(pids)
    assert bare.get("/barn")["counts"]["pools"] == 0  # the other one goes on

    again = Demo(full.state, int(full.url.rpartition(":")[2]))
    try:
        again.ready()
        after = again.get("/volumes/charts")
        assert after["shares"] == before["shares"]
        assert after["made_at"] == before["made_at"]
        assert again.get("/barn")["counts"]["volumes"] == 27
    finally:
        assert again.stop() == 0


@pytest.mark.parametrize("options", [[], ["--fresh"]])
def test_a_state_folder_is_used_by_one_at_a_time(bare: Demo, options: list[str]) -> None:
    second = Demo(bare.state, free_port(), "--bare", *options)
    said, _ = second.process.communicate(timeout=240)
    assert second.process.returncode == 1
    assert "Another Fold Barn already runs on" in said
    # And the first is unharmed: a refused start takes nothing away from the one that runs.
    assert (bare.state / "processes.json").exists()
    assert bare.get("/changes") == []


def test_a_port_in_use_is_refused_and_nothing_is_touched(bare: Demo, workplace: Path) -> None:
    """A second barn on the first one's port must not take the first one's answer for its own."""
    port = bare.url.rpartition(":")[2]
    second = Demo(workplace / "other", int(port))
    said, _ = second.process.communicate(timeout=240)
    assert second.process.returncode == 1
    assert f"Port {port} of this machine is in use." in said
    assert "ready" not in said
    assert bare.get("/changes") == []  # nothing was formed on the other one's site
    assert not (workplace / "other" / "postgres").exists()


def test_fresh_forgets_everything_and_what_is_kept_is_its_owners(bare: Demo) -> None:
    httpx.put(f"{bare.url}/api/grace", json={"grace_seconds": 77}, trust_env=False).raise_for_status()
    for path in [p for p in bare.state.iterdir() if p.is_file()]:
        assert path.stat().st_mode & 0o077 == 0, path.name
    assert bare.state.stat().st_mode & 0o066 == 0
    assert bare.get("/barn")["grace_seconds"] == 77
    pids = bare.pids()
    assert bare.stop() == 0
    gone(pids)
    again = Demo(bare.state, free_port(), "--bare", "--fresh")
    try:
        again.ready()
        assert again.get("/barn")["grace_seconds"] != 77
    finally:
        again.stop()
