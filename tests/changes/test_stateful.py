"""Many changes at once, in any order, while nodes fail and return: what must hold after every step, and at
the end.

A hypothesis state machine over a real site. Changes are carried out a step at a time, each step by a runner
that dies after it; in the middle of a step something else may happen. `./barn soak` runs it for as long as
you like.
"""

from __future__ import annotations

import os
import sys
import time
import traceback
from collections import Counter
from collections.abc import Callable, Container, Iterator
from contextlib import AbstractContextManager, contextmanager, suppress
from datetime import timedelta
from typing import Any, ClassVar

import numpy as np
import pytest
from conftest import ME, Site, Start, be_patient, run_async, stand_still
from hypothesis import HealthCheck, Phase
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st
from hypothesis.stateful import (
    RuleBasedStateMachine,
    initialize,
    invariant,
    precondition,
    rule,
    run_state_machine_as_test,
)
from sqlalchemy import func, select, update
from test_changes import held, should_hold
from walking import as_typed, hear_vm_hosts

from foldbarn.changes.engine import giving, runner
from foldbarn.changes.engine.files import FILES
from foldbarn.changes.engine.kind import KINDS
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.targets import TARGETS
from foldbarn.changes.kinds.machines.arrange import arrangement
from foldbarn.changes.kinds.snapshots.take_snapshot import HOLD_SECONDS
from foldbarn.changes.text import text_of, write_text
from foldbarn.core.arrays import Flags
from foldbarn.core.claims.claims import AccessMode, Claim
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.errors import BarnError, Unreachable
from foldbarn.core.hosts.lanes import Lane, lanes_of, leaving
from foldbarn.core.moving.rebuild import plan_rebuild
from foldbarn.core.policies.conformance import Promise, conformance
from foldbarn.core.policies.limits import terms_by_node
from foldbarn.core.policies.matching import hot_as_wished, landing_as_wished
from foldbarn.core.policies.policy import Cache
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.compressing import UNITS
from foldbarn.core.pools.only_on import stray_strips
from foldbarn.core.site import POOLED, Contact, Ply, Role, SiteView
from foldbarn.core.units import GIB
from foldbarn.core.vms.parts import is_memory, is_swap, lasting_parts, parts_of
from foldbarn.core.volumes.heat import Heat
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.core.volumes.origins import snapshot_of
from foldbarn.core.volumes.thin import to_set_aside
from foldbarn.links.agents import Agent
from foldbarn.services import changes, duties, secrets, tiers, watching
from foldbarn.services.bins import empty_bins
from foldbarn.services.copies import let_copies_stand_alone
from foldbarn.services.giving import give_room
from foldbarn.services.heat import HeatTaker
from foldbarn.services.hosts import HostTaker
from foldbarn.services.limits import tell_files, tell_limits, tell_marks, tell_targets
from foldbarn.services.schedules import go_by_schedules
from foldbarn.services.shares import move_homes
from foldbarn.settings import settings
from foldbarn.store import claims, heat, orchestrators, touching
from foldbarn.store import giving as store_giving
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import ChangeRow, NodeRow, SiteRow, SnapshotRow, TouchRow, VolumeRow
from foldbarn.store.views import current_view
from foldbarn.yard import fluid, shell
from foldbarn.yard import hosts as yard_hosts
from foldbarn.yard import vm_hosts as yard_vm_hosts
from foldbarn.yard.machines import Machines

EXAMPLES = int(os.environ.get("FOLDBARN_SOAK_EXAMPLES", "4"))
MOST_OPEN = 10  # changes
STEPS = int(os.environ.get("FOLDBARN_SOAK_STEPS", "80"))
WATCH_LOOKS, MOST_LOOKS = 10, 40  # of a change at what it moves: between two rounds of the watch; in all
OTHERS_LOOKS = 5  # at what it does, of a change that goes on in the middle of another's step
ROUNDS = 30  # in which everything that was begun has to come to its end, once nothing is broken any more
# A failure is made as small as can be where that is asked for: it takes many minutes.
PHASES = tuple(p for p in Phase if p != Phase.shrink or os.environ.get("FOLDBARN_SOAK_SHRINK"))
NAMES = ("ant", "bee", "cod")
POLICIES = ("plain", "wide")
PROTECTIONS: list[dict[str, Any]] = [
    {"copies": 2},
    {"data": 2, "parity": 1},
    {"data": 2, "parity": 2},
    {"data": 4, "parity": 2, "per_domain": 2},
    {"copies": 3, "per_domain": 2},
    {"data": 2, "parity": 1, "landing": 10},  # which the second pool can keep, by node
    {"data": 2, "parity": 1, "share": 40},  # and these
    {"copies": 2, "share": 60},
    {"copies": 2, "operations": 500},
    {"copies": 2, "thin": True},
    {"data": 2, "parity": 1, "thin": True},
    {"data": 2, "parity": 1, "landing": 10, "thin": True},
    {"copies": 2, "share": 50, "thin": True},
    {"data": 2, "parity": 2, "share": 50, "share_copies": 2},
    {"copies": 2, "compressed": True},  # where its disks compress
    {"copies": 2, "first": 3 << 30},
    {"data": 2, "parity": 1, "first": 1 << 30, "share_copies": 3},
    {"copies": 2, "hourly": 2, "daily": 1, "snapshot_room": 10},
    {"data": 2, "parity": 1, "hourly": 1},
]
RULES = [{"who": "10.30.0.0/16", "right": "read-write"}, {"who": "everyone", "right": "none"}]
SEEDS = st.integers(min_value=0, max_value=2**30)


class Dies(BaseException):
    """The work process is gone at this moment."""


def dies() -> None:
    raise Dies


def named(lane: Lane) -> set[str]:
    return {one.name for one in lane.host.initiators}


def one_of(things: list[Any], seed: int) -> Any:
    return things[seed % len(things)]


def some_of(names: list[str], seed: int) -> list[str]:
    """One or two of them; now and then one that is named twice."""
    return [one_of(names, seed), one_of(names, seed // 7)][: 1 + seed % 2] if names else []


class Listening:
    """A log that keeps what nobody foresaw: errors that are no refusal of ours."""

    def __init__(self, log: Any) -> None:
        self.log, self.unforeseen = log, []  # type: ignore[var-annotated]

    def __getattr__(self, name: str) -> Any:
        return getattr(self.log, name)

    def exception(self, event: str, **about: Any) -> None:
        if not isinstance(sys.exc_info()[1], BarnError):
            self.unforeseen.append(f"{event} {about}: {traceback.format_exc()}")


class Barn(RuleBasedStateMachine):
    """What people and machines do to a site, in any order."""

    new_site: ClassVar[Callable[[Start], AbstractContextManager[Site]]]
    start: ClassVar[Start]

    def __init__(self) -> None:
        super().__init__()
        self.context = type(self).new_site(type(self).start)
        self.site = self.context.__enter__()
        self.original = runner._next_step
        self.wished: set[str] = set()
        self.taker = HostTaker()
        self.patches = pytest.MonkeyPatch()
        self.logs = [Listening(module.log) for module in (runner, duties)]
        for module, log in zip((runner, duties), self.logs, strict=True):
            self.patches.setattr(module, "log", log)
        be_patient(self.patches, self.site.yard.machines)
        self.site.yard.machines.consumers = 1.0

    @initialize()
    def volumes(self) -> None:
        self.site.volume("old", size="12 GiB")
        self.site.volume("dear", size="9 GiB", copies=2, level="node")
        self.site.volume("lean", size="40 GiB", copies=2, level="node", thin=True)
        numbers = {n.name: n.number for n in current_view().nodes}
        self.first = {
            room.name: {rack.name: [numbers[name] for name in rack.nodes] for rack in room.racks}
            for room in arrangement(current_view())
        }

        self.asked_for = 0  # claims

    # What is there. ------------------------------------------------------------------------------

    def open_changes(self, *states: str) -> list[int]:
        with transaction() as session:
            rows = select(ChangeRow.id).where(ChangeRow.state.in_(states)).order_by(ChangeRow.id)
            return list(session.scalars(rows))

    def wish(self, kind: str, **params: Any) -> None:
        """A refusal is a fine answer; anything else that goes wrong is not. Where many changes are open
        already one of them goes on: a long queue shows nothing that a short one does not.
        """
        if len(open_ := self.open_changes("waiting", "running", "paused")) >= MOST_OPEN:
            self.ask(open_[0], "resume")
            self.advance(open_[0], 99)
            return
        with suppress(BarnError):
            changes.carry_out(ME, kind, params)
            self.wished.add(kind)

    # Wishes. -------------------------------------------------------------------------------------

    @rule(seed=SEEDS, size=st.integers(min_value=1, max_value=14), copies=st.sampled_from([1, 2, 3]))
    def make_volume(self, seed: int, size: int, copies: int) -> None:
        how = {"level": one_of(["rack", "node", "disk"], seed // 7), "thin": seed % 2 == 0}
        name = one_of([*NAMES, "cod-{1..2}"], seed)
        self.wish("create-volume", name=name, pool="quayside", size=f"{size} GiB", copies=copies, **how)

    @rule(seed=SEEDS, size=st.integers(min_value=1, max_value=14), named=st.booleans())
    def make_volume_by_policy(self, seed: int, size: int, named: bool) -> None:
        policy = one_of([p.name for p in current_view().current_policies] or ["none"], seed // 7)
        where = {"pool": "quayside"} if named else {}
        self.wish("create-volume", name=one_of(list(NAMES), seed), policy=policy, size=f"{size} GiB", **where)

    @rule(seed=SEEDS)
    def write_policy(self, seed: int) -> None:
        name = one_of(list(POLICIES), seed)
        known = {p.name: p.version for p in current_view().current_policies}
        version = known.get(name, 0) if seed % 5 else seed % 3  # now and then upon one that is not the newest
        protection = one_of(PROTECTIONS, seed // 11)
        level = one_of(["rack", "node"], seed // 3)
        draft = seed % 6 == 0
        terms: dict[str, Any] = {"cache": one_of(["any", "none", "memory", "read"], seed // 13)}
        if terms["cache"] == "memory":
            terms["memory"] = 1 + seed % 25
        if seed % 4 == 0:
            terms["operations"] = 1 + seed % 50
        wish = {"name": name, "version": version, "level": level, "draft": draft}
        self.wish("save-policy", **{**wish, **protection, **terms})

    @rule()
    def tell_terms(self) -> None:
        """What nodes serve by is what the policies of their volumes say, once all of them were heard and
        could be told.
        """
        self.hear()
        if tell_limits():
            return
        view, machines = current_view(), self.site.yard.machines
        wanted = terms_by_node(view)
        for node in view.nodes:
            terms, own = wanted.get(node.number, {}), node.name.removesuffix("x")  # as it was named at first
            assert machines.limits.get(own, {}).keys() == {str(ply) for ply in terms}
            does = {ply: found.cache.value for ply, found in terms.items() if found.cache != Cache.ANY}
            assert dict(machines.caching.get(own, {})) == does
            rooms = {ply: (found.room, found.memory) for ply, found in terms.items() if found.memory}
            assert dict(machines.remembering.get(own, {})) == rooms
            kept = {ply for ply, found in terms.items() if found.withheld}
            assert machines.withheld.get(own, set()) == kept

    @rule(seed=SEEDS, more=st.integers(min_value=-2, max_value=6))
    def grow_volume(self, seed: int, more: int) -> None:
        volumes = current_view().volumes
        if volumes:
            volume = one_of(list(volumes), seed)
            size = max(1, volume.size_bytes // GIB + more)
            self.wish("grow-volume", volume=volume.name, size=f"{size} GiB")

    @rule(seed=SEEDS)
    def rename_volume(self, seed: int) -> None:
        """Now and then to a name that is taken."""
        if volumes := current_view().volumes:
            name = one_of([*NAMES, "old", "new"], seed // 7)
            self.wish("rename-volume", volume=one_of(list(volumes), seed).name, name=name)

    @rule(seed=SEEDS)
    def consumers_write(self, seed: int) -> None:
        """What they write wants room, which is given; now and then the process dies while it is."""
        fluid.advance(self.site.yard.machines, 600.0 * (1 + seed % 20))
        self.hear()
        where = one_of(["_tell", "_open", "finish", "", "", ""], seed // 20)
        with pytest.MonkeyPatch.context() as patch, suppress(Dies):
            if where:
                patch.setattr(giving, where, lambda *_, **__: dies())
            give_room()

    @rule(seed=SEEDS)
    def delete_policy(self, seed: int) -> None:
        self.wish("delete-policy", policy=one_of(list(POLICIES), seed))

    @rule(seed=SEEDS)
    def keep_policy(self, seed: int) -> None:
        """One volume or two get another policy, or the version of theirs that is the newest by now."""
        if found := [v.name for v in current_view().volumes]:
            names = [one_of(found, seed), one_of(found, seed // 5)]
            self.wish("keep-policy", volumes=names, policy=one_of(list(POLICIES), seed // 7))

    @rule(seed=SEEDS)
    def move_extents(self, seed: int) -> None:
        """Extents of a volume in two tiers go up or down: as someone wishes, or by their heat."""
        tiered = [v for v in current_view().volumes if v.hot is not None]
        if not tiered:
            return
        volume, draw = one_of(tiered, seed), np.random.default_rng(seed)
        if seed % 2:
            tier = one_of(["fast", "bulk"], seed // 3)
            most = volume.whole.extents
            extents = draw.choice(most, size=min(3, most), replace=False)
            wish = {"volume": volume.name, "tier": tier, "extents": extents.tolist()}
            self.wish("move-extents", **wish)
            return
        with transaction() as session:
            extents, data = volume.whole.extents, volume.whole.scheme.k
            warmth = draw.exponential(9.0, extents) * 600.0
            known = Heat(data, np.zeros(extents, dtype=np.int64), warmth, 600.0)
            heat.keep_heat(session, {volume.number: known})
        tiers.move_by_heat()

    @rule(seed=SEEDS)
    def delete_volume(self, seed: int) -> None:
        if found := some_of([v.name for v in current_view().volumes], seed):
            typed = found[0] if len(set(found)) == 1 else f"{len(found)} volumes"
            self.wish("delete-volume", volumes=found, typed=typed)

    @rule(seed=SEEDS, size=st.integers(min_value=1, max_value=9))
    def make_a_vm(self, seed: int, size: int) -> None:
        """Now and then one of a name that is taken, or in a pool by hand."""
        policy = one_of([p.name for p in current_view().current_policies] or ["none"], seed // 7)
        by = {"pool": "quayside"} if seed % 3 == 0 else {"policy": policy}
        disks = [{"size": f"{size} GiB"}, {"size": "2 GiB"}][: 1 + seed % 2]
        self.wish("make-vm", name=f"vm{seed % 4}", **by, disks=disks)

    @rule(seed=SEEDS)
    def take_a_vm_back_or_copy_it(self, seed: int) -> None:
        """To a snapshot of all its volumes, or of some; taken and taken offline before, now and then."""
        view = current_view()
        if not view.vms:
            return
        vm = one_of(list(view.vms), seed)
        parts = lasting_parts(view, vm)
        names = [volume.name for volume in parts]
        known = [s.name for volume in parts for s in volume.snapshots]
        if seed % 4 == 0 or not known:
            self.wish("take-snapshot", volumes=names, name=f"of-vm-{seed % 3}")
        elif seed % 4 == 1:
            self.wish("offline-volume", volumes=names, offline=True)
        elif seed % 4 == 2:
            snapshot = one_of(known, seed // 5)
            of = {"snapshot": snapshot} if seed % 8 < 4 else {}
            self.wish("clone-vm", vm=vm.name, name=f"vm{seed // 3 % 4}", **of)
        else:
            wish = {"snapshot": one_of(known, seed // 5), "keep_as": f"vm-kept-{seed % 3}"}
            wish |= {"memory": seed % 8 < 4}
            self.wish("revert-vm", vm=vm.name, **wish)

    @rule(seed=SEEDS)
    def delete_a_vm_or_bring_it_back(self, seed: int) -> None:
        if names := [vm.name for vm in current_view().vms]:
            vm = one_of(names, seed)
            typed = {"typed": vm} if seed % 3 else {}
            self.wish("delete-vm" if typed else "restore-vm", vm=vm, **typed)

    @rule(seed=SEEDS)
    def name_a_vm_or_make_it_a_template(self, seed: int) -> None:
        if vms := list(current_view().vms):
            vm = one_of(vms, seed)
            if seed % 2:
                self.wish("rename-vm", vm=vm.name, name=f"vm{seed // 3 % 5}")
            else:
                self.wish("set-template", vm=vm.name, template=not vm.template or seed % 5 == 0)

    @rule(seed=SEEDS)
    def move_a_vm(self, seed: int) -> None:
        """Now and then to where it lies already."""
        view = current_view()
        if view.vms and view.pools:
            pool = one_of([pool.name for pool in view.pools], seed // 3)
            self.wish("move-vm", vm=one_of(list(view.vms), seed).name, pool=pool)

    @rule(seed=SEEDS)
    def connect_or_disconnect_a_vm_host(self, seed: int) -> None:
        """Now and then by an account that may only look, or at the service of another one."""
        name = one_of(list(yard_hosts.BRIDGES), seed)
        if not any(host.name == name for host in current_view().hosts):
            stand_in = self.site.yard.machines.hosts[name]
            url = f"{self.site.yard.url}/hosts/{name}"
            names = list(stand_in.names.values())
            self.wish("save-host", name=name, initiators=names, agent_url=url)
        elif seed % 5 == 0:
            self.wish("disconnect-vm-host", host=name)
        else:
            at = one_of(list(yard_hosts.BRIDGES), seed // 3) if seed % 7 == 0 else name
            by = {"user": "onlooker" if seed % 11 == 0 else "fold-barn", "password": "tide-table"}
            self.wish("connect-vm-host", host=name, url=f"{self.site.yard.url}/vm-hosts/{at}", **by)

    @rule(seed=SEEDS)
    def switch_a_vm(self, seed: int) -> None:
        view = current_view()
        if not view.vms:
            return
        hear_vm_hosts()
        vm = one_of(list(view.vms), seed)
        if vm.host is None:
            at = one_of(["", *yard_hosts.BRIDGES], seed // 3)
            self.wish("power-on", vm=vm.name, host=at, anew=seed % 5 == 0)
        elif seed % 4 == 0:
            self.wish("keep-memory", vm=vm.name, name=f"of-vm-{seed // 4 % 3}")
        elif seed % 3 == 0:
            self.wish("power-off", vm=vm.name, host_gone=True, typed=vm.name)
        else:
            self.wish("power-off", vm=vm.name, forced=seed % 3 == 1)

    @rule(seed=SEEDS)
    def bring_back_or_empty_the_bin(self, seed: int) -> None:
        """Now and then of what is not in it; and by itself, where the time there is over."""
        found = [v.name for v in current_view().volumes if v.binned or seed % 5 == 0]
        if not found:
            return
        name = one_of(found, seed)
        if seed % 3 == 0:
            self.wish("restore-volume", volumes=some_of(found, seed))
        elif seed % 3 == 1:
            self.wish("empty-bin", pool="quayside", volumes=[name], typed=name)
        else:
            with transaction() as session:
                over = update(VolumeRow).where(VolumeRow.name == name, VolumeRow.kept_until.is_not(None))
                session.execute(over.values(kept_until=func.now()))
                announce(session, "site")
            empty_bins()

    @rule(seed=SEEDS, offline=st.booleans())
    def take_offline_or_online(self, seed: int, offline: bool) -> None:
        if found := some_of([v.name for v in current_view().volumes], seed):
            self.wish("offline-volume", volumes=found, offline=offline)

    @rule(seed=SEEDS)
    def take_delete_or_restore_snapshots(self, seed: int) -> None:
        """Of one volume or two; now and then of one that has none, or that is in use. And nodes tell what
        they hold of them.
        """
        view = current_view()
        if not view.volumes:
            return
        if seed % 4 == 0:
            with transaction() as session:  # an hour or a day passes
                before = timedelta(hours=[1, 24][seed // 4 % 2])
                session.execute(update(SnapshotRow).values(taken_at=SnapshotRow.taken_at - before))
                more = {"snapshots_altered": VolumeRow.snapshots_altered + 1}
                session.execute(update(VolumeRow).values(**more))
                announce(session, "site")
            self.hear()
            HeatTaker().take()
            return
        having = [v for v in view.volumes if v.snapshots] or list(view.volumes)
        volume = one_of(having, seed // 7)
        known = [s.name for s in volume.snapshots] or ["none"]
        if seed % 4 == 1:
            names = some_of([v.name for v in view.volumes], seed // 7)
            self.wish(
                "take-snapshot", volumes=names, name=one_of(["ebb", "flood"], seed), room=1 + seed % 100
            )
        elif seed % 4 == 2:
            gone = some_of(known, seed // 11)
            typed = gone[0] if len(set(gone)) == 1 else volume.name
            self.wish("delete-snapshot", volume=volume.name, snapshots=gone, typed=typed)
        elif seed % 8 == 3:
            self.wish("grow-room", volume=volume.name, room=1 + seed // 11 % 100)
        else:
            wish = {"volume": volume.name, "snapshot": one_of(known, seed // 11)}
            self.wish("restore-snapshot", **wish, keep_as=f"kept-{seed % 3}")

    @rule(seed=SEEDS)
    def label_or_limit_volumes(self, seed: int) -> None:
        if found := some_of([v.name for v in current_view().volumes], seed):
            wish = {"labels": some_of(["a", "b"], seed // 5), "operations": one_of([0, 40, 900], seed // 7)}
            if seed % 3 == 0:
                wish["serving_nodes"] = one_of([1, 2, 3], seed // 11)
            self.wish("set-volume", volumes=found, **wish)

    @rule(seed=SEEDS)
    def move_one_into_another_pool(self, seed: int) -> None:
        view = current_view()
        if view.volumes:
            pool = one_of([pool.name for pool in view.pools], seed // 7)
            self.wish("move-volume", volume=one_of(view.volumes, seed).name, pool=pool)

    @rule(seed=SEEDS)
    def choose_where_one_may_lie(self, seed: int) -> None:
        """Nodes, or disks; often too few, and now and then any again."""
        view = current_view()
        if not view.volumes:
            return
        rows = view.in_pool(view.pools[seed % len(view.pools)]).tolist()
        names = [view.disks[row].name for row in rows]
        if seed % 3:
            names = sorted({view.nodes[view.disks[row].node].name for row in rows})
        some = some_of(names, seed // 7) + some_of(names, seed // 11) if seed % 5 else []
        self.wish("keep-on", volume=one_of(view.volumes, seed // 13).name, only_on=some)

    @rule(seed=SEEDS)
    def make_volumes_from_snapshots(self, seed: int) -> None:
        """Copies and shown ones, some of volumes that read from others themselves; under few names."""
        view = current_view()
        having = [v for v in view.volumes if v.snapshots]
        if not having:
            return
        volume = one_of(having, seed // 7)
        snapshot = one_of([s.name for s in volume.snapshots], seed // 11)
        wish = {"volume": volume.name, "snapshot": snapshot, "name": one_of(["dab", "eel"], seed // 13)}
        if seed % 4 == 0:
            self.wish("show-snapshot", **wish)
        elif seed % 4 == 1:
            copies = [v.name for v in view.volumes if v.origin is not None] or ["dab"]
            self.wish("stand-alone", volume=one_of(copies, seed // 7))
        elif seed % 8 == 2:
            self.wish("rename-snapshot", **wish | {"name": one_of(["ebb", "noon"], seed // 13)})
        else:
            policy = one_of(["", *(p.name for p in view.current_policies)], seed // 17)
            self.wish("copy-snapshot", **wish, policy=policy)

    def check_marked(self) -> None:
        """What nodes keep of the past of volumes is of the snapshots that there are, no more and no fewer."""
        machines = self.site.yard.machines
        speed = machines.speed
        stand_still(machines)  # consumers would soon have overwritten more than was told
        try:
            self.compare_marks(machines)
        finally:
            machines.speed = speed

    def compare_marks(self, machines: Machines) -> None:
        assert not tell_marks()
        self.hear()
        HeatTaker().take()
        view = current_view()
        there = {
            v.past.number: [s.number for s in v.snapshots if s.there]
            for v in view.volumes
            if v.past is not None
        }
        assert {ply: past.marks for ply, past in machines.pasts.items()} == there
        room = {v.past.number: v.past.extents * view.data_bytes(v.past) for v in view.volumes if v.past}
        assert {ply: past.room for ply, past in machines.pasts.items()} == room
        assert not any(s.forming for v in view.volumes for s in v.snapshots)
        assert all(v.past is not None or not v.marks for v in view.volumes)
        assert machines.on_hold == {} or max(machines.on_hold.values()) < time.monotonic() + HOLD_SECONDS

    @rule(seed=SEEDS)
    def register_or_forget_a_host(self, seed: int) -> None:
        """Now and then under the name of another, or with a name of another."""
        stand_in = one_of(list(self.site.yard.machines.hosts.values()), seed)
        known = [host.name for host in current_view().hosts]
        if known and seed % 6 == 0:
            self.wish("delete-host", host=one_of(known, seed // 7))
            return
        host = one_of(known, seed // 7) if known and seed % 3 == 0 else ""
        names = list(stand_in.names.values())[: 1 + seed % 2]
        url = f"{self.site.yard.url}/hosts/{stand_in.name}" if seed % 4 else ""
        group = one_of(["", "desks"], seed // 5)
        wish = {"host": host, "name": stand_in.name, "group": group, "initiators": names, "agent_url": url}
        self.wish("save-host", **wish)

    @rule(seed=SEEDS, read_only=st.booleans())
    def attach_or_detach(self, seed: int, read_only: bool) -> None:
        view = current_view()
        users = [*(host.name for host in view.hosts), "desks"]
        if not view.volumes:
            return
        wish = {"volume": one_of(list(view.volumes), seed).name, "hosts": [one_of(users, seed // 3)]}
        if seed % 3 == 0:
            self.wish("detach-volume", **wish)
            return
        system = one_of(["xfs", "gfs2", "none", None], seed // 11)
        by = one_of(["iscsi", "nvme", None], seed // 13)
        prover = "tender" if seed % 17 < 6 and current_view().orchestrators else ""
        how = {"file_system": system, "transport": by, "secret_of": prover}
        self.wish("attach-volume", **wish, read_only=read_only, **how)

    @rule(seed=SEEDS)
    def someone_works_on_a_host(self, seed: int) -> None:
        """Does what is said to be missing there, or lets go of a volume, or takes its power away."""
        self.hear_hosts()
        machines, lanes = self.site.yard.machines, lanes_of(current_view())
        if seed % 7 == 0:
            host = one_of(list(machines.hosts.values()), seed // 7)
            if host.power:
                yard_hosts.lose_power(host)
                yard_vm_hosts.lose_power(machines, host.name)
            else:
                yard_hosts.start(machines, host)
        if not lanes:
            return
        lane = one_of(lanes, seed)
        host = next((h for h in machines.hosts.values() if set(h.names.values()) & named(lane)), None)
        if host is None or not host.power:
            return
        for _ in range(1 + seed % 12):
            [lane] = lanes_of(current_view(), volume=lane.volume.number, host=lane.host.number)
            step = lane.missing
            commands = leaving(lane) if seed % 5 == 0 else step.commands if step else ()
            for command in as_typed(commands):
                with suppress(shell.Failed):
                    shell.run(machines, host, command)
            self.hear()
            self.hear_hosts()

    def hear_hosts(self) -> None:
        for number in self.taker.asked:
            self.taker.asked[number].next_at = 0.0
        self.taker.know(current_view().revision)
        self.taker.take(run_async(self.taker.hear()))

    @rule()
    def tell_targets(self) -> None:
        """What nodes serve to hosts is what is attached, once all of them were heard and could be told."""
        self.hear()
        if tell_targets():
            return
        self.check_served()

    @rule(seed=SEEDS)
    def serve_files(self, seed: int) -> None:
        """The file service is switched on, altered, or off; a cluster is formed where there is none."""
        if current_view().cluster is None:
            self.cluster(seed)
            for change in self.open_changes("waiting", "running"):
                self.advance(change, 99)
        if seed % 5 == 0:
            self.wish("stop-files")
            return
        last = 21 + seed % 3
        wish = {
            "addresses": f"10.30.0.21-10.30.0.{last}",
            "names": f"files-{{1..{last - 20}}}.skerry.example",
        }
        server = self.site.yard.name_server if seed % 2 else ""
        self.wish("serve-files", **wish, name_server=server)

    @rule(seed=SEEDS, size=st.integers(min_value=1, max_value=9))
    def share(self, seed: int, size: int) -> None:
        """One is made, altered, renamed, deleted, brought back, or somebody let in."""
        view = current_view()
        if not view.shares or seed % 4 == 0:
            policy = one_of([p.name for p in view.current_policies] or ["none"], seed // 7)
            by = {"pool": "quayside"} if seed % 3 == 0 else {"policy": policy}
            self.wish("make-share", name=f"s{seed % 3}", quota=f"{size} GiB", **by, rules=RULES)
            return
        share = one_of(list(view.shares), seed).name
        match seed // 4 % 7:
            case 0 | 1:
                at = one_of([one.name for one in view.files.addresses] if view.files else [""], seed // 5)
                self.wish("alter-share", share=share, quota=f"{size} GiB", warn=50 + seed % 50, address=at)
            case 2:
                self.wish("rename-share", share=share, name=f"s{seed // 3 % 4}")
            case 3:
                self.wish("delete-share", share=share, typed=share)
            case 4:
                self.wish("restore-share", share=share)
            case 5:
                self.wish("let-user-in", share=share, user=f"u{seed % 2}")
            case 6:
                self.wish("remove-user", share=share, user=f"u{seed % 2}")

    @rule()
    def tell_files(self) -> None:
        """What nodes know of the file service is what there is of it, once all were heard and told."""
        self.hear()
        move_homes()
        if tell_files():
            return
        self.check_files()

    def check_files(self) -> None:
        view, machines = current_view(), self.site.yard.machines
        wanted = FILES.wanted(view)
        for node in view.nodes:
            told = machines.files.told.get(node.agent_name, {"addresses": {}, "shares": {}})
            said = FILES.order(view, node.number, wanted.get(node.number, {}))
            assert {key: told[key] for key in said} == said, node.name

    def check_served(self) -> None:
        view, machines = current_view(), self.site.yard.machines
        wanted = TARGETS.wanted(view)
        for node in view.nodes:
            served = machines.serving.get(node.agent_name, {}).get("targets", {})
            assert served == TARGETS.order(view, node.number, wanted.get(node.number, {}))["targets"]

    # What is offered to claims, and what these get. The orchestrator itself answers nothing here: what its
    # own objects do stands in test_claims_stateful.

    @rule(seed=SEEDS)
    def offer(self, seed: int) -> None:
        self.be_connected()
        policy, name = one_of(list(POLICIES), seed), one_of(["steady", "late"], seed // 3)
        space = {"orchestrator": "tender", "namespace": one_of(["ticketing", "timetable"], seed // 5)}
        match seed % 7:
            case 0 | 1:
                pool = one_of(["", "quayside", "second"], seed // 11)
                wish = {"name": name, "policy": policy, "pool": pool, "default": seed % 2 == 0}
                known = any(one.name == name for one in current_view().classes)
                self.wish("publish-class", **wish, storage_class=name if known else "")
            case 2:
                self.wish("withdraw-class", storage_class=name)
            case 3 | 4 | 5:
                self.wish("grant-policy", **space, policy=policy, size=f"{seed % 60 + 1} GiB")
            case 6:
                self.wish("withdraw-grant", **space, policy=policy)

    @rule(seed=SEEDS, size=st.integers(min_value=1, max_value=9))
    def claims_come(self, seed: int, size: int) -> None:
        """One or two, some of which name a class that is not there."""
        self.be_connected()
        fresh = []
        for _ in range(1 + seed % 2):
            self.asked_for += 1
            space, name = one_of(["ticketing", "timetable"], seed), f"c{self.asked_for}"
            asked = one_of(["steady", "late", "stedy", None], seed // 2)
            modes = frozenset({AccessMode.ONE_NODE})
            fresh.append(Claim(f"u{self.asked_for}", space, name, asked, size * GIB, modes))
        with transaction() as session:
            claims.add_claims(session, current_view().orchestrators[0].number, fresh)
            claims.note(session)
            announce(session, "site")

    @rule(seed=SEEDS)
    def claims_get_their_volumes(self, seed: int) -> None:
        waiting = [kept.number for kept in current_view().claims if kept.life is Life.WAITING]
        if waiting:
            self.wish("make-claimed", claims=waiting[seed % len(waiting) :][: 1 + seed % 3])

    @rule(seed=SEEDS)
    def one_is_kept_aside_or_bound_again(self, seed: int) -> None:
        """As the duty writes it down when it sees that a claim is gone which was bound."""
        view = current_view()
        made = [k for k in view.claims if k.life is Life.MAKING and k.volume and not self.forms(k.volume)]
        aside = [k.number for k in view.claims if k.life is Life.ASIDE]
        waiting = [k.number for k in view.claims if k.life is Life.WAITING]
        if made and seed % 2:
            with transaction() as session:
                number = one_of(made, seed).number
                claims.set_life(claims.locked(session, [number])[number], Life.ASIDE)
                claims.note(session)
                announce(session, "site")
        elif aside and waiting:
            self.wish("bind-again", claim=one_of(aside, seed), to=one_of(waiting, seed // 3))

    @rule(seed=SEEDS)
    def the_orchestrator_is_connected_or_forgotten(self, seed: int) -> None:
        if seed % 3:
            self.wish("disconnect-orchestrator", orchestrator="tender", typed="tender")
        else:  # nobody answers there
            self.wish("connect-orchestrator", name="other", url="https://127.0.0.1:9", token="none")

    @rule(seed=SEEDS)
    def a_secret_is_made_shown_or_revoked(self, seed: int) -> None:
        self.be_connected()
        mine = [one.name for one in current_view().orchestrators[0].secrets]
        if not mine or seed % 3 == 0:
            self.wish("make-secret", orchestrator="tender")
        elif seed % 3 == 1:
            name = one_of(mine, seed)
            self.wish("revoke-secret", orchestrator="tender", secret=name, typed=name)
        else:
            with suppress(BarnError):
                secrets.show(ME, "tender", one_of(mine, seed))

    def be_connected(self) -> None:
        if not current_view().orchestrators:
            access = orchestrators.Access("tender", "https://127.0.0.1:9", "", "sealed")
            with transaction() as session:
                made = session.scalar(select(func.max(ChangeRow.id))) or 1
                orchestrators.add(session, made, access, orchestrators.Said("u-1", "v1", ()))
                announce(session, "site")

    def forms(self, volume: int) -> bool:
        found = current_view().known_volume(volume)
        return found is None or found.forming

    @invariant()
    def each_claim_has_one_volume_and_no_more_than_it_was_promised(self) -> None:
        view = current_view()
        kept = [one for one in view.claims if one.volume is not None]
        assert len({one.volume for one in kept}) == len(kept)
        assert all(one.promised > 0 for one in kept if one.held)
        for one in view.claims:
            if one.life is Life.WAITING:
                assert (one.volume, one.promised) == (None, 0), one
        owned = {one.volume for one in kept}
        for volume in view.volumes:  # what was made for a claim is some claim's
            if volume.name.startswith(("ticketing-", "timetable-")):
                assert volume.number in owned or volume.binned is not None, volume.name

    @rule(seed=SEEDS)
    def retire(self, seed: int) -> None:
        pooled = [d.name for d in current_view().disks if d.role in POOLED]
        if seed % 3:
            self.wish("retire", what="disk", names=[one_of(pooled, seed)] if pooled else ["none"])
        else:
            self.wish("retire", what="node", names=[one_of([n.name for n in current_view().nodes], seed)])

    @rule(seed=SEEDS)
    def grow(self, seed: int) -> None:
        free = [d.name for d in current_view().disks if d.role == Role.UNCLAIMED and d.media == "ssd"]
        if free:
            self.wish("grow-pool", pool="quayside", disks=[one_of(free, seed), one_of(free, seed + 1)])

    @rule(seed=SEEDS)
    def replace(self, seed: int) -> None:
        view = current_view()
        free = [d.name for d in view.disks if d.role == Role.UNCLAIMED and d.media == "ssd"]
        used = [d.name for d in view.disks if d.role == Role.CAPACITY]
        if free and used:
            self.wish("replace-disk", disk=one_of(used, seed), by=one_of(free, seed // 11))

    @rule(seed=SEEDS, role=st.sampled_from(["spare", "capacity"]))
    def change_role(self, seed: int, role: str) -> None:
        if pooled := [d.name for d in current_view().disks if d.role in POOLED]:
            self.wish("change-role", disks=[one_of(pooled, seed)], role=role, reason="to see")

    @rule(seed=SEEDS)
    def set_pool(self, seed: int) -> None:
        settings_ = {"copies": 2 + seed % 2, "level": "rack", "headroom": one_of(["node", None], seed // 3)}
        self.wish("set-pool", pool="quayside", fill_line=one_of([0.7, 0.85, 1.0], seed // 5), **settings_)

    @rule()
    def rebuild(self) -> None:
        self.wish("rebuild", pool="quayside")

    @rule(seed=SEEDS)
    def rename(self, seed: int) -> None:
        node = one_of([n.name for n in current_view().nodes], seed)
        other = node.removesuffix("x") if node.endswith("x") else f"{node}x"
        self.wish("rename", nodes=[node], names=[other])

    @rule(seed=SEEDS)
    def second_pool(self, seed: int) -> None:
        """One more pool on what is free, or the end of one."""
        view = current_view()
        if seed % 2 and len(view.pools) > 1:
            name = view.pools[-1].name
            self.wish("delete-pool", pool=name, typed=name)
            return
        free = [
            d for d in view.disks if d.role == Role.UNCLAIMED and view.nodes[d.node].contact == Contact.HEARD
        ]
        bulk = [d for d in free if d.media == "hdd"][::3]
        fast = [d for d in free if d.media == "nvme" and d.node in {b.node for b in bulk}]
        disks = [d.name for d in (*bulk, *fast)]
        usual = {"copies": 2, "level": "node", "headroom": None, "serves": "fast tier"}
        unit = one_of([0, *UNITS], seed // 2)
        self.wish("form-pool", name="second", disks=disks, compress_unit=unit, **usual)

    @rule(seed=SEEDS)
    def ground(self, seed: int) -> None:
        """What alters nothing that holds data."""
        view = current_view()
        node = one_of([n.name for n in view.nodes], seed)
        unfit = [d.name for d in view.disks if d.clearable]
        match seed % 5:
            case 0:
                self.wish(
                    "purpose-ports", nodes=[node], port="stor1", purpose=one_of(["client", "storage"], seed)
                )
            case 1:
                self.wish("address-ports", nodes=[node], port="stor0", start="10.33.0.11/24")
            case 2:
                self.wish("describe", text=write_text(text_of(view)))
            case 3 if unfit:
                self.wish("clear-disk", disk=unfit[0], typed=unfit[0])
            case _:
                away = [n.name for n in view.nodes if n.contact == Contact.SILENT and not n.given_up]
                self.wish("give-up", nodes=away[:1] or ["nobody"])

    @rule(seed=SEEDS)
    def cluster(self, seed: int) -> None:
        """It is formed, grows or gets smaller."""
        view = current_view()
        members = [n.name for n in view.nodes if n.member]
        others = [n.name for n in view.nodes if not n.member]
        if view.cluster is None:
            chosen = [one_of(others, seed + i) for i in range(5)]
            wish = {"members": chosen, "keepers": chosen[:3], "service_address": "10.10.0.5/24"}
            self.wish("form-cluster", name="quay", **wish)
        elif seed % 2 and others:
            self.wish("add-node", node=one_of(others, seed // 2), keeper=bool(seed // 3 % 2))
        elif members:
            heir = one_of(["", *members], seed // 3)
            self.wish("let-go", node=one_of(members, seed // 2), successor=heir)

    @rule(seed=SEEDS)
    def arrange(self, seed: int) -> None:
        """Two nodes change places, which may bring copies together until they are moved apart."""
        view = current_view()
        rooms = arrangement(view)
        one, other = (one_of([n.name for n in view.nodes], s) for s in (seed, seed // 10))
        racks = [rack for room in rooms for rack in room.racks]
        swap = {one: other, other: one}
        for rack in racks:
            rack.nodes = [swap.get(name, name) for name in rack.nodes]
        self.wish("arrange", rooms=[room.model_dump() for room in rooms])

    # Going on, and being stopped. ----------------------------------------------------------------

    @precondition(lambda self: self.open_changes("waiting", "running"))
    @rule(seed=SEEDS, number=st.integers(min_value=1, max_value=4))
    def go_on(self, seed: int, number: int) -> None:
        """Some change does a few steps, and its process dies."""
        self.advance(one_of(self.open_changes("waiting", "running"), seed), number)

    @precondition(lambda self: self.open_changes("waiting", "running"))
    @rule(seed=SEEDS, looks=st.integers(min_value=1, max_value=3))
    def something_happens_in_the_middle(self, seed: int, looks: int) -> None:
        """While a change is at its step, another goes on, a person asks for something, or a machine fails."""
        change = one_of(self.open_changes("waiting", "running"), seed)
        others = [c for c in self.open_changes("waiting", "running") if c != change]
        asked: list[Callable[[], None]] = [
            lambda: self.ask(change, "pause"),
            lambda: self.ask(change, "withdraw"),
            lambda: self.power(seed),
            lambda: self.make_volume(seed, 2, 2),
            dies,
            *(lambda other=other: self.advance(other, 1) for other in others[:2]),  # type: ignore[misc]
        ]
        left, check = [looks], Run.check_asked

        def check_asked(run: Run[Any]) -> None:
            left[0] -= 1
            if left[0] == 0:
                one_of(asked, seed // 13)()
            if run.change != change and left[0] < -OTHERS_LOOKS:
                raise Dies  # it may wait for the one in the middle of whose step it goes on
            check(run)

        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(Run, "check_asked", check_asked)
            self.advance(change, 2)

    def advance(self, change: int, number: int) -> None:
        """Some steps of a change. The watch does not stand still while it moves strips."""
        done, looks, check = [0], [0], Run.check_asked

        def watched(run: Run[Any]) -> None:
            looks[0] += 1
            if looks[0] >= MOST_LOOKS:
                raise Dies  # it may wait for a machine that only a later rule brings back
            if looks[0] % WATCH_LOOKS == 0:
                self.hear()
            check(run)

        def counted(run: Any) -> bool:
            more = self.original(run)
            if run.change == change:
                done[0] += 1
                if more and done[0] >= number:
                    raise Dies
            return more

        with pytest.MonkeyPatch.context() as patch, suppress(Dies):
            patch.setattr(runner, "_next_step", counted)
            patch.setattr(Run, "check_asked", watched)
            runner.run_change(change)

    def ask(self, change: int, what: str) -> None:
        with suppress(BarnError):
            changes.ask(ME, change, what)

    @precondition(lambda self: self.open_changes("waiting", "running", "paused"))
    @rule(seed=SEEDS, what=st.sampled_from(["pause", "withdraw", "resume"]))
    def a_person_asks(self, seed: int, what: str) -> None:
        self.ask(one_of(self.open_changes("waiting", "running", "paused"), seed), what)

    # Machines. -----------------------------------------------------------------------------------

    @rule(seed=SEEDS)
    def power(self, seed: int) -> None:
        """A node loses its power, or has it again; at most two are without at a time."""
        machines = self.site.yard.machines
        off = [n for n, on in machines.power.items() if n in machines.nodes and not on]
        if off and (seed % 2 or len(off) > 1):
            machines.power[one_of(off, seed // 2)] = True
        else:
            machines.power[one_of(list(machines.nodes), seed // 2)] = False

    @rule(seed=SEEDS)
    def pull_or_return_a_disk(self, seed: int) -> None:
        machines = self.site.yard.machines
        if machines.pulled:
            machines.pulled.clear()
        else:
            machines.pulled.add(one_of(sorted(machines.pool_of) or ["none"], seed))

    @rule(late=st.booleans())
    def watch(self, late: bool) -> None:
        """Every node is asked; where it is late, what is away has been so for longer than the grace time.
        Then the duties have a turn.
        """
        with transaction() as session:
            session.execute(update(SiteRow).values(grace_seconds=1e-6 if late else 600.0))
        self.hear()
        self.hear_hosts()
        give_room()
        go_by_schedules()
        let_copies_stand_alone()
        watching.Watch()._judge()

    def hear(self) -> None:
        machines = self.site.yard.machines
        with transaction() as session:
            nodes = [(n.id, n.agent_name, n.agent_url) for n in session.scalars(select(NodeRow))]
            session.execute(update(NodeRow).values(heard_at=None))
        for number, name, url in nodes:
            if not machines.power[name]:
                watching.note_failure(number, Unreachable("No answer."))
                continue
            watching.note_report(number, Agent(url).report())

    # What must hold. -----------------------------------------------------------------------------

    @invariant()
    def nothing_is_lost(self) -> None:
        """Whatever is placed lies there, whether or not it can be reached now."""
        view, machines = current_view(), self.site.yard.machines
        with transaction() as session:
            going = {
                number
                for row in session.scalars(select(ChangeRow).where(ChangeRow.kind == "empty-bin"))
                for number in row.meant["volume"].values()
            }
            begun = store_giving.being_set_aside(session)
        serials = {d.number: d.serial for d in view.disks}
        for volume in view.volumes:
            if volume.forming or volume.number in going:
                continue
            for ply in volume.every_ply:
                if ply.forming:
                    continue
                for (extent, strip), disk in np.ndenumerate(ply.placement):
                    if disk > 0 and (ply.number, extent) not in begun:
                        place = (ply.number, extent, strip)
                        assert place in machines.strips[serials[int(disk)]], (
                            f"{place} is not on {serials[int(disk)]}"
                        )

    @invariant()
    def what_consumers_may_write_is_kept(self) -> None:
        """No node lets them write to an extent that is placed nowhere."""
        machines = self.site.yard.machines
        for volume in current_view().volumes:
            ply = volume.whole
            held = {e for strips in machines.strips.values() for p, e, _ in strips if p == ply.number}
            may = held - machines.closed.get(ply.number, set())
            assert may <= set(np.flatnonzero(~to_set_aside(volume)).tolist())

    @invariant()
    def copies_stand_apart(self) -> None:
        """Except where one of them is lost, and so is no copy; where nodes have changed places since; and
        while they are moved apart for another policy, or back."""
        if "arrange" in self.wished:
            return
        with transaction() as session:
            asked = select(ChangeRow).where(ChangeRow.kind == "keep-policy", ChangeRow.state != "done")
            moving = {n for row in session.scalars(asked) for n in row.meant["volume"].values()}
        self.check_apart(moving)

    def check_apart(self, left_out: Container[int] = ()) -> None:
        """left_out: numbers of volumes."""
        view = current_view()
        lost = np.append(view.disk_given_up & ~view.disk_ready, True)
        for volume in view.volumes:
            if volume.number in left_out:
                continue
            for ply in volume.plies:
                self.check_ply(view, ply, lost)

    def check_ply(self, view: SiteView, ply: Ply, lost: Flags) -> None:
        rows, scheme = view.rows(ply), ply.scheme
        domains = np.append(view.domain_of(scheme.level), -1)[rows].astype(np.int64)
        nobody = -1 - np.arange(rows.size).reshape(rows.shape)
        for extent, found in enumerate(np.where(lost[rows], nobody, domains).tolist()):
            assert max(Counter(found).values()) <= scheme.per_domain, (
                f"strips of {ply.name}, {extent} ({ply.purpose}) are not {scheme.apart()}"
            )
        for extent, disks in enumerate(np.where(lost[rows], nobody, rows).tolist()):
            assert len(set(disks)) == len(disks), f"strips of {ply.name}, {extent} share a disk"

    @invariant()
    def each_volume_has_the_protection_of_the_version_that_it_keeps(self) -> None:
        view = current_view()
        for volume in view.volumes:
            policy = view.policy_of(volume)
            assert (policy is None) == (volume.policy is None)
            if policy is not None:
                assert volume.whole.scheme == policy.wishes.scheme
                if volume.anew is None and volume.origin is None:
                    assert landing_as_wished(volume, view.pools[volume.pool], policy.wishes)
                    assert hot_as_wished(volume, policy.wishes)
                stands = conformance(view, volume)
                assert stands is not None
                whole = fate_of(view, volume).state == DataState.WHOLE
                assert whole <= all(b.promise != Promise.SURVIVES for b in stands.broken)

    @invariant()
    def each_vm_is_open_whole_or_not_at_all(self) -> None:
        view = current_view()
        assert {v.part.vm for v in view.volumes if v.part is not None} == {vm.number for vm in view.vms}
        for vm in view.vms:
            parts = parts_of(view, vm)
            assert len({volume.forming for volume in lasting_parts(view, vm)}) == 1, vm.name
            places = [(v.part.what, v.part.place) for v in parts if v.part is not None]
            assert len(set(places)) == len(places)

    @invariant()
    def each_share_lies_on_a_volume_of_its_own_and_is_served_somewhere(self) -> None:
        view = current_view()
        assert len({share.volume for share in view.shares}) == len(view.shares)
        for share in view.shares:
            volume = view.volume_numbered(share.volume)
            assert view.target_of(volume.number) is None
            assert share.quota <= volume.size_bytes
            assert view.files is not None
            assert view.files.numbered(share.address) is not None

    @invariant()
    def one_that_is_on_is_reached_by_its_host_alone(self) -> None:
        view = current_view()
        for vm in view.vms:
            if vm.host is None:
                continue
            assert not vm.template
            assert sum(is_swap(volume) for volume in parts_of(view, vm)) == 1
            for volume in parts_of(view, vm):
                target = view.target_of(volume.number)
                if is_memory(volume) and target is None:
                    continue  # what it held once
                assert target is not None, volume.name
                assert [one.host for one in target.attachments] == [vm.host], volume.name

    @invariant()
    def each_extent_lies_in_one_tier(self) -> None:
        for volume in current_view().volumes:
            if volume.hot is None:
                assert not volume.upper.any()
                continue
            in_hot = ~volume.hot.unwritten.reshape(-1, volume.whole.scheme.k)
            assert (in_hot == volume.upper[:, None]).all()
            assert (volume.whole.unwritten >= volume.upper).all()

    @invariant()
    def no_disk_is_over_its_size(self) -> None:
        view = current_view()
        pooled = view.disk_pool >= 0
        assert (view.disk_used[pooled] <= view.disk_most[pooled]).all()

    @invariant()
    def every_byte_is_accounted_for(self) -> None:
        view = current_view()
        for pool in view.pools:
            ledger = pool_space(view, pool).ledger
            assert ledger.raw == sum(d.size_bytes for d in view.all_of(pool))

    @invariant()
    def nothing_unforeseen_happened(self) -> None:
        assert [one for log in self.logs for one in log.unforeseen] == []

    @invariant()
    def who_waits_waits_for_somebody_open(self) -> None:
        with transaction() as session:
            waiting = touching.waiting_for_others(session)
            states = {row.id: row.state for row in session.scalars(select(ChangeRow))}
            holders = set(session.scalars(select(TouchRow.change_id).where(TouchRow.held)))
        assert all(states[other] in ("waiting", "running") for other in waiting.values())
        assert all(states[holder] == "running" for holder in holders)

    # The end. ------------------------------------------------------------------------------------

    def teardown(self) -> None:
        try:
            self.everything_ends_well()
        finally:
            self.patches.undo()
            self.context.__exit__(None, None, None)

    def everything_ends_well(self) -> None:
        """Once nothing is broken any more, everything that was begun comes to its end, and the site is as it
        should be.
        """
        machines = self.site.yard.machines
        machines.power = dict.fromkeys(machines.power, True)
        machines.pulled.clear()
        self.settle()
        if "arrange" in self.wished:  # its nodes may stand where copies cannot be kept apart
            self.put_back()
            self.settle()
        self.check_apart()
        with transaction() as session:
            left = [
                (row.id, row.kind, row.state, row.problem)
                for row in session.scalars(select(ChangeRow).where(ChangeRow.ended_at.is_(None)))
            ]
        assert left == []
        view = current_view()
        assert not any(
            is_swap(v) and view.vm_numbered(v.part.vm).host is None for v in view.volumes if v.part
        )
        # What is read from a snapshot is lost with it, and nothing else is.
        gone = [v for v in view.volumes if v.origin is not None and snapshot_of(view, v)[1].lost]
        assert all(fate_of(view, v).state == DataState.WHOLE for v in view.volumes if v not in gone)
        # What lies where it may not is home again, unless there is no place for it.
        for pool in view.pools:
            stuck = {h.ply for h in plan_rebuild(view, pool, seed=1).hindrances}
            assert all(p.number in stuck or not stray_strips(view, p).any() for p in view.plies_of(pool))
        assert all(fate_of(view, v).lost == int(v.through.sum()) for v in gone)
        # What was away when its pool let go of it is to be blanked by hand, and says why it is unfit.
        by_hand = {d.serial for d in view.disks if d.pool < 0 and d.role == Role.UNFIT and d.reasons}
        names = {d.serial: d.name for d in view.disks if d.serial not in by_hand}
        left_over = held(self.site) - should_hold()
        assert {(names[serial], *strip) for serial, *strip in left_over if serial in names} == set()
        assert should_hold() - held(self.site) == set()
        marked = {serial: pool for serial, pool in machines.pool_of.items() if serial in names}
        assert marked == {d.serial: view.pools[d.pool].name for d in view.disks if d.pool >= 0}
        assert not any(d.retiring for d in view.disks)
        with transaction() as session:
            assert not store_giving.begun(session)
        assert not any(machines.closed.get(ply.number) for ply in view.plies)
        assert not tell_targets()
        self.check_served()
        move_homes()
        assert not tell_files()
        self.check_files()
        self.check_marked()
        with transaction() as session:
            rows = list(session.scalars(select(NodeRow)))
        assert set(machines.council.members) == {r.agent_name for r in rows if r.member}
        assert set(machines.council.keepers) == {r.agent_name for r in rows if r.keeper}

    def settle(self) -> None:
        for number in range(ROUNDS):
            self.watch(late=True)
            for change in self.open_changes("waiting", "running"):
                self.advance(change, 99)
            # What refuses to go on, or is not to be, is withdrawn; where there is no way back, it goes on.
            for change in self.open_changes("paused"):
                self.ask(change, "withdraw" if number % 2 else "resume")
            quiet = not self.open_changes("waiting", "running", "paused")
            if quiet and number and not self.mended():
                break

    def put_back(self) -> None:
        """Every node stands where it stood at first."""
        names = {n.number: n.name for n in current_view().nodes}
        rooms = [
            {
                "name": room,
                "racks": [
                    {"name": rack, "nodes": [names[n] for n in nodes]} for rack, nodes in racks.items()
                ],
            }
            for room, racks in self.first.items()
        ]
        self.wish("arrange", rooms=rooms)

    def mended(self) -> bool:
        """Whether another look starts anything more."""
        self.watch(late=True)
        return bool(self.open_changes("waiting", "running", "paused"))


def test_no_kind_of_change_is_forgotten_here() -> None:
    here = {
        "create-volume",
        "delete-volume",
        "restore-volume",
        "make-vm",
        "delete-vm",
        "restore-vm",
        "revert-vm",
        "clone-vm",
        "connect-vm-host",
        "disconnect-vm-host",
        "move-vm",
        "keep-memory",
        "rename-vm",
        "set-template",
        "power-on",
        "power-off",
        "empty-bin",
        "offline-volume",
        "retire",
        "grow-pool",
        "replace-disk",
        "change-role",
        "set-pool",
        "rebuild",
        "rename",
        "delete-pool",
        "form-pool",
        "purpose-ports",
        "address-ports",
        "describe",
        "clear-disk",
        "give-up",
        "form-cluster",
        "add-node",
        "let-go",
        "arrange",
        "save-policy",
        "delete-policy",
        "keep-policy",
        "move-extents",
        "grow-volume",
        "rename-volume",
        "save-host",
        "delete-host",
        "attach-volume",
        "detach-volume",
        "take-snapshot",
        "delete-snapshot",
        "restore-snapshot",
        "copy-snapshot",
        "show-snapshot",
        "stand-alone",
        "rename-snapshot",
        "grow-room",
        "set-volume",
        "keep-on",
        "move-volume",
        "connect-orchestrator",
        "disconnect-orchestrator",
        "make-secret",
        "revoke-secret",
        "grant-policy",
        "withdraw-grant",
        "publish-class",
        "withdraw-class",
        "make-claimed",
        "bind-again",
        "serve-files",
        "stop-files",
        "make-share",
        "alter-share",
        "rename-share",
        "delete-share",
        "restore-share",
        "let-user-in",
        "remove-user",
    }
    assert set(KINDS) == here


@contextmanager
def single_tries() -> Iterator[None]:
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("FOLDBARN_ATTEMPTS", "1")
        patch.setenv("FOLDBARN_LOOK_SECONDS", "0.02")
        settings.cache_clear()
        yield
    settings.cache_clear()


def test_whatever_happens_nothing_is_lost_and_everything_comes_to_its_end(
    new_site: Callable[[Start], AbstractContextManager[Site]], pooled: Start
) -> None:
    machine = type("BarnHere", (Barn,), {"new_site": staticmethod(new_site), "start": pooled})
    with single_tries():
        run_state_machine_as_test(
            machine,
            settings=hypothesis_settings(
                max_examples=EXAMPLES,
                stateful_step_count=STEPS,
                phases=PHASES,
                suppress_health_check=list(HealthCheck),
            ),
        )
