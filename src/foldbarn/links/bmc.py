"""Reading a node's hardware from its BMC over Redfish (DMTF DSP0266; schemas of DSP8010)."""

from __future__ import annotations

import ipaddress
import time
from typing import Any
from urllib.parse import urljoin

from foldbarn.core.errors import NotAllowed, NotPossible, Unreachable
from foldbarn.core.machines.hardware import Inventory, ReportedDisk, ReportedPort
from foldbarn.core.machines.health import Health
from foldbarn.core.machines.identity import plain_wwn
from foldbarn.core.machines.network import check_address
from foldbarn.core.machines.reading import read_bytes
from foldbarn.core.units import GIB, MB
from foldbarn.links.outbound import Bounds, ask
from foldbarn.settings import settings

WHOLE_SECONDS = 60.0  # for everything that is read of one BMC
MOST_RESOURCES, RESOURCE_BYTES = 4_000, 4_000_000
MOST_MEMBERS = 512  # of one collection; more is no server but a mistake


class Bmc:
    """One BMC. Every call raises Unreachable when it does not answer, NotAllowed for a wrong password,
    NotPossible for another shape.
    """

    def __init__(self, url: str, user: str, password: str) -> None:
        self.url = check_address(url, "A BMC's address", about="bmc_url")
        self._auth = (user, password)
        self._until = time.monotonic() + WHOLE_SECONDS
        self._asked = 0

    def inventory(self) -> Inventory:
        """Its first system: what it is called, its drives and its network ports. Room and rack are not known
        to it.
        """
        root = self._get("/redfish/v1/")
        systems = self._members(root, "Systems")
        if not systems:
            raise NotPossible("This BMC knows of no system.", about="bmc_url")
        system = systems[0]
        drives = [
            self._get(link)
            for storage in self._members(system, "Storage")
            for link in _links(storage.get("Drives"))
        ]
        ports = self._members(system, "EthernetInterfaces")
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

    def _members(self, thing: dict[str, Any], collection: str) -> list[dict[str, Any]]:
        link = thing.get(collection)
        if not isinstance(link, dict) or "@odata.id" not in link:
            return []
        return [self._get(member) for member in _links(self._get(str(link["@odata.id"])).get("Members"))]

    def _get(self, path: str) -> dict[str, Any]:
        """A resource. Links are paths of the same BMC (DSP0266, 8.2); where the BMC stands below a path, its
        own links already say so.
        """
        base = self.url if path == "/redfish/v1/" else urljoin(self.url, "/").rstrip("/")
        if not path.startswith("/"):
            raise NotPossible("The BMC links to another machine, which is not followed.", about="bmc_url")
        self._asked += 1
        left = self._until - time.monotonic()
        if left <= 0 or self._asked > MOST_RESOURCES:
            words = (
                f"The BMC takes longer than {WHOLE_SECONDS:g} s, or lists more than {MOST_RESOURCES:,} "
                "things."
            )
            raise Unreachable(words, about="bmc_url")
        bounds = Bounds(min(left, settings().answer_seconds * 2), RESOURCE_BYTES, stranger=True)
        try:
            answer = ask("GET", base + path, bounds, auth=self._auth)
        except Unreachable as error:
            raise Unreachable(
                f"The BMC cannot be read. {error.sentence}",
                about="bmc_url",
                next_step="Look at the address, and whether its certificate is trusted.",
            ) from error
        if answer.status in (401, 403):
            raise NotAllowed("The BMC does not accept this name and password.", about="password")
        try:
            body = answer.json()
        except ValueError as error:
            raise NotPossible("What answers there does not speak Redfish.", about="bmc_url") from error
        if answer.is_error or not isinstance(body, dict):
            raise NotPossible(
                f"What answers there does not speak Redfish: it has nothing at {path}.", about="bmc_url"
            )
        return body


def _links(members: Any) -> list[str]:
    if not isinstance(members, list):
        return []
    if len(members) > MOST_MEMBERS:
        raise NotPossible(
            f"The BMC lists {len(members):,} members of one collection; {MOST_MEMBERS} are the most "
            "that are read.",
            about="bmc_url",
        )
    return [str(m["@odata.id"]) for m in members if isinstance(m, dict) and "@odata.id" in m]


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
