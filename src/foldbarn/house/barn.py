"""The whole barn on one machine: PostgreSQL, yard, serve and work, started, watched over and stopped
together.
"""

from __future__ import annotations

import fcntl
import json
import os
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import time
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from threading import Event, Thread
from typing import IO, Any

import httpx

from foldbarn.house.children import die_with_parent
from foldbarn.house.postgres import Postgres, free_port
from foldbarn.settings import PROJECT

READY_SECONDS = 180.0
# without a sign of life for this long, a process that runs is held to hang, and started again
HUNG_SECONDS = 30.0
COMING_UP, MOST_DOUBLED = 4, 4  # times as long until its first sign; times that it has twice as long again
PROBE_SECONDS = 2.0  # between two looks for signs of life
PROBE_PATIENCE = 5.0  # that a question for a sign of life waits
RESTARTS = "restarts.jsonl"  # what was started again, when and why; read by services.house


def open_private(path: Path, mode: str) -> IO[Any]:
    """Opens a file that only its owner may read, made so when it is made."""
    return open(path, mode, opener=lambda name, flags: os.open(name, flags, 0o600))


def write_private(path: Path, text: str) -> None:
    with open_private(path, "w") as file:
        file.write(text)


@lru_cache
def _prober() -> httpx.Client:
    """One for good: making one reads all the certificates there are, which takes a hundred times as long as
    a question. No connection is kept: what was started again is another process.
    """
    return httpx.Client(trust_env=False, limits=httpx.Limits(max_keepalive_connections=0))


@dataclass(slots=True)
class Child:
    """One process of the barn, started again when it ends by itself, after pauses that grow while it keeps
    ending, and when it shows no sign of life. sign: an address that it answers, or a file that it touches
    every second."""

    name: str
    command: list[str]
    environment: dict[str, str]
    log: Path
    sign: str | Path
    process: subprocess.Popen[bytes] | None = None
    started_at: float = 0.0
    seen_at: float = 0.0
    failures: int = 0
    shown: bool = False  # whether it has shown a sign of life since it was started
    hangs: int = 0  # times that it was started again in a row and showed no sign of life since
    why: str = ""  # it was last started again

    def start(self) -> None:
        with open_private(self.log, "ab") as output:
            self.process = subprocess.Popen(
                self.command,
                stdin=subprocess.DEVNULL,
                stdout=output,
                stderr=subprocess.STDOUT,
                env={**os.environ, **self.environment},
                start_new_session=True,
                preexec_fn=die_with_parent,
                umask=0o077,
            )
        self.started_at = self.seen_at = time.monotonic()
        self.shown = False

    @property
    def patience(self) -> float:
        """Seconds for which it may show no sign of life. On a machine that is too busy, being started anew
        would only keep it from ever getting there: each time in a row it has twice as long.
        """
        comes_up = 1 if self.shown else COMING_UP
        return float(HUNG_SECONDS * comes_up * 2 ** min(self.hangs, MOST_DOUBLED))

    def look(self) -> bool:
        """Starts it again when it has ended and its pause is over, or when it hangs. True when it was
        started; see `why`.
        """
        if self.process is None:
            return False
        code = self.process.poll()
        silent = time.monotonic() - max(self.seen_at, self.started_at)
        if code is None and silent < self.patience:
            return False
        if code is None:
            self.process.kill()
            self.process.wait()
            self.hangs += 1
            self._start_again(f"it showed no sign of life for {silent:.0f} s")
            return True
        if time.monotonic() - self.started_at > 30:
            self.failures = 0
        if time.monotonic() - self.started_at < min(10.0, 0.5 * 2**self.failures):
            return False
        self.failures += 1
        self._start_again(f"it was ended by signal {-code}" if code < 0 else f"it ended with code {code}")
        return True

    def _start_again(self, why: str) -> None:
        self.why = why
        self.start()

    def note_sign(self) -> None:
        """Looks for a sign of life; asks, so it may take a while."""
        if self.process is None or self.process.poll() is not None:
            return
        asked = time.monotonic()
        if isinstance(self.sign, Path):
            try:
                age = time.time() - self.sign.stat().st_mtime
            except FileNotFoundError:
                return
            self._seen(asked - max(age, 0.0))
            return
        try:
            if _prober().get(self.sign, timeout=PROBE_PATIENCE).is_success:
                self._seen(asked)
        except httpx.HTTPError:
            return

    def _seen(self, at: float) -> None:
        self.seen_at = max(self.seen_at, at)
        if at > self.started_at:
            self.shown, self.hangs = True, 0

    def excuse(self, seconds: float) -> None:
        """Does not count time in which we ourselves stood still: the whole machine may have."""
        self.seen_at += max(seconds, 0.0)

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
    """Another barn runs on this state folder, or something else listens on its port."""


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
    token: str = ""  # tells this barn's serve process from anything else that answers
    _stopping: Event = field(default_factory=Event)
    _lock: IO[str] | None = None
    _newest_source: float = 0.0  # seconds since 1970

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def start(self, fresh: bool = False) -> None:
        """Returns once it serves. fresh: forgets what the folder keeps, its database included. Raises InUse,
        RuntimeError.

        Nothing is touched before the folder is ours and the port is free, so that a refused start harms no
        one.
        """
        self.state = self.state.resolve()
        # What it keeps is its owner's; PostgreSQL's own account, where that is another one, has to walk
        # through.
        self.state.mkdir(parents=True, exist_ok=True)
        self.state.chmod(0o711 if os.geteuid() == 0 else 0o700)
        self._take_lock()
        self._refuse_taken_port()
        self.postgres = Postgres(self.state, self.quick)
        if fresh:
            self._forget()
        self.postgres.start()
        yard_port = self._kept_port("yard")
        yard_url = f"http://127.0.0.1:{yard_port}"
        self.token = secrets.token_hex(16)
        self.environment |= {
            "PYTHONPATH": str(PROJECT / "src"),
            "FOLDBARN_DATABASE_URL": self.postgres.url(),
            "FOLDBARN_YARD_URL": yard_url,
            "FOLDBARN_MAIL_HOST": f"127.0.0.1:{self._kept_port('mail')}",
            "FOLDBARN_INSTANCE": self.token,
            "FOLDBARN_PUBLIC_URL": self.url,
            "FOLDBARN_RESTARTS": str(self.state / RESTARTS),
            "FOLDBARN_SIGN": str(self.state / "work.sign"),
            "FOLDBARN_KEY_FILE": str(self.state / "secrets.key"),
        }
        python = [sys.executable, "-m"]
        server = [
            "--host",
            "127.0.0.1",
            "--log-level",
            "warning",
            "--no-access-log",
            "--timeout-graceful-shutdown",
            "1",
        ]
        self._add(
            "yard",
            [
                *python,
                "uvicorn",
                "foldbarn.yard.server:app_from_environment",
                "--factory",
                "--port",
                str(yard_port),
                *server,
            ],
            {
                "YARD_STATE": str(self.state / "yard.sqlite"),
                "YARD_URL": yard_url,
                "YARD_HOME": self.environment.get("YARD_HOME", self.url),
                "YARD_MAIL_PORT": str(self._kept_port("mail")),
                "YARD_NAMES_PORT": str(self._kept_port("names")),
                "YARD_ORCHESTRATOR_PORT": str(self._kept_port("orchestrator")),
                "YARD_ORCHESTRATOR": str(self.state / "orchestrator"),
            },
            f"{yard_url}/levers",
        )
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
            f"{self.url}/api/ready",
        )
        self._add("work", [*python, "foldbarn.work"], {}, self.state / "work.sign")
        self.children["yard"].start()  # which needs no database, so beside the founding
        subprocess.run(
            [*python, "foldbarn.house.found"],
            env={**os.environ, **self.environment},
            check=True,
            stdin=subprocess.DEVNULL,
        )
        for name in ("serve", "work"):
            self.children[name].start()
        self._await_serving()
        self._note_processes()
        Thread(target=self._look_for_signs, name="signs of life", daemon=True).start()

    def look(self) -> None:
        """Starts again whatever has ended by itself, the database included."""
        if self.reload:
            self._follow_sources()
        again = []
        for child in self.children.values():
            again.append(child.look())
            if again[-1]:
                self._note_restart(child.name, child.why)
        if self.postgres.process and self.postgres.process.poll() is not None:
            try:
                code = self.postgres.process.returncode
                self.postgres.start(self.postgres.port)
                again.append(True)
                self._note_restart("postgres", f"it ended with code {code}")
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
        """Stops everything that was started, the database last. Does nothing where another barn holds the
        folder.
        """
        self._stopping.set()
        for child in reversed(self.children.values()):
            child.stop()
        for child in reversed(self.children.values()):
            child.wait(8)
        if self._lock is None:
            return
        if hasattr(self, "postgres"):
            self.postgres.stop()
        (self.state / "processes.json").unlink(missing_ok=True)
        self._lock.close()
        self._lock = None

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
        lock = open_private(self.state / "lock", "w")
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise InUse(f"Another Fold Barn already runs on {self.state}.") from error
        self._lock = lock

    def _refuse_taken_port(self) -> None:
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", self.port))
            except OSError as error:
                raise InUse(
                    f"Port {self.port} of this machine is in use. Choose another with --port, or "
                    "stop what listens there."
                ) from error

    def _forget(self) -> None:
        """Deletes everything that the folder keeps but the lock, and its database wherever that lies."""
        self.postgres.forget()
        for path in self.state.iterdir():
            if path.name == "lock":
                continue
            if path.is_dir() and not path.is_symlink():
                shutil.rmtree(path)
            else:
                path.unlink()

    def _look_for_signs(self) -> None:
        asleep = time.monotonic()
        while not self._stopping.wait(PROBE_SECONDS):
            overslept = time.monotonic() - asleep - PROBE_SECONDS
            for child in self.children.values():
                child.excuse(overslept)
            for child in self.children.values():
                child.note_sign()
            asleep = time.monotonic()

    def _note_restart(self, process: str, why: str) -> None:
        """Says and writes down that one of our own processes was started again."""
        print(f"barn: {process} was started again: {why}.", flush=True)
        with open_private(self.state / RESTARTS, "a") as file:
            file.write(json.dumps({"process": process, "at": time.time(), "why": why}) + "\n")

    def _kept_port(self, name: str) -> int:
        """The port a process had before on this state, so that agents keep their addresses; a new one the
        first time.
        """
        note = self.state / f"{name}.port"
        if not note.exists():
            write_private(note, str(free_port()))
        return int(note.read_text())

    def _add(self, name: str, command: list[str], extra: dict[str, str], sign: str | Path) -> None:
        self.children[name] = Child(
            name, command, {**self.environment, **extra}, self.state / f"{name}.log", sign
        )

    def _await_serving(self) -> None:
        deadline = time.monotonic() + READY_SECONDS
        serve = self.children["serve"]
        while time.monotonic() < deadline:
            if serve.process and serve.process.poll() is not None:
                break
            try:
                # By its token: what else answers on this port is not ours.
                answer = _prober().get(f"{self.url}/api/ready", timeout=2)
                if answer.is_success and answer.json().get("instance") == self.token:
                    return
            except (httpx.HTTPError, ValueError):
                pass
            time.sleep(0.1)
        raise RuntimeError(f"It does not serve at {self.url}:\n{serve.log.read_text()[-2000:]}")

    def _note_processes(self) -> None:
        """Process ids by name, for people and tests."""
        found = {name: child.process.pid for name, child in self.children.items() if child.process}
        if self.postgres.process:
            found["postgres"] = self.postgres.process.pid
        write_private(self.state / "processes.json", json.dumps(found))
