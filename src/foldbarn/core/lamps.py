"""The state of everything, in one word with its reason, and what needs a person."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property

import numpy as np

from foldbarn.core.capacity import PoolSpace, pool_space
from foldbarn.core.healing import healing_sentence
from foldbarn.core.loss import DataState, Fate, fate
from foldbarn.core.quorum import majority
from foldbarn.core.site import POOLED, Contact, Disk, Node, Pool, Role, SiteView, Volume
from foldbarn.core.units import say_count, say_list


class Lamp(StrEnum):
    """How a thing's state is shown, best first; a parent shows the worst of its own and its children's."""

    SOUND = "sound"  # as it should be
    AWAY = "away"  # taken out on purpose
    WATCH = "watch"  # works, will need someone
    MENDING = "mending"  # short, and being put right now
    NOT_HEARD = "not heard"  # no report in time; state unknown
    SHORT = "short"  # below its policy, nothing running yet
    FAILED = "failed"  # no longer used, or not readable


@dataclass(frozen=True, slots=True)
class State:
    """A lamp with its reason in a sentence."""

    lamp: Lamp
    reason: str


def worst(states: Iterable[State]) -> State:
    """The worst of several states; sound when there are none."""
    order = list(Lamp)
    return max(states, key=lambda s: order.index(s.lamp), default=State(Lamp.SOUND, "As it should be."))


@dataclass(frozen=True, slots=True)
class Attention:
    """Something that needs a person: the thing (kind and name, for a link), a sentence, and the change that would help, if any."""

    lamp: Lamp
    kind: str
    name: str
    title: str
    sentence: str
    since: float
    change: str = ""


@dataclass(frozen=True, eq=False)
class Outlook:
    """States of a site at a moment.

    now: seconds since 1970; grace_seconds: how long something may be silent before it is rebuilt elsewhere;
    mending: numbers of pools with a rebuild or levelling running.
    """

    view: SiteView
    now: float
    grace_seconds: float
    mending: frozenset[int] = frozenset()

    @cached_property
    def fates(self) -> list[Fate]:
        return [fate(self.view, v) for v in self.view.volumes]

    @cached_property
    def spaces(self) -> list[PoolSpace]:
        return [pool_space(self.view, p) for p in self.view.pools]

    def disk(self, disk: Disk) -> State:
        """A disk's own state."""
        node = self.view.nodes[disk.node]
        if node.contact != Contact.HEARD:
            return State(Lamp.NOT_HEARD, f"{node.name} is not heard, so its disks are not either.")
        if not disk.present and any(r.code == "taken-out" for r in disk.reasons):
            return State(Lamp.AWAY, f"{disk.why[0].capitalize()}.")
        if disk.present and disk.retiring:
            return State(Lamp.AWAY, "It is being emptied and takes nothing new.")
        if not disk.present:
            return State(Lamp.FAILED, f"{node.name} reports without it since {self._ago(disk.missing_since)}.")
        if disk.watch:
            return State(Lamp.WATCH, f"{say_list(list(disk.watch)).capitalize()}.")
        if disk.missing_paths:
            return State(Lamp.WATCH, f"{say_list(list(disk.missing_paths)).capitalize()}.")
        if disk.role in POOLED and disk.reasons:
            return State(Lamp.WATCH, f"It is in use, but {say_list(disk.why)}.")
        if disk.role == Role.UNFIT:
            return State(Lamp.SOUND, f"Not used: {say_list(disk.why)}.")
        return State(Lamp.SOUND, "As it should be.")

    def node(self, node: Node) -> State:
        """A node's own state, without its disks'."""
        if node.contact == Contact.SILENT:
            return State(Lamp.NOT_HEARD, f"No report since {self._ago(node.since)}. {node.reason}".strip())
        if node.contact == Contact.AWAITED:
            return State(Lamp.NOT_HEARD, node.reason or "Known from a description; its agent has not reported yet.")
        if node.contact == Contact.GARBLED:
            return State(Lamp.NOT_HEARD, f"It answers, but not in the agent protocol. {node.reason}".strip())
        if node.reason:
            return State(Lamp.WATCH, node.reason)
        return State(Lamp.SOUND, "Reports in time.")

    def node_with_disks(self, row: int) -> State:
        node = self.view.nodes[row]
        own = self.node(node)
        if own.lamp == Lamp.NOT_HEARD:
            return own
        return worst([own, *(self.disk(d) for d in self.view.node_disks[row])])

    def volume(self, row: int) -> State:
        """A volume's state, with what it still survives, why it is short and what happens next."""
        volume, fate_ = self.view.volumes[row], self.fates[row]
        if volume.forming:
            return State(Lamp.MENDING, "Being made: its strips are being set aside on the disks.")
        if fate_.state == DataState.WHOLE:
            return State(Lamp.SOUND, f"Whole: {volume.protection.sentence()}.")
        total = volume.extents
        cause = self.cause(volume)
        if fate_.unavailable or fate_.lost:
            gone = fate_.unavailable + fate_.lost
            return State(Lamp.FAILED, f"{gone:,} of {say_count(total, 'extent')} cannot be read: {cause}")
        fewer = "have one copy left" if fate_.bare and volume.protection.copies > 2 else "are a copy short"
        sentence = f"Every byte is readable. {fate_.short:,} of {say_count(total, 'extent')} {fewer}: {cause}"
        if self.view.pools[volume.pool].number in self.mending:
            return State(Lamp.MENDING, f"{sentence} They are being copied again.")
        return State(Lamp.SHORT, f"{sentence} {self.next_step(volume)}".strip())

    def cause(self, volume: Volume) -> str:
        """Which nodes or disks a volume is missing, in a sentence."""
        view = self.view
        rows = np.unique(view.rows(volume))
        gone = [int(r) for r in rows.tolist() if r < len(view.disks) and not view.disk_ready[r]]
        silent = sorted({view.disks[r].node for r in gone if view.nodes[view.disks[r].node].contact != Contact.HEARD})
        parts = [f"{view.nodes[n].name} is not heard since {self._ago(view.nodes[n].since)}" for n in silent]
        pulled = [view.disks[r].name for r in gone if view.disks[r].node not in silent]
        if pulled:
            parts.append(f"{say_list(pulled)} {'is' if len(pulled) == 1 else 'are'} missing")
        return f"{say_list(parts)}." if parts else "their strips were lost."

    def next_step(self, volume: Volume) -> str:
        """When a rebuild starts, or why none can."""
        view = self.view
        waits = [n.since + self.grace_seconds for n in view.nodes if n.contact != Contact.HEARD and not n.given_up]
        waits += [d.missing_since + self.grace_seconds for d in view.disks if not d.present and not d.given_up and d.pool == volume.pool]
        if waits:
            left = max(0, round(min(waits) - self.now))
            return f"If it stays away, a rebuild starts in about {left} s." if left else "A rebuild is about to start."
        return "It cannot be made whole now: no other domain with room is free of its strips."

    def pool(self, row: int) -> State:
        """A pool's own state, without its volumes' and disks'."""
        space = self.spaces[row]
        pool = self.view.pools[row]
        if space.full > pool.fill_line:
            return State(Lamp.WATCH, f"{space.full:.0%} full, past its fill line of {pool.fill_line:.0%}: new volumes are refused.")
        return State(Lamp.SOUND, f"{space.full:.0%} full.")

    def pool_with_volumes(self, row: int) -> State:
        """A pool's state with its volumes' and its disks'."""
        view = self.view
        states = [self.pool(row), *(self.volume(i) for i, v in enumerate(view.volumes) if v.pool == row)]
        states += [replace(s, reason=f"{d.name}: {s.reason}") for d in view.all_of(view.pools[row]) for s in [self.disk(d)]]
        return worst(states)

    # What a person should see first. ---------------------------------------------------------------

    def headline(self) -> tuple[str, str]:
        """The site in a sentence, and the one after it. What is safe comes first."""
        view = self.view
        if not view.nodes:
            return "No node has reported in yet.", "Start an agent on a server and it appears here."
        if not view.pools:
            fit = [d for d in view.disks if d.role == Role.UNCLAIMED]
            return f"{say_count(len(view.nodes), 'node')} reported in.", f"{say_count(len(fit), 'disk')} fit for use, no pool yet."
        unreadable = sum(f.unavailable + f.lost for f in self.fates)
        if unreadable:
            return f"{say_count(unreadable, 'extent')} cannot be read.", self._short_sentence()
        return "Every byte is readable.", self._short_sentence()

    def _short_sentence(self) -> str:
        short = sum(f.reduced + f.bare for f in self.fates)
        if not short:
            return "Every extent has all its copies." if self.view.volumes else "No volume yet."
        volumes = [self.view.volumes[i].name for i, f in enumerate(self.fates) if f.short]
        return f"{say_count(short, 'extent')} short of copies, in {say_list(volumes, 3)}."

    def attention(self) -> list[Attention]:
        """What needs a person, worst first."""
        view = self.view
        found: list[Attention] = []
        for row, volume in enumerate(view.volumes):
            state = self.volume(row)
            if state.lamp in (Lamp.SHORT, Lamp.FAILED):
                doing = "cannot be read" if state.lamp == Lamp.FAILED else "is short of copies"
                found.append(Attention(state.lamp, "volume", volume.name, f"{volume.name} {doing}", state.reason, 0.0))
        for row, node in enumerate(view.nodes):
            state = self.node(node)
            if state.lamp != Lamp.SOUND and node.contact != Contact.AWAITED:
                doing = "is not heard" if state.lamp == Lamp.NOT_HEARD else "needs a look"
                held = int(view.disk_used[view.disk_node == row].sum())
                ending = f" It holds {say_count(held, 'strip')}." if held and state.lamp == Lamp.NOT_HEARD else ""
                found.append(Attention(state.lamp, "node", node.name, f"{node.name} {doing}", state.reason + ending, node.since))
        found += self._cluster_attention()
        found += [a for d in view.disks if (a := self._disk_attention(d))]
        for row, pool in enumerate(view.pools):
            found += self._pool_attention(row, pool)
        order = list(Lamp)
        return sorted(found, key=lambda a: -order.index(a.lamp))

    def _cluster_attention(self) -> list[Attention]:
        """A cluster that decides nothing, or whose votes are fewer than they should be."""
        view, cluster = self.view, self.view.cluster
        if cluster is None or cluster.forming:
            return []
        keepers = [n for n in view.nodes if n.keeper]
        silent = [n.name for n in keepers if n.contact != Contact.HEARD] + ([cluster.witness] if cluster.witness_silent else [])
        votes = len(keepers) + bool(cluster.witness)
        left = votes - len(silent)
        count = f"{left} of {say_count(votes, 'vote')} can be heard, {majority(votes)} decide"
        if left < majority(votes):
            return [Attention(Lamp.FAILED, "cluster", cluster.name, f"{cluster.name} decides nothing", f"{count}: {say_list(silent)} silent.", 0.0)]
        if silent:
            more = "none may be lost" if left == majority(votes) else f"{left - majority(votes)} more may be lost"
            return [Attention(Lamp.SHORT, "cluster", cluster.name, f"{cluster.name} is short of votes", f"{count}: {say_list(silent)} silent, {more}.", 0.0)]
        if not cluster.leader:
            return [Attention(Lamp.WATCH, "cluster", cluster.name, f"{cluster.name} has no leader", f"{count}; an election is due.", 0.0)]
        return []

    def _disk_attention(self, disk: Disk) -> Attention | None:
        state = self.disk(disk)
        if state.lamp in (Lamp.FAILED, Lamp.WATCH):
            doing = "is missing" if state.lamp == Lamp.FAILED else "is wearing out" if disk.watch else "lacks a path" if disk.missing_paths else "needs a look"
            return Attention(state.lamp, "disk", disk.name, f"{disk.name} {doing}", state.reason, disk.missing_since)
        if disk.role == Role.UNFIT and state.lamp == Lamp.SOUND:
            return Attention(Lamp.AWAY, "disk", disk.name, f"{disk.name} is not fit for use", f"{say_list(disk.why).capitalize()}.", 0.0)
        return None

    def _pool_attention(self, row: int, pool: Pool) -> list[Attention]:
        found = []
        state, space = self.pool(row), self.spaces[row]
        if state.lamp == Lamp.WATCH:
            found.append(Attention(state.lamp, "pool", pool.name, f"{pool.name} is filling", state.reason, 0.0))
        if space.healing is not None and not space.healing.possible:
            found.append(Attention(Lamp.WATCH, "pool", pool.name, f"{pool.name} cannot heal", healing_sentence(self.view, pool, space), 0.0))
        return found

    def _ago(self, since: float) -> str:
        seconds = max(0, round(self.now - since))
        return f"{seconds} s ago" if seconds < 120 else f"{seconds // 60} min ago" if seconds < 7200 else f"{seconds // 3600} h ago"
