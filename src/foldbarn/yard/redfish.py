"""A stand-in BMC per node that speaks Redfish (DMTF DSP0266, schemas of DSP8010): service root, one system,
its storage, drives and network ports, sessions, power, and the drives' location lights. A BMC works while its
server has no power.
"""

from __future__ import annotations

import base64
import binascii
import ipaddress
import secrets
from typing import Any

from fastapi import APIRouter, HTTPException, Request, Response

from foldbarn.core.units import GIB
from foldbarn.yard.agent import addresses_of
from foldbarn.yard.machines import Machines
from foldbarn.yard.scenario import StandInDisk, StandInPort

USER, PASSWORD = "yard", "yard"
WELL = {"State": "Enabled", "Health": "OK"}  # DSP8010, Resource.Status


def router(machines: Machines) -> APIRouter:
    """All BMCs: that of fulmar has its service root at /bmc/fulmar/redfish/v1/."""
    routes = APIRouter(prefix="/bmc/{node}/redfish")
    tokens: set[str] = set()

    def known(node: str, request: Request, *, open_to_all: bool = False) -> str:
        if node not in machines.nodes:
            raise HTTPException(404)
        if (
            not open_to_all
            and request.headers.get("x-auth-token") not in tokens
            and not _basic(request.headers.get("authorization", ""))
        ):
            raise HTTPException(401, headers={"WWW-Authenticate": 'Basic realm="BMC"'})
        return f"/bmc/{node}/redfish/v1"

    def disk_at(node: str, drive: str) -> StandInDisk:
        found = next((d for d in machines.inside(node) if d.bay == drive), None)
        if found is None:
            raise HTTPException(404)
        return found

    @routes.get("")
    @routes.get("/")
    def versions(node: str, request: Request) -> dict[str, Any]:
        return {"v1": known(node, request, open_to_all=True) + "/"}

    @routes.get("/v1")
    @routes.get("/v1/")
    def root(node: str, request: Request) -> dict[str, Any]:
        at = known(node, request, open_to_all=True)
        return {
            "@odata.id": f"{at}/",
            "@odata.type": "#ServiceRoot.v1_15_0.ServiceRoot",
            "Id": "RootService",
            "Name": "Root Service",
            "RedfishVersion": "1.17.0",
            "UUID": _uuid(node),
            "Systems": {"@odata.id": f"{at}/Systems"},
            "SessionService": {"@odata.id": f"{at}/SessionService"},
            "Links": {"Sessions": {"@odata.id": f"{at}/SessionService/Sessions"}},
        }

    @routes.get("/v1/SessionService")
    def session_service(node: str, request: Request) -> dict[str, Any]:
        at = known(node, request)
        return {
            "@odata.id": f"{at}/SessionService",
            "@odata.type": "#SessionService.v1_1_8.SessionService",
            "Id": "SessionService",
            "Name": "Session Service",
            "ServiceEnabled": True,
            "SessionTimeout": 1800,
            "Sessions": {"@odata.id": f"{at}/SessionService/Sessions"},
        }

    @routes.post("/v1/SessionService/Sessions", status_code=201)
    async def log_in(node: str, request: Request, response: Response) -> dict[str, Any]:
        at = known(node, request, open_to_all=True)
        body = await request.json()
        if (body.get("UserName"), body.get("Password")) != (USER, PASSWORD):
            raise HTTPException(401)
        token = secrets.token_hex(16)
        tokens.add(token)
        here = f"{at}/SessionService/Sessions/{token}"
        response.headers["X-Auth-Token"], response.headers["Location"] = token, here
        return {
            "@odata.id": here,
            "@odata.type": "#Session.v1_5_0.Session",
            "Id": token,
            "Name": "Session",
            "UserName": USER,
        }

    @routes.delete("/v1/SessionService/Sessions/{token}", status_code=204)
    def log_out(node: str, token: str, request: Request) -> None:
        known(node, request)
        tokens.discard(token)

    @routes.get("/v1/Systems")
    def systems(node: str, request: Request) -> dict[str, Any]:
        at = known(node, request)
        return _collection(f"{at}/Systems", "ComputerSystem", "Systems", ["1"])

    @routes.get("/v1/Systems/1")
    def system(node: str, request: Request) -> dict[str, Any]:
        at = known(node, request)
        built = machines.nodes[node]
        return {
            "@odata.id": f"{at}/Systems/1",
            "@odata.type": "#ComputerSystem.v1_20_0.ComputerSystem",
            "Id": "1",
            "Name": node,
            "HostName": node,
            "UUID": _uuid(node),
            "SystemType": "Physical",
            "Manufacturer": "Sound Works",
            "Model": "Berth 2U",
            "SerialNumber": f"SW-{node}",
            "PowerState": "On" if machines.power[node] else "Off",
            "IndicatorLED": "Off",
            "Status": WELL,
            "Boot": {
                "BootSourceOverrideEnabled": "Disabled",
                "BootSourceOverrideTarget": "None",
                "BootSourceOverrideMode": "UEFI",
                "BootSourceOverrideTarget@Redfish.AllowableValues": ["None", "Pxe", "Hdd"],
            },
            "ProcessorSummary": {"Count": 2, "CoreCount": built.cores, "Model": "x86-64", "Status": WELL},
            "MemorySummary": {"TotalSystemMemoryGiB": built.memory_bytes // GIB, "Status": WELL},
            "Storage": {"@odata.id": f"{at}/Systems/1/Storage"},
            "EthernetInterfaces": {"@odata.id": f"{at}/Systems/1/EthernetInterfaces"},
            "Actions": {
                "#ComputerSystem.Reset": {
                    "target": f"{at}/Systems/1/Actions/ComputerSystem.Reset",
                    "ResetType@Redfish.AllowableValues": ["On", "ForceOff"],
                },
            },
        }

    @routes.post("/v1/Systems/1/Actions/ComputerSystem.Reset", status_code=204)
    async def reset(node: str, request: Request) -> None:
        known(node, request)
        kind = (await request.json()).get("ResetType")
        if kind not in ("On", "ForceOff"):
            raise HTTPException(400)
        machines.power[node] = kind == "On"
        machines.keep_facts()

    @routes.get("/v1/Systems/1/Storage")
    def storages(node: str, request: Request) -> dict[str, Any]:
        at = known(node, request)
        return _collection(f"{at}/Systems/1/Storage", "Storage", "Storage", ["1"])

    @routes.get("/v1/Systems/1/Storage/1")
    def storage(node: str, request: Request) -> dict[str, Any]:
        at = known(node, request)
        drives = [{"@odata.id": f"{at}/Systems/1/Storage/1/Drives/{d.bay}"} for d in machines.inside(node)]
        return {
            "@odata.id": f"{at}/Systems/1/Storage/1",
            "@odata.type": "#Storage.v1_15_0.Storage",
            "Id": "1",
            "Name": "Local storage",
            "Status": WELL,
            "StorageControllers": [],
            "Drives": drives,
            "Drives@odata.count": len(drives),
        }

    @routes.get("/v1/Systems/1/Storage/1/Drives/{drive}")
    def drive(node: str, drive: str, request: Request) -> dict[str, Any]:
        at = known(node, request)
        return _drive(machines, f"{at}/Systems/1/Storage/1/Drives/{drive}", disk_at(node, drive))

    @routes.patch("/v1/Systems/1/Storage/1/Drives/{drive}")
    async def light(node: str, drive: str, request: Request) -> dict[str, Any]:
        at, body = known(node, request), await request.json()
        disk = disk_at(node, drive)
        on = body.get("LocationIndicatorActive", body.get("IndicatorLED") in ("Lit", "Blinking"))
        (machines.lit.add if on else machines.lit.discard)(disk.serial)
        machines.keep_facts()
        return _drive(machines, f"{at}/Systems/1/Storage/1/Drives/{drive}", disk)

    @routes.get("/v1/Systems/1/EthernetInterfaces")
    def interfaces(node: str, request: Request) -> dict[str, Any]:
        at = known(node, request)
        return _collection(
            f"{at}/Systems/1/EthernetInterfaces",
            "EthernetInterface",
            "Network ports",
            [p.name for p in machines.nodes[node].ports],
        )

    @routes.get("/v1/Systems/1/EthernetInterfaces/{name}")
    def interface(node: str, name: str, request: Request) -> dict[str, Any]:
        at = known(node, request)
        found = next((p for p in machines.nodes[node].ports if p.name == name), None)
        if found is None:
            raise HTTPException(404)
        return _interface(machines, node, f"{at}/Systems/1/EthernetInterfaces/{name}", found)

    return routes


def _basic(header: str) -> bool:
    try:
        return (
            header.startswith("Basic ")
            and base64.b64decode(header[6:], validate=True).decode() == f"{USER}:{PASSWORD}"
        )
    except (binascii.Error, UnicodeDecodeError):
        return False


def _uuid(node: str) -> str:
    return f"00000000-0000-4000-8000-{sum(ord(c) * 257**i for i, c in enumerate(node)) % 16**12:012x}"


def _collection(at: str, kind: str, name: str, members: list[str]) -> dict[str, Any]:
    return {
        "@odata.id": at,
        "@odata.type": f"#{kind}Collection.{kind}Collection",
        "Name": name,
        "Members": [{"@odata.id": f"{at}/{m}"} for m in members],
        "Members@odata.count": len(members),
    }


def _drive(machines: Machines, at: str, disk: StandInDisk) -> dict[str, Any]:
    lit = disk.serial in machines.lit
    return {
        "@odata.id": at,
        "@odata.type": "#Drive.v1_17_0.Drive",
        "Id": disk.bay,
        "Name": f"Drive {disk.bay}",
        "Manufacturer": disk.model.split()[0],
        "Model": disk.model,
        "SerialNumber": disk.serial,
        "CapacityBytes": disk.size_bytes,
        "BlockSizeBytes": 512,
        "MediaType": "HDD" if disk.media == "hdd" else "SSD",
        "Protocol": "NVMe" if disk.media == "nvme" else "SATA",
        "RotationSpeedRPM": 7200 if disk.media == "hdd" else None,
        "Status": WELL | ({"Health": "Warning"} if disk.wears else {}),
        "PredictedMediaLifeLeftPercent": None if disk.media == "hdd" else 98,
        "FailurePredicted": False,
        "Identifiers": [{"DurableName": disk.wwn.removeprefix("0x").upper(), "DurableNameFormat": "NAA"}],
        "PhysicalLocation": {"PartLocation": {"LocationType": "Bay", "ServiceLabel": disk.bay}},
        "LocationIndicatorActive": lit,
        "IndicatorLED": "Lit" if lit else "Off",
    }


def _interface(machines: Machines, node: str, at: str, port: StandInPort) -> dict[str, Any]:
    addresses = addresses_of(machines, node, port)
    return {
        "@odata.id": at,
        "@odata.type": "#EthernetInterface.v1_9_0.EthernetInterface",
        "Id": port.name,
        "Name": port.name,
        "LinkStatus": "LinkUp" if port.up else "LinkDown",
        "SpeedMbps": port.megabits,
        "MTUSize": port.mtu,
        "MACAddress": f"02:00:00:{sum(map(ord, node)) % 256:02x}:{sum(map(ord, port.name)) % 256:02x}:01",
        "Status": WELL,
        "IPv4Addresses": [
            {"Address": str(i.ip), "SubnetMask": str(i.netmask), "AddressOrigin": "Static"}
            for i in (ipaddress.ip_interface(a) for a in addresses)
            if i.version == 4
        ],
        "IPv6Addresses": [
            {"Address": a.split("/")[0], "PrefixLength": int(a.split("/")[1])} for a in addresses if ":" in a
        ],
    }
