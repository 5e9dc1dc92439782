"""Doing on stand-in hosts what Fold Barn says is to be done there, for tests."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from conftest import Site, run_async

from foldbarn.core.hosts.lanes import Gate, Lane, lanes_of
from foldbarn.links.agents import Agent
from foldbarn.sealed import unseal
from foldbarn.services import watching
from foldbarn.services.hosts import HostTaker
from foldbarn.services.limits import tell_targets
from foldbarn.services.vm_hosts import VmHostTaker
from foldbarn.store.database import transaction
from foldbarn.store.tables import NodeRow
from foldbarn.store.views import current_view
from foldbarn.yard import shell

MOST_STEPS = 30


def register(site: Site, *names: str, group: str = "", agents: bool = True) -> None:
    """Registers stand-in hosts by what they are called, with both of their names."""
    for name in names:
        host = site.yard.machines.hosts[name]
        url = f"{site.yard.url}/hosts/{name}" if agents else ""
        wish = {"name": name, "group": group, "initiators": list(host.names.values()), "agent_url": url}
        number = site.do("save-host", **wish)
        assert site.state(number) == "done", site.problem(number)


def attach(site: Site, volume: str, *hosts: str, **wish: Any) -> int:
    number = site.do("attach-volume", volume=volume, hosts=list(hosts), **wish)
    assert site.state(number) == "done", site.problem(number)
    return number


def look(site: Site) -> None:
    """A round of the watch, as far as hosts go: nodes are heard and told, and hosts are heard."""
    for _ in range(2):
        with transaction() as session:
            nodes = [(n.id, n.agent_name, n.agent_url) for n in session.query(NodeRow)]
        for number, name, url in nodes:
            if site.yard.machines.power[name]:
                watching.note_report(number, Agent(url).report())
        tell_targets()
    taker = HostTaker()
    taker.know(current_view().revision)
    for _ in range(2):
        taker.take(run_async(taker.hear()))


def lane(host: str, volume: str = "charts") -> Lane:
    view = current_view()
    [found] = lanes_of(view, volume=view.volume(volume).number, host=view.host(host).number)
    return found


def type_there(site: Site, host: str, *commands: str) -> str:
    """Types commands into a host's shell; what the last one printed."""
    machines, printed = site.yard.machines, ""
    for command in commands:
        printed = shell.run(machines, machines.hosts[host], command)
    return printed


def as_typed(commands: Sequence[str]) -> list[str]:
    """What somebody types who has the secret that is asked for; `read` is the shell's own."""
    good = {s.name: unseal(s.sealed) for one in current_view().orchestrators for s in one.secrets}
    name = next((line.split()[-1] for line in commands if ".username -v" in line), "")
    return [
        line.replace('"$SECRET"', good.get(name, "")) for line in commands if not line.startswith("read ")
    ]


def walk(site: Site, host: str, volume: str = "charts") -> list[Gate]:
    """Does what is missing on a host, as it is said there, until nothing is. Returns the gates, in turn."""
    passed: list[Gate] = []
    for _ in range(MOST_STEPS):
        look(site)
        step = lane(host, volume).missing
        if step is None:
            return passed
        assert step.commands, step
        type_there(site, host, *as_typed(step.commands))
        passed.append(step.gate)
    raise AssertionError(f"it does not end: {passed}")


def hear_vm_hosts() -> None:
    """All VM hosts are asked what they run, and what they say is taken."""
    taker = VmHostTaker()
    taker.go()
    for one in taker.asked.values():
        assert one.answer is not None
        one.answer.exception(timeout=80)
    taker.go()
    for one in taker.asked.values():  # what that led to: that somebody is to go on
        if one.answer is not None:
            one.answer.exception(timeout=80)
    taker.go()
    taker.crew.shutdown()
