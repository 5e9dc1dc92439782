"""Virtual machines, as a page shows them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import UTC, datetime

from foldbarn.api.bodies import StateOut
from foldbarn.api.changes.pictures import change_line
from foldbarn.api.vms.models import (
    DescribedDiskOut,
    DescribedOut,
    VmOut,
    VmPage,
    VmPartOut,
    VmSnapshotOut,
)
from foldbarn.api.volumes.pictures import shares_of, volume_out
from foldbarn.core.names import natural_key
from foldbarn.core.site import SiteView, Vm, VmPart, Volume
from foldbarn.core.units import say_exactly
from foldbarn.core.vms.ovf import Described
from foldbarn.core.vms.parts import called, is_binned, lasting_parts, memory_at, moment_of, parts_of
from foldbarn.core.vms.power import power_of
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.vms import keeping_state, power_state, vm_state
from foldbarn.store.tables import ChangeRow, VmRow


def vms_out(outlook: Outlook) -> list[VmOut]:
    return [VmOut.model_validate(_fields(outlook, vm)) for vm in outlook.view.vms]


def vm_page(outlook: Outlook, vm: Vm, stored: VmRow, history: Sequence[ChangeRow]) -> VmPage:
    parts = parts_of(outlook.view, vm)
    lasting = lasting_parts(outlook.view, vm)
    return VmPage.model_validate(
        _fields(outlook, vm)
        | {
            "parts": _parts(outlook, vm, parts),
            "shares": _shares(outlook, parts),
            "lasting": [volume.name for volume in lasting],
            "snapshots": _snapshots(outlook.view, vm, lasting),
            "resumes": _resumes(outlook.view, vm),
            "change": stored.made_by,
            "made_at": stored.made_at,
            "history": [change_line(row) for row in history],
        }
    )


def described_out(found: Described) -> DescribedOut:
    return DescribedOut(
        name=found.name,
        cpus=found.cpus,
        memory_bytes=found.memory_bytes,
        memory=_typed(found.memory_bytes) if found.memory_bytes else "",
        disks=[
            DescribedDiskOut(name=disk.name, bytes=disk.bytes, size=_typed(disk.bytes), image=disk.image)
            for disk in found.disks
        ],
    )


def _typed(size: int) -> str:
    """A size as one would type it, with no byte rounded away."""
    return say_exactly(size).replace(",", "").removesuffix("ytes").removesuffix("yte").replace(" b", " B")


def _fields(outlook: Outlook, vm: Vm) -> dict[str, object]:
    view, parts = outlook.view, parts_of(outlook.view, vm)
    kept = {v.policy[0] for v in parts if v.policy is not None}
    keeps = keeping_state(outlook, vm)
    return {
        "name": vm.name,
        "cpus": vm.cpus,
        "memory_bytes": vm.memory_bytes,
        "state": StateOut.of(vm_state(outlook, vm)),
        "keeps": None if keeps is None else StateOut.of(keeps),
        "volumes": len(parts),
        "size_bytes": sum(v.size_bytes for v in parts),
        "written_bytes": sum(v.written_bytes for v in parts),
        "policies": [policy.name for policy in view.current_policies if policy.number in kept],
        "pools": sorted({view.pools[v.pool].name for v in parts}, key=natural_key),
        "binned": is_binned(parts),
        "power": power_of(view, vm),
        "host": "" if vm.host is None else view.host_numbered(vm.host).name,
        "template": vm.template,
        "powered": StateOut.of(power_state(view, vm)),
    }


def _parts(outlook: Outlook, vm: Vm, parts: Sequence[Volume]) -> list[VmPartOut]:
    """All that it was made of, in order: what is gone too."""
    there = {(v.part.what, v.part.place): v for v in parts if v.part is not None}
    wanted = [(VmPart.CONFIGURATION, 0, "")]
    wanted += [(VmPart.DISK, nth, label) for nth, label in enumerate(vm.disks, 1)]
    others = [(what, place, "") for what, place in there if what in (VmPart.SWAP, VmPart.MEMORY)]
    wanted += sorted(others, key=lambda one: (one[0] is VmPart.MEMORY, one[1]))
    found = []
    for what, place, label in wanted:
        volume = there.get((what, place))
        row = None if volume is None else outlook.row_of_volume(volume.number)
        found.append(
            VmPartOut(
                what=what,
                place=place,
                called=(f"{what.value} {place}".removesuffix(" 0") if volume is None else called(volume)),
                label=label,
                volume=None if row is None else volume_out(outlook, row),
            )
        )
    return found


def _shares(outlook: Outlook, parts: Sequence[Volume]) -> dict[str, int]:
    found: Counter[str] = Counter()
    for volume in parts:
        found.update(shares_of(outlook.view, volume))
    return dict(found)


def _resumes(view: SiteView, vm: Vm) -> str:
    memory = None if vm.resumes is None else memory_at(view, vm, vm.resumes)
    moment = None if memory is None else moment_of(view, memory)
    return "" if moment is None else moment.name


def _snapshots(view: SiteView, vm: Vm, parts: Sequence[Volume]) -> list[VmSnapshotOut]:
    """Those that all that is there of it has under one name."""
    names = [{s.name: s for s in volume.snapshots if s.there} for volume in parts]
    shared = set(names[0]).intersection(*names[1:]) if names else set()
    newest = sorted(shared, key=lambda name: -names[0][name].taken_at)
    return [
        VmSnapshotOut(
            name=name,
            taken_at=datetime.fromtimestamp(min(mine[name].taken_at for mine in names), UTC),
            memory=image.name if (image := memory_at(view, vm, names[0][name].number)) else "",
        )
        for name in newest
    ]
