"""The whole barn on one machine: PostgreSQL, yard, serve and work, started, watched over and stopped together."""

from __future__ import annotations

import fcntl
import json
import os
import signal
import subprocess
import sys
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO

import httpx

from foldbarn.house.children import die_with_parent
from foldbarn.house.postgres import Postgres, free_port
from foldbarn.settings import PROJECT

READY_SECONDS = 60.0


@dataclass(slots=True)
class Child:
    """One process of the barn, started again when it ends by itself, after pauses that grow while it keeps ending."""

    name: str
    command: list[str]
    environment: dict[str, str]
    log: Path
    process: subprocess.Popen[bytes] | None = None
    started_at: float = 0.0
    failures: int = 0

    def start(self) -> None:
        with self.log.open("ab") as output:
            self.process = subprocess.Popen(
                self.command, stdin=subprocess.DEVNULL, stdout=output, stderr=subprocess.STDOUT, env={**os.environ, **self.environment},
                start_new_session=True, preexec_fn=die_with_parent,
            )  # fmt: skip
        self.started_at = time.monotonic()

    def look(self) -> bool:
        """Starts it again when it has ended and its pause is over. True when it was started."""
        if self.process is None or self.process.poll() is None:
            return False
        if time.monotonic() - self.started_at > 30:
            self.failures = 0
        if time.monotonic() - self.started_at < min(10.0, 0.5 * 2**self.failures):
            return False
        self.failures += 1
        self.start()
        return True

    def stop(self) -> None:
        if self.process and self.process.poll() is None:
            self.process.terminate()

    def wait(self, seconds: float) -> None:
        if self.process is None:
            return
        try:
            self.process.wait(seconds)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


class InUse(Exception):
    """Another barn runs on this state folder."""


@dataclass(slots=True)
class Barn:
    """state: folder that keeps everything; port: of the one address people open."""

    state: Path
    port: int
    quick: bool = False  # for tests: the database does not flush to disk
    reload: bool = False  # for developers: serve starts anew on every save
    environment: dict[str, str] = field(default_factory=dict)
    postgres: Postgres = field(init=False)
    children: dict[str, Child] = field(default_factory=dict)
    _lock: IO[str] | None = None
    _newest_source: float = 0.0  # seconds since 1970

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def start(self) -> None:
        """Returns once it serves. Raises InUse, RuntimeError."""
        self.state = self.state.resolve()
        self.state.mkdir(parents=True, exist_ok=True)
        self._take_lock()
        self.postgres = Postgres(self.state, self.quick)
        self.postgres.start()
        yard_port = self._kept_port("yard")
        yard_url = f"http://127.0.0.1:{yard_port}"
        self.environment |= {
            "PYTHONPATH": str(PROJECT / "src"),
            "FOLDBARN_DATABASE_URL": self.postgres.url(),
            "FOLDBARN_YARD_URL": yard_url,
            "FOLDBARN_MAIL_HOST": f"127.0.0.1:{self._kept_port('mail')}",
        }
        python = [sys.executable, "-m"]
        subprocess.run([*python, "foldbarn.house.found"], env={**os.environ, **self.environment}, check=True, stdin=subprocess.DEVNULL)
        server = ["--host", "127.0.0.1", "--log-level", "warning", "--no-access-log", "--timeout-graceful-shutdown", "1"]
        self._add("yard", [*python, "uvicorn", "foldbarn.yard.server:app_from_environment", "--factory", "--port", str(yard_port), *server],
                  {"YARD_STATE": str(self.state / "yard.sqlite"), "YARD_URL": yard_url, "YARD_HOME": self.environment.get("YARD_HOME", self.url),
                   "YARD_MAIL_PORT": str(self._kept_port("mail"))})  # fmt: skip
        self._add(
            "serve",
            [
                *python,
                "uvicorn",
                "foldbarn.api.app:make_app",
                "--factory",
                "--port",
                str(self.port),
                *server,
                *(["--reload", "--reload-dir", str(PROJECT / "src")] if self.reload else []),
            ],
            {},
        )
        self._add("work", [*python, "foldbarn.work"], {})
        for child in self.children.values():
            child.start()
        self._await_serving()
        self._note_processes()

    def look(self) -> None:
        """Starts again whatever has ended by itself, the database included."""
        if self.reload:
            self._follow_sources()
        again = [child.look() for child in self.children.values()]
        if self.postgres.process and self.postgres.process.poll() is not None:
            try:
                self.postgres.start(self.postgres.port)
                again.append(True)
            except RuntimeError as error:  # its orphans may hold on to shared memory for a moment
                print(f"barn: {error}. Trying again.", flush=True)
        if any(again):
            self._note_processes()

    def _follow_sources(self) -> None:
        """For developers: work and yard start anew when a source file was saved (serve looks for itself)."""
        newest = max(path.stat().st_mtime for path in (PROJECT / "src").rglob("*.py"))
        if self._newest_source and newest > self._newest_source:
            for name in ("work", "yard"):
                self.children[name].stop()
                self.children[name].failures, self.children[name].started_at = 0, 0.0
        self._newest_source = newest

    def stop(self) -> None:
        """Stops everything that was started, the database last."""
        for child in reversed(self.children.values()):
            child.stop()
        for child in reversed(self.children.values()):
            child.wait(8)
        if hasattr(self, "postgres"):
            self.postgres.stop()
        (self.state / "processes.json").unlink(missing_ok=True)
        if self._lock is not None:
            self._lock.close()

    def run_until_stopped(self) -> None:
        """Watches over the processes until SIGTERM or SIGINT."""
        stopped = False

        def stop(*_: object) -> None:
            nonlocal stopped
            stopped = True

        signal.signal(signal.SIGTERM, stop)
        signal.signal(signal.SIGINT, stop)
        while not stopped:
            self.look()
            time.sleep(0.1)

    def _take_lock(self) -> None:
        lock = (self.state / "lock").open("w")
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise InUse(f"Another Fold Barn already runs on {self.state}.") from error
        self._lock = lock

    def _kept_port(self, name: str) -> int:
        """The port a process had before on this state, so that agents keep their addresses; a new one the first time."""
        note = self.state / f"{name}.port"
        if not note.exists():
            note.write_text(str(free_port()))
        return int(note.read_text())

    def _add(self, name: str, command: list[str], extra: dict[str, str]) -> None:
        self.children[name] = Child(name, command, {**self.environment, **extra}, self.state / f"{name}.log")

    def _await_serving(self) -> None:
        deadline = time.monotonic() + READY_SECONDS
        serve = self.children["serve"]
        while time.monotonic() < deadline:
            if serve.process and serve.process.poll() is not None:
                break
            try:
                if httpx.get(f"{self.url}/api/barn", timeout=2, trust_env=False).is_success:
                    return
            except httpx.HTTPError:
                pass
            time.sleep(0.1)
        raise RuntimeError(f"It does not serve at {self.url}:\n{serve.log.read_text()[-2000:]}")

    def _note_processes(self) -> None:
        """Process ids by name, for people and tests."""
        found = {name: child.process.pid for name, child in self.children.items() if child.process}
        if self.postgres.process:
            found["postgres"] = self.postgres.process.pid
        (self.state / "processes.json").write_text(json.dumps(found))
