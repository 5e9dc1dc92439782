"""Hearing what VM hosts run. They are asked beside the watch: one that is slow holds up nothing."""

from __future__ import annotations

import time
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import lru_cache

import structlog

from foldbarn.core.errors import BarnError, NotAllowed, NotPossible
from foldbarn.core.site import Contact
from foldbarn.core.touching import Thing
from foldbarn.core.vms.power import stands_still, uuid_of
from foldbarn.links.vm_hosts import VmHostService
from foldbarn.sealed import unseal
from foldbarn.store import touching, vm_hosts
from foldbarn.store.database import announce, transaction
from foldbarn.store.views import current_view
from foldbarn.store.vm_hosts import Access, Said

log = structlog.get_logger()
ASK_SECONDS = 5.0  # between two questions to one that answers
LONGEST_PAUSE = 30.0  # to one that does not
RIGHTS_SECONDS = 60.0  # between two questions what the account may do
CREW = 8  # asked at once
ANOTHER = "What answers there is another service than it was."


@dataclass(slots=True)
class _Asked:
    """A VM host as it is asked. rights_at: when it is asked next what the account may do."""

    access: Access
    identity: str
    missing: tuple[str, ...] = ()
    next_at: float = 0.0
    rights_at: float = 0.0
    failures: int = 0
    answer: Future[Said] | None = None


@dataclass(slots=True)
class VmHostTaker:
    """Its own memory is only when to ask whom next."""

    asked: dict[int, _Asked] = field(default_factory=dict)  # by number of the host
    revision: int = -1
    crew: ThreadPoolExecutor = field(
        default_factory=lambda: ThreadPoolExecutor(CREW, thread_name_prefix="vm-hosts")
    )

    def go(self) -> None:
        """Takes what has been answered, and asks those whose turn it is; waits for nobody."""
        self._know()
        news = False
        for host, one in self.asked.items():
            if one.answer is not None and one.answer.done():
                news |= self._take(host, one, one.answer)
                one.answer = None
            if one.answer is None and one.next_at <= time.monotonic():
                one.answer = self.crew.submit(_ask, one)
        if news:
            with transaction() as session:
                announce(session, "site")
        self._let_go_on()

    def _let_go_on(self) -> None:
        """What stands still though no change is at it any more goes on: a host that could not be asked to,
        as a snapshot with memory came to nothing, is asked as soon as it is heard.
        """
        view = current_view()
        for vm in view.vms:
            one = self.asked.get(vm.host or 0)
            if one is None or not stands_still(view, vm):
                continue
            with transaction() as session:
                if touching.open_touching(session, Thing.VM, vm.number):
                    continue
            log.info("goes on", vm=vm.name)
            if one.answer is None:
                one.answer = self.crew.submit(_go_on, one, uuid_of(view, vm))

    def _know(self) -> None:
        view = current_view()
        if view.revision == self.revision:
            return
        with transaction() as session:
            access = vm_hosts.all_access(session)
        known = {one.host: one.identity for one in view.vm_hosts}
        for host in access.keys() & known.keys():
            mine = self.asked.get(host)
            if mine is None or (mine.access, mine.identity) != (access[host], known[host]):
                self.asked[host] = _Asked(access[host], known[host])
        for gone in self.asked.keys() - access.keys():
            del self.asked[gone]
        self.revision = view.revision

    def _take(self, host: int, one: _Asked, answer: Future[Said]) -> bool:
        """What it said, or why it did not; true where that is news."""
        now, url = time.monotonic(), one.access.url
        try:
            said = answer.result()
            if said.identity != one.identity:
                raise NotPossible(ANOTHER)
        except BarnError as error:
            one.failures += 1
            one.next_at = now + min(LONGEST_PAUSE, ASK_SECONDS * 1.5**one.failures)
            garbled = isinstance(error, NotPossible | NotAllowed)
            contact = Contact.GARBLED if garbled else Contact.SILENT
            with transaction() as session:
                news = vm_hosts.note_silent(session, host, url, contact, error.sentence)
            if news:
                log.info("a VM host is not heard", host=host, why=error.sentence)
            return news
        if one.rights_at <= now:
            one.missing, one.rights_at = said.missing, now + RIGHTS_SECONDS
        one.failures, one.next_at = 0, now + ASK_SECONDS
        with transaction() as session:
            return vm_hosts.note_heard(session, host, url, said)


def _ask(one: _Asked) -> Said:
    service = VmHostService(one.access.url, one.access.user, unseal(one.access.password))
    runs = service.runs()
    missing = service.missing() if one.rights_at <= time.monotonic() else one.missing
    return Said(runs.identity, runs.cpus, runs.memory_bytes, missing, runs.guests)


def _go_on(one: _Asked, uuid: str) -> Said:
    """Returns what its host runs after that."""
    service = VmHostService(one.access.url, one.access.user, unseal(one.access.password))
    if service.is_paused(uuid):
        service.switch(uuid, "Resume")
    return _ask(one)


@lru_cache
def _taker() -> VmHostTaker:
    return VmHostTaker()


def hear_vm_hosts() -> None:
    _taker().go()
