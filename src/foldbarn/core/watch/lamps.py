"""The state of everything, in one word with its reason, and what needs a person."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import cast

import numpy as np

from foldbarn.core.arrays import Ints
from foldbarn.core.claims.kept import KeptClaim
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.cluster.quorum import majority
from foldbarn.core.cluster.votes import votes_now
from foldbarn.core.hosts.lanes import Lane, lanes_of
from foldbarn.core.moving.mending import prospect_of
from foldbarn.core.pools.capacity import PoolSpace, most_to_give, pool_space
from foldbarn.core.pools.filling import SOON_SECONDS, filling_of
from foldbarn.core.pools.healing import healing_sentence, heals
from foldbarn.core.pools.only_on import stray_strips
from foldbarn.core.site import POOLED, Contact, Disk, Host, Node, Pool, Role, Short, SiteView, Tier, Volume
from foldbarn.core.units import say_count, say_duration, say_list
from foldbarn.core.volumes.loss import DataState, Fate, fate_of, fate_through, knows_which
from foldbarn.core.volumes.origins import asked_of, is_to_be_written, readers_of, snapshot_of
from foldbarn.core.watch.files import address_state, fill_state
from foldbarn.core.watch.kept import overdue, room_state
from foldbarn.core.watch.orchestrators import orchestrator_state, waiting_state
from foldbarn.core.watch.reach import hangs_by_one, is_lost, lane_state, of_host, vm_host_state
from foldbarn.core.watch.silence import Silence, silence_of
from foldbarn.core.watch.states import Lamp, State, worst


def _shortage(volume: Volume, fate: Fate) -> str:
    """How many extents are how short, such as "34 of 200 extents have one copy left, 112 have two of
    three".
    """
    copies = {ply.scheme.strips if ply.scheme.is_mirror else 0 for ply in volume.plies}
    least, more = "have one copy left", "have some of their copies, and more than one"
    if copies == {3}:
        more = "have two of three copies"
    elif 0 in copies:
        least, more = "can lose nothing more", "lack strips, and can lose more"
    of = f" of {say_count(volume.extents, 'extent')}"
    parts = [f"{fate.bare:,}{of} {least}"] if fate.bare else []
    if fate.reduced:
        parts.append(f"{fate.reduced:,}{'' if fate.bare else of} {more}")
    return ", ".join(parts)


def _say_landing(volume: Volume) -> str:
    landing = volume.landing
    if landing is None:
        return ""
    if landing.forming:
        return " Its landing is being set aside."
    return f" What is written lands as {landing.scheme.counted()} on the {landing.tier} tier first."


def _say_hot(volume: Volume) -> str:
    hot, up = volume.hot, int(volume.upper.sum())
    if hot is None or not up:
        return ""
    lie = "lies" if up == 1 else "lie"
    return f" {say_count(up, 'extent')} of it {lie} on the {hot.tier} tier, as {hot.scheme.counted()}."


def _say_anew(volume: Volume) -> str:
    """How far a volume is written anew; empty where it is not."""
    if volume.anew is None:
        return ""
    there = int((volume.anew.placement > 0).sum())
    in_all = int((~volume.anew.unwritten).sum()) * volume.anew.scheme.strips
    how = volume.anew.scheme.counted()
    if volume.hot is not None:
        where = f"on its way to the {volume.anew.tier} tier as {how}"
        return f"Some of it is {where}: {there:,} of {say_count(in_all, 'strip')} are there."
    return f"It is being written anew as {how}: {there:,} of {say_count(in_all, 'strip')} are there."


def _rows_of(view: SiteView, volume: Volume) -> Ints:
    """Rows of the disks that hold a volume, or should."""
    rows: Ints = np.unique(np.concatenate([view.rows(ply).reshape(-1) for ply in volume.plies]))
    return rows


UNWATCHED_SECONDS = 10.0  # without a look at the nodes for longer, what is shown may be true no more
MANY_TRIES = 3  # after so many it needs a person, though it goes on trying


@dataclass(frozen=True, slots=True)
class Halted:
    """A change that something keeps from going on. tries: how often it was tried again; None where it waits
    for a person.
    """

    number: int
    title: str
    problem: str
    since: float  # seconds since 1970
    tries: int | None


@dataclass(frozen=True, slots=True)
class Attention:
    """Something that needs a person: the thing (kind and name, for a link), a sentence, and the change that
    would help, if any.
    """

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
    mending: numbers of pools with a rebuild running or about to; paused: by number of a pool, the change that
    rebuilds it and is paused; copying_paused: the same by number of a volume, of that which writes what it
    still reads from a snapshot. halted: changes that something keeps from going on. unwatched: seconds since
    the nodes were last looked at.
    """

    view: SiteView
    now: float
    grace_seconds: float
    mending: frozenset[int] = frozenset()
    paused: Mapping[int, int] = field(default_factory=dict)
    halted: tuple[Halted, ...] = ()
    unwatched: float = 0.0
    copying_paused: Mapping[int, int] = field(default_factory=dict)

    @cached_property
    def silence(self) -> Silence:
        return silence_of(self.view.nodes)

    @cached_property
    def fates(self) -> list[Fate]:
        kept = self.view.findings.get("fates")
        if not isinstance(kept, list):
            kept = self.view.findings["fates"] = [fate_of(self.view, v) for v in self.view.volumes]
        return kept

    def look_at_all(self) -> None:
        """For who asks of every volume: all together is quicker than one by one."""
        _ = self.fates, self.lanes

    def fate(self, row: int) -> Fate:
        """That of one volume: who asks for one page waits for no other volume."""
        if "fates" in self.view.findings:
            return self.fates[row]
        kept = cast("dict[int, Fate]", self.view.findings.setdefault("fate by row", {}))
        if row not in kept:
            kept[row] = fate_of(self.view, self.view.volumes[row])
        return kept[row]

    @cached_property
    def spaces(self) -> list[PoolSpace]:
        kept = self.view.findings.get("spaces")
        if not isinstance(kept, list):
            kept = self.view.findings["spaces"] = [pool_space(self.view, p) for p in self.view.pools]
        return kept

    def disk(self, disk: Disk) -> State:
        """A disk's own state."""
        node = self.view.nodes[disk.node]
        if node.contact != Contact.HEARD:
            return State(Lamp.NOT_HEARD, f"{node.name} is not heard, so its disks are not either.")
        if not disk.present and any(r.code == "taken-out" for r in disk.reasons):
            return State(Lamp.AWAY, f"{disk.why[0].capitalize()}.")
        if disk.present and disk.retiring:
            return State(Lamp.AWAY, "It is to be emptied, and takes nothing new.")
        if not disk.present:
            return State(
                Lamp.FAILED, f"{node.name} reports without it since {self._ago(disk.missing_since)}."
            )
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
            return State(
                Lamp.NOT_HEARD, node.reason or "Known from a description; its agent has not reported yet."
            )
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
        """A volume's state, with what it still survives, why it is short and what happens next; and whether
        it lacks room for what is to be written.
        """
        volume, data = self.view.volumes[row], self.data_of(row)
        for state in self._hardly_reached(volume):
            # What it holds is no worse for it: it wants somebody all the same.
            data = State(worst([data, State(Lamp.WATCH, "")]).lamp, f"{data.reason} {state.reason}")
        for said in (room_state(self.view, volume), overdue(self.view, volume, self.now)):
            if said is not None and said.lamp == Lamp.WATCH and not volume.forming:
                data = State(worst([data, said]).lamp, f"{data.reason} {said.reason}")
        if volume.short is None or volume.forming:
            return data
        lamp = worst([data, State(Lamp.SHORT if volume.short.refuses else Lamp.WATCH, "")]).lamp
        return State(lamp, f"{data.reason} {self._short_of_room(volume, volume.short)}")

    def row_of_volume(self, number: int) -> int | None:
        """Of a volume by number; none where it is gone."""
        rows = self.view.findings.get("rows of volumes")
        if rows is None:
            rows = {volume.number: row for row, volume in enumerate(self.view.volumes)}
            self.view.findings["rows of volumes"] = rows
        return cast("dict[int, int]", rows).get(number)

    def at_ease(self, row: int) -> bool:
        """Whether a volume is as it should be, or as a person wants it to be. What `volume` says, without the
        words.
        """
        volume, fate_ = self.view.volumes[row], self.fate(row)
        left = (volume.origin is not None and volume.origin.left) or volume.number in self.copying_paused
        if volume.forming or volume.parked or volume.short is not None or left:
            return False
        if fate_.short or self._astray(volume):
            return False
        return not any(hangs_by_one(lane) or is_lost(lane) for lane in self.lanes_from(volume))

    def data_of(self, row: int) -> State:
        """The state of what a volume holds, and why consumers may not use it, where a person said so."""
        kept, apart = self._kept(row), self._set_apart(self.view.volumes[row])
        if not apart:
            return kept
        lamp = Lamp.AWAY if kept.lamp == Lamp.SOUND else kept.lamp
        return State(lamp, f"{apart} {kept.reason}")

    def _kept(self, row: int) -> State:
        volume, fate_ = self.view.volumes[row], self.fate(row)
        if volume.forming:
            return State(Lamp.MENDING, "Not open yet: its strips are set aside on the disks first.")
        if volume.origin is not None:
            return self._kept_with_origin(volume, fate_)
        if fate_.state == DataState.WHOLE:
            whole = f"Whole: {volume.whole.scheme.sentence()}.{_say_landing(volume)}{_say_hot(volume)}"
            words = f"{whole} {_say_anew(volume)}".strip()
            if astray := self._astray(volume):
                lie = "lies" if astray == 1 else "lie"
                words += (
                    f" {say_count(astray, 'strip')} of it {lie} elsewhere than on what was chosen for it."
                )
            return State(Lamp.WATCH if astray else Lamp.SOUND, words)
        cause = self.cause(volume)
        if fate_.unavailable or fate_.lost:
            gone = fate_.unavailable + fate_.lost
            return State(
                Lamp.FAILED, f"{gone:,} of {say_count(volume.extents, 'extent')} cannot be read: {cause}"
            )
        sentence = f"Every byte is readable. {_shortage(volume, fate_)}: {cause}"
        lamp, next_step = self.next_step(volume)
        return State(lamp, f"{sentence} {next_step}")

    def _astray(self, volume: Volume) -> int:
        """Strips of a volume that lie where it may not."""
        if not volume.only_on:
            return 0
        return sum(int(stray_strips(self.view, ply).sum()) for ply in volume.plies)

    def _kept_with_origin(self, volume: Volume, fate_: Fate) -> State:
        """Of a volume that reads some of what it holds from a snapshot of another one."""
        lamp, said = self._reading(volume)
        gone = fate_.unavailable + fate_.lost
        if fate_.state == DataState.WHOLE:
            usable = lamp != Lamp.SOUND and volume.served
            return State(lamp, f"{'Readable and writable. ' if usable else ''}{said}")
        causes = " ".join(self._causes(volume, fate_))
        if gone:
            counted = say_count(volume.extents, "extent")
            up_to = "" if knows_which(self.view, volume) else "Up to "
            return State(Lamp.FAILED, f"{up_to}{gone:,} of {counted} cannot be read: {causes} {said}")
        short = worst([State(lamp, ""), State(Lamp.SHORT, "")]).lamp
        return State(short, f"Every byte is readable. {_shortage(volume, fate_)}: {causes} {said}")

    def _reading(self, volume: Volume) -> tuple[Lamp, str]:
        """What of a volume is read from where, and what becomes of that."""
        origin, snapshot = snapshot_of(self.view, volume)
        there, reads = f"{snapshot.name} of {origin.name}", volume.origin
        if reads is not None and reads.shown:
            return Lamp.SOUND, f"Shows {there}, to be read only, and holds nothing itself."
        all_, left = volume.whole.extents, int(volume.through.sum())
        said = f"{all_ - left:,} of {say_count(all_, 'extent')} of it are its own; "
        said += f"the rest is read from {there}"
        if change := self.copying_paused.get(volume.number):
            return Lamp.WATCH, f"{said}. The writing of that, change {change}, is paused."
        if reads is not None and reads.left:
            return Lamp.WATCH, f"{said}. A person called off the writing of that."
        if not is_to_be_written(volume):
            return Lamp.SOUND, f"{said}."
        return Lamp.MENDING, f"{said}, and is to be written."

    def _causes(self, volume: Volume, fate_: Fate) -> list[str]:
        """Why a volume with an origin is short: what is its own, and what it reads through."""
        view = self.view
        origin, snapshot = snapshot_of(view, volume)
        through = fate_through(view, volume)
        causes = [self.cause(volume)] if fate_.short > through.short else []
        if through.short and snapshot.lost:
            causes.append(f"{snapshot.name} of {origin.name} is lost.")
        elif through.short:
            causes.append(f"Of {origin.name}, {self.cause(origin)}")
            if not knows_which(view, volume):
                causes.append(f"It is not known which of them have changed since {snapshot.name}.")
        return causes

    def _set_apart(self, volume: Volume) -> str:
        """Why consumers may not use a volume; empty where they may."""
        if volume.binned is not None:
            left = volume.binned.until - self.now
            if left <= 0 and (readers := readers_of(self.view, volume)):
                names = say_list([reader.name for reader in readers])
                return f"In the bin, and its time there is over: it is kept while {names} read from it."
            if left <= 0 and (asked := asked_of(volume)):
                names = say_list(asked, 3)
                return f"In the bin, and its time there is over: it is kept for {names} of an orchestrator."
            if left <= 0:
                return "In the bin, and its time there is over: it may be erased at any moment."
            return f"In the bin for {say_duration(left)} more, then it is erased."
        if volume.parked:
            return "Its consumers wait, while it goes into another pool."
        return "Offline: its nodes serve none of it." if volume.offline else ""

    def _short_of_room(self, volume: Volume, short: Short) -> str:
        """That a volume wants room which its pool does not have."""
        pool, whole = self.view.pools[volume.pool], volume.whole
        wanted = say_count(short.extents, "extent")
        room = say_count(
            most_to_give(self.view, pool, whole.scheme, whole.tier, only=volume.only_on), "extent"
        )
        words = (
            f"t wants room for {wanted} more, and {pool.name} has room for {room} beside what is held back."
        )
        if short.refuses:
            return f"Writes are refused: i{words}"
        return f"I{words} Writes are refused once what is set aside is written."

    def cause(self, volume: Volume) -> str:
        """Which nodes or disks a volume is missing, in a sentence."""
        view = self.view
        rows = _rows_of(view, volume)
        gone = [int(r) for r in rows.tolist() if r < len(view.disks) and not view.disk_ready[r]]
        silent = sorted(
            {view.disks[r].node for r in gone if view.nodes[view.disks[r].node].contact != Contact.HEARD}
        )
        parts = [f"{view.nodes[n].name} is not heard since {self._ago(view.nodes[n].since)}" for n in silent]
        pulled = [view.disks[r].name for r in gone if view.disks[r].node not in silent]
        if pulled:
            parts.append(f"{say_list(pulled)} {'is' if len(pulled) == 1 else 'are'} missing")
        return f"{say_list(parts)}." if parts else "some strips lie nowhere yet."

    def next_step(self, volume: Volume) -> tuple[Lamp, str]:
        """What happens to a volume that is short: as what is under way, what waits, and a plan made on trial
        say.
        """
        view, pool = self.view, self.view.pools[volume.pool]
        ahead = prospect_of(view, volume)
        stuck = ahead.stuck_sentence(view)
        if pool.number in self.mending and (ahead.under_way or ahead.placeable):
            words = "Its rebuild is running."
            if ahead.under_way:
                whose = "its" if ahead.under_way == 1 else "their"
                words = f"{say_count(ahead.under_way, 'strip')} on {whose} way to other disks."
            return Lamp.MENDING, f"{words} {stuck}".strip()
        if change := self.paused.get(pool.number):
            return Lamp.SHORT, f"Its rebuild, change {change}, is paused. {stuck}".strip()
        if self.silence.doubted and ahead.placeable:
            words = f"{self._say_silence()}: none of them is given up by itself."
            return Lamp.SHORT, f"{words} {stuck}".strip()
        waits = self._waits(volume)
        if waits is not None and ahead.placeable:
            left = max(0, round(waits - self.now))
            when = f"in about {left} s" if left else "in a moment"
            return Lamp.SHORT, f"If nothing returns before, a rebuild starts {when}. {stuck}".strip()
        if ahead.placeable:
            return (
                Lamp.SHORT,
                f"A rebuild has a place for {say_count(ahead.placeable, 'strip')}, and is due. "
                f"{stuck}".strip(),
            )
        return Lamp.SHORT, f"It cannot be made whole as things are. {stuck}".strip()

    def _say_silence(self) -> str:
        silent, heard = self.silence.silent, self.silence.heard
        return (
            f"{silent} of {say_count(silent + heard, 'node')} fell silent, which is first held to be our "
            "own trouble"
        )

    def _waits(self, volume: Volume) -> float | None:
        """When the first of what a volume misses will have been away for the grace time; None where all of it
        has.
        """
        view = self.view
        rows = _rows_of(view, volume)
        ends = []
        for row in rows[rows < len(view.disks)].tolist():
            disk, node = view.disks[row], view.nodes[view.disks[row].node]
            if view.disk_ready[row] or view.disk_given_up[row]:
                continue
            since = node.since if node.contact != Contact.HEARD else disk.missing_since
            ends.append(since + self.grace_seconds)
        return min(ends, default=None)

    def pool(self, row: int) -> State:
        """A pool's own state, without its volumes' and disks'."""
        space = self.spaces[row]
        pool = self.view.pools[row]
        states = [State(Lamp.SOUND, f"{space.full:.0%} full.")]
        for tier in [space, *([space.fast] if space.fast else [])]:
            if tier.full > pool.fill_line:
                which = f"its {Tier.FAST} tier, " if tier is space.fast else ""
                words = (
                    f"{which}{tier.full:.0%} full, past its fill line of {pool.fill_line:.0%}: new "
                    "volumes are refused."
                )
                states.append(State(Lamp.WATCH, words[0].upper() + words[1:]))
        filling = filling_of(self.view, pool)
        if filling is not None and filling.seconds <= SOON_SECONDS:
            states.append(State(Lamp.WATCH, filling.sentence()))
        if not heals(self.view, pool, space):
            states.append(State(Lamp.WATCH, healing_sentence(self.view, pool, space)))
        return worst(states)

    def pool_with_volumes(self, row: int) -> State:
        """A pool's state with its volumes' and its disks'."""
        view = self.view
        states = [self.pool(row)]
        states += [
            replace(s, reason=f"{v.name}: {s.reason}")
            for i, v in enumerate(view.volumes)
            if v.pool == row
            for s in [self.volume(i)]
            if s.lamp != Lamp.AWAY  # a person meant it so, and its pool is none the worse
        ]
        states += [
            replace(s, reason=f"{d.name}: {s.reason}")
            for d in view.all_of(view.pools[row])
            for s in [self.disk(d)]
        ]
        return worst(states)

    @cached_property
    def lanes(self) -> list[Lane]:
        """The ways of all volumes to hosts."""
        kept = self.view.findings.get("lanes")
        if not isinstance(kept, list):
            kept = self.view.findings["lanes"] = lanes_of(self.view)
        return kept

    @cached_property
    def _lanes_by(self) -> dict[tuple[str, int], list[Lane]]:
        found: dict[tuple[str, int], list[Lane]] = {}
        for lane in self.lanes:
            found.setdefault(("volume", lane.volume.number), []).append(lane)
            found.setdefault(("host", lane.host.number), []).append(lane)
        return found

    def lanes_to(self, host: Host) -> list[Lane]:
        return self._lanes_by.get(("host", host.number), [])

    def lanes_from(self, volume: Volume) -> list[Lane]:
        if "lanes" in self.view.findings:
            return self._lanes_by.get(("volume", volume.number), [])
        kept = cast("dict[int, list[Lane]]", self.view.findings.setdefault("lanes by volume", {}))
        if volume.number not in kept:
            kept[volume.number] = lanes_of(self.view, volume=volume.number)
        return kept[volume.number]

    def host(self, host: Host) -> State:
        """A host's state, with all that is attached to it, and what it tells of virtual machines."""
        reached, runs = of_host(host, self.lanes_to(host)), self.view.vm_host(host.number)
        return reached if runs is None else worst([reached, vm_host_state(host, runs)])

    def _hardly_reached(self, volume: Volume) -> list[State]:
        """Of hosts that use a volume, those that reach it by one path of several, or by none."""
        return [lane_state(lane) for lane in self.lanes_from(volume) if hangs_by_one(lane) or is_lost(lane)]

    def _host_attention(self) -> list[Attention]:
        """Hosts that have lost a volume, or are about to; not those where something has yet to be done."""
        found = []
        for host in self.view.hosts:
            lost = [lane for lane in self.lanes_to(host) if is_lost(lane)]
            last = [lane for lane in self.lanes_to(host) if hangs_by_one(lane)]
            if not (lost or last):
                continue
            state = worst(lane_state(lane) for lane in (*lost, *last))
            names = say_list([lane.volume.name for lane in lost or last])
            doing = "has lost" if lost else "has one path left to"
            title = f"{host.name} {doing} {names}"
            found.append(Attention(state.lamp, "host", host.name, title, state.reason, 0.0))
        return found

    # What a person should see first. ---------------------------------------------------------------

    def headline(self) -> tuple[str, str]:
        """The site in a sentence, and the one after it. What is safe comes first."""
        view = self.view
        if not view.nodes:
            return "No node has reported in yet.", "Start an agent on a server and it appears here."
        if not view.pools:
            fit = [d for d in view.disks if view.is_fit(d)]
            return (
                f"{say_count(len(view.nodes), 'node')} reported in.",
                f"{say_count(len(fit), 'disk')} fit for use, no pool yet.",
            )
        if self.unwatched > UNWATCHED_SECONDS:
            return (
                f"Nobody has kept watch for {say_duration(self.unwatched)}.",
                "This is how things stood then.",
            )
        unreadable = sum(f.unavailable + f.lost for f in self.fates)
        if unreadable:
            return f"{say_count(unreadable, 'extent')} cannot be read.", self._short_sentence()
        return "Every byte is readable.", self._short_sentence()

    def _short_sentence(self) -> str:
        short = sum(f.reduced + f.bare for f in self.fates)
        held = "copies" if all(ply.scheme.is_mirror for ply in self.view.plies) else "strips"
        if not short:
            return f"Every extent has all its {held}." if self.view.volumes else "No volume yet."
        volumes = [self.view.volumes[i].name for i, f in enumerate(self.fates) if f.short]
        return f"{say_count(short, 'extent')} short of {held}, in {say_list(volumes, 3)}."

    def attention(self) -> list[Attention]:
        """What needs a person, worst first."""
        view = self.view
        found: list[Attention] = []
        if self.unwatched > UNWATCHED_SECONDS:
            words = (
                f"The work process has looked at nothing for {say_duration(self.unwatched)}. What is "
                "shown is how things stood then."
            )
            found.append(
                Attention(
                    Lamp.FAILED, "house", "work", "Nobody keeps watch", words, self.now - self.unwatched
                )
            )
        first: list[Attention] = []
        if self.silence.doubted:
            words = (
                f"{self._say_silence()}, such as the network between them and Fold Barn: none of "
                "them is given up by itself. "
                "Where they are really gone, stop waiting for them on their pages."
            )
            # Before what follows from it.
            title = "Most nodes fell silent together"
            first.append(Attention(Lamp.NOT_HEARD, "house", "nodes", title, words, 0.0))
        for row, volume in enumerate(view.volumes):
            state = self.data_of(row)
            if volume.short is not None:
                doing = "refuses writes" if volume.short.refuses else "is about to refuse writes"
                lamp = Lamp.SHORT if volume.short.refuses else Lamp.WATCH
                words = self._short_of_room(volume, volume.short)
                found.append(Attention(lamp, "volume", volume.name, f"{volume.name} {doing}", words, 0.0))
            if state.lamp in (Lamp.SHORT, Lamp.FAILED):
                mirrored = all(ply.scheme.is_mirror for ply in volume.plies)
                short = "is short of copies" if mirrored else "is short of strips"
                doing = "cannot be read" if state.lamp == Lamp.FAILED else short
                found.append(
                    Attention(state.lamp, "volume", volume.name, f"{volume.name} {doing}", state.reason, 0.0)
                )
        for row, node in enumerate(view.nodes):
            state = self.node(node)
            if state.lamp != Lamp.SOUND and node.contact != Contact.AWAITED:
                doing = "is not heard" if state.lamp == Lamp.NOT_HEARD else "needs a look"
                held = int(view.disk_used[view.disk_node == row].sum())
                ending = (
                    f" It holds {say_count(held, 'strip')}." if held and state.lamp == Lamp.NOT_HEARD else ""
                )
                found.append(
                    Attention(
                        state.lamp,
                        "node",
                        node.name,
                        f"{node.name} {doing}",
                        state.reason + ending,
                        node.since,
                    )
                )
        for halt in self.halted:
            if halt.tries is None or halt.tries >= MANY_TRIES:
                tried = (
                    f" It was tried {halt.tries} times, and is tried again by itself." if halt.tries else ""
                )
                title = f"{halt.title} is held up"
                found.append(
                    Attention(Lamp.SHORT, "change", str(halt.number), title, halt.problem + tried, halt.since)
                )
        found += self._host_attention()
        found += self._cluster_attention()
        found += self._files_attention()
        found += self._claims_attention()
        found += [a for d in view.disks if (a := self._disk_attention(d))]
        for row, pool in enumerate(view.pools):
            found += self._pool_attention(row, pool)
        order = list(Lamp)
        return first + sorted(found, key=lambda a: -order.index(a.lamp))

    def _claims_attention(self) -> list[Attention]:
        """Orchestrators that do not answer as they should, and claims that wait for somebody."""
        found = []
        for one in self.view.orchestrators:
            state = orchestrator_state(one)
            if state.lamp not in (Lamp.SOUND, Lamp.MENDING):
                doing = "is not heard" if state.lamp == Lamp.NOT_HEARD else "needs a look"
                title = f"{one.name} {doing}"
                found.append(Attention(state.lamp, "orchestrator", one.name, title, state.reason, one.since))
        waiting: dict[tuple[int, str], list[KeptClaim]] = {}
        for kept in self.view.claims:
            if kept.life is Life.WAITING and waiting_state(kept).lamp == Lamp.WATCH:
                waiting.setdefault((kept.orchestrator, kept.claim.namespace), []).append(kept)
        for (_, namespace), mine in waiting.items():
            first = min(mine, key=lambda kept: (kept.seen_at, kept.number))
            more = f" So {'does' if len(mine) == 2 else 'do'} {len(mine) - 1} more." if len(mine) > 1 else ""
            title = f"{first.claim.name} of {namespace} waits for a volume"
            words = f"{waiting_state(first).reason}{more}"
            found.append(Attention(Lamp.WATCH, "claim", str(first.number), title, words, first.seen_at))
        return found

    def _files_attention(self) -> list[Attention]:
        """Addresses that nobody has, names that are not known as they should be, and shares that fill."""
        view, found = self.view, []
        for address in view.files.addresses if view.files is not None else ():
            state = address_state(view, address)
            if state.lamp not in (Lamp.SOUND, Lamp.MENDING):
                doing = "is served by nobody" if state.lamp == Lamp.SHORT else "needs a look"
                title = f"{address.name} {doing}"
                found.append(Attention(state.lamp, "files", address.name, title, state.reason, 0.0))
        for share in view.shares:
            state = fill_state(share)
            if state.lamp == Lamp.SOUND or view.volume_numbered(share.volume).binned is not None:
                continue
            title = f"{share.name} {'is full' if state.lamp == Lamp.SHORT else 'is filling'}"
            found.append(Attention(state.lamp, "share", share.name, title, state.reason, share.fill_since))
        return found

    def _cluster_attention(self) -> list[Attention]:
        """A cluster that decides nothing, or whose votes are fewer than they should be."""
        view, cluster = self.view, self.view.cluster
        if cluster is None or cluster.forming:
            return []
        now = votes_now(view)
        count = f"{now.left} of {say_count(now.votes, 'vote')} can be heard, {majority(now.votes)} decide"
        if now.spare < 0:
            return [
                Attention(
                    Lamp.FAILED,
                    "cluster",
                    cluster.name,
                    f"{cluster.name} decides nothing",
                    f"{count}: {say_list(list(now.silent))} silent.",
                    0.0,
                )
            ]
        if now.silent:
            more = f"{now.spare} more may be lost" if now.spare else "none may be lost"
            return [
                Attention(
                    Lamp.SHORT,
                    "cluster",
                    cluster.name,
                    f"{cluster.name} is short of votes",
                    f"{count}: {say_list(list(now.silent))} silent, {more}.",
                    0.0,
                )
            ]
        if not cluster.leader:
            return [
                Attention(
                    Lamp.WATCH,
                    "cluster",
                    cluster.name,
                    f"{cluster.name} has no leader",
                    f"{count}, and none of them says who leads.",
                    0.0,
                )
            ]
        return []

    def _disk_attention(self, disk: Disk) -> Attention | None:
        state = self.disk(disk)
        if state.lamp in (Lamp.FAILED, Lamp.WATCH):
            doing = (
                "is missing"
                if state.lamp == Lamp.FAILED
                else "is wearing out"
                if disk.watch
                else "lacks a path"
                if disk.missing_paths
                else "needs a look"
            )
            return Attention(
                state.lamp, "disk", disk.name, f"{disk.name} {doing}", state.reason, disk.missing_since
            )
        if disk.role == Role.UNFIT and state.lamp == Lamp.SOUND:
            return Attention(
                Lamp.AWAY,
                "disk",
                disk.name,
                f"{disk.name} is not fit for use",
                f"{say_list(disk.why).capitalize()}.",
                0.0,
            )
        return None

    def _pool_attention(self, row: int, pool: Pool) -> list[Attention]:
        found = []
        state, space = self.pool(row), self.spaces[row]
        if any(t.full > pool.fill_line for t in [space, *([space.fast] if space.fast else [])]):
            found.append(
                Attention(state.lamp, "pool", pool.name, f"{pool.name} is filling", state.reason, 0.0)
            )
        filling = filling_of(self.view, pool)
        if filling is not None and filling.seconds <= SOON_SECONDS:
            title = f"{pool.name} is full in about {say_duration(filling.seconds)}"
            found.append(Attention(Lamp.WATCH, "pool", pool.name, title, filling.sentence(), 0.0))
        if not heals(self.view, pool, space):
            found.append(
                Attention(
                    Lamp.WATCH,
                    "pool",
                    pool.name,
                    f"{pool.name} cannot heal",
                    healing_sentence(self.view, pool, space),
                    0.0,
                )
            )
        return found

    def _ago(self, since: float) -> str:
        seconds = max(0, round(self.now - since))
        return (
            f"{seconds} s ago"
            if seconds < 120
            else f"{seconds // 60} min ago"
            if seconds < 7200
            else f"{seconds // 3600} h ago"
        )
