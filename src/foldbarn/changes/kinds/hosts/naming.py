"""The names of initiators inside a step."""

from __future__ import annotations

from foldbarn.changes.engine.step import Payload
from foldbarn.core.hosts.attaching import HostWish
from foldbarn.core.hosts.initiators import Transport
from foldbarn.core.site import Host


class NameAt(Payload):
    transport: Transport
    name: str


class HostAt(Payload):
    """A host as it is to be, or as it was."""

    called: str
    group: str
    agent_url: str
    names: tuple[NameAt, ...]

    @classmethod
    def of(cls, host: Host | HostWish) -> HostAt:
        names = tuple(NameAt(transport=one.transport, name=one.name) for one in host.initiators)
        return cls(called=host.name, group=host.group, agent_url=host.agent_url, names=names)
