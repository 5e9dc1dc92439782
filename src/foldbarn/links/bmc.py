"""Reading a node's hardware from its BMC over Redfish (DMTF DSP0266; schemas of DSP8010)."""

from __future__ import annotations

import ipaddress
from typing import Any

from foldbarn.core.errors import NotPossible
from foldbarn.core.machines.hardware import Inventory, ReportedDisk, ReportedPort
from foldbarn.core.machines.health import Health
from foldbarn.core.machines.identity import plain_wwn
from foldbarn.core.machines.reading import read_bytes
from foldbarn.core.units import GIB, MB
from foldbarn.links.redfish import Redfish


class Bmc:
    """One BMC. Every call raises Unreachable when it does not answer, NotAllowed for a wrong password,
    NotPossible for another shape.
    """

    def __init__(self, url: str, user: str, password: str) -> None:
        self._service = Redfish(url, user, password, who="BMC", about="bmc_url", stranger=True)
        self.url = self._service.url

    def inventory(self) -> Inventory:
        """Its first system: what it is called, its drives and its network ports. Room and rack are not known
        to it.
        """
        service = self._service
        systems = service.members(service.root(), "Systems")
        if not systems:
            raise NotPossible("This BMC knows of no system.", about="bmc_url")
        system = systems[0]
        drives = [
            service.get(link)
            for storage in service.members(system, "Storage")
            for link in service.links(storage.get("Drives"))
        ]
        ports = service.members(system, "EthernetInterfaces")
        try:
            name = str(system.get("HostName") or system["Name"]).split(".")[0]
            memory = system.get("MemorySummary", {}).get("TotalSystemMemoryGiB") or 0
            cores = system.get("ProcessorSummary", {}).get("CoreCount") or 0
            return Inventory(
                node=name,
                cores=int(cores),
                memory_bytes=int(memory * GIB),
                disks=tuple(_disk(d) for d in drives),
                ports=tuple(_port(p) for p in ports),
            )
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            raise NotPossible(
                f"The BMC's answer is not as Redfish describes it: {type(error).__name__} at {error}.",
                about="bmc_url",
            ) from error


def _disk(drive: dict[str, Any]) -> ReportedDisk:
    names = {
        str(i.get("DurableNameFormat")): str(i.get("DurableName") or "")
        for i in drive.get("Identifiers") or []
        if isinstance(i, dict)
    }
    wwn = next((names[kind] for kind in ("NAA", "EUI", "NGUID") if names.get(kind)), "")
    protocol, medium = drive.get("Protocol"), drive.get("MediaType")
    bay = (drive.get("PhysicalLocation") or {}).get("PartLocation", {}).get("ServiceLabel") or drive["Id"]
    left = drive.get("PredictedMediaLifeLeftPercent")
    return ReportedDisk(
        bay=str(bay),
        kernel_name=f"drive {drive['Id']}",
        serial=str(drive.get("SerialNumber") or "").strip(),
        wwn=plain_wwn(wwn),
        model=str(drive.get("Model") or "").strip(),
        bus="" if protocol in ("NVMe", "NVMeOverFabrics") else str(protocol or "").lower(),
        media="nvme" if protocol in ("NVMe", "NVMeOverFabrics") else "hdd" if medium == "HDD" else "ssd",
        size_bytes=read_bytes(drive["CapacityBytes"], f"Drive {bay}"),
        health=Health(
            percentage_used=0 if left is None else max(0, 100 - int(left)),
            failure_predicted=bool(drive.get("FailurePredicted")),
        ),
        inspected=False,
    )


def _port(port: dict[str, Any]) -> ReportedPort:
    found = [
        str(ipaddress.ip_interface(f"{a['Address']}/{a.get('SubnetMask') or 32}"))
        for a in port.get("IPv4Addresses") or []
        if a.get("Address")
    ]
    found += [
        f"{a['Address']}/{a.get('PrefixLength', 64)}"
        for a in port.get("IPv6Addresses") or []
        if a.get("Address")
    ]
    return ReportedPort(
        name=str(port["Id"]),
        purpose="client",
        up=port.get("LinkStatus") == "LinkUp",
        bytes_per_second=int(port.get("SpeedMbps") or 0) * MB // 8,
        mtu=int(port.get("MTUSize") or 1500),
        addresses=tuple(found),
    )
