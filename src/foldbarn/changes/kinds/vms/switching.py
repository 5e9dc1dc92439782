"""What switching virtual machines on and off has alike: asking their host, and telling nodes."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.changes.engine.targets import TARGETS
from foldbarn.changes.engine.telling import tell_for_a_step
from foldbarn.core.errors import NotPossible
from foldbarn.links.vm_hosts import VmHostService
from foldbarn.sealed import unseal
from foldbarn.store import vm_hosts
from foldbarn.store.database import announce, transaction
from foldbarn.store.views import current_view
from foldbarn.store.vm_hosts import Said


def service_of(host: int) -> VmHostService:
    """The service of a host (by number), asked by the account it has. Raises NotPossible where there is none
    any more.
    """
    with transaction() as session:
        access = vm_hosts.access_of(session, host)
    if access is None:
        words = "The host is not connected as a VM host any more."
        raise NotPossible(words, about="host", next_step="Connect it anew.")
    return VmHostService(access.url, access.user, unseal(access.password))


def look_at(run: Run, host: int) -> None:
    """What a host (by number) runs now is written down: nobody waits for it to be asked in its turn."""
    runs, known = service_of(host).runs(), current_view().vm_host(host)
    if known is None:
        return
    said = Said(runs.identity, runs.cpus, runs.memory_bytes, known.missing, runs.guests)
    with run.writing() as session:
        if vm_hosts.note_heard(session, host, known.url, said):
            announce(session, "site")


class TellAllTargets(Outside):
    """All nodes know which hosts they let in to what. Those that cannot be told now are told as soon as they
    can.
    """

    name: ClassVar[str] = "tell-all-targets"

    def carry_out(self, run: Run) -> str:
        return tell_for_a_step(run, TARGETS, {node.number for node in current_view().nodes})
