"""Where a virtual machine can be switched on, and whether it is. Method: docs/methods.md, "Virtual
machines".
"""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from enum import StrEnum

from foldbarn.core.hosts.attachments import FileSystem
from foldbarn.core.names import folded, natural_key
from foldbarn.core.site import Contact, Host, SiteView, Vm, VmHost, VmPart, Volume
from foldbarn.core.units import say_binary, say_count, say_list
from foldbarn.core.vms.parts import lasting_parts, missing_from
from foldbarn.core.volumes.bin import against_altering

HOSTS_OWN = 16  # one part in so many of a VM host's memory is its own (a measure of our own)
# What an account on a VM host has to be allowed (Redfish's standard privileges, DSP0266), and what for.
RIGHTS = {
    "Login": "to read what it runs",
    "ConfigureComponents": "to define virtual machines, and to switch them on and off",
}


class Power(StrEnum):
    """Whether a virtual machine is on, as far as is known."""

    OFF = "off"
    ON = "on"
    STOPPED = "stopped"  # it should be on, and its host says that it is not
    UNKNOWN = "unknown"  # it should be on, and its host is not heard


def uuid_of(view: SiteView, vm: Vm) -> str:
    """By which hosts know it, for its life (RFC 9562, version 5)."""
    return str(uuid.uuid5(uuid.NAMESPACE_URL, f"foldbarn:{view.mark}:vm-{vm.number}"))


def power_of(view: SiteView, vm: Vm) -> Power:
    """What its host tells, where it is switched on at one."""
    if vm.host is None:
        return Power.OFF
    runs = view.vm_host(vm.host)
    if runs is None or runs.contact != Contact.HEARD:
        return Power.UNKNOWN
    guest = runs.guest(uuid_of(view, vm))
    return Power.ON if guest is not None and guest.on else Power.STOPPED


def stands_still(view: SiteView, vm: Vm) -> bool:
    """Whether its host says that it is on, and paused."""
    runs = None if vm.host is None else view.vm_host(vm.host)
    guest = None if runs is None else runs.guest(uuid_of(view, vm))
    return power_of(view, vm) is Power.ON and guest is not None and guest.paused


def file_system_of(volume: Volume) -> FileSystem:
    """As what its host uses a part: it keeps files of its own on the configuration."""
    is_files = volume.part is not None and volume.part.what is VmPart.CONFIGURATION
    return FileSystem.EXT4 if is_files else FileSystem.NONE


def place_of_part(vm: Vm, volume: Volume) -> str:
    """Where its host mounts a part; empty for what it uses as a block device."""
    return f"/var/lib/vms/{folded(vm.name)}" if file_system_of(volume) is not FileSystem.NONE else ""


def memory_left(view: SiteView, runs: VmHost) -> int:
    """Bytes that a VM host can still give to virtual machines: after its own, what all that are on there
    have, and what those have that are being switched on there.
    """
    ours = {uuid_of(view, vm): vm.memory_bytes for vm in view.vms if vm.host == runs.host}
    others = sum(guest.memory_bytes for guest in runs.guests if guest.on and guest.uuid not in ours)
    return runs.memory_bytes - runs.memory_bytes // HOSTS_OWN - others - sum(ours.values())


@dataclass(frozen=True, slots=True)
class Place:
    """A VM host as a place for a virtual machine. left: bytes of memory that it can give; against: why it is
    none, in whole sentences; empty where it is one.
    """

    host: Host
    runs: VmHost
    left: int
    against: tuple[str, ...]


def places(view: SiteView, vm: Vm) -> list[Place]:
    """All VM hosts: those that it can be switched on at first, of these the one with the most memory left."""
    found = []
    for runs in view.vm_hosts:
        host = view.host_numbered(runs.host)
        found.append(Place(host, runs, memory_left(view, runs), tuple(_against(view, vm, host, runs))))
    return sorted(found, key=lambda p: (len(p.against) > 0, -p.left, natural_key(p.host.name)))


def _against(view: SiteView, vm: Vm, host: Host, runs: VmHost) -> list[str]:
    found = []
    if runs.contact != Contact.HEARD:
        return [f"{host.name} is not heard. {runs.reason}".strip()]
    if runs.missing:
        words = say_list([f"{right}, {RIGHTS[right]}" for right in runs.missing])
        found.append(f"The account on {host.name} lacks {words}.")
    if vm.cpus > runs.cpus:
        wants = say_count(vm.cpus, "processor")
        found.append(f"{host.name} has {say_count(runs.cpus, 'processor')}; {vm.name} wants {wants}.")
    left = memory_left(view, runs)
    if vm.memory_bytes > left:
        words = f"{host.name} has {say_binary(max(left, 0))} of memory left; {vm.name} wants "
        found.append(f"{words}{say_binary(vm.memory_bytes)}.")
    return found


def against_switching_on(view: SiteView, vm: Vm) -> str:
    """Why a virtual machine cannot be switched on, wherever; empty where it can. What a preview checks and a
    step checks.
    """
    if vm.host is not None:
        return f"{vm.name} is on at {view.host_numbered(vm.host).name} already."
    if vm.template:
        return f"{vm.name} is a template."
    parts = lasting_parts(view, vm)
    for volume in parts:
        if refusal := against_altering(volume):
            return refusal.sentence
    if gone := missing_from(vm, parts):
        return f"Its {say_list(gone)} {'are' if len(gone) > 1 else 'is'} gone for good."
    if offline := [volume.name for volume in parts if volume.offline]:
        return f"{say_list(offline)} {'are' if len(offline) > 1 else 'is'} offline."
    for volume in parts:
        if target := view.target_of(volume.number):
            names = say_list([view.host_numbered(one.host).name for one in target.attachments])
            return f"{volume.name} is attached to {names}: who uses it there would see it change."
    return ""
