"""What consumers get from a pool under a scheme: how many operations in a second at the most, and how long
one takes at a given load. Method: docs/methods.md, "Speed of a scheme".

Every disk is a queue of its own, served by as many requests at once as its medium works on side by side
(M/M/c, Erlang 1917): a strip can only be read where it lies.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Reals
from foldbarn.core.errors import NotPossible
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.site import SiteView

Curve = Reals  # a distribution of times: [STEPS], the share that is done by each
STEPS = 2000  # points of time at which distributions are told
LATE = 0.99
LEFT_OUT = (
    "Left out: caches, what the consumers' own machines take, and copying. Disks' queues are taken as apart "
    "from one another, and requests as coming by chance."
)


@dataclass(frozen=True, slots=True)
class Load:
    """What consumers ask of a whole pool. reads: share of operations that read, 0 to 1; block_bytes: of each
    operation, less than a strip.
    """

    operations_per_second: float = 5_000.0
    reads: float = 0.7
    block_bytes: int = 16 * 1024

    def __post_init__(self) -> None:
        if not 0 < self.operations_per_second <= 1e9:
            raise NotPossible(
                "A load is of more than no operation a second, and at most a thousand million.", about="load"
            )
        if not 0 <= self.reads <= 1:
            raise NotPossible("The share of reads is between 0 and 1.", about="reads")
        if not 512 <= self.block_bytes <= 1 << 24:
            raise NotPossible("A block has between 512 bytes and 16 MiB.", about="block")


@dataclass(frozen=True, slots=True)
class DiskWork:
    """Operations on disks for one of a consumer's: reads that go before, at once, and writes after them."""

    reads: float
    writes: float


@dataclass(frozen=True, slots=True)
class Speed:
    """most: operations in a second with the busiest disk, or all ports, at work all the time; limit names
    which. mean, late: seconds of an operation at the given load, on average and for 99 of 100; None where it
    is more than the most.
    """

    most: float
    limit: str
    mean: float | None
    late: float | None


@dataclass(frozen=True, slots=True)
class _Kind:
    """Disks that are alike. share: of all strips, that they hold together; each: of one of them.
    servers: requests that one works on at once; access, moved: seconds that each of these takes until its
    bytes flow, and until they have.
    """

    media: str
    share: float
    each: float
    servers: int
    access: float
    moved: float

    @property
    def seconds(self) -> float:
        return self.access + self.moved


def erlang_c(servers: int, offered: float) -> float:
    """The chance that a request has to wait. offered: requests in service on average, less than servers.

    By the recursion of Erlang's loss formula, in which nothing grows beyond bounds.
    """
    blocked = 1.0
    for n in range(1, servers + 1):
        blocked = offered * blocked / (n + offered * blocked)
    busy = offered / servers
    return blocked / (1 - busy * (1 - blocked))


def response(
    servers: int, seconds: float, rate: float, times: Reals, own: tuple[float, float] | None = None
) -> Curve:
    """The share of requests that are done by each of these times, waiting included: M/M/c with first come,
    first served. rate: requests per second, less than servers / seconds; seconds: of the usual request.

    own: of the request that is asked about, seconds to get there, now more and now less, and seconds to move
    it, always as many; else it takes as the usual one does, exponentially long.
    """
    access, moved = own or (seconds, 0.0)
    waits = erlang_c(servers, rate * seconds)
    left = np.maximum(times - moved, 0.0)
    quick = np.exp(-left / access)
    empties = servers / seconds - rate  # requests a second by which a queue grows shorter
    spare = empties * access - 1
    if abs(spare) < 1e-9:
        late = quick * (1 + waits * left / access)
    else:
        late = quick * (1 + waits / spare) - waits / spare * np.exp(-empties * left)
    done: Curve = np.where(times < moved, 0.0, np.clip(1 - late, 0.0, 1.0))
    return done


def speed_of(view: SiteView, rows: Sequence[int], held: Reals, write: DiskWork, load: Load) -> Speed:
    """rows: disks that hold strips; held: [disks] the strips that each holds, or shares like them; write:
    what a consumer's write asks of disks.
    """
    kinds = _kinds(view, rows, held, load.block_bytes)
    a_read, a_write = DiskWork(1, 0), write
    on_disks = load.reads + (1 - load.reads) * (write.reads + write.writes)
    by_disks = min(k.servers / k.seconds / k.each for k in kinds) / on_disks
    nodes = np.unique(view.disk_node[np.asarray(rows)]).tolist()
    ports = sum(view.nodes[n].port_bytes_per_second for n in nodes)
    out = load.reads + (1 - load.reads) * write.reads
    into = (1 - load.reads) * (write.reads + write.writes)
    by_ports = ports / (max(out, into) * load.block_bytes)
    most, limit = min((by_disks, "disks"), (by_ports, "ports"))
    if load.operations_per_second >= most * (1 - 1e-9):
        return Speed(most, limit, None, None)
    rate = load.operations_per_second * on_disks
    times = np.linspace(0.0, _longest(kinds, rate), STEPS)
    one = sum(
        k.share * response(k.servers, k.seconds, rate * k.each, times, (k.access, k.moved)) for k in kinds
    )
    mixed = load.reads * together(np.asarray(one), a_read) + (1 - load.reads) * together(
        np.asarray(one), a_write
    )
    mean = float(np.trapezoid(1 - mixed, times))
    late = float(np.interp(LATE, mixed, times))
    return Speed(most, limit, mean, late)


def _kinds(view: SiteView, rows: Sequence[int], held: Reals, block_bytes: int) -> list[_Kind]:
    """Disks by medium and by what they hold, a hundredth more or less."""
    each = held / held.sum()
    media = view.disk_media[np.asarray(rows)]
    near = np.round(np.log(each) * 100)
    found = []
    for medium in sorted(set(media.tolist())):
        profile = PROFILES[medium]
        # Requests that are worked on side by side share the bandwidth.
        moved = block_bytes * profile.at_once / profile.bytes_per_second
        for size in np.unique(near[media == medium]).tolist():
            alike = each[(media == medium) & (near == size)]
            found.append(
                _Kind(
                    medium,
                    float(alike.sum()),
                    float(alike.max()),
                    profile.at_once,
                    profile.access_seconds,
                    moved,
                )
            )
    return found


def _longest(kinds: Sequence[_Kind], rate: float) -> float:
    """A time by which next to everything is done, however many go together."""
    slowest = 0.0
    for k in kinds:
        spare = k.servers - rate * k.each * k.seconds
        slowest = max(slowest, k.seconds * max(1.0, 1.0 / spare))
    return 2 * slowest * math.log(1e6)


def together(one: Curve, work: DiskWork) -> Curve:
    """What asks for several disks at once is done with the last of them; writes begin when reads are done."""
    writes = one**work.writes if work.writes else np.ones_like(one)
    if not work.reads:
        return writes
    reads = one**work.reads
    if not work.writes:
        return reads
    return in_turn(reads, writes)


def in_turn(first: Curve, then: Curve) -> Curve:
    """Of two things that are done one after the other, at times that are evenly apart."""
    density = np.diff(first, prepend=0.0)
    both: Curve = np.convolve(density, then)[: len(first)]
    return both
