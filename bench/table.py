"""./barn bench: what takes how long, each beside something else measured in the same run.

Machines differ and are busy at times; the ratio is what to compare between runs, not the seconds.
"""

from __future__ import annotations

import ipaddress
import json
import os
import shutil
import statistics
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime
from functools import partial
from itertools import product
from pathlib import Path
from typing import Any

import numpy as np
from playwright.sync_api import Browser, sync_playwright
from uhashring import HashRing

from bench.claimed import claims
from bench.large import fill
from bench.previews import wishes
from foldbarn.house.barn import Barn
from foldbarn.house.demo import Demo
from foldbarn.house.postgres import Postgres, free_port
from foldbarn.settings import PROJECT, settings

EXTENTS, DOMAINS, COPIES = 1_000_000, 320, 3
RING_EXTENTS = 100_000  # the ring is measured on a tenth of the work and its time multiplied
CROWD = 1_000  # nodes
OPEN = ("waiting", "running")
PEACES = 20  # tries to find it at rest
SETTLED_SECONDS = 20.0  # after the last node has reported in
STATE = PROJECT / ".barn" / "bench"


def timed(work: Callable[[], Any], times: int = 3) -> tuple[float, Any]:
    """Median seconds over some runs after one that is not counted, and what the work returned."""
    found = work()
    seconds = []
    for _ in range(times):
        start = time.perf_counter()
        found = work()
        seconds.append(time.perf_counter() - start)
    return statistics.median(seconds), found


def yardstick() -> float:
    """Seconds to sort ten million integers with numpy: a measure of this machine, now."""
    numbers = np.random.default_rng(1).integers(0, 2**60, 10_000_000)
    return timed(lambda: np.sort(numbers))[0]


def row(what: str, seconds: float, beside: str, ratio: float, remark: str = "") -> None:
    print(f"{what:<66} {seconds:>9.3f} s   {ratio:>8.2f} x {beside:<34} {remark}", flush=True)


def stray(counts: np.ndarray, share: np.ndarray) -> float:
    """The furthest domain's distance from its share, as a part of the share."""
    expected = share / share.sum() * counts.sum()
    return float(np.abs(counts / expected - 1).max())


def placement() -> None:
    """A million extents over 320 domains: three copies, and 4 and 2 of parity."""
    from foldbarn.core.pools.placement import ONE, place, shares

    rng = np.random.default_rng(7)
    rooms = (
        ("equal", np.full(DOMAINS, 60_000)),
        ("mixed", rng.integers(10_000, 50_000, DOMAINS) * 2),
    )
    for (name, room), (strips, what) in product(rooms, ((COPIES, f"{COPIES} copies"), (6, "4 and 2"))):
        domains = np.arange(DOMAINS)
        ours, placed = timed(
            lambda room=room, domains=domains, strips=strips: place(
                room, domains, domains, EXTENTS, strips, 1
            )
        )
        share = shares(room, strips) / ONE
        our_stray = stray(np.bincount(placed.reshape(-1), minlength=DOMAINS), share)

        def rendezvous(share: np.ndarray = share, strips: int = strips) -> np.ndarray:
            found = np.empty((EXTENTS, strips), dtype=np.int32)
            keys = np.random.default_rng(3)
            for start in range(0, EXTENTS, 20_000):
                scores = -share / np.log(keys.random((20_000, DOMAINS)))
                found[start : start + 20_000] = np.argpartition(scores, -strips, axis=1)[:, -strips:]
            return found

        theirs, hashed = timed(rendezvous, times=1)
        their_stray = stray(np.bincount(hashed.reshape(-1), minlength=DOMAINS), share)
        label = f"place {EXTENTS:,} extents, {what}, {DOMAINS} {name} domains"
        row(
            label,
            ours,
            "of weighted rendezvous hashing",
            ours / theirs,
            f"strays {our_stray:.3%}; rendezvous {theirs:.1f} s, {their_stray:.1%}",
        )
        if name != "equal" or strips != COPIES:
            continue  # the ring's weights are small whole numbers; only equal domains compare fairly
        ring = HashRing(nodes=[str(d) for d in range(DOMAINS)])
        start = time.perf_counter()
        counts = np.zeros(DOMAINS)
        for extent in range(RING_EXTENTS):
            for node in ring.range(str(extent), size=COPIES):
                counts[int(node["nodename"])] += 1
        ring_seconds = (time.perf_counter() - start) * EXTENTS / RING_EXTENTS
        row(
            "",
            ours,
            "of uhashring",
            ours / ring_seconds,
            f"uhashring {ring_seconds:.0f} s (a tenth, times ten), {stray(counts, share):.1%}",
        )


def large_site(stick: float) -> None:
    """1,000 nodes, 12,000 disks, 2,000,000 extents: read from PostgreSQL, and every rack lost in turn."""
    from sqlalchemy import text

    from foldbarn.core.pools.capacity import pool_space
    from foldbarn.core.pools.protection import Level
    from foldbarn.core.volumes.loss import single_losses
    from foldbarn.store import views
    from foldbarn.store.database import forget_connections, snapshot, transaction
    from foldbarn.store.founding import found_site
    from foldbarn.store.migrate import migrate

    server = Postgres(STATE / "large", quick=True)
    server.start()
    os.environ["FOLDBARN_DATABASE_URL"] = server.url()
    settings.cache_clear()
    try:
        migrate()
        found_site("Large", "bench", 30.0)
        with transaction() as session:
            fill(session, nodes=1_000, volumes=200, extents=10_000)
            session.execute(text("analyze"))

        def load() -> Any:
            views.forget()
            with snapshot() as session:
                return views.load_view(session)

        seconds, view = timed(load)
        row(
            "load 1,000 nodes, 12,000 disks, 2,000,000 extents",
            seconds,
            "of sorting 10,000,000 integers",
            seconds / stick,
        )
        fresh = load()
        start = time.perf_counter()
        losses = single_losses(fresh, Level.RACK)
        seconds = time.perf_counter() - start
        assert losses.lost.sum() == 2_000_000 * 50
        row(
            "effect of losing each of its 50 racks in turn, first time",
            seconds,
            "of sorting 10,000,000 integers",
            seconds / stick,
        )
        seconds, _ = timed(lambda: pool_space(replace(view), view.pools[0]))
        row(
            "usable, headroom for any one node, ledger of that site",
            seconds,
            "of sorting 10,000,000 integers",
            seconds / stick,
        )
        comparison(view, stick)
        picture(load(), stick)
        schemes(view, stick)
        matching(view, stick)
        another_policy(view, stick)
        growth(view, stick)
        samples(stick)
    finally:
        forget_connections()
        server.stop()


def stuck_plans(stick: float) -> None:
    """Rebuilds for which there is no place, and one that finds its places only by chains of exchanges."""
    from foldbarn.core.moving.rebuild import plan_rebuild
    from foldbarn.core.pools.capacity import headroom_for
    from foldbarn.core.pools.healing import healing_of, lose
    from foldbarn.core.pools.placement import place
    from foldbarn.core.pools.protection import Level, mirror
    from foldbarn.core.site import Contact, Disk, Node, Pool, Rack, Role, Room, SiteView, plain_volume

    def site(racks: list[list[list[int]]], extents: int) -> SiteView:
        nodes, disks = [], []
        for rack, inside in enumerate(racks):
            for slots in inside:
                row = len(nodes)
                nodes.append(
                    Node(row + 1, f"n{row}", rack, Contact.HEARD, port_bytes_per_second=6_250_000_000)
                )
                for count in slots:
                    size = count * 2**30 * 100 // 99 + 2**21
                    name = f"d{len(disks)}"
                    disks.append(Disk(len(disks) + 1, name, name, row, "ssd", size, name, Role.CAPACITY, 0))
        pool = Pool(1, "p", 2**30, mirror(3, Level.RACK), Level.NODE)
        found = SiteView(
            "s",
            1,
            (Room(1, "A"),),
            tuple(Rack(r + 1, f"R{r}", 0) for r in range(len(racks))),
            tuple(nodes),
            tuple(disks),
            (pool,),
        )
        extents = (
            extents
            or headroom_for(found.disk_slots, found.disk_rack, found.disk_node, Level.NODE, pool.usual).usable
        )
        rows = place(found.disk_slots, found.disk_rack, found.disk_node, extents, 3, seed=1)
        volume = plain_volume(1, "v", 0, 1, pool.usual, found.disk_numbers[rows])
        return replace(found, volumes=(volume,))

    three = site([[[6_000] * 12 for _ in range(20)] for _ in range(3)], 1_000_000)
    lost = lose(three, Level.RACK, 0)
    seconds, moves = timed(lambda: plan_rebuild(lost, lost.pools[0], 1))
    assert moves.stuck == 1_000_000
    row(
        "rebuild of 1,000,000 extents for which there is no place",
        seconds,
        "of sorting 10,000,000 integers",
        seconds / stick,
        "target: 2 s",
    )
    rng = np.random.default_rng(3)
    racks = [
        [rng.integers(300, 3_000, 12).tolist() for _ in range(int(rng.integers(2, 6)))] for _ in range(8)
    ]
    full = site(racks, 0)
    extents = full.volumes[0].extents
    lost = lose(full, Level.NODE, 3)
    seconds, moves = timed(lambda: plan_rebuild(lost, lost.pools[0], 1))
    assert moves.stuck == 0
    row(
        f"rebuild in an uneven pool at its limit, {extents:,} extents",
        seconds,
        "of sorting 10,000,000 integers",
        seconds / stick,
        f"{len(moves):,} moves, {int(moves.makes_room.sum()):,} to make room",
    )
    seconds, found = timed(lambda: healing_of(replace(full), full.pools[0], Level.NODE))
    row(
        "healing of that pool from losing any node",
        seconds,
        "of sorting 10,000,000 integers",
        seconds / stick,
        f"holds: {found.holds}",
    )


def comparison(view: Any, stick: float) -> None:
    """What all disks of a pool hold beside what they should: six million strips, as their agents' answers
    have been read.
    """
    from foldbarn.core.moving.comparing import differences, held_by, placed

    pool = view.pools[0]
    should = placed(view, pool)
    order = np.argsort(should.disk, kind="stable")
    strips = np.stack([should.ply, should.extent, should.strip], axis=1)[order]
    numbers, starts = np.unique(should.disk[order], return_index=True)
    held = dict(zip(numbers.tolist(), np.split(strips, starts[1:]), strict=True))
    gone = int(numbers[0])
    held[gone] = held[gone][3:]  # three strips that a disk has lost
    seconds, found = timed(lambda: differences(held_by(held), placed(view, pool), numbers))
    assert (len(found.missing.disk), len(found.beyond.disk)) == (3, 0)
    row(
        f"compare {len(strips):,} strips with what their disks hold",
        seconds,
        "of sorting 10,000,000 integers",
        seconds / stick,
    )


def picture(view: Any, stick: float) -> None:
    """The barn's picture of a large site: when the site has changed, and again at the same revision."""
    from foldbarn.api.watch.pictures import barn_out
    from foldbarn.core.watch.lamps import Outlook
    from foldbarn.store import site
    from foldbarn.store.database import transaction

    for when in ("when it has changed", "again, unchanged"):
        start = time.perf_counter()
        with transaction() as session:
            barn_out(Outlook(view, time.time(), 30.0), site.row(session), False, [], [])
        seconds = time.perf_counter() - start
        row(
            f"the barn's picture with 12,000 disks, {when}",
            seconds,
            "of sorting 10,000,000 integers",
            seconds / stick,
        )


def schemes(view: Any, stick: float) -> None:
    """Thirty schemes side by side on a pool of a thousand nodes, and what it says to a policy."""
    from foldbarn.core.policies.bench import lay_side_by_side, schemes_at
    from foldbarn.core.policies.matching import answers
    from foldbarn.core.policies.policy import wishes_of
    from foldbarn.core.pools.protection import Level, mirror

    pool = view.pools[0]
    laid = [*schemes_at(Level.RACK), *schemes_at(Level.NODE)]
    seconds, _ = timed(lambda: lay_side_by_side(replace(view), pool, laid))
    sort = "of sorting 10,000,000 integers"
    row(f"{len(laid)} schemes side by side, 12,000 disks", seconds, sort, seconds / stick)
    wishes = wishes_of(mirror(3, Level.RACK))
    for room, what in ((False, "whether it keeps a policy"), (True, "the same, and for how much more")):
        seconds, _ = timed(lambda room=room: answers(replace(view), wishes, room=room))
        row(f"a pool of 12,000 disks says {what}", seconds, sort, seconds / stick)


def another_policy(view: Any, stick: float) -> None:
    """A volume comes to keep another policy: what its preview computes, on a pool of a thousand nodes."""
    from foldbarn.core.policies.adopting import adopt
    from foldbarn.core.policies.policy import Policy, wishes_of
    from foldbarn.core.pools.protection import Level, Scheme

    volume = max(view.volumes, key=lambda v: v.extents)
    strips = volume.plies[0].placement.size
    sort = "of sorting 10,000,000 integers"
    others = ((1, 3, "one copy more"), (1, 1, "one copy less"), (4, 2, "written anew as 4 and 2 of parity"))
    for k, m, what in others:
        policy = Policy(1, "p", 1, wishes_of(Scheme(k, m, Level.RACK)))
        seconds, _ = timed(lambda policy=policy: adopt(replace(view), [volume], policy))
        row(f"another policy for {strips:,} strips: {what}", seconds, sort, seconds / stick)
    seconds, found = timed(lambda: adopt(replace(view), view.volumes, policy), times=1)
    what = f"the same for all {len(view.volumes)} volumes"
    row(what, seconds, sort, seconds / stick, "refused" if found.opposed else "")


def heat(stick: float) -> None:
    """Two million extents, in four volumes: from what nodes tell to heat, curves and a plan."""
    from foldbarn.core.volumes.heat import Heat, hit_curve, told, warmed
    from foldbarn.core.volumes.tiers import Wanted, next_shift

    extents, draw = 500_000, np.random.default_rng(1)
    rates = [draw.pareto(1.2, extents) for _ in range(4)]
    nodes = [np.sort(draw.choice(extents, extents // 50, replace=False)) for _ in range(150)]
    answers = [(which, draw.integers(0, 10_000, len(which))) for which in nodes]
    known = [Heat(1, np.zeros(extents, dtype=np.int64), rate, 600.0) for rate in rates]

    def update() -> Any:
        return [warmed(heat, told(extents, answers), 30.0) for heat in known]

    sort = "of sorting 10,000,000 integers"
    seconds, _ = timed(update)
    row("heat of 2,000,000 extents from what 150 nodes tell of each volume", seconds, sort, seconds / stick)
    seconds, _ = timed(lambda: [hit_curve(rate) for rate in rates])
    row("their hit curves", seconds, sort, seconds / stick)
    upper = [draw.random(extents) < 0.05 for _ in rates]
    pairs = enumerate(zip(rates, upper, strict=True))
    parts = [Wanted(n, rate, up, extents // 10, 2) for n, (rate, up) in pairs]
    seconds, _ = timed(lambda: next_shift(parts, 300_000, 256))
    row("which of them belong on the fast tier, and what moves next", seconds, sort, seconds / stick)


def matching(view: Any, stick: float) -> None:
    """Fifty policies and fifty pools, into which the disks of a thousand nodes are dealt: who keeps what."""
    from foldbarn.core.policies.matching import answers
    from foldbarn.core.policies.policy import wishes_of
    from foldbarn.core.pools.protection import Level, Scheme

    usual = view.pools[0]
    pools = tuple(replace(usual, number=n + 1, name=f"pool-{n}") for n in range(50))
    disks = tuple(replace(d, pool=row % 50) for row, d in enumerate(view.disks))
    site = replace(view, pools=pools, disks=disks, volumes=(), incoming={}, under_way={})
    shapes = [
        (1, 1),
        (1, 2),
        (1, 3),
        (1, 4),
        (2, 1),
        (3, 1),
        (4, 1),
        (8, 1),
        (2, 2),
        (4, 2),
        (6, 2),
        (8, 2),
        (4, 3),
    ]
    wished = [wishes_of(Scheme(k, m, level)) for k, m in shapes for level in Level][:50]
    seconds, _ = timed(lambda: [answers(at, wish, room=False) for at in [replace(site)] for wish in wished])
    row("match 50 policies with 50 pools", seconds, "of sorting 10,000,000 integers", seconds / stick)


def rest(barn: Any) -> float:
    """Share of a processor that the work process takes while nothing is done."""
    process = barn.children["work"].process
    ticks = os.sysconf("SC_CLK_TCK")

    def used() -> float:
        fields = Path(f"/proc/{process.pid}/stat").read_text().rpartition(")")[2].split()
        return (int(fields[11]) + int(fields[12])) / ticks

    before, seconds = used(), 20.0
    time.sleep(seconds)
    return (used() - before) / seconds


def rest_at_peace(barn: Any, engineer: Demo) -> float:
    """The same of a while in which no change began: what belongs elsewhere by its heat goes there at any
    time.
    """

    def seen() -> tuple[int, bool]:
        found = engineer.client.get("/changes").json()
        return max(one["number"] for one in found), any(one["state"] in OPEN for one in found)

    for _ in range(PEACES):
        at_peace(engineer)
        before = seen()
        share = rest(barn)
        if seen() == before == (before[0], False):
            return share
    raise AssertionError("it never came to rest")


def at_peace(engineer: Demo) -> None:
    """Until nothing is under way: what goes by heat, or is written by itself, is hurried on. Consumers rest,
    so that nothing new is asked for most.
    """
    engineer.client.post("/yard", json={"lever": "consumers", "times": 0}).raise_for_status()
    engineer.client.post("/yard", json={"lever": "speed", "speed": 50}).raise_for_status()

    def under_way() -> bool:
        return any(c["state"] in OPEN for c in engineer.client.get("/changes").json())

    quiet = 0
    while quiet < 5:
        quiet = 0 if under_way() else quiet + 1
        time.sleep(2)
    engineer.client.post("/yard", json={"lever": "speed", "speed": 1}).raise_for_status()
    time.sleep(5)


def crowded(stick: float) -> None:
    """A thousand nodes of twelve disks, all of which the yard stands in for, and nothing to be done."""
    barn = Barn(STATE / "crowd", free_port(), quick=True, environment={"YARD_CROWD": str(CROWD)})
    try:
        start = time.perf_counter()
        barn.start()
        with closing(Demo(barn.url)) as engineer:
            heard = partial(_heard, engineer)
            engineer.wait(lambda: heard() >= CROWD, "all nodes to be heard", seconds=600, pause=2)
            seconds = time.perf_counter() - start
            row(
                f"{CROWD:,} nodes report in, one by one",
                seconds,
                "of sorting 10,000,000 integers",
                seconds / stick,
            )
            walk_machines(barn.url, stick)
            time.sleep(SETTLED_SECONDS)
            share = rest(barn)
            row(f"the work process at rest, {CROWD:,} nodes: in each second", share, "of a processor", share)
            start = time.perf_counter()
            engineer.client.post("/yard", json={"lever": "cut power", "what": "auk-0500"}).raise_for_status()
            engineer.wait(lambda: heard() < CROWD, "the silence to be noticed", pause=0.05)
            seconds = time.perf_counter() - start
            grace = settings().silent_seconds
            row("one of them loses power, until it is shown", seconds, "of the grace", seconds / grace)
    finally:
        barn.stop()


def _heard(engineer: Demo) -> int:
    """Nodes whose agents are heard now."""
    return sum(n["contact"] == "heard" for n in engineer.client.get("/machines").json()["nodes"])


def growth(view: Any, stick: float) -> None:
    """A node of twelve disks joins the pool of two million extents: the preview, the plan, and its moves
    beside the fewest there can be.
    """
    from dataclasses import replace

    from foldbarn.changes.engine.effects import Moved
    from foldbarn.changes.kinds.pools.grow_pool import GrowPool, GrowPoolParams
    from foldbarn.core.moving.levelling import above_share, plan_levelling
    from foldbarn.core.moving.rebuild import plan_drain
    from foldbarn.core.pools.capacity import pool_space
    from foldbarn.core.pools.sizing import Settings, read_plan, size_up
    from foldbarn.core.site import Contact, Disk, Role

    first = view.nodes[0]
    heard = tuple(replace(n, contact=Contact.HEARD, port_bytes_per_second=6_250_000_000) for n in view.nodes)
    joined = replace(
        first, number=1001, name="newcomer", contact=Contact.HEARD, port_bytes_per_second=6_250_000_000
    )
    new = [
        Disk(20_000 + n, f"newcomer-{n}", str(n), len(heard), "ssd", 3_840 * 10**9, f"N{n}", Role.UNCLAIMED)
        for n in range(12)
    ]
    # The bench's placement is drawn at random: level it first, as a pool in use is.
    level = replace(view, nodes=(*heard, joined), disks=(*view.disks, *new))
    moves = plan_levelling(level, level.pools[0], 1)
    volumes = []
    for volume in level.volumes:
        placement = volume.plies[0].placement.copy()
        mine = moves.ply == volume.number
        placement[moves.extent[mine], moves.strip[mine]] = moves.to[mine]
        volumes.append(replace(volume, plies=(replace(volume.plies[0], placement=placement),)))
    level = replace(level, volumes=tuple(volumes))
    pool = level.pools[0]
    kind, wish = GrowPool(), GrowPoolParams(pool=pool.name, disks=[d.name for d in new])
    seconds, plan = timed(lambda: kind.plan(replace(level), wish))
    row(
        "preview of adding a node to a pool of 2,000,000 extents",
        seconds,
        "of sorting 10,000,000 integers",
        seconds / stick,
        "target: under 2 s",
    )
    grown = replace(
        level, disks=tuple(replace(d, pool=0, role=Role.CAPACITY) if d.pool < 0 else d for d in level.disks)
    )
    above = above_share(grown, pool)
    seconds, planned = timed(lambda: plan_levelling(grown, pool, 1))
    row(
        "the levelling plan for it",
        seconds,
        "of sorting 10,000,000 integers",
        seconds / stick,
        f"target: 5 s; {len(planned):,} moves for {above:,} strips above their shares",
    )
    assert [e.bytes for e in plan.effects if isinstance(e, Moved)] == [len(planned) * pool.strip_bytes]
    previews(level, stick)
    emptied = replace(level, disks=tuple(replace(d, retiring=d.node == 7) for d in level.disks))
    drained = plan_drain(emptied, pool, 1)
    held = int(emptied.disk_used[emptied.disk_retiring].sum())
    row(
        "strips that leave with it, over those that must",
        0.0,
        "strips",
        len(drained) / max(held, 1),
        f"{len(drained):,} of {held:,}",
    )
    text = "".join(
        f"rack {r}\n" + "".join(f"n-{r}-{n}: 12 x 3.84 TB SSD, 2 x 1.92 TB NVMe\n" for n in range(20))
        for r in range(50)
    )
    seconds, sized = timed(lambda: size_up(read_plan(text), Settings()))
    assert pool_space(sized.view, sized.pool).usable * sized.pool.strip_bytes == sized.usable_bytes
    row(
        "size up 1,000 nodes on paper: usable, rebuilds, chance, what to buy",
        seconds,
        "of sorting 10,000,000 integers",
        seconds / stick,
    )


def previews(view: Any, stick: float) -> None:
    """Of a wish of every kind."""
    from foldbarn.changes.engine.kind import KINDS
    from foldbarn.core.policies.policy import Policy, wishes_of
    from foldbarn.core.pools.protection import Level, Scheme
    from foldbarn.core.site import Binned

    *used, last = view.volumes
    view = replace(
        view,
        policies=(Policy(1, "wide", 1, wishes_of(Scheme(4, 2, Level.RACK))),),
        volumes=(*used, replace(last, binned=Binned(0.0, 0.0))),
    )
    asked = wishes(view)
    assert set(asked) == set(KINDS)
    for name, params in asked.items():
        kind = KINDS[name]
        wish = kind.params.model_validate(params)
        seconds, plan = timed(lambda kind=kind, wish=wish: kind.plan(replace(view), wish))
        remark = f"refused: {plan.blockers[0].sentence}"[:60] if plan.blockers else "target: under 2 s"
        row(
            f"preview of {name}, 2,000,000 extents",
            seconds,
            "of sorting 10,000,000 integers",
            seconds / stick,
            remark,
        )


def inventory_files(nodes: int, disks: int) -> list[tuple[str, str]]:
    """lsblk and ip outputs of so many nodes."""
    found = []
    for n in range(nodes):
        devices = [
            {
                "name": f"sd{d}",
                "path": f"/dev/sd{d}",
                "type": "disk",
                "size": 3_840 * 10**9,
                "rota": False,
                "tran": "sata",
                "ro": False,
                "rm": False,
                "serial": f"S{n:04d}{d:02d}",
                "wwn": f"0x5000{n:08x}{d:04x}",
                "model": "Holm S3840",
                "pttype": None,
                "fstype": "ext4" if d == 3 else None,
                "mountpoints": [None],
            }
            for d in range(disks)
        ]
        links = [
            {
                "ifname": "stor0",
                "operstate": "UP",
                "mtu": 9000,
                "link_type": "ether",
                "link_speed_mbit": 25000,
            }
        ]
        found += [
            (f"node-{n:03d}.lsblk.json", json.dumps({"blockdevices": devices})),
            (f"node-{n:03d}.ip.json", json.dumps(links)),
        ]
    return found


def intake(stick: float) -> None:
    """500 nodes of 24 disks from files, in the batches that a browser sends; their verdicts; the list of them
    all.
    """
    from foldbarn.api.machines.pictures import machines_out
    from foldbarn.core.actors import Actor
    from foldbarn.core.machines.hardware import judge
    from foldbarn.core.machines.reading import read_disks
    from foldbarn.services.files import File, take_files
    from foldbarn.services.site import outlook
    from foldbarn.store import views
    from foldbarn.store.database import forget_connections
    from foldbarn.store.founding import found_site
    from foldbarn.store.migrate import migrate

    server = Postgres(STATE / "intake", quick=True)
    server.start()
    os.environ["FOLDBARN_DATABASE_URL"] = server.url()
    settings.cache_clear()
    views.forget()
    try:
        migrate()
        found_site("Intake", "bench", 30.0)
        files = inventory_files(500, 24)
        reading, _ = timed(lambda: [json.loads(text) for _, text in files])
        start = time.perf_counter()
        for at in range(0, len(files), 40):
            outcomes = take_files(
                Actor("the bench"), [File(name, text) for name, text in files[at : at + 40]]
            )
            assert all(o.result == "taken" for o in outcomes), outcomes
        seconds = time.perf_counter() - start
        row(
            "take in 500 nodes of 24 disks from 1,000 files",
            seconds,
            "of reading their JSON",
            seconds / reading,
        )
        disks = [d for name, text in files if "lsblk" in name for d in read_disks(name, json.loads(text))]
        seconds, verdicts = timed(lambda: [judge(d) for d in disks])
        assert sum(v.fit for v in verdicts) == 500 * 23
        row("judge those 12,000 disks", seconds, "of sorting 10,000,000 integers", seconds / stick)
        seconds, found = timed(lambda: machines_out(outlook()).model_dump_json())
        row(
            f"the list of all machines, as JSON ({len(found) / 1e6:.0f} MB)",
            seconds,
            "of sorting 10,000,000 integers",
            seconds / stick,
        )
    finally:
        forget_connections()
        views.forget()
        server.stop()


def running_barn(stick: float) -> None:
    """The demo: a volume from request to whole, news on an open page, pages until usable."""
    barn = Barn(STATE / "demo", free_port())
    try:
        barn.start()
        with closing(Demo(barn.url)) as engineer:
            engineer.fill()
            seconds = []
            for number in range(5):
                start = time.perf_counter()
                change = engineer.start(
                    "create-volume", {"name": f"bench-{number}", "pool": "quayside", "size": "1 TiB"}
                )
                engineer.await_end(change)
                seconds.append(time.perf_counter() - start)
            middle = statistics.median(seconds)
            answers, _ = timed(lambda: engineer.client.get("/barn"), times=9)
            row(
                "make a volume of 1 TiB, from request to whole",
                middle,
                "of reading /api/barn",
                middle / answers,
            )
            row(
                "read /api/barn (the demo's site)", answers, "of sorting 10,000,000 integers", answers / stick
            )
            engineer.carry_out("take-snapshot", {"volumes": ["ticketing-db"], "name": "first"})
            start = time.perf_counter()
            engineer.carry_out("take-snapshot", {"volumes": ["ticketing-db"], "name": "second"})
            seconds = time.perf_counter() - start
            row("a snapshot of a volume of 4 TB in use", seconds, "of reading /api/barn", seconds / answers)
            large = {"name": "bench-large", "pool": "deepwater", "size": "20 TiB"}
            engineer.carry_out("create-volume", large)
            engineer.carry_out("take-snapshot", {"volumes": ["bench-large"], "name": "first", "room": 1})
            start = time.perf_counter()
            engineer.carry_out("take-snapshot", {"volumes": ["bench-large"], "name": "second"})
            seconds = time.perf_counter() - start
            row("a snapshot of a volume of 20 TiB", seconds, "of reading /api/barn", seconds / answers)
            # The stand-ins look at every block of it each second: what follows is not to be measured beside
            # that.
            engineer.carry_out("delete-volume", {"volume": "bench-large", "typed": "bench-large"})
            gone = {"pool": "deepwater", "volumes": ["bench-large"], "typed": "bench-large"}
            engineer.carry_out("empty-bin", gone)
            share = rest_at_peace(barn, engineer)
            row("the work process at rest, nine nodes: in each second", share, "of a processor", share)
            pages(barn.url, engineer, answers)
            engineer.client.post("/yard", json={"lever": "consumers", "times": 1}).raise_for_status()
            start = time.perf_counter()
            many = [
                engineer.start("create-volume", {"name": f"of-many-{n}", "pool": "quayside", "size": "1 GiB"})
                for n in range(200)
            ]
            for change in many:
                engineer.await_end(change)
            seconds = time.perf_counter() - start
            row(
                "make 200 volumes at once, from the first request to the last one whole",
                seconds,
                "of reading /api/barn",
                seconds / answers,
            )
            start = time.perf_counter()
            wish = {"name": "of-a-thousand-{0001..1000}", "pool": "quayside", "size": "1 GiB"}
            engineer.carry_out("create-volume", wish)
            seconds = time.perf_counter() - start
            row(
                "make 1,000 volumes in one change, from request to the last one whole",
                seconds,
                "of reading /api/barn",
                seconds / answers,
            )
            moves(engineer, answers)
            start = time.perf_counter()
            disks = [{"size": "1 GiB"}] * 4
            vms = [
                engineer.start("make-vm", {"name": f"vm-{n:03}", "pool": "quayside", "disks": disks})
                for n in range(100)
            ]
            for change in vms:
                engineer.await_end(change)
            seconds = time.perf_counter() - start
            row(
                "make 100 VMs of four disks, each by a change, from the first request to the last one open",
                seconds,
                "of reading /api/barn",
                seconds / answers,
            )
            start = time.perf_counter()
            engineer.carry_out(
                "copy-snapshot", {"volume": "ticketing-db", "snapshot": "second", "name": "bench-copy"}
            )
            seconds = time.perf_counter() - start
            row(
                "a volume from a snapshot of 4 TB, from request to open",
                seconds,
                "of reading /api/barn",
                seconds / answers,
            )
    finally:
        barn.stop()


def moves(engineer: Demo, answers: float) -> None:
    """From the cut of a node's power until a share that it served is read again by who has it mounted."""
    found = engineer.client.get("/files").raise_for_status().json()["addresses"]
    carrier = next(one["carrier"] for one in found if "charts" in one["shares"])
    engineer.client.post("/yard", json={"lever": "cut power", "what": carrier}).raise_for_status()
    start = time.perf_counter()

    def read() -> bool:
        asked = {"lever": "run", "what": "ferry-desk-1", "text": "ls /srv/sea-charts"}
        return not engineer.client.post("/yard", json=asked).is_error

    engineer.wait(read, "the share to be read again")
    seconds = time.perf_counter() - start
    engineer.client.post("/yard", json={"lever": "give power", "what": carrier}).raise_for_status()
    row(
        "a share read again after its node lost power (10 s are promised)",
        seconds,
        "of reading /api/barn",
        seconds / answers,
    )


def pages(url: str, engineer: Demo, answers: float) -> None:
    """In a browser: pages of the demo at rest until they are usable, the first one's weight, typing, and news
    on an open page. answers: seconds that the picture of the site takes.
    """
    with sync_playwright() as tool:
        browser = tool.chromium.launch(
            executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu"]
        )
        for path, wanted in (
            ("/", "Where it went"),
            ("/volumes/ticketing-db", "Space account"),
            ("/machines", "as their agents reported"),
        ):
            opened = []
            for _ in range(4):
                page = browser.new_context().new_page()
                start = time.perf_counter()
                page.goto(url + path, wait_until="commit")
                page.get_by_text(wanted).first.wait_for()
                opened.append(time.perf_counter() - start)
                page.close()
            middle = statistics.median(opened[1:])
            row(
                f"open {path} in an empty browser until usable",
                middle,
                "of reading /api/barn",
                middle / answers,
            )
        weight = weigh(browser, url)
        row("weight of the first page, compressed, in MB", weight / 1e6, "of 250 KB", weight / 250e3)
        seconds = type_a_wish(browser, url)
        row("type a name of 80 letters into a wish", seconds, "of /api/barn", seconds / answers)
        page = browser.new_page()
        page.goto(f"{url}/volumes")
        page.get_by_text("bench-4").wait_for()
        engineer.carry_out("create-volume", {"name": "bench-seen", "pool": "quayside", "size": "1 GiB"})
        start = time.perf_counter()
        page.get_by_role("cell", name="bench-seen", exact=True).wait_for()
        page.get_by_text("whole").last.wait_for()
        shown = time.perf_counter() - start
        row(
            "a change made elsewhere, from done to shown on an open page",
            shown,
            "of reading /api/barn",
            shown / answers,
        )
        browser.close()


def weigh(browser: Browser, url: str) -> int:
    """Bytes that an empty browser is sent until the first page is usable, as they are on the wire."""
    page = browser.new_context().new_page()
    session = page.context.new_cdp_session(page)
    weights: list[int] = []
    session.on("Network.loadingFinished", lambda loaded: weights.append(loaded["encodedDataLength"]))
    session.send("Network.enable")
    page.goto(url)
    page.get_by_text("Where it went").first.wait_for()
    weight = sum(weights)  # what comes while the page is looked at already is not waited for
    page.close()
    return weight


def type_a_wish(browser: Browser, url: str) -> float:
    """Seconds from the first of many letters until all of them stand in the field; none may be missing."""
    page = browser.new_page()
    page.goto(f"{url}/?plan=create-volume")
    field = page.get_by_label("Name of the volume")
    field.focus()
    name = "abcdefghij" * 8
    start = time.perf_counter()
    page.keyboard.type(name)
    seconds = time.perf_counter() - start
    if field.input_value() != name:
        raise AssertionError(f"typed {name}, and there stands {field.input_value()}")
    page.close()
    return seconds


def reach(stick: float) -> None:
    """20,000 volumes attached to 1,000 hosts: how all hosts are, one of them, who serves what, and who takes
    over from a node that is given up.
    """
    from dataclasses import replace

    from bench.reached import reached_site
    from foldbarn.changes.engine.targets import TARGETS
    from foldbarn.core.hosts.gateways import chosen_anew
    from foldbarn.core.hosts.lanes import lanes_of
    from foldbarn.core.watch.lamps import Outlook

    view = reached_site()
    beside = "of sorting 10,000,000 integers"

    def judged() -> list[object]:
        outlook = Outlook(replace(view), now=0.0, grace_seconds=30.0)
        return [outlook.host(host) for host in view.hosts]

    gone = replace(view, nodes=(replace(view.nodes[0], given_up=True), *view.nodes[1:]))
    for what, work in (
        ("how 1,000 hosts reach 20,000 volumes", judged),
        ("the ways to one of these hosts, gate by gate", lambda: [w.steps for w in lanes_of(view, host=7)]),
        ("what 1,000 nodes are to serve to them", lambda: TARGETS.wanted(view)),
        ("who takes over from one of the nodes", lambda: chosen_anew(gone)),
    ):
        seconds, found = timed(work)
        assert found
        row(what, seconds, beside, seconds / stick)


def asking(stick: float) -> None:
    """A page of the list of 20,000 volumes: as the site changes, and of a picture that was asked before; and
    what hangs together with one of its 1,000 nodes.
    """
    from bench.reached import reached_site
    from foldbarn.api.volumes.pictures import volume_page, volumes_out
    from foldbarn.core.columns import Columns
    from foldbarn.core.volumes.lineage import Link, lineage_of
    from foldbarn.core.watch.asking import By, Question, Wanted, listed
    from foldbarn.core.watch.lamps import Outlook
    from foldbarn.store.tables import VolumeRow

    view = reached_site()
    beside = "of sorting 10,000,000 integers"
    wanted = Wanted("v1", (Question.AMISS,), ((Link.NODE, "n1"),))

    def page(of: Any) -> object:
        outlook = Outlook(of, now=0.0, grace_seconds=30.0)
        return volumes_out(outlook, listed(outlook, wanted, By.SIZE, falling=True), page=1, per=100)

    page(view)
    pictures = _pictures_after(view)
    made = VolumeRow(made_at=datetime.now(UTC))

    def one(of: Any) -> object:
        outlook = Outlook(of, now=0.0, grace_seconds=30.0)
        return volume_page(outlook, view.volumes[777].name, made, [], {})

    for what, work in (
        (
            "a page of 20,000 volumes, asked of the first picture",
            lambda: page(replace(view, before=Columns())),
        ),
        ("the same, as a volume, a disk and a node have changed", lambda: page(next(pictures))),
        ("the same, asked again", lambda: page(view)),
        ("a volume's page, among 20,000", lambda: one(replace(view))),
        ("the same, asked again", lambda: one(view)),
        ("what hangs together with one of 1,000 nodes", lambda: lineage_of(view, Link.NODE, "n1")),
    ):
        seconds, _ = timed(work)
        row(what, seconds, beside, seconds / stick)


def _pictures_after(view: Any) -> Iterator[Any]:
    """One after the other: each time another volume has been written to, a disk and a node have changed."""
    for number in range(len(view.volumes)):
        volumes, nodes, disks = list(view.volumes), list(view.nodes), list(view.disks)
        volumes[number] = replace(volumes[number], written_bytes=number)
        nodes[3], disks[3] = replace(nodes[3], since=float(number)), replace(disks[3], lit=bool(number % 2))
        parts = {"volumes": tuple(volumes), "nodes": tuple(nodes), "disks": tuple(disks)}
        yield replace(view, **parts, before=view.columns)


def samples(stick: float) -> None:
    """Every ten seconds: what 1,000 nodes counted of 12,000 disks and, on three nodes each, of 20,000
    volumes, as samples in the database, beside the bare COPY of the same rows; and a minute of it condensed.
    The site's own database is up.
    """
    from datetime import timedelta

    from bench.reached import reached_site
    from foldbarn.core.watch.samples import MINUTE, Samples, packed, sampled
    from foldbarn.services.alerts.judging import Judge
    from foldbarn.store import samples as kept
    from foldbarn.store.database import transaction

    view, rng = reached_site(), np.random.default_rng(1)
    disks = [
        replace(view.disks[0], number=n + 1, name=f"d{n}", node=n % 1000, serial=f"S{n}")
        for n in range(12_000)
    ]
    view = replace(view, disks=tuple(disks))
    before = _counted(view, rng, 0.0)
    now = _counted(view, rng, 10.0)
    seconds, found = timed(lambda: sampled(view, before, now))
    assert len(found.series) > 32_000
    whole = "of the ten seconds between two samples"
    row(f"{len(found.series):,} samples from what 1,000 nodes counted", seconds, whole, seconds / 10)
    with transaction() as session:
        at = kept.now(session)

    def keep(one: Samples, turn: int) -> None:
        with transaction() as session:
            kept.keep(session, at + timedelta(seconds=10 * turn), one)

    turns = iter(range(1000))
    seconds, _ = timed(lambda: keep(found, next(turns)))
    values, times = found.values.tolist(), packed(found.times)
    rows = [
        (s.of.value, s.number, s.part, *v, t) for s, v, t in zip(found.series, values, times, strict=True)
    ]
    bare, _ = timed(lambda: _copied(rows, at, next(turns)))
    row("the same kept", seconds, "of a bare COPY of these rows", seconds / bare)
    start = time.perf_counter()
    with transaction() as session:
        put = kept.condense(session, MINUTE, at + timedelta(hours=1))
    seconds = time.perf_counter() - start
    row(f"a minute of {put:,} samples condensed", seconds, "of that minute", seconds / 60)
    judge = Judge()

    def judged(turn: int) -> None:
        with transaction() as session:
            judge.take(session, view, found, at + timedelta(seconds=10 * turn), 10.0)

    judged(next(turns))  # reads what there is
    seconds, _ = timed(lambda: judged(next(turns)))
    row("all of them judged by the rules that a site comes with", seconds, whole, seconds / 10)


def _counted(view: Any, rng: np.random.Generator, uptime: float) -> dict[int, Any]:
    """By number of the node, what it has counted by then: of its twelve disks, and of sixty volumes."""
    from foldbarn.core.volumes.pace import COUNTED
    from foldbarn.core.watch.samples import BUCKETS, Counted

    found = {}
    for number in range(1, 1001):
        plies = np.arange(20 * number - 19, 20 * number + 41) % 20_000 + 1
        work = np.zeros((len(plies), len(COUNTED) + BUCKETS))
        work[:, : len(COUNTED)] = rng.integers(0, 500, (len(plies), len(COUNTED))) + uptime * 1000
        work[:, len(COUNTED) + 40 : len(COUNTED) + 60] = uptime * rng.integers(1, 50, (len(plies), 20))
        mine = [f"S{n}" for n in range(number - 1, 12_000, 1000)]
        disks = {serial: (int(uptime * 1e6), int(uptime * 3e5)) for serial in mine}
        ports = {f"stor{port}": (int(uptime * 1e7), int(uptime * 1e6)) for port in (0, 1)}
        found[number] = Counted(uptime, disks, ports, plies, work)
    return found


def _copied(rows: list[tuple[Any, ...]], at: Any, turn: int) -> None:
    from datetime import timedelta

    import psycopg

    from foldbarn.core.watch.samples import MEASURES

    then = at + timedelta(seconds=10 * turn)
    columns = ", ".join(f'"{name}"' for name in ("what", "number", "part", "at", *MEASURES, "times"))
    command = f"copy sample ({columns}) from stdin (format binary)"
    with (
        psycopg.connect(settings().plain_database_url) as connection,
        connection.cursor() as cursor,
        cursor.copy(command) as copy,
    ):
        copy.set_types(["text", "int8", "text", "timestamptz", *["float8"] * len(MEASURES), "bytea"])
        for what, number, part, *told in rows:
            copy.write_row((what, number, part, then, *told))


def walk_machines(url: str, stick: float) -> None:
    """The long list in a browser: opened, filtered, and scrolled to its end."""
    with sync_playwright() as tool:
        browser = tool.chromium.launch(
            executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu"]
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        start = time.perf_counter()
        page.goto(f"{url}/machines", wait_until="commit")
        page.get_by_role("cell", name="auk-0001-1", exact=True).or_(
            page.get_by_text("auk-0001-1", exact=True)
        ).first.wait_for(timeout=60_000)
        seconds = time.perf_counter() - start
        row("open 12,000 disks in an empty browser", seconds, "of the yardstick", seconds / stick)
        start = time.perf_counter()
        page.get_by_label("Show only rows with").fill("auk-0777")
        page.get_by_text("auk-0777-1", exact=True).first.wait_for()
        seconds = time.perf_counter() - start
        row("filter 12,000 disks", seconds, "of the yardstick", seconds / stick)
        page.get_by_label("Show only rows with").fill("")
        page.get_by_text("auk-0001-1", exact=True).first.wait_for()
        start = time.perf_counter()
        page.locator(".facts .v-table__wrapper").first.evaluate(
            "grid => { let at = grid; while (at && at.scrollHeight <= at.clientHeight) at = at.parentElement;"
            " at.scrollTop = at.scrollHeight }"
        )
        page.get_by_text(f"auk-{CROWD:04d}", exact=True).first.wait_for()
        seconds = time.perf_counter() - start
        row("scroll to the last of 12,000 disks", seconds, "of the yardstick", seconds / stick)
        browser.close()


def rules(stick: float) -> None:
    """Who may mount a share by ten thousand rules: made ready once, and asked, beside a look at each."""
    from foldbarn.core.shares.rules import MOST_RULES, Right, Rule, Rules

    networks = [f"10.{n // 256}.{n % 256}.0/24" for n in range(MOST_RULES - 1)]
    listed = [*(Rule(one, Right.READ) for one in networks), Rule("everyone", Right.NONE)]
    ready, made = timed(lambda: Rules(listed), times=1)
    row(f"{MOST_RULES:,} rules of access made ready", ready, "of the yardstick", ready / stick)
    each = [ipaddress.ip_network(one) for one in networks]
    address = ipaddress.ip_address("10.38.7.9")
    looked, _ = timed(lambda: [network for network in each if address in network])
    asked = timed(lambda: [made.decide("10.38.7.9") for _ in range(1000)])[0] / 1000
    beside = "of a look at each"
    row("one address against them", asked, beside, asked / looked, f"{asked * 1e6:.1f} microseconds")


def main() -> None:
    shutil.rmtree(STATE, ignore_errors=True)
    Path(STATE).mkdir(parents=True)
    stick = yardstick()
    print(f"{'what':<66} {'median':>11}   {'ratio':>10} beside")
    row("sort 10,000,000 integers with numpy", stick, "of itself", 1.0, "the yardstick")
    placement()
    heat(stick)
    rules(stick)
    stuck_plans(stick)
    large_site(stick)
    reach(stick)
    asking(stick)
    intake(stick)
    running_barn(stick)
    claims(STATE, row, rest)
    crowded(stick)
    shutil.rmtree(STATE, ignore_errors=True)


if __name__ == "__main__":
    main()
