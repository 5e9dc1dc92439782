"""The volumes that a virtual machine is: its configuration, one for each of its disks, while it is switched
on its swap, and what its memory held at snapshots that were taken with it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from foldbarn.core.errors import Conflict, NotPossible
from foldbarn.core.names import LONGEST_NAME, check_name, folded
from foldbarn.core.site import SiteView, Vm, VmPart, Volume
from foldbarn.core.units import GIB, TIB, parse_size, say_count, say_size
from foldbarn.core.volumes.snapshots import Snapshot

MOST_DISKS = 64  # of one virtual machine; hosts number them on a few buses of fifteen or so (common practice)
MOST_CPUS = 4096
LARGEST_MEMORY = 1024 * TIB
LEAST_MEMORY = 1 << 20
CONFIGURATION_BYTES = GIB  # what describes a virtual machine, its firmware's variables and its log take less


NUMBERED = frozenset({VmPart.DISK, VmPart.MEMORY})  # parts of which there may be several


@dataclass(frozen=True, slots=True)
class PartWish:
    """A volume that a new virtual machine is to have. label: what its disk is called there, if anything."""

    what: VmPart
    place: int
    size: int
    label: str = ""


def volume_name(vm: str, what: VmPart, place: int) -> str:
    """What the volume of a part is called as it is made."""
    return f"{vm}-{what.value}-{place}" if what in NUMBERED else f"{vm}-{what.value}"


def called(volume: Volume) -> str:
    """A part for people, such as disk 2."""
    part = volume.part
    if part is None:
        return volume.name
    return f"{part.what.value} {part.place}" if part.what in NUMBERED else part.what.value


def as_part(volume: Volume) -> str:
    """The same within a sentence: the configuration, disk 2."""
    is_one = volume.part is not None and volume.part.what not in NUMBERED
    return f"the {called(volume)}" if is_one else called(volume)


def parts_of(view: SiteView, vm: Vm) -> list[Volume]:
    """What there is of it, in the bin or not: its configuration, its disks in order, its swap, and what its
    memory held, oldest first.
    """
    return sorted(view.volumes_of_vm(vm), key=_order)


def lasting_parts(view: SiteView, vm: Vm) -> list[Volume]:
    """Its configuration and its disks: snapshots are of them, and what is made from these."""
    return [volume for volume in parts_of(view, vm) if goes_into_snapshots(volume)]


def is_swap(volume: Volume) -> bool:
    return volume.part is not None and volume.part.what is VmPart.SWAP


def _order(volume: Volume) -> tuple[int, int]:
    assert volume.part is not None
    return list(VmPart).index(volume.part.what), volume.part.place


def is_binned(parts: Sequence[Volume]) -> bool:
    """Whether a virtual machine was deleted: no part of it is left outside the bin."""
    return all(volume.binned is not None for volume in parts)


def missing_from(vm: Vm, parts: Sequence[Volume]) -> list[str]:
    """Parts that are gone for good, for people."""
    there = {(v.part.what, v.part.place) for v in parts if v.part is not None}
    wanted = [(VmPart.CONFIGURATION, 0), *((VmPart.DISK, nth) for nth in range(1, len(vm.disks) + 1))]
    return [
        what.value if what is VmPart.CONFIGURATION else f"{what.value} {n}"
        for what, n in wanted
        if (what, n) not in there
    ]


def is_memory(volume: Volume) -> bool:
    return volume.part is not None and volume.part.what is VmPart.MEMORY


def goes_into_snapshots(volume: Volume) -> bool:
    """Whether snapshots of it are of use: not of what is there for a while only, nor of what nobody
    writes to any more.
    """
    return not is_swap(volume) and not is_memory(volume)


def memory_at(view: SiteView, vm: Vm, place: int) -> Volume | None:
    """What its memory held at a snapshot (by number, of its configuration); None where that is not kept."""
    found = (v for v in parts_of(view, vm) if is_memory(v) and v.part is not None and v.part.place == place)
    return next(found, None)


def moment_of(view: SiteView, volume: Volume) -> Snapshot | None:
    """The snapshot of its configuration with which what the memory of a virtual machine held was kept; None
    where that is gone, and this of no use any more.
    """
    part = volume.part
    if part is None or part.what is not VmPart.MEMORY:
        return None
    configuration = next(
        (v for v in lasting_parts(view, view.vm_numbered(part.vm)) if v.part and not v.part.place), None
    )
    known = configuration.snapshots if configuration is not None else ()
    return next((s for s in known if s.number == part.place and not s.lost), None)


def against_alone(view: SiteView, volume: Volume, doing: str) -> NotPossible | None:
    """Why a volume cannot be deleted, or brought back, by itself: it is part of a virtual machine, behind the
    back of which nothing of it goes, but what is of no use to it any more. doing: what is to be done with
    that instead, as a next step.
    """
    if volume.part is None:
        return None
    if is_memory(volume) and moment_of(view, volume) is None and volume.binned is None:
        return None
    vm = view.vm_numbered(volume.part.vm)
    words = f"{volume.name} is {as_part(volume)} of the VM {vm.name}."
    return NotPossible(words, about="volumes", next_step=doing.format(vm=vm.name))


def against_while_on(view: SiteView, volume: Volume, doing: str) -> NotPossible | None:
    """Why nobody attaches, or detaches, a volume by hand: it is part of a virtual machine that is switched
    on. doing: what would not be, as the end of a sentence.
    """
    if volume.part is None:
        return None
    vm = view.vm_numbered(volume.part.vm)
    if vm.host is None:
        return None
    where = view.host_numbered(vm.host).name
    words = f"{volume.name} is {as_part(volume)} of the VM {vm.name}, which is on at {where}: it is {doing}."
    return NotPossible(words, about="volume", next_step=f"Switch {vm.name} off first.")


def newest_of_all(parts: Sequence[Volume]) -> Snapshot | None:
    """The newest snapshot that all of these have under one name, as the first of them has it; None for
    none.
    """
    if not parts:
        return None
    names = [{s.name for s in volume.snapshots if s.there} for volume in parts]
    shared = set.intersection(*names)
    mine = [s for s in parts[0].snapshots if s.there and s.name in shared]
    return max(mine, key=lambda s: s.taken_at, default=None)


def check_vm_name(view: SiteView, name: str, vm: int | None = None) -> str:
    """The name, trimmed, if a virtual machine (by number; None for one yet to be made) may have it. Raises
    NotPossible, and Conflict where another has it, if only in the bin.
    """
    others = [other for other in view.vms if other.number != vm]
    twin = next((other for other in others if folded(other.name) == folded(name.strip())), None)
    if twin is not None and is_binned(parts_of(view, twin)):
        words = f"A VM in the bin is called {twin.name}, and comes back under that name."
        step = "Choose another name, or empty the bin of it."
        raise Conflict(words, about="name", next_step=step)
    found = check_name(name, "VM", [other.name for other in others])
    longest = LONGEST_NAME - len(volume_name("", VmPart.CONFIGURATION, 0))
    if len(found) > longest:
        words = f"The name has {len(found)} characters; its volumes are called after it, and "
        raise NotPossible(f"{words}{longest} are the most.", about="name")
    return found


def check_shape(cpus: int, memory: str) -> int:
    """Bytes of memory that is typed, such as "8 GiB". Raises NotPossible for what no virtual machine has."""
    if not 1 <= cpus <= MOST_CPUS:
        words = f"A VM has 1 to {MOST_CPUS:,} processors, not {cpus:,}."
        raise NotPossible(words, about="cpus")
    found = parse_size(memory, about="memory")
    if not LEAST_MEMORY <= found <= LARGEST_MEMORY:
        least, most = say_size(LEAST_MEMORY), say_size(LARGEST_MEMORY)
        raise NotPossible(f"A VM has between {least} and {most} of memory.", about="memory")
    return found


def parts_wished(disks: Sequence[tuple[str, str]]) -> list[PartWish]:
    """The volumes of a new virtual machine with these disks: what each is called there, and its size as
    typed. Raises NotPossible.
    """
    if not disks:
        raise NotPossible("A VM needs a disk.", about="disks", next_step="Add one, with its size.")
    if len(disks) > MOST_DISKS:
        words = f"That is {say_count(len(disks), 'disk')}; {MOST_DISKS} are the most of one VM."
        raise NotPossible(words, about="disks")
    found = [PartWish(VmPart.CONFIGURATION, 0, CONFIGURATION_BYTES)]
    for place, (label, size) in enumerate(disks, 1):
        try:
            found.append(PartWish(VmPart.DISK, place, parse_size(size), label.strip()))
        except NotPossible as error:
            words = f"Disk {place}: {error.sentence}"
            raise NotPossible(words, about="disks", next_step=error.next_step) from error
    return found
