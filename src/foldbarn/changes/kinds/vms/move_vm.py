"""Moving a virtual machine into another pool, all of its volumes at one moment. Each moves as a volume does,
and keeps its policy; consumers of all wait together, once.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from foldbarn.changes.engine.effects import Note, OnDisks, Promise, Sums, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.kinds.pools.effects import room_rows
from foldbarn.changes.kinds.snapshots.copy_snapshot import arriving
from foldbarn.changes.kinds.snapshots.room import set_up
from foldbarn.changes.kinds.snapshots.take_snapshot import TakeSnapshots
from foldbarn.changes.kinds.volumes.create_volume import (
    ReserveAll,
    VolumeWish,
    each_once,
    place_of,
    touches_of,
)
from foldbarn.changes.kinds.volumes.gateways import hosts_move
from foldbarn.changes.kinds.volumes.move_volume import (
    ChangePlaces,
    NoteMoment,
    Park,
    PlaceThere,
    ReadThere,
    TellMoved,
    TellParked,
    consumers_wait_for,
    name_for,
    past_room,
    placed_there,
    snapshot_name,
    wished_there,
)
from foldbarn.changes.kinds.volumes.several import alone_with
from foldbarn.changes.kinds.volumes.warnings import unreadable, warnings_of
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.policies.policy import Policy
from foldbarn.core.site import Pool, SiteView, Vm, Volume
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.vms.parts import called, parts_of
from foldbarn.core.volumes.bin import USUAL_DAYS
from foldbarn.store.database import Session


class MoveVmParams(Params):
    """A virtual machine, and the pool that all its volumes are to lie in, both by name."""

    vm: str
    pool: str = ""


class ParkAll(Inside):
    """The consumers of volumes (by number) wait, without being sent away."""

    name: ClassVar[str] = "park-all"
    consumers_wait: ClassVar[bool] = True
    volumes: tuple[int, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        for one in self._each():
            said = one.carry_out(run, session)
        return said

    def take_back(self, run: Run) -> None:
        for one in self._each():
            one.take_back(run)

    def _each(self) -> list[Park]:
        return [Park(volume=number) for number in self.volumes]


class TellAllParked(Outside):
    """Every node that holds some of them lets nobody write to it: each of them has to be told."""

    name: ClassVar[str] = "tell-all-parked"
    volumes: tuple[int, ...]

    def carry_out(self, run: Run) -> str:
        for number in self.volumes:
            said = TellParked(volume=number).carry_out(run)
        return said


class ChangeAllPlaces(Outside):
    """From one moment on all of them lie in the other pool, each as ChangePlaces has it. pools: of each, that
    it lay in; to: where they lie then.
    """

    name: ClassVar[str] = "change-all-places"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "consumers use them there"
    volumes: tuple[int, ...]
    pools: tuple[int, ...]
    to: int
    days: int

    def carry_out(self, run: Run) -> str:
        with run.writing() as session:
            for nth, (number, pool) in enumerate(zip(self.volumes, self.pools, strict=True)):
                one = ChangePlaces(volume=number, pools=(pool, self.to), days=self.days)
                one.put_there(run, session, nth)
        return f"All {say_count(len(self.volumes), 'volume')} are there; what they were is in the bin."


class TellAllMoved(Outside):
    """Their nodes serve volumes (by number) where they are, and nothing of what they were."""

    name: ClassVar[str] = "tell-all-moved"
    volumes: tuple[int, ...]

    def carry_out(self, run: Run) -> str:
        for nth, number in enumerate(self.volumes):
            said = TellMoved(volume=number, nth=nth).carry_out(run)
        return said


@dataclass(frozen=True, slots=True, eq=False)
class Moving:
    """A volume as it is, and as it is to be there. was: what it was is called so in the bin."""

    volume: Volume
    policy: Policy | None
    wish: VolumeWish
    was: str


@register
class MoveVm(Kind[MoveVmParams]):
    """park (ours), tell parked (agents), note (ours), take snapshots (agents), place there (ours), reserve,
    read there (agents), change places (ours), tell moved (agents): of all its volumes together.
    """

    name: ClassVar[str] = "move-vm"
    params: ClassVar[type[Params]] = MoveVmParams

    def plan(self, view: SiteView, params: MoveVmParams) -> Plan:
        title = f"Move the VM {params.vm or '...'} to {params.pool or 'another pool'}"
        try:
            vm = view.vm(params.vm)
            pool = view.pool(params.pool)
            parts = _to_move(view, vm, pool)
            moving, marked, after = _moved(view, parts, pool)
        except BarnError as error:
            return Plan(title=title, about=params.vm, blockers=[Note.of(error)])
        policies = list({p.number: p for one in moving if (p := one.policy) is not None}.values())
        size = say_size(sum(one.wish.size for one in moving))
        return Plan(
            title=f"Move the VM {vm.name} to {pool.name}",
            about=vm.name,
            summary=f"{say_count(len(moving), 'volume')}, {size}, all at one moment.",
            steps=[
                *_room_steps(view, moving),
                *_steps(view, moving, pool, marked),
            ],
            effects=[
                _effect(view, moving, pool),
                Promise(title="What it was", sentence=_kept(view, moving)),
                _room(view, after, moving, pool),
                OnDisks(arriving=_arriving(after, moving)),
            ],
            touches=[
                alone(Thing.VM, vm.number),
                *alone_with(view, [one.volume for one in moving]),
                *touches_of([pool], *policies),
            ],
            meant=Meant(vms=(vm,), pools=(pool,), policies=tuple(policies)),
            warnings=each_once(
                note
                for one in moving
                for note in (
                    *consumers_wait_for(one.volume),
                    *hosts_move(view, after, one.volume),
                    *unreadable(after, after.volume_numbered(one.volume.number), one=False),
                    *warnings_of(view, after, pool, one.wish.scheme, one.wish.tier),
                )
            ),
        )


def _to_move(view: SiteView, vm: Vm, pool: Pool) -> list[Volume]:
    """Its volumes that lie elsewhere. Raises NotPossible where none does."""
    found = [volume for volume in parts_of(view, vm) if view.pools[volume.pool] is not pool]
    if not found:
        raise NotPossible(f"{vm.name} lies in {pool.name} already.", about="pool")
    return found


def _moved(view: SiteView, parts: Sequence[Volume], pool: Pool) -> tuple[list[Moving], str, SiteView]:
    """Each as it is to be there, beside those before it; the name of the snapshot of all that they are read
    from; and the site with all of them there. Raises NotPossible, with the part that it is about.
    """
    after, found, marked = view, [], snapshot_name(parts, pool)
    for volume in parts:
        try:
            policy, wish, before = wished_there(after, after.volume_numbered(volume.number), pool)
        except BarnError as error:
            words = f"Its {called(volume)}: {error.sentence}"
            raise NotPossible(words, about=error.about, next_step=error.next_step) from error
        was = name_for(before, volume)
        _, _, after = placed_there(before, volume, wish, was, marked)
        found.append(Moving(volume, policy, wish, was))
    return found, marked, after


def _room_steps(view: SiteView, moving: Sequence[Moving]) -> list[Planned]:
    """Room for the snapshot that they are read from, where there is none yet."""
    found = []
    for pool in view.pools:
        mine = [one.volume for one in moving if view.pools[one.volume.pool] is pool]
        found += set_up(pool, [(v, past_room(v)) for v in mine if v.past is None], one=False)
    return found


def _steps(view: SiteView, moving: Sequence[Moving], pool: Pool, marked: str) -> list[Planned]:
    numbers = tuple(one.volume.number for one in moving)
    pools = tuple(view.pools[one.volume.pool].number for one in moving)
    return [
        Planned(ParkAll(volumes=numbers), "Let its consumers wait", "They are not sent away."),
        Planned(
            TellAllParked(volumes=numbers), "Tell its nodes", "Every one of them has to know.", seconds=1
        ),
        Planned(NoteMoment(volumes=numbers, called=marked), "Write down a snapshot of all"),
        Planned(TakeSnapshots(volumes=numbers), "Mark the moment", "The same for all.", seconds=1),
        *(_place(one, nth, pool) for nth, one in enumerate(moving)),
        Planned(
            ReserveAll(first=0, last=len(moving)),
            "Set the strips aside",
            "Every agent reserves its strips.",
            seconds=1,
        ),
        *(_read(one, nth) for nth, one in enumerate(moving)),
        Planned(
            ChangeAllPlaces(volumes=numbers, pools=pools, to=pool.number, days=USUAL_DAYS),
            f"All of it lies in {pool.name}",
            "From here on there is no way back but to move it again.",
        ),
        Planned(TellAllMoved(volumes=numbers), "Tell their nodes", "Its consumers go on.", seconds=1),
    ]


def _place(one: Moving, nth: int, pool: Pool) -> Planned:
    placed = place_of(one.wish, one.was, one.policy, nth=nth).model_dump(exclude={"origin"})
    step = PlaceThere(**placed, moved=one.volume.number)
    title = f"Choose a disk in {pool.name} for every strip of its {called(one.volume)}"
    return Planned(step, title, about=one.volume.name)


def _read(one: Moving, nth: int) -> Planned:
    step = ReadThere(volume=one.volume.number, nth=nth)
    return Planned(
        step, f"Read the strips of its {called(one.volume)} back", seconds=1, about=one.volume.name
    )


def _effect(view: SiteView, moving: Sequence[Moving], pool: Pool) -> Texts:
    rows = [
        TextRow(
            label=one.volume.name,
            before=view.pools[one.volume.pool].name,
            after=f"{pool.name}, by {one.policy.name}" if one.policy is not None else pool.name,
        )
        for one in moving
    ]
    return Texts(heads=["Its volumes", "Now in", "Then in"], rows=rows)


def _room(view: SiteView, after: SiteView, moving: Sequence[Moving], pool: Pool) -> Sums:
    there = [after.volume_numbered(one.volume.number) for one in moving]
    tiers = {ply.tier for volume in there for ply in volume.plies}
    return Sums(pool=pool.name, rows=room_rows(view, after, pool, tiers))


def _arriving(after: SiteView, moving: Sequence[Moving]) -> dict[str, int]:
    """Bytes by name of the disk, once all of it is written there."""
    found: Counter[str] = Counter()
    for one in moving:
        found.update(arriving(after, after.volume_numbered(one.volume.number)))
    return dict(found)


def _kept(view: SiteView, moving: Sequence[Moving]) -> str:
    pools = say_list(sorted({view.pools[one.volume.pool].name for one in moving}))
    taken = any(one.volume.snapshots for one in moving)
    with_it = ", with the snapshots that were taken of them" if taken else ""
    words = (
        f"Its volumes as they were are in the bin of {pools} for {say_count(USUAL_DAYS, 'day')}{with_it}, "
    )
    return f"{words}and take their room there until it is emptied of them, once each stands alone."
