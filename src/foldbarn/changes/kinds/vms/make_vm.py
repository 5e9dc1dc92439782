"""Making a virtual machine: a volume for its configuration and one for each of its disks, opened at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import groupby
from typing import ClassVar

from pydantic import BaseModel, ConfigDict, Field

from foldbarn.changes.engine.effects import AnyEffect, Note, Promise, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside, Payload
from foldbarn.changes.kinds.policies.save_policy import answers_effect
from foldbarn.changes.kinds.volumes.create_volume import (
    CreateVolumeParams,
    New,
    PlaceAll,
    ReserveAll,
    each_once,
    place_of,
    placed,
    room_effects,
    touches_of,
)
from foldbarn.changes.kinds.volumes.setting_aside import read_all_back
from foldbarn.changes.kinds.volumes.warnings import warnings_of
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.policies.matching import answers
from foldbarn.core.policies.policy import Policy
from foldbarn.core.site import PartOf, SiteView, Vm, VmPart
from foldbarn.core.touching import Meant
from foldbarn.core.units import say_binary, say_count, say_list, say_size
from foldbarn.core.vms.parts import PartWish, check_shape, check_vm_name, parts_wished, volume_name
from foldbarn.store import vms, volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view


class VmDisk(BaseModel):
    """A disk of it: what it is called there, and its size as typed. policy, pool: instead of those that the
    virtual machine has.
    """

    model_config = ConfigDict(extra="forbid")

    name: str = Field(default="", max_length=200)
    size: str = Field(default="", max_length=40)
    policy: str = ""
    pool: str = ""


class MakeVmParams(Params):
    """memory: as typed, such as "8 GiB". policy, pool: of its volumes, where a disk has none of its own; by a
    policy alone a pool is chosen that keeps it.
    """

    name: str = ""
    cpus: int = 2
    memory: str = Field(default="4 GiB", max_length=40)
    policy: str = ""
    pool: str = ""
    disks: list[VmDisk] = Field(default_factory=list, max_length=1000)


@dataclass(frozen=True, slots=True, eq=False)
class Part:
    """A volume of a new virtual machine: what it is of it, and how it is placed."""

    wish: PartWish
    new: New


class PartAt(Payload):
    """What a volume of the change (by its place among those that it makes) is of the virtual machine."""

    nth: int
    what: VmPart
    place: int


class NameVm(Inside):
    """The volumes that the change has placed are a virtual machine from here on."""

    name: ClassVar[str] = "name-vm"
    called: str
    cpus: int
    memory_bytes: int
    disks: tuple[str, ...]
    parts: tuple[PartAt, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        vms.one_at_a_time(session)
        name = check_vm_name(load_view(session), self.called)
        vm = Vm(0, name, self.cpus, self.memory_bytes, self.disks)
        vms.add(session, run.change, vm, {p.nth: PartOf(0, p.what, p.place) for p in self.parts})
        announce(session, "site")
        return f"{name}, of {say_count(len(self.parts), 'volume')}."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            made = vms.made_by(session, run.change)
            if made is not None:
                vms.forget(session, made)
                announce(session, "site")


class OpenVm(Outside):
    """Each disk must hold what it was given; then all volumes of the virtual machine open at one moment."""

    name: ClassVar[str] = "open-vm"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "its volumes are open, and may be in use"
    count: int

    def carry_out(self, run: Run) -> str:
        with transaction() as session:
            made = volumes.all_of_change(session, run.change, 0, self.count)
        if len(made) < self.count:
            raise NotPossible("One of its volumes is gone.", next_step="Withdraw this change.")
        read_all_back(run, [ply for one in made for ply in one.plies])
        with run.writing() as session:
            for one in made:
                volumes.open_(session, one.number)
            announce(session, "site")
        return f"Every disk holds its strips: {say_count(len(made), 'volume')} open."


@register
class MakeVm(Kind[MakeVmParams]):
    """place (ours) and reserve (agents) in each pool, name (ours), read back and open (agents)."""

    name: ClassVar[str] = "make-vm"
    params: ClassVar[type[Params]] = MakeVmParams

    def plan(self, view: SiteView, params: MakeVmParams) -> Plan:
        name = params.name.strip()
        title = f"Make the VM {name}" if name else "Make a VM"
        try:
            check_vm_name(view, name)
            memory = check_shape(params.cpus, params.memory)
            wishes = parts_wished([(disk.name, disk.size) for disk in params.disks])
            made, after = placed(view, [(*_sized(name, w), _as_volume(params, w)) for w in wishes])
        except BarnError as error:
            return Plan(title=title, about=name, blockers=[Note.of(error)])
        # Each pool is locked once, whichever part of it lies there.
        parts = sorted(map(Part, wishes, made), key=lambda part: part.new.wish.pool.number)
        pools = list({part.new.wish.pool.number: part.new.wish.pool for part in parts}.values())
        policies = list({p.number: p for part in parts if (p := part.new.policy) is not None}.values())
        size = say_size(sum(new.wish.size for new in made))
        words = f"{say_count(params.cpus, 'processor')}, {say_binary(memory)} of memory; "
        words += f"{say_count(len(made), 'volume')}, {size} in {say_list([pool.name for pool in pools])}."
        return Plan(
            title=title,
            about=name,
            summary=words,
            steps=steps_of_vm(name, params.cpus, memory, parts),
            effects=[
                _parts_effect(wishes, made),
                *_choices(view, params, policies, made),
                *room_effects(view, after, pools, made),
            ],
            touches=touches_of(pools, *policies),
            meant=Meant(pools=tuple(pools), policies=tuple(policies)),
            warnings=each_once(
                note
                for new in made
                for note in warnings_of(view, after, new.wish.pool, new.wish.scheme, new.wish.tier)
            ),
            undo=Undo("delete-vm", {"vm": name}),
        )


def _sized(vm: str, wish: PartWish) -> tuple[str, int]:
    return volume_name(vm, wish.what, wish.place), wish.size


def _as_volume(params: MakeVmParams, wish: PartWish) -> CreateVolumeParams:
    """What its volume keeps, and where it lies."""
    disk = params.disks[wish.place - 1] if wish.what is VmPart.DISK else VmDisk()
    # A policy of its own is kept in any pool that can, unless one is named beside it.
    pool = disk.pool or ("" if disk.policy else params.pool)
    return CreateVolumeParams(policy=disk.policy or params.policy, pool=pool)


def steps_of_vm(name: str, cpus: int, memory: int, parts: Sequence[Part]) -> list[Planned]:
    """The steps that make one of new volumes, those of one pool after one another."""
    placing, reserving, first = [], [], 0
    for _, group in groupby(parts, key=lambda part: part.new.wish.pool.number):
        here = [part.new for part in group]
        span = {"first": first, "last": first + len(here)}
        each = tuple(
            place_of(new.wish, new.name, new.policy, nth=first + i, origin=new.origin)
            for i, new in enumerate(here)
        )
        pool = here[0].wish.pool.name
        placing.append(
            Planned(
                PlaceAll(each=each),
                f"Choose a disk for every strip in {pool}",
                "What protects an extent goes to different domains.",
                about=pool,
            )
        )
        reserving.append(
            Planned(
                ReserveAll(**span),
                f"Set the strips in {pool} aside",
                "Every agent reserves its strips.",
                seconds=1,
                about=pool,
            )
        )
        first += len(here)
    wishes = [part.wish for part in parts]
    at = tuple(PartAt(nth=i, what=w.what, place=w.place) for i, w in enumerate(wishes))
    disks = sorted((w for w in wishes if w.what is VmPart.DISK), key=lambda w: w.place)
    labels = tuple(w.label for w in disks)
    naming = NameVm(called=name, cpus=cpus, memory_bytes=memory, disks=labels, parts=at)
    return [
        *placing,
        Planned(naming, "Make them one VM", "From here on none of them is deleted by itself."),
        *reserving,
        Planned(
            OpenVm(count=len(parts)),
            "Read the strips back, and open all",
            "Each disk must hold what it was given before any volume of it opens.",
            seconds=1,
        ),
    ]


def _parts_effect(wishes: Sequence[PartWish], made: Sequence[New]) -> Texts:
    rows = []
    for wish, new in zip(wishes, made, strict=True):
        what = f"{wish.what.value} {wish.place}" if wish.place else wish.what.value
        label = f"{what}, {wish.label}" if wish.label else what
        by = f"{new.policy.name} in " if new.policy else ""
        rows.append(TextRow(label=label, before=say_size(new.wish.size), after=f"{by}{new.wish.pool.name}"))
    return Texts(heads=["Its volumes", "Size", "Kept by, and where"], rows=rows)


def _choices(
    view: SiteView, params: MakeVmParams, policies: Sequence[Policy], made: Sequence[New]
) -> list[AnyEffect]:
    """What each policy promises, and which pools could keep it for all that goes by it."""
    found: list[AnyEffect] = []
    for policy in policies:
        mine = [new.wish for new in made if new.policy is not None and new.policy.number == policy.number]
        found.append(Promise(title=policy.name, sentence=policy.wishes.sentence()))
        own = [disk for disk in params.disks if disk.policy == policy.name]
        if not (params.pool if not own else all(disk.pool for disk in own)):
            in_all = sum(wish.size for wish in mine)
            found.append(answers_effect(view, answers(view, policy.wishes, in_all, room=False)))
    return found
