"""The stand-in orchestrator as it stands there: its objects in a file, its nodes, its certificate, and the
thread in which it answers and its loops turn.
"""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import logging
import sqlite3
import threading
import time
import traceback
from collections.abc import AsyncIterator, Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import uvicorn
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from foldbarn.yard.orchestrator import loops
from foldbarn.yard.orchestrator.access import Access, fill_account_secrets
from foldbarn.yard.orchestrator.kinds import BY_KIND
from foldbarn.yard.orchestrator.machinery import Api
from foldbarn.yard.orchestrator.objects import REMEMBERED, Objects
from foldbarn.yard.orchestrator.places import NodePlace
from foldbarn.yard.orchestrator.refusing import Refused
from foldbarn.yard.orchestrator.serving import Server

log = logging.getLogger(__name__)
TURN_SECONDS = 1.0  # at the most, between two turns of the loops
WHOLE_SECONDS = 15.0  # between two turns that look at everything, whatever has changed
SOON_SECONDS = 0.3  # the same, where a node has still something to do
REST_SECONDS = 0.02  # at the least: what changes in one go is looked at once
START_SECONDS = 30.0
_YEARS = timedelta(days=3650)
_SPACES = ("default", "kube-system")


@dataclass(slots=True)
class StandIn:
    """name: of the orchestrator; folder: where its objects and its certificate are kept."""

    name: str
    folder: Path
    nodes: Sequence[NodePlace] = ()
    remembered: int = REMEMBERED
    server: Server | None = None
    faults: list[str] = field(default_factory=list)  # of its loops, that nobody foresaw
    _uvicorn: uvicorn.Server | None = None
    _thread: threading.Thread | None = None
    _loop: asyncio.AbstractEventLoop | None = None  # in which it answers, and its loops turn

    @property
    def authority(self) -> bytes:
        """The certificate that its own goes back to: its own."""
        return (self.folder / "certificate.pem").read_bytes()

    @property
    def port(self) -> int:
        assert self._uvicorn is not None
        return self._uvicorn.config.port

    @property
    def url(self) -> str:
        return f"https://127.0.0.1:{self.port}"

    @property
    def admin_token(self) -> str:
        assert self.server is not None
        return self.server.access.admin_token

    def start(self, port: int) -> None:
        """Answers at the loopback address, by TLS. Raises RuntimeError where it does not."""
        self.folder.mkdir(parents=True, exist_ok=True)
        make_certificate(self.folder, self.name)
        objects = Objects(self.folder / "objects.sqlite", self.remembered)
        api = Api(objects, loops.ADMISSION)
        self.server = Server(api, Access(objects))
        _ = self.server.access.admin_token
        self._found(api)
        app = self.server.app(lifespan=self._living)
        config = uvicorn.Config(
            app,
            host="127.0.0.1",
            port=port,
            log_level="critical",  # that clients hold their connections when it stops is no error
            ws="none",
            ssl_certfile=str(self.folder / "certificate.pem"),
            ssl_keyfile=str(self.folder / "key.pem"),
            timeout_graceful_shutdown=0,  # whoever holds a connection would be waited for
        )
        self._uvicorn = uvicorn.Server(config)
        self._thread = threading.Thread(target=self._uvicorn.run, name=self.name, daemon=True)
        self._thread.start()
        until = time.monotonic() + START_SECONDS
        while not self._uvicorn.started:
            if not self._thread.is_alive() or time.monotonic() > until:
                raise RuntimeError(f"{self.name} does not answer at port {port}")
            time.sleep(0.02)

    def stop(self) -> None:
        if self._uvicorn is not None and self._thread is not None and self.server is not None:
            self._uvicorn.should_exit = True
            self._thread.join(START_SECONDS)
            self.server.objects.close()

    def between_turns(self, work: Callable[[], None]) -> None:
        """Has something done while nobody is answered and no loop turns; from another thread than its own."""

        async def done() -> None:
            work()

        assert self._loop is not None
        asyncio.run_coroutine_threadsafe(done(), self._loop).result()

    @contextlib.asynccontextmanager
    async def _living(self, _: Any) -> AsyncIterator[None]:
        self._loop = asyncio.get_running_loop()
        turning = asyncio.create_task(self._turn())
        yield
        turning.cancel()

    async def _turn(self) -> None:
        assert self.server is not None
        api, seen, waiting, whole_at = self.server.api, -1, asyncio.Event(), 0.0
        while True:
            whole = time.monotonic() >= whole_at
            if api.objects.version != seen or whole or api.soon:
                whole_at = time.monotonic() + WHOLE_SECONDS if whole else whole_at
                try:
                    fill_account_secrets(api, self.authority)
                    loops.turn(api, whole=whole)
                except Exception as error:  # such as a disk without room: it goes on when there is some
                    if not isinstance(error, sqlite3.Error | Refused | TimeoutError):
                        self.faults.append("".join(traceback.format_exception(error)))
                    log.exception("a turn of the loops of %s failed", self.name)
                    whole_at = time.monotonic() + TURN_SECONDS
                seen = api.objects.version
            await asyncio.sleep(REST_SECONDS)
            if api.objects.version == seen:
                await api.objects.news(waiting, SOON_SECONDS if api.soon else TURN_SECONDS)

    def _found(self, api: Api) -> None:
        """What is there from the beginning."""
        for space in _SPACES:
            if api.objects.find(BY_KIND["Namespace"], "", space) is None:
                api.create(BY_KIND["Namespace"], "", {"metadata": {"name": space}})
        for node in self.nodes:
            labels = {"kubernetes.io/hostname": node.name, **node.labels}
            metadata = {"name": node.name, "labels": labels}
            if api.objects.find(BY_KIND["Node"], "", node.name) is None:
                made = api.create(BY_KIND["Node"], "", {"metadata": metadata, "spec": {}})
                ready = {"type": "Ready", "status": "True", "reason": "KubeletReady"}
                api.note(BY_KIND["Node"], made, status={"conditions": [ready]})
            if api.objects.find(BY_KIND["CSINode"], "", node.name) is None:
                api.create(BY_KIND["CSINode"], "", {"metadata": {"name": node.name}, "spec": {"drivers": []}})


def make_certificate(folder: Path, name: str) -> None:
    """A key, and a certificate of its own making for the loopback address; kept where they are there."""
    if (folder / "certificate.pem").exists():
        return
    key = ec.generate_private_key(ec.SECP256R1())
    who = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    names = [x509.DNSName("localhost"), x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]
    now = datetime.now(UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(who)
        .issuer_name(who)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + _YEARS)
        .add_extension(x509.SubjectAlternativeName(names), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .sign(key, hashes.SHA256())
    )
    own = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    private = folder / "key.pem"
    private.touch(mode=0o600)
    private.write_bytes(own)
    (folder / "certificate.pem").write_bytes(certificate.public_bytes(serialization.Encoding.PEM))
