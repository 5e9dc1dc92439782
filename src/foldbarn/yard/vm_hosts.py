"""The stand-in hosts that run virtual machines, which they serve as systems of Redfish (DMTF DSP0266, schemas
of DSP8010). What it takes to find a disk they do in their own shell, as a person would.
"""

from __future__ import annotations

import asyncio
import base64
import binascii
import uuid
from contextlib import suppress
from dataclasses import asdict, dataclass, field
from typing import TYPE_CHECKING, Any

from fastapi import APIRouter, HTTPException, Request, Response
from fastapi.responses import JSONResponse

from foldbarn.core.units import GIB
from foldbarn.yard import shell

if TYPE_CHECKING:
    from foldbarn.yard.hosts import StandInHost
    from foldbarn.yard.machines import Machines

# Accounts of each of them, with the privileges that their roles assign (DSP0266, "Privilege model").
ACCOUNTS = {
    "fold-barn": ("tide-table", "Operator", ["Login", "ConfigureSelf", "ConfigureComponents"]),
    "onlooker": ("tide-table", "ReadOnly", ["Login", "ConfigureSelf"]),
}
SLOWEST_SECONDS = 30.0  # that an operating system takes to shut down, by the yard's clock


@dataclass(slots=True)
class StandInGuest:
    """A virtual machine. disks: as it was defined with. deaf: its operating system does not hear that it is
    to shut down. off_at: when it will have shut down, by the yard's clock; None where it is not to. paused:
    it stands still.
    """

    uuid: str
    name: str
    cpus: int
    memory_bytes: int
    disks: list[dict[str, Any]]
    on: bool = False
    deaf: bool = False
    off_at: float | None = None
    paused: bool = False
    woken: bool = False  # it went on with what its memory held, when it was switched on last


@dataclass(slots=True)
class StandInVmHost:
    """What a host has for virtual machines."""

    cpus: int
    memory_bytes: int
    guests: dict[str, StandInGuest] = field(default_factory=dict)  # by UUID


def skerry_vm_hosts() -> dict[str, StandInVmHost]:
    """By name of the host."""
    return {name: StandInVmHost(32, 128 * GIB) for name in ("bridge-1", "bridge-2")}


def accounts() -> list[str]:
    """Each with its password and its role, for who tries it out."""
    return [f"{user}, {password} ({role})" for user, (password, role, _) in ACCOUNTS.items()]


def to_keep(one: StandInVmHost) -> dict[str, Any]:
    return asdict(one)


def from_kept(kept: dict[str, Any]) -> StandInVmHost:
    guests = {uuid_: StandInGuest(**guest) for uuid_, guest in kept["guests"].items()}
    return StandInVmHost(kept["cpus"], kept["memory_bytes"], guests)


class Refused(Exception):
    """What a service says where it does not do what it was asked."""


def lose_power(machines: Machines, name: str) -> None:
    """Its virtual machines are off, and stay so until somebody switches them on."""
    if name in machines.vm_hosts:
        for guest in machines.vm_hosts[name].guests.values():
            guest.on, guest.off_at, guest.paused = False, None, False


def shut_down(machines: Machines) -> None:
    """Operating systems that were asked to, and had the time for it, have shut down."""
    for one in machines.vm_hosts.values():
        for guest in one.guests.values():
            if guest.off_at is not None and machines.clock >= guest.off_at:
                guest.on, guest.off_at = False, None


# What is done in its shell. --------------------------------------------------------------------------------


def _find(machines: Machines, host: StandInHost, disk: dict[str, Any]) -> None:
    """Discovers, connects and looks, at every portal that answers; then mounts what has files. Raises Refused
    where it does not see the disk after that.
    """

    def run(line: str) -> None:
        with suppress(shell.Failed):
            shell.run(machines, host, line)

    for at in disk["Portals"]:
        if disk["Protocol"] == "iSCSI":
            run(f"iscsiadm -m discovery -t sendtargets -p {at}")
            run(f"iscsiadm -m node -T {disk['Target']} -p {at} --login")
        else:
            address, port = at.rsplit(":", 1)
            run(f"echo '-t tcp -a {address.strip('[]')} -s {port}' >> /etc/nvme/discovery.conf")
    run("iscsiadm -m session --rescan" if disk["Protocol"] == "iSCSI" else "nvme connect-all")
    if disk["Disk"] not in host.sizes:
        raise Refused(f"{host.name} sees no disk {disk['Disk']} at any of {len(disk['Portals'])} portals.")
    if at := disk.get("MountedAt"):
        device = _device(disk)
        if disk["Disk"] not in machines.made:
            run(f"mkfs.ext4 {device}")
        if at not in host.mounts:
            run(f"mkdir -p {at}")
            run(f"mount {device} {at}")
        if at not in host.mounts:
            raise Refused(f"{host.name} cannot mount {disk['Disk']} at {at}.")


def _device(disk: dict[str, Any]) -> str:
    kind = "wwn" if disk["Protocol"] == "iSCSI" else "nvme"
    return f"/dev/disk/by-id/{kind}-{disk['Disk']}"


def _let_go(machines: Machines, host: StandInHost, disk: dict[str, Any]) -> None:
    lines = [f"umount {disk['MountedAt']}"] if disk.get("MountedAt") else []
    if disk["Protocol"] == "iSCSI":
        node = f"iscsiadm -m node -T {disk['Target']}"
        lines += [f"multipath -f 3{disk['Disk'].removeprefix('0x')}", f"{node} --logout", f"{node} -o delete"]
    else:
        lines.append(f"nvme disconnect -n {disk['Target']}")
    for line in lines:
        with suppress(shell.Failed):  # after a start it is not connected to any
            shell.run(machines, host, line)


# The service. ----------------------------------------------------------------------------------------------


def router(machines: Machines) -> APIRouter:
    """All services: that of bridge-1 has its root at /vm-hosts/bridge-1/redfish/v1/."""
    routes = APIRouter(prefix="/vm-hosts/{name}/redfish")

    async def known(name: str, request: Request, right: str) -> tuple[StandInHost, StandInVmHost, str, str]:
        """The host, what it runs, the path of its root, and who asks."""
        if name not in machines.vm_hosts:
            raise HTTPException(404)
        host = machines.hosts[name]
        while not host.power:
            if await request.is_disconnected():
                raise HTTPException(503)
            await asyncio.sleep(0.25)
        user = _user(request.headers.get("authorization", ""))
        if right and not user:
            raise HTTPException(401, headers={"WWW-Authenticate": 'Basic realm="VM host"'})
        if right and right not in ACCOUNTS[user][2]:
            raise HTTPException(403)
        return host, machines.vm_hosts[name], f"/vm-hosts/{name}/redfish/v1", user

    @routes.get("/v1")
    @routes.get("/v1/")
    async def root(name: str, request: Request) -> dict[str, Any]:
        _, _, at, _ = await known(name, request, "")
        return {
            "@odata.id": f"{at}/",
            "@odata.type": "#ServiceRoot.v1_15_0.ServiceRoot",
            "Id": "RootService",
            "Name": "Root Service",
            "RedfishVersion": "1.17.0",
            "UUID": str(uuid.uuid5(uuid.NAMESPACE_DNS, name)),
            "Systems": {"@odata.id": f"{at}/Systems"},
            "AccountService": {"@odata.id": f"{at}/AccountService"},
        }

    @routes.get("/v1/AccountService")
    async def account_service(name: str, request: Request) -> dict[str, Any]:
        _, _, at, _ = await known(name, request, "ConfigureSelf")
        return {
            "@odata.id": f"{at}/AccountService",
            "@odata.type": "#AccountService.v1_12_0.AccountService",
            "Id": "AccountService",
            "Name": "Account Service",
            "Accounts": {"@odata.id": f"{at}/AccountService/Accounts"},
            "Roles": {"@odata.id": f"{at}/AccountService/Roles"},
        }

    @routes.get("/v1/AccountService/Accounts")
    async def accounts(name: str, request: Request) -> dict[str, Any]:
        """An account that may not configure others sees its own."""
        _, _, at, user = await known(name, request, "ConfigureSelf")
        return _collection(f"{at}/AccountService/Accounts", "ManagerAccount", "Accounts", [user])

    @routes.get("/v1/AccountService/Accounts/{account}")
    async def account(name: str, account: str, request: Request) -> dict[str, Any]:
        _, _, at, user = await known(name, request, "ConfigureSelf")
        if account != user:
            raise HTTPException(404)
        role = ACCOUNTS[user][1]
        return {
            "@odata.id": f"{at}/AccountService/Accounts/{user}",
            "@odata.type": "#ManagerAccount.v1_9_0.ManagerAccount",
            "Id": user,
            "Name": "Account",
            "UserName": user,
            "RoleId": role,
            "Links": {"Role": {"@odata.id": f"{at}/AccountService/Roles/{role}"}},
        }

    @routes.get("/v1/AccountService/Roles/{role}")
    async def role(name: str, role: str, request: Request) -> dict[str, Any]:
        _, _, at, user = await known(name, request, "ConfigureSelf")
        if role != ACCOUNTS[user][1]:
            raise HTTPException(404)
        return {
            "@odata.id": f"{at}/AccountService/Roles/{role}",
            "@odata.type": "#Role.v1_3_1.Role",
            "Id": role,
            "Name": "User Role",
            "IsPredefined": True,
            "AssignedPrivileges": ACCOUNTS[user][2],
        }

    @routes.get("/v1/Systems")
    async def systems(name: str, request: Request) -> dict[str, Any]:
        host, one, at, _ = await known(name, request, "Login")
        found = _collection(f"{at}/Systems", "ComputerSystem", "Systems", ["host", *one.guests])
        if "$expand" in request.query_params:
            found["Members"] = [_own(host, one, at), *(_system(guest, at) for guest in one.guests.values())]
        return found

    @routes.get("/v1/Systems/{system}")
    async def system(name: str, system: str, request: Request) -> dict[str, Any]:
        host, one, at, _ = await known(name, request, "Login")
        if system == "host":
            return _own(host, one, at)
        if system not in one.guests:
            raise HTTPException(404)
        return _system(one.guests[system], at)

    @routes.post("/v1/Systems", status_code=201)
    async def define(name: str, request: Request) -> Response:
        host, one, at, _ = await known(name, request, "ConfigureComponents")
        body = await request.json()
        try:
            guest = StandInGuest(
                uuid=str(uuid.UUID(body["UUID"])),
                name=str(body["Name"]),
                cpus=int(body["ProcessorSummary"]["Count"]),
                memory_bytes=int(body["MemorySummary"]["TotalSystemMemoryGiB"] * GIB),
                disks=list(body["Oem"]["FoldBarn"]["Disks"]),
            )
        except (KeyError, TypeError, ValueError) as error:
            return _refusal(400, f"The system lacks or misnames {error}.")
        if guest.uuid in one.guests:
            return _refusal(409, f"{host.name} knows {guest.name} already.")
        try:
            for disk in guest.disks:
                _find(machines, host, disk)
        except Refused as error:
            for disk in guest.disks:
                _let_go(machines, host, disk)
            return _refusal(400, str(error))
        one.guests[guest.uuid] = guest
        machines.keep_facts()
        return JSONResponse(_system(guest, at), status_code=201)

    @routes.delete("/v1/Systems/{system}", status_code=204)
    async def forget(name: str, system: str, request: Request) -> Response:
        host, one, _, _ = await known(name, request, "ConfigureComponents")
        guest = one.guests.get(system)
        if guest is None:
            raise HTTPException(404)
        if guest.on:
            return _refusal(409, f"{guest.name} is on.")
        for disk in guest.disks:
            _let_go(machines, host, disk)
        del one.guests[system]
        machines.keep_facts()
        return Response(status_code=204)

    @routes.post("/v1/Systems/{system}/Actions/ComputerSystem.Reset", status_code=204)
    async def reset(name: str, system: str, request: Request) -> Response:
        host, one, _, _ = await known(name, request, "ConfigureComponents")
        guest = one.guests.get(system)
        if guest is None:
            raise HTTPException(404)
        kind = (await request.json()).get("ResetType")
        if kind == "On":
            used = sum(other.memory_bytes for other in one.guests.values() if other.on)
            if not guest.on and used + guest.memory_bytes > one.memory_bytes:
                return _refusal(409, f"{host.name} has not enough memory for {guest.name}.")
            memory = [disk["Disk"] for disk in guest.disks if str(disk["Part"]).startswith("memory")]
            if not guest.on and memory and machines.memories.get(memory[0]) != guest.uuid:
                return _refusal(409, f"{memory[0]} does not hold what the memory of {guest.name} held.")
            guest.on, guest.off_at, guest.woken = True, None, bool(memory)
        elif kind == "ForceOff":
            guest.on, guest.off_at, guest.paused = False, None, False
        elif kind in ("Pause", "Resume"):
            if not guest.on:
                return _refusal(409, f"{guest.name} is off.")
            guest.paused = kind == "Pause"
        elif kind == "GracefulShutdown":
            if guest.on and not guest.deaf:
                guest.off_at = machines.clock + SLOWEST_SECONDS
        else:
            return _refusal(400, f"'{kind}' is no way to reset a system.")
        machines.keep_facts()
        return Response(status_code=204)

    @routes.post("/v1/Systems/{system}/Actions/Oem/FoldBarn.WriteMemory", status_code=204)
    async def write_memory(name: str, system: str, request: Request) -> Response:
        host, one, _, _ = await known(name, request, "ConfigureComponents")
        guest = one.guests.get(system)
        if guest is None:
            raise HTTPException(404)
        if not guest.paused:
            return _refusal(409, f"{guest.name} does not stand still.")
        disk = (await request.json())["Disk"]
        try:
            _find(machines, host, disk)
        except Refused as error:
            return _refusal(400, str(error))
        machines.memories[disk["Disk"]] = guest.uuid
        _let_go(machines, host, disk)
        machines.keep_facts()
        return Response(status_code=204)

    return routes


def _user(header: str) -> str:
    """Whose name and password these are; empty for nobody's."""
    try:
        user, _, password = (
            base64.b64decode(header.removeprefix("Basic "), validate=True).decode().partition(":")
        )
    except (binascii.Error, UnicodeDecodeError):
        return ""
    return user if user in ACCOUNTS and ACCOUNTS[user][0] == password else ""


def _collection(at: str, kind: str, name: str, members: list[str]) -> dict[str, Any]:
    return {
        "@odata.id": at,
        "@odata.type": f"#{kind}Collection.{kind}Collection",
        "Name": name,
        "Members": [{"@odata.id": f"{at}/{m}"} for m in members],
        "Members@odata.count": len(members),
    }


def _own(host: StandInHost, one: StandInVmHost, at: str) -> dict[str, Any]:
    return {
        "@odata.id": f"{at}/Systems/host",
        "@odata.type": "#ComputerSystem.v1_20_0.ComputerSystem",
        "Id": "host",
        "Name": host.name,
        "HostName": host.name,
        "SystemType": "Physical",
        "HostingRoles": ["VirtualMachineServer"],
        "PowerState": "On",
        "ProcessorSummary": {"Count": 2, "LogicalProcessorCount": one.cpus},
        "MemorySummary": {"TotalSystemMemoryGiB": one.memory_bytes / GIB},
    }


def _system(guest: StandInGuest, at: str) -> dict[str, Any]:
    here = f"{at}/Systems/{guest.uuid}"
    state = "PoweringOff" if guest.off_at is not None else "Paused" if guest.paused else "On"
    return {
        "@odata.id": here,
        "@odata.type": "#ComputerSystem.v1_20_0.ComputerSystem",
        "Id": guest.uuid,
        "UUID": guest.uuid,
        "Name": guest.name,
        "SystemType": "Virtual",
        "PowerState": state if guest.on else "Off",
        "ProcessorSummary": {"Count": guest.cpus},
        "MemorySummary": {"TotalSystemMemoryGiB": guest.memory_bytes / GIB},
        "Actions": {
            "#ComputerSystem.Reset": {
                "target": f"{here}/Actions/ComputerSystem.Reset",
                "ResetType@Redfish.AllowableValues": [
                    "On",
                    "GracefulShutdown",
                    "ForceOff",
                    "Pause",
                    "Resume",
                ],
            },
            "Oem": {"#FoldBarn.WriteMemory": {"target": f"{here}/Actions/Oem/FoldBarn.WriteMemory"}},
        },
    }


def _refusal(status: int, words: str) -> Response:
    """As DSP0266 has error responses."""
    told = [{"MessageId": "Base.1.13.GeneralError", "Message": words}]
    error = {"code": "Base.1.13.GeneralError", "message": words, "@Message.ExtendedInfo": told}
    return JSONResponse({"error": error}, status_code=status)
