"""The order in which volumes are torn down, with what still uses each: unmounted, detached, deleted, their
bin emptied.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from foldbarn.core.hosts.lanes import Lane, lanes_of, leaving
from foldbarn.core.shares.belonging import mounts_of
from foldbarn.core.shares.share import Share
from foldbarn.core.site import Pool, SiteView, Volume
from foldbarn.core.units import say_binary, say_count, say_list
from foldbarn.core.vms.parts import is_swap, parts_of
from foldbarn.core.volumes.origins import readers_of, snapshot_of


@dataclass(frozen=True, slots=True)
class Deed:
    """One thing to be done before the next can be. because: what still uses what is to go. host, commands:
    what is typed there, by its administrator; kind, wish: the change that does it, as it is wished for. Both
    are empty for what comes about by itself.
    """

    title: str
    because: str
    host: str = ""
    commands: tuple[str, ...] = ()
    kind: str = ""
    wish: Mapping[str, object] = field(default_factory=dict)

    @property
    def how(self) -> str:
        """For people."""
        if self.commands:
            return f"on {self.host}: {'; '.join(self.commands)}"
        return "by a change" if self.kind else "by itself"


def teardown(view: SiteView, pool: Pool) -> list[Deed]:
    """All that has to go before a pool can, in this order: what reads from another before what it reads from,
    and of each what uses it before itself. Empty where nothing lies there.
    """
    mine = view.volumes_of(pool)
    readers = {r.number: r for v in mine for r in readers_of(view, v)}
    shown = [r for r in readers.values() if r.origin is not None and r.origin.shown]
    copies = [r for r in readers.values() if r.origin is not None and not r.origin.shown]
    kept = [v for v in mine if v.binned is None and v not in shown]
    found = [deed for v in shown for deed in [*_leaving(view, v), _deleting(view, v)]]
    found += [_waiting(view, v) for v in copies]
    found += [deed for v in kept for deed in [*_leaving(view, v), *_deleting_own(view, v, kept)]]
    binned = [v for v in mine if v not in shown and not is_swap(v)]
    if binned:
        names = [v.name for v in binned]
        typed = names[0] if len(names) == 1 else pool.name
        wish = {"pool": pool.name, "volumes": names, "typed": typed}
        because = f"{say_list(names)} {'rest' if len(names) > 1 else 'rests'} there, whole."
        found.append(Deed(f"Empty the bin of {pool.name}", because, kind="empty-bin", wish=wish))
    return found


def _leaving(view: SiteView, volume: Volume) -> list[Deed]:
    if volume.part is not None and view.vm_numbered(volume.part.vm).host is not None:
        return []  # switched off, its host lets go of it
    lanes = lanes_of(view, volume=volume.number)
    found = [_unmounting(lane) for lane in lanes if lane.mounted]
    if lanes:
        hosts = [lane.host.name for lane in lanes]
        wish = {"volume": volume.name, "hosts": hosts}
        because = f"{say_list(hosts)} {'are' if len(hosts) > 1 else 'is'} let in."
        found.append(Deed(f"Detach {volume.name}", because, kind="detach-volume", wish=wish))
    return found


def _unmounting(lane: Lane) -> Deed:
    title = f"Let go of {lane.volume.name} on {lane.host.name}"
    because = f"{lane.host.name} has it mounted at {lane.mounted}."
    return Deed(title, because, host=lane.host.name, commands=leaving(lane))


def _deleting_own(view: SiteView, volume: Volume, kept: Sequence[Volume]) -> list[Deed]:
    """A virtual machine is deleted once, with the last of its volumes here; a share goes with its own."""
    share = view.share_of(volume.number)
    if share is not None:
        return _deleting_share(view, share)
    if volume.part is None:
        return [_deleting(view, volume)]
    vm = view.vm_numbered(volume.part.vm)
    if volume is not [v for v in kept if v.part is not None and v.part.vm == vm.number][-1]:
        return []
    others = [v.name for v in parts_of(view, vm) if v.pool != volume.pool]
    elsewhere = f", and {say_list(others)} elsewhere" if others else ""
    because = f"{volume.name} is part of it{elsewhere}."
    off = []
    if vm.host is not None:
        where = f"It is on at {view.host_numbered(vm.host).name}."
        off = [Deed(f"Switch the VM {vm.name} off", where, kind="power-off", wish={"vm": vm.name})]
    return [
        *off,
        Deed(f"Delete the VM {vm.name}", because, kind="delete-vm", wish={"vm": vm.name, "typed": vm.name}),
    ]


def _deleting_share(view: SiteView, share: Share) -> list[Deed]:
    found = [
        Deed(
            f"Unmount {share.name} on {one.who}",
            f"{one.said} has it mounted.",
            host=one.who,
            commands=(f"umount {one.at}",) if one.at else (),
        )
        for one in mounts_of(view, share)
    ]
    wish = {"share": share.name, "typed": share.name}
    because = f"{say_binary(share.used)} lie there."
    return [*found, Deed(f"Delete the share {share.name}", because, kind="delete-share", wish=wish)]


def _deleting(view: SiteView, volume: Volume) -> Deed:
    wish = {"volumes": [volume.name], "typed": volume.name}
    shows = volume.origin is not None and volume.origin.shown
    if shows:
        original, snapshot = snapshot_of(view, volume)
        because = f"It shows {snapshot.name} of {original.name}."
    else:
        count = len(volume.snapshots)
        beside = f", and {say_count(count, 'snapshot')}" if count else ""
        because = f"It holds data{beside}."
    return Deed(f"Delete {volume.name}", because, kind="delete-volume", wish=wish)


def _waiting(view: SiteView, volume: Volume) -> Deed:
    original, snapshot = snapshot_of(view, volume)
    because = f"It reads from {snapshot.name} of {original.name}."
    return Deed(f"Wait until {volume.name} stands alone", because)
