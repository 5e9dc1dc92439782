"""The file service: where its addresses are at home, whether its names are known, what its shares hold."""

from __future__ import annotations

import time
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import lru_cache

import structlog

from foldbarn.core.actors import BY_ITSELF, Actor
from foldbarn.core.errors import BarnError, Conflict, NotFound
from foldbarn.core.shares.addresses import anew
from foldbarn.core.shares.share import FileService, Resolved
from foldbarn.core.units import say_list
from foldbarn.links.name_servers import look_for_all
from foldbarn.sealed import unseal
from foldbarn.store import records, shares
from foldbarn.store.database import announce, transaction
from foldbarn.store.views import current_view, load_view

log = structlog.get_logger()
NAMES_SECONDS = 60.0  # between two looks for the same names
USED_STEP = 0.002  # of a share; less is not worth a new picture of the site


def move_homes() -> None:
    """Addresses whose node left the cluster, or is given up, are at home on another from here on."""
    if not anew(current_view()):
        return
    with transaction() as session:
        shares.one_at_a_time(session)
        view = load_view(session)
        homes = anew(view)
        if not homes or view.files is None:
            return
        shares.set_homes(session, homes)
        names = [one.name for one in view.files.addresses if one.number in homes]
        nodes = say_list([view.node_numbered(node).name for node in dict.fromkeys(homes.values())])
        are = "is" if len(names) == 1 else "are"
        records.note(session, BY_ITSELF, f"{say_list(names)} {are} at home on {nodes} from here on.")
        announce(session, "site")


def sum_used() -> None:
    """Brings what each share holds up to what the node says that serves it."""
    if not current_view().shares:
        return
    with transaction() as session:
        if shares.sum_used(session, USED_STEP):
            announce(session, "site")


@dataclass(slots=True)
class NameFinder:
    """Looks for names beside the duties: a name server that is silent holds up nothing."""

    service: FileService | None = None  # as it was looked for last
    next_at: float = 0.0
    answer: Future[dict[int, list[Resolved]]] | None = None
    crew: ThreadPoolExecutor = field(
        default_factory=lambda: ThreadPoolExecutor(1, thread_name_prefix="names")
    )

    def go(self) -> None:
        """Takes what was found, and asks where it is time; waits for nobody."""
        if self.answer is not None and self.answer.done():
            self._take(self.answer)
            self.answer = None
        service = current_view().files
        if service is None or not service.name_server or self.answer is not None:
            return
        if self.next_at > time.monotonic() and _asked(service) == _asked(self.service):
            return
        self.service, self.next_at = service, time.monotonic() + NAMES_SECONDS
        self.answer = self.crew.submit(look_for_all, service)

    def _take(self, answer: Future[dict[int, list[Resolved]]]) -> None:
        try:
            found = answer.result()
        except BarnError as error:
            log.info("names not looked for", why=error.sentence)
            return
        with transaction() as session:
            if shares.note_resolved(session, found):
                announce(session, "site")


def _asked(service: FileService | None) -> object:
    """What is asked of the name server, and which."""
    if service is None:
        return None
    return service.name_server, [(one.number, one.name, one.at) for one in service.addresses]


@lru_cache
def _finder() -> NameFinder:
    return NameFinder()


def find_names() -> None:
    _finder().go()


@dataclass(frozen=True, slots=True)
class ShownPassword:
    """A password in the clear."""

    user: str
    password: str


def show_password(actor: Actor, share: str, user: str) -> ShownPassword:
    """Of those who ask at once, one sees it; from then on only its proof is kept. Raises NotFound, Conflict
    where somebody has seen it, and NotPossible where it cannot be opened any more.
    """
    with transaction() as session:
        found = load_view(session).share(share)
        sealed = shares.take_password(session, found.number, user)
        if sealed is None:
            raise NotFound(f"Nobody called {user} signs in to {found.name}.", about="user")
        if not sealed:
            words = f"The password of {user} was shown. It is shown once, and kept no longer."
            raise Conflict(words, about="user", next_step="Give them a new one.")
        clear = unseal(sealed)
        records.note(session, actor, f"The password of {user} for {found.name} was shown.")
        announce(session, "site")
        return ShownPassword(user, clear)
