"""The demo command as a person runs it: ready line, everything kept over a restart, everything stopped, two side by side."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import httpx
from conftest import PROJECT

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
            env={**os.environ, "PYTHONPATH": str(PROJECT / "src")},
            cwd=PROJECT,
        )

    def ready(self) -> None:
        assert self.process.stdout
        for line in self.process.stdout:
            if line.strip() == f"Fold Barn is ready at {self.url}":
                return
        raise AssertionError("the demo ended before it was ready")

    def pids(self) -> list[int]:
        return list(json.loads((self.state / "processes.json").read_text()).values())

    def stop(self) -> int:
        self.process.send_signal(signal.SIGTERM)
        self.process.communicate(timeout=40)
        return self.process.returncode

    def get(self, path: str) -> dict:
        return httpx.get(f"{self.url}/api{path}", trust_env=False, timeout=20).json()


def test_two_demos_side_by_side_keep_their_state_and_stop_everything(workplace: Path) -> None:
    full, bare = Demo(workplace / "full", free_port()), Demo(workplace / "bare", free_port(), "--bare")
    try:
        full.ready()
        bare.ready()
        assert full.get("/barn")["counts"] == {"nodes": 9, "disks": 93, "pools": 2, "volumes": 8}
        assert bare.get("/barn")["counts"]["pools"] == 0
        index = httpx.get(full.url, trust_env=False)
        assert "<title>Fold Barn</title>" in index.text
        assert (
            httpx.get(f"{full.url}/volumes/charts", trust_env=False).text == index.text
        )  # deep links are served
        before = full.get("/volumes/charts")
        pids = full.pids() + bare.pids()
        assert len(set(pids)) == 8
    finally:
        codes = [full.stop(), bare.stop()]
    assert codes == [0, 0]
    deadline = time.monotonic() + 10
    while any(Path(f"/proc/{pid}").exists() for pid in pids):
        assert time.monotonic() < deadline, "a process was left behind"
        time.sleep(0.1)

    again = Demo(full.state, int(full.url.rpartition(":")[2]))
    try:
        again.ready()
        after = again.get("/volumes/charts")
        assert after["shares"] == before["shares"]
        assert after["made_at"] == before["made_at"]
        assert again.get("/barn")["counts"]["volumes"] == 8
    finally:
        assert again.stop() == 0


def test_a_state_folder_is_used_by_one_at_a_time(workplace: Path) -> None:
    first = Demo(workplace / "one", free_port(), "--bare")
    try:
        first.ready()
        second = Demo(workplace / "one", free_port(), "--bare")
        said, _ = second.process.communicate(timeout=60)
        assert second.process.returncode == 1
        assert "Another Fold Barn already runs on" in said
        assert first.get("/barn")["counts"]["nodes"] <= 9  # and the first is unharmed
    finally:
        first.stop()


def test_a_port_in_use_is_refused_and_nothing_is_touched(workplace: Path) -> None:
    """A second barn on the first one's port must not take the first one's answer for its own."""
    first = Demo(workplace / "taken", free_port(), "--bare")
    try:
        first.ready()
        second = Demo(workplace / "other", int(first.url.rpartition(":")[2]))
        said, _ = second.process.communicate(timeout=60)
        assert second.process.returncode == 1
        assert f"Port {first.url.rpartition(':')[2]} of this machine is in use." in said
        assert "ready" not in said
        assert first.get("/changes") == []  # nothing was formed on the other one's site
        assert not (workplace / "other" / "postgres").exists()
        # Nor does a refused start on the same folder, fresh or not, take anything away from the one that runs.
        third = Demo(workplace / "taken", free_port(), "--bare", "--fresh")
        said, _ = third.process.communicate(timeout=60)
        assert (third.process.returncode, "Another Fold Barn already runs on" in said) == (1, True)
        assert (workplace / "taken" / "processes.json").exists()
        assert first.get("/barn")["counts"]["nodes"] <= 9
    finally:
        first.stop()


def test_fresh_forgets_everything_and_what_is_kept_is_its_owners(workplace: Path) -> None:
    state = workplace / "fresh"
    first = Demo(state, free_port(), "--bare")
    try:
        first.ready()
        httpx.put(f"{first.url}/api/grace", json={"grace_seconds": 77}, trust_env=False).raise_for_status()
        for path in [p for p in state.iterdir() if p.is_file()]:
            assert path.stat().st_mode & 0o077 == 0, path.name
        assert state.stat().st_mode & 0o066 == 0
    finally:
        first.stop()
    again = Demo(state, free_port(), "--bare", "--fresh")
    try:
        again.ready()
        assert again.get("/barn")["grace_seconds"] != 77
    finally:
        again.stop()
