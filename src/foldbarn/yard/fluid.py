"""Data as a fluid: each tick, copies under way share disks and ports fairly, and consumers' work takes its
part first.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from foldbarn.core.moving.flows import max_min_rates
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.units import MB
from foldbarn.yard import past, shares, thin, vm_hosts
from foldbarn.yard.agent import settle
from foldbarn.yard.machines import Copying, Machines, Order
from foldbarn.yard.serving import busy_part, landed_bytes, serve

SETTLES_AFTER_SECONDS = 3600.0


def tick(machines: Machines, wall_seconds: float) -> None:
    """Advances the yard by this much wall-clock time at its speed setting. A speed that lasts for a while
    goes no further than that, however late it is looked at.
    """
    with machines.advancing:  # the speed is read there too: whoever sets it to 0 there has it stand still
        seconds = wall_seconds * machines.speed
        if machines.spurt is not None and (rest := machines.spurt.until - machines.clock) <= seconds:
            seconds, machines.speed, machines.spurt = rest, machines.spurt.then, None
        if seconds > 0:
            _pass(machines, seconds)


def advance(machines: Machines, seconds: float) -> None:
    """Advances the yard by this much of its own time, one at a time. However many ticks ago it has looked
    where strips lie: what was written just now is asked for from the first of these seconds.
    """
    with machines.advancing:
        if machines.moved:
            machines.load.ticks = 0
        _pass(machines, seconds)


def _pass(machines: Machines, seconds: float) -> None:
    machines.clock += seconds
    for first in machines.out_of_use():
        machines.idle[first] += seconds
    past.let_go(machines)
    vm_hosts.shut_down(machines)
    serve(machines, seconds)
    past.work_on(machines, seconds)
    shares.grow(machines, seconds)
    thin.look(machines)
    _land(machines, seconds)
    _move(machines, seconds)
    _bring_back(machines, seconds)


def _land(machines: Machines, seconds: float) -> None:
    """Small writes of volumes that have a landing: they gather there on every copy, and what has waited for
    SETTLES_AFTER_SECONDS settles as whole stripes. What finds the landing full settles at once.
    """
    for ply, landing in machines.landings.items():
        number, size = int(ply), machines.facts_of(ply).bytes
        there = {serial: held[number] for serial, held in machines.held.items() if held[number]}
        strips = sum(there.values())
        if not any(machines.works(serial) for serial in there):
            continue  # nothing can land
        landing.waiting += landed_bytes(machines, landing.lands_for) * seconds
        room = strips / landing.copies * size
        settles = landing.waiting * -math.expm1(-seconds / SETTLES_AFTER_SECONDS)
        settle(machines, landing, max(settles, landing.waiting - room))


def _move(machines: Machines, seconds: float) -> None:
    queues = [(order, queue) for order, queue in _queues(machines) if _can_read(machines, order, queue[0])]
    if not queues:
        return
    rates = _rates(machines, [(order, queue[0]) for order, queue in queues])
    for (order, queue), rate in zip(queues, rates.tolist(), strict=True):
        _advance(machines, order, queue, rate * seconds)


def _bring_back(machines: Machines, seconds: float) -> None:
    """What a snapshot held is written over what is there, on each node as fast as its disks read and write
    it.
    """
    for order in machines.orders.values():
        if order.state != "running" or order.kind != "bring-back" or not machines.power[order.node]:
            continue
        serials = [s for s in order.body["disks"] if machines.works(s)]
        speeds = [
            PROFILES[machines.disks[s].media].bytes_per_second
            * left_for_copying(busy_part(machines, s), "consumers")
            for s in serials
        ]
        poured = min(sum(speeds) / 2 * seconds, order.bytes_total - order.bytes_done)
        for serial in serials:
            machines.counters[serial].read_bytes += poured / len(serials)
            machines.counters[serial].written_bytes += poured / len(serials)
        order.bytes_done += poured
        if order.bytes_done >= order.bytes_total:
            order.state = "done"
        machines.keep_order(order)


def _queues(machines: Machines) -> list[tuple[Order, list[list[Copying]]]]:
    """For each running copy order and target disk, what is still to come, first one first. Strips that are
    made from one reading come together; the first of them is where it is read to.
    """
    queues = []
    for order in machines.orders.values():
        if order.state != "running" or order.kind != "copy" or not machines.power[order.node]:
            continue
        together: dict[int, list[Copying]] = {}
        for row, copy in enumerate(order.copies):
            if copy.done or not machines.works(copy.target):
                continue
            leader = row if copy.along is None or copy.along not in together else copy.along
            together.setdefault(leader, []).append(copy)
        by_target: dict[str, list[list[Copying]]] = {}
        for strips in together.values():
            by_target.setdefault(strips[0].target, []).append(strips)
        queues += [(order, queue) for queue in by_target.values()]
    return queues


def _can_read(machines: Machines, order: Order, strips: list[Copying]) -> bool:
    """Whether what some strips of an order are made from is there. A source that does not answer fails it, as
    one does that does not hold what it should: who gave it finds another source.
    """
    for serial, strip in strips[0].reads:
        problem = ""
        if not machines.works(serial):
            problem = f"the source {serial} does not answer"
        elif strip not in machines.strips.get(serial, set()):
            problem = f"the source {serial} does not hold strip {list(strip)}"
        elif strips[0].at and not past.is_marked(machines, strip[0], strips[0].at):
            problem = f"there is no snapshot {strips[0].at} of ply {strip[0]}"
        if problem:
            order.state, order.problem = "failed", problem
            machines.keep_order(order)
            return False
    return True


def _rates(machines: Machines, heads: list[tuple[Order, list[Copying]]]) -> np.ndarray:
    """Bytes per second of each strip that is made: each disk that is read, its node's ports out, the maker's
    ports in, the disks written, the maker's ports out and theirs in, and the limit it was given.
    """
    rows: dict[str, int] = {}
    capacities: list[float] = []

    def row(name: str, capacity: float) -> int:
        if name not in rows:
            rows[name] = len(capacities)
            capacities.append(capacity)
        return rows[name]

    def disk_row(serial: str, first: str) -> int:
        left = 0.0
        if machines.works(serial):
            full = PROFILES[machines.disks[serial].media].bytes_per_second
            left = full * left_for_copying(busy_part(machines, serial), first)
        return row(f"{serial} {first}", left)

    def port_row(node: str, way: str) -> int:
        ports = machines.nodes[node].ports if node else []
        return row(
            f"{node} {way}", sum(p.megabits for p in ports if p.up and p.purpose == "storage") * MB / 8
        )

    def between(sender: str, receiver: str) -> list[int]:
        if sender == receiver:
            return []
        return [port_row(sender, "out"), port_row(receiver, "in")]

    routes = []
    for order, strips in heads:
        name = f"{order.node}/{order.body.get('throttle', '')}"
        limit, first = machines.throttles.get(name, (0.0, "consumers"))
        maker = machines.node_of.get(strips[0].target, "")
        hops = []
        for serial, _ in strips[0].reads:
            hops += [disk_row(serial, first), *between(machines.node_of.get(serial, ""), maker)]
        for copy in strips:
            hops += [disk_row(copy.target, first), *between(maker, machines.node_of.get(copy.target, ""))]
        if limit:
            hops += [row(f"limit {name}", limit)] * len(strips)
        routes.append(hops)
    longest = max(len(hops) for hops in routes)
    return max_min_rates(
        np.array([hops + [-1] * (longest - len(hops)) for hops in routes]), np.array(capacities)
    )


def _comes_from(machines: Machines, copy: Copying, first: Copying) -> None:
    """What is written anew from another ply is the same data, written by the same consumers."""
    ply, source = copy.strip[0], first.reads[0][1][0] if first.reads else copy.strip[0]
    if ply != source and str(ply) not in machines.plies and str(source) in machines.plies:
        machines.plies[str(ply)] = replace(machines.plies[str(source)], data=copy.data)
        machines.keep_facts()


def _sent(machines: Machines, sender: str, receiver: str, amount: float) -> None:
    if sender != receiver:
        machines.pass_on(sender, sent=amount)
        machines.pass_on(receiver, received=amount)


def left_for_copying(consumers: float, first: str) -> float:
    """Part of a disk's bandwidth that copies may take beside consumers that want this part; first: consumers,
    even or copying.
    """
    return {"consumers": 1.0 - consumers, "even": max(0.5, 1.0 - consumers), "copying": 1.0}[first]


def _advance(machines: Machines, order: Order, queue: list[list[Copying]], amount: float) -> None:
    """Pours bytes into a queue of strips; what one does not need goes on to the next."""
    for strips in queue:
        if amount <= 0:
            return
        first = strips[0]
        if not _can_read(machines, order, strips):
            return
        poured = min(amount, first.size - first.moved)
        amount -= poured
        maker = machines.node_of.get(first.target, "")
        for serial, _ in first.reads:
            machines.counters[serial].read_bytes += poured
            _sent(machines, machines.node_of.get(serial, ""), maker, poured)
        for copy in strips:
            _sent(machines, maker, machines.node_of.get(copy.target, ""), poured)
            copy.moved = min(copy.moved + poured, copy.size)
            machines.counters[copy.target].written_bytes += poured
        if first.moved >= first.size:
            for copy in strips:
                copy.done = True
                machines.add_strip(copy.target, copy.strip)
                _comes_from(machines, copy, first)
            if all(c.done for c in order.copies):
                order.state = "done"
            machines.keep_order(order)
