"""Following one orchestrator: what is there is mirrored by threads of its own, and looked at together by one
more, whenever anything is new there or here.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass, field
from functools import partial

import structlog

from foldbarn.core.claims.kept import Answering
from foldbarn.core.errors import BarnError, NotAllowed
from foldbarn.links import orchestrators as link
from foldbarn.links.orchestrators import Key, Mirror, Resource, Thing
from foldbarn.sealed import unseal
from foldbarn.services.consumers.stewarding import steward_of
from foldbarn.store import orchestrators
from foldbarn.store.database import announce, is_disconnect, transaction, wait_out

log = structlog.get_logger()
MIRRORED = (
    link.CLAIMS,
    link.VOLUMES,
    link.CLASSES,
    link.NAMESPACES,
    link.PODS,
    link.NODES,
    link.ATTACHMENTS,
    link.SNAPSHOTS,
    link.CONTENTS,
    link.SNAPSHOT_CLASSES,
)
SHORTEST_PAUSE, LONGEST_PAUSE = 0.5, 30.0  # seconds between two tries to reach one that does not answer
REST_SECONDS = 0.02  # at the least between two looks: what comes in one go is looked at once
AGAIN_SECONDS = 1.0  # after a look that failed
ABSENT_SECONDS = 60.0  # between two looks whether it keeps things of a kind by now
RIGHTS_SECONDS = 60.0  # between two questions of which rights it gives


def _trim(thing: Thing) -> Thing:
    """What is said of who wrote what is long, and of no use here."""
    metadata = {key: value for key, value in thing["metadata"].items() if key != "managedFields"}
    return {**thing, "metadata": metadata}


def _trim_pod(pod: Thing) -> Thing:
    """Which claims it uses, and where it runs."""
    metadata, spec = pod["metadata"], pod.get("spec") or {}
    kept = {key: metadata[key] for key in ("name", "namespace", "uid") if key in metadata}
    volumes = [v for v in spec.get("volumes") or () if v.get("persistentVolumeClaim")]
    phase = (pod.get("status") or {}).get("phase")
    return {
        "metadata": kept,
        "spec": {"volumes": volumes, "nodeName": spec.get("nodeName", "")},
        "status": {"phase": phase},
    }


def _trim_node(node: Thing) -> Thing:
    """Where it stands: what else it says of itself it says anew every few seconds."""
    metadata = {key: node["metadata"][key] for key in ("name", "labels") if key in node["metadata"]}
    return {"metadata": metadata}


TRIMS = {link.PODS: _trim_pod, link.NODES: _trim_node}


@dataclass(eq=False, slots=True)
class Following:
    """altered: how often its access had been altered when this began."""

    number: int
    altered: int
    identity: str
    asked: link.Orchestrator
    mirrors: dict[Resource, Mirror] = field(default_factory=dict)
    touched: dict[Resource, set[Key]] = field(default_factory=dict)  # since the last look
    looked: set[Resource] = field(default_factory=set)  # of which all has been seen once
    troubles: dict[Resource | None, tuple[Answering, str]] = field(default_factory=dict)
    lock: threading.Lock = field(default_factory=threading.Lock)
    news: threading.Event = field(default_factory=threading.Event)
    ending: threading.Event = field(default_factory=threading.Event)
    threads: list[threading.Thread] = field(default_factory=list)
    rights_at: float = 0.0

    @classmethod
    def of(cls, number: int) -> Following | None:
        """None where it is gone, or its token cannot be read; that is written down."""
        with transaction() as session:
            access = orchestrators.access_of(session, number)
            known = next((o for o in orchestrators.read_orchestrators(session) if o.number == number), None)
        if access is None or known is None:
            return None
        try:
            asked = link.Orchestrator(access.url, access.authority, unseal(access.token))
        except BarnError as error:
            _note(number, Answering.REFUSING, error.sentence)
            return None
        return cls(number, known.altered, known.identity, asked)

    @property
    def lives(self) -> bool:
        return all(thread.is_alive() for thread in self.threads)

    def start(self) -> None:
        for resource in MIRRORED:
            self.mirrors[resource] = Mirror(self.asked, resource, TRIMS.get(resource, _trim))
            self.touched[resource] = set()
            self._begin(f"mirror {resource.plural}", partial(self._mirror, resource))
        self._begin("look", self._look)

    def _begin(self, name: str, work: Callable[[], None]) -> None:
        thread = threading.Thread(target=work, name=f"{name} {self.number}", daemon=True)
        self.threads.append(thread)
        thread.start()

    def stop(self) -> None:
        """Returns once its threads have ended, or soon will: what they are asking is not waited for long."""
        self.ending.set()
        self.news.set()
        for mirror in self.mirrors.values():
            mirror.stop()
        for thread in self.threads:
            thread.join(5.0)

    def poke(self) -> None:
        """Something may be new here."""
        self.news.set()

    # Mirroring. ------------------------------------------------------------------------------------------

    def _mirror(self, resource: Resource) -> None:
        mirror, pause = self.mirrors[resource], SHORTEST_PAUSE
        sure = False  # that it is still the one which was connected
        while not self.ending.is_set():
            try:
                if not sure and not self._is_itself(resource):
                    self.ending.wait(pause)
                    pause = min(2 * pause, LONGEST_PAUSE)
                    continue
                sure = True
                for touched in mirror.go_on():
                    self._hear(resource, touched)
                    pause = SHORTEST_PAUSE
                if not mirror.there:
                    self.ending.wait(ABSENT_SECONDS)
            except BarnError as error:
                sure = False
                refuses = isinstance(error, NotAllowed)
                answering = Answering.REFUSING if refuses else Answering.SILENT
                self._trouble(resource, answering, error.sentence)
                self.ending.wait(pause)
                pause = min(2 * pause, LONGEST_PAUSE)
            except Exception as error:
                if not is_disconnect(error):
                    raise
                wait_out(error)

    def _hear(self, resource: Resource, touched: Iterable[Key]) -> None:
        with self.lock:
            self.touched[resource] |= set(touched)
            self.looked.add(resource)
        self._trouble(resource, Answering.HEARD, "")
        self.news.set()

    def _is_itself(self, resource: Resource) -> bool:
        """Whether what answers is what was connected: with another one all claims would seem to be gone."""
        identity = self.asked.identity()
        if identity == self.identity:
            return True
        words = f"What answers at {self.asked.url} is not what was connected."
        self._trouble(resource, Answering.ANOTHER, words)
        return False

    def _trouble(self, resource: Resource | None, answering: Answering, reason: str) -> None:
        """How it answers is how it answers where it does so worst. resource: None for what is done there."""
        with self.lock:
            if self.troubles.get(resource) == (answering, reason):
                return
            self.troubles[resource] = answering, reason
            order = list(Answering)
            worst = max(self.troubles.values(), key=lambda one: order.index(one[0]))
        _note(self.number, *worst)

    # Looking. --------------------------------------------------------------------------------------------

    def _look(self) -> None:
        steward = steward_of(self.number, self.asked, self.mirrors)
        while not self.ending.is_set():
            again = steward.again_in
            self.news.wait(again)
            if self.ending.wait(REST_SECONDS):
                return
            self.news.clear()
            touched = self._take_touched()
            if touched is None:
                continue
            try:
                if steward.look(touched):
                    self.news.set()
                self._ask_rights()
                self._trouble(None, Answering.HEARD, "")
            except Exception as error:
                self._give_back(touched)
                if is_disconnect(error):
                    wait_out(error)
                elif isinstance(error, BarnError):
                    refuses = isinstance(error, NotAllowed)
                    self._trouble(None, Answering.REFUSING if refuses else Answering.SILENT, error.sentence)
                    self.rights_at = 0.0
                    with suppress(BarnError):  # it may be for the lack of a right
                        self._ask_rights()
                    self.rights_at = 0.0  # once a look succeeds, it may have been given
                else:
                    log.exception("a look at an orchestrator failed", orchestrator=self.number)
                self.ending.wait(AGAIN_SECONDS)
                self.news.set()

    def _take_touched(self) -> dict[Resource, set[Key]] | None:
        """None before everything has been seen once: until then nothing can be said to be gone."""
        with self.lock:
            if self.looked != set(MIRRORED):
                return None
            found, self.touched = self.touched, {resource: set() for resource in MIRRORED}
            return found

    def _give_back(self, touched: dict[Resource, set[Key]]) -> None:
        with self.lock:
            for resource, keys in touched.items():
                self.touched[resource] |= keys

    def _ask_rights(self) -> None:
        if time.monotonic() < self.rights_at:
            return
        self.rights_at = time.monotonic() + RIGHTS_SECONDS
        missing = [right.line for right in self.asked.missing()]
        version = self.asked.version()
        with transaction() as session:
            if orchestrators.note_said(session, self.number, version, missing):
                announce(session, "site")


def _note(number: int, answering: Answering, reason: str) -> None:
    with transaction() as session:
        if orchestrators.note_answering(session, number, answering, reason):
            announce(session, "site")
