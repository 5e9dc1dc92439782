"""What a pool's cache devices do for volumes: which disks have one, how long a burst of writes fits, and what
is at stake when a device goes. Method: docs/methods.md, "Roles, cache, endurance".
"""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Flags, Ints, Reals
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.pools.roles import Endurance, binding_of, endurance
from foldbarn.core.site import Disk, Pool, Role, SiteView, Tier
from foldbarn.core.units import DAY_SECONDS, say_duration, say_size


def without_cache(view: SiteView, pool: Pool, tier: Tier) -> list[Disk]:
    """Disks of a tier that take strips and that no cache device serves."""
    bound = binding_of(view, pool)
    found = (view.disks[row] for row in view.in_pool(pool, tier).tolist())
    return [d for d in found if d.role == Role.CAPACITY and not d.retiring and d.number not in bound]


def most_behind_one(view: SiteView, pool: Pool, scheme: Scheme) -> int:
    """The most strips of one extent that may lie on disks which one cache device serves. A device serves
    disks of its own node only, and two strips never share a disk.
    """
    behind: dict[int, int] = defaultdict(int)
    for device in binding_of(view, pool).values():
        behind[device] += 1
    in_one_node = scheme.strips if scheme.level == Level.DISK else scheme.per_domain
    return min(in_one_node, max(behind.values(), default=0))


@dataclass(frozen=True, slots=True)
class Burst:
    """How a pool's cache takes what consumers write. bytes_a_second: of what they write, at most as much as
    its devices take (limited then). seconds: until the first device is full, if none holds anything by then;
    infinite where the disks behind keep up. lasting: bytes a second of consumers that they always keep up
    with. at_stake: the most bytes that wait on one device. survives: devices that may go before what waits
    there is gone. life: of the devices, were it written all day long.
    """

    bytes_a_second: float
    limited: bool
    seconds: float
    lasting: float
    at_stake: int
    survives: int
    life: tuple[Endurance, ...]

    def sentences(self, why: str) -> list[str]:
        """why: it is the rate that was asked about."""
        comes, lasting = (f"{say_size(round(rate))} a second" for rate in (self.bytes_a_second, self.lasting))
        because = "as much as its devices take" if self.limited else why
        if math.isinf(self.seconds):
            keeps_up = f"the disks behind keep up with {lasting}"
            fits = f"Writes of {comes}, {because}, never fill its cache: {keeps_up}."
        else:
            fits = f"A burst of {comes}, {because}, fits its cache for {say_duration(self.seconds)}; then "
            fits += f"writes go on at {lasting}."
        stake = f"Up to {say_size(self.at_stake)} of it wait on one device, and "
        if self.survives:
            go = "device may" if self.survives == 1 else "devices may"
            stake += f"on others too: any {self.survives} {go} go."
        else:
            stake += "nowhere else: with the device they are gone."
        lasts = [f"Written so all day long, {kind.sentence('cache device')}." for kind in self.life]
        return [fits, stake, *lasts]


def burst(view: SiteView, pool: Pool, scheme: Scheme, bytes_a_second: float) -> Burst | None:
    """bytes_a_second: that consumers write; every strip of it goes to the device before the strip's own disk,
    and is read from there to be written to the disk, for which the device has what writes leave of its
    bandwidth. None for a pool whose disks no device serves.
    """
    numbers = {disk.number: disk for disk in view.all_of(pool)}
    behind: dict[int, list[Disk]] = defaultdict(list)
    for number, device_number in binding_of(view, pool).items():
        behind[device_number].append(numbers[number])
    total = sum(disk.size_bytes for served in behind.values() for disk in served)
    if not total:
        return None
    devices = [numbers[number] for number in behind]
    share = [sum(d.size_bytes for d in served) / total for served in behind.values()]
    of_disks = [sum(PROFILES[d.media].bytes_per_second for d in served) for served in behind.values()]
    of_device = [PROFILES[device.media].bytes_per_second for device in devices]
    a_byte = scheme.strips / scheme.k  # on devices, for one of consumers
    most = min(own / part for own, part in zip(of_device, share, strict=True)) / a_byte
    rate = min(bytes_a_second, most)
    seconds, lasting = math.inf, math.inf
    for device, part, own, disks in zip(devices, share, of_device, of_disks, strict=True):
        comes = rate * a_byte * part
        leaves = min(disks, own - comes)
        if comes > leaves * (1 + 1e-9):
            seconds = min(seconds, device.size_bytes / (comes - leaves))
        lasting = min(lasting, min(disks, own / 2) / part / a_byte)
    together = most_behind_one(view, pool, scheme)
    return Burst(
        bytes_a_second=rate,
        limited=rate < bytes_a_second,
        seconds=seconds,
        lasting=lasting,
        at_stake=max(device.size_bytes for device in devices),
        survives=scheme.m // together if together else 0,
        life=tuple(endurance(devices, rate * a_byte * DAY_SECONDS)),
    )


def most_that_comes(view: SiteView, pool: Pool, scheme: Scheme) -> float:
    """Bytes a second that consumers may write at the most: what the ports of a pool's nodes let in."""
    nodes = {disk.node for disk in view.all_of(pool)}
    return sum(view.nodes[n].port_bytes_per_second for n in nodes) * scheme.k / scheme.strips


def hottest_kept(devices: Ints, warmth: Reals, sizes: Ints, room: Ints) -> Flags:
    """Which strips a cache keeps for reading: of those behind a device the most asked for, as many as it has
    room for, [strips]. devices: of each strip its device; warmth: how much it is asked for; sizes: bytes of
    it; room: [devices] bytes.
    """
    order = np.lexsort((-warmth, devices))
    filled = np.cumsum(sizes[order])
    ends = np.searchsorted(devices[order], np.arange(len(room)), side="left")
    before = np.concatenate([[0], filled])[ends]
    kept = np.zeros(len(devices), dtype=np.bool_)
    kept[order] = (filled - before[devices[order]] <= room[devices[order]]) & (warmth[order] > 0)
    return kept
