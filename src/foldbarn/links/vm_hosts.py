"""Asking hosts that run virtual machines, which they serve as systems of Redfish (docs/host-protocol.md)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from foldbarn.core.errors import NotAllowed, NotFound, NotPossible
from foldbarn.core.hosts.initiators import Transport
from foldbarn.core.site import Guest
from foldbarn.core.units import GIB
from foldbarn.core.vms.power import RIGHTS
from foldbarn.links.redfish import Redfish

RUNS_VMS = "VirtualMachineServer"  # DSP8010, ComputerSystem.HostingRole
VIRTUAL = "Virtual"  # the same, SystemType
TRANSPORTS = {Transport.ISCSI: "iSCSI", Transport.NVME: "NVMeOverFabrics"}  # the same, Protocol
MOST_MEMORY_GIB = 1 << 20
LONGEST_NAME = 200  # of a virtual machine of others, as it is shown


@dataclass(frozen=True, slots=True)
class Runs:
    """What a service says of the host, and of what that runs."""

    identity: str
    name: str
    cpus: int
    memory_bytes: int
    guests: tuple[Guest, ...]


@dataclass(frozen=True, slots=True)
class DiskToFind:
    """A disk of a virtual machine, as its host finds it: what its kernel knows it by, the target, and at
    which portals; at: where its files are mounted, empty for a block device.
    """

    part: str
    transport: Transport
    target: str
    portals: tuple[str, ...]
    disk: str
    at: str

    def said(self) -> dict[str, Any]:
        return {
            "Part": self.part,
            "Protocol": TRANSPORTS[self.transport],
            "Target": self.target,
            "Portals": list(self.portals),
            "Disk": self.disk,
            "MountedAt": self.at or None,
        }


class VmHostService:
    """The service of one VM host. Every call raises as those of links.redfish.Redfish do."""

    def __init__(self, url: str, user: str, password: str, *, stranger: bool = False) -> None:
        self._service = Redfish(url, user, password, who="VM host", about="url", stranger=stranger)
        self._user = user

    def runs(self) -> Runs:
        """Raises NotPossible for what is no host of virtual machines."""
        service = self._service
        root = service.root()
        systems = service.members(root, "Systems", expand=True)
        own = next((one for one in systems if RUNS_VMS in (one.get("HostingRoles") or ())), None)
        if own is None:
            words = "What answers there runs no virtual machines: none of its systems says so."
            raise NotPossible(words, about="url")
        try:
            return Runs(
                identity=_uuid(root),
                name=str(own.get("HostName") or own["Name"]),
                cpus=int(own["ProcessorSummary"]["LogicalProcessorCount"]),
                memory_bytes=_memory(own),
                guests=tuple(_guest(one) for one in systems if one.get("SystemType") == VIRTUAL),
            )
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            words = f"Its answer is not as Redfish describes it: {type(error).__name__} at {error}."
            raise NotPossible(words, about="url") from error

    def missing(self) -> tuple[str, ...]:
        """Privileges that the account should have, and has not; as the account itself may read."""
        service = self._service
        try:
            accounts = service.get(service.root()["AccountService"]["@odata.id"])
            mine = next(
                one for one in service.members(accounts, "Accounts") if one.get("UserName") == self._user
            )
            role = service.get(str(mine["Links"]["Role"]["@odata.id"]))
            given = set(role["AssignedPrivileges"])
        except (KeyError, TypeError, StopIteration) as error:
            words = "It does not say what the account may do."
            raise NotPossible(words, about="user") from error
        return tuple(right for right in RIGHTS if right not in given)

    def define(self, uuid: str, name: str, cpus: int, memory_bytes: int, disks: Sequence[DiskToFind]) -> None:
        """Has the host find the disks of a virtual machine, and know it, switched off. One of that UUID that
        it knows already, and that is off, is made anew.
        """
        there = self._system(uuid)
        if there is not None:
            if there.get("PowerState") != "Off":
                return
            self._service.do("DELETE", str(there["@odata.id"]))
        body = {
            "Name": name,
            "UUID": uuid,
            "SystemType": VIRTUAL,
            "ProcessorSummary": {"Count": cpus},
            "MemorySummary": {"TotalSystemMemoryGiB": memory_bytes / GIB},
            "Oem": {"FoldBarn": {"Disks": [disk.said() for disk in disks]}},
        }
        self._do("POST", str(self._service.root()["Systems"]["@odata.id"]), body)

    def switch(self, uuid: str, kind: str) -> None:
        """kind: of ComputerSystem.Reset: On, GracefulShutdown, ForceOff, Pause, Resume. Raises NotFound where
        it is not known there.
        """
        there = self._system(uuid)
        if there is None:
            raise NotFound("The VM host does not know it.")
        try:
            target = str(there["Actions"]["#ComputerSystem.Reset"]["target"])
        except (KeyError, TypeError) as error:
            raise NotPossible("The VM host does not say how it is switched.") from error
        self._do("POST", target, {"ResetType": kind})

    def is_on(self, uuid: str) -> bool | None:
        """None where the host does not know it."""
        there = self._system(uuid)
        return None if there is None else there.get("PowerState") != "Off"

    def is_paused(self, uuid: str) -> bool:
        there = self._system(uuid)
        return there is not None and there.get("PowerState") == "Paused"

    def write_memory(self, uuid: str, disk: DiskToFind) -> None:
        """Has the host find a disk, write to it what the memory of one that is paused holds, and let go of
        it.
        """
        there = self._system(uuid)
        if there is None:
            raise NotFound("The VM host does not know it.")
        try:
            target = str(there["Actions"]["Oem"]["#FoldBarn.WriteMemory"]["target"])
        except (KeyError, TypeError) as error:
            raise NotPossible("The VM host does not say how its memory is written down.") from error
        self._do("POST", target, {"Disk": disk.said()})

    def forget(self, uuid: str) -> None:
        """The host lets go of its disks, and knows it no more. It has to be off."""
        there = self._system(uuid)
        if there is not None:
            self._do("DELETE", str(there["@odata.id"]))

    def _system(self, uuid: str) -> dict[str, Any] | None:
        systems = self._service.members(self._service.root(), "Systems", expand=True)
        return next((one for one in systems if str(one.get("UUID") or "").lower() == uuid), None)

    def _do(self, method: str, path: str, body: dict[str, Any] | None = None) -> None:
        try:
            self._service.do(method, path, body)
        except NotAllowed as error:
            raise NotPossible(
                error.sentence, next_step="Look at the account by which it is asked."
            ) from error


def _guest(system: dict[str, Any]) -> Guest:
    return Guest(
        uuid=_uuid(system),
        name=str(system["Name"])[:LONGEST_NAME],
        on=system.get("PowerState") != "Off",
        memory_bytes=_memory(system),
        paused=system.get("PowerState") == "Paused",
    )


def _uuid(thing: dict[str, Any]) -> str:
    """In small letters (RFC 9562, section 4). Raises KeyError, ValueError."""
    return str(UUID(str(thing["UUID"])))


def _memory(system: dict[str, Any]) -> int:
    found = float(system["MemorySummary"]["TotalSystemMemoryGiB"])
    if not 0 <= found <= MOST_MEMORY_GIB:
        raise ValueError(f"{found:g} GiB of memory")
    return int(found * GIB)
