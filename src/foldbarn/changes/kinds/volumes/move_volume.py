"""Moving a volume into another pool. Its consumers wait for a moment, while it is marked and room is set
aside there; from then on they use it there, and what has not been written there yet is read from where it
was. What it was there stays in the bin for a while, with its snapshots.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar

from foldbarn.changes.engine.effects import (
    AnyEffect,
    Note,
    OnDisks,
    Promise,
    Row,
    Sums,
    TextRow,
    Texts,
    warning,
)
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.engine.telling import tell_for_a_step
from foldbarn.changes.engine.terms import TERMS
from foldbarn.changes.kinds.pools.effects import room_rows
from foldbarn.changes.kinds.snapshots.copy_snapshot import arriving
from foldbarn.changes.kinds.snapshots.room import TellMarks, set_up
from foldbarn.changes.kinds.snapshots.take_snapshot import NoteSnapshots, TakeSnapshots, check_snapshot_name
from foldbarn.changes.kinds.volumes.create_volume import (
    Place,
    Reserve,
    VolumeWish,
    place_of,
    plainly,
    plies_for,
    strips_placed,
    wish_in,
    with_new,
)
from foldbarn.changes.kinds.volumes.gateways import gateways_of, hosts_move
from foldbarn.changes.kinds.volumes.serving import TellServing, find_volume, in_use
from foldbarn.changes.kinds.volumes.setting_aside import read_back
from foldbarn.changes.kinds.volumes.warnings import unreadable, warnings_of
from foldbarn.core.errors import BarnError, NotPossible, Overtaken, Unreachable
from foldbarn.core.figures import Figure
from foldbarn.core.names import LONGEST_NAME, folded
from foldbarn.core.policies.adopting import new_past, with_volumes
from foldbarn.core.policies.limits import holders
from foldbarn.core.policies.policy import Policy, Wishes
from foldbarn.core.pools.only_on import say_only_on
from foldbarn.core.site import Contact, Ply, Pool, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.volumes.bin import USUAL_DAYS, against_altering
from foldbarn.core.volumes.origins import against_reshaping, against_strips
from foldbarn.core.volumes.snapshots import Origin, Snapshot, room_extents
from foldbarn.store import snapshots, volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import current_view, load_view

ROOM = 1  # per cent, where there are no snapshots yet: nobody overwrites anything there any more


class MoveVolumeParams(Params):
    """A volume, and the pool that it is to lie in, both by name."""

    volume: str
    pool: str = ""


class OfMoving(Outside):
    """A step for a volume (by number) that moves."""

    volume: int

    def find(self, view: SiteView) -> Volume:
        """Raises Overtaken."""
        found = find_volume(view, self.volume)
        if found is None:
            raise Overtaken("The volume is gone.", about="volume")
        return found


class Park(Inside):
    """The consumers of a volume (by number) wait, without being sent away."""

    name: ClassVar[str] = "park"
    consumers_wait: ClassVar[bool] = True
    volume: int

    def carry_out(self, run: Run, session: Session) -> str:
        volume = find_volume(load_view(session), self.volume)
        if volume is None:
            raise Overtaken("The volume is gone.", about="volume")
        if refusal := against_moving(load_view(session), volume):
            raise refusal
        volumes.park(session, self.volume, parked=True)
        announce(session, "site")
        return "They wait until it is there."

    def take_back(self, run: Run) -> None:
        _let_go_on(self.volume)


def _let_go_on(volume: int) -> None:
    """Consumers of a volume (by number) use it where it is. Nodes are told by the duty that tells them such
    things.
    """
    with transaction() as session:
        volumes.park(session, volume, parked=False)
        announce(session, "site")


class TellParked(OfMoving):
    """Every node that holds some of it lets nobody write to it: each of them has to be told."""

    name: ClassVar[str] = "tell-parked"

    def carry_out(self, run: Run) -> str:
        volume = self.find(current_view())
        outcome = tell_for_a_step(run, TERMS, {number for number, _ in holders(current_view(), volume)})
        with transaction() as session:
            check_parked(session, current_view(), volume)
        return outcome


def check_parked(session: Session, view: SiteView, volume: Volume) -> None:
    """Raises Unreachable where some node may still let consumers write to a volume: what it took would be
    lost to them.
    """
    told, wanted = TERMS.told(session), TERMS.wanted(view)
    left = [
        view.node_numbered(number)
        for number in sorted({number for number, _ in holders(view, volume)})
        if not TERMS.same(told[number].what, wanted.get(number, {}))
        or view.node_numbered(number).contact != Contact.HEARD
    ]
    if left:
        words = (
            f"{say_list([node.name for node in left])} cannot be told that consumers of {volume.name} wait."
        )
        raise Unreachable(words)


class NoteMoment(NoteSnapshots):
    """As that, but what the volume reads from once it is there stays."""

    name: ClassVar[str] = "note-moment"

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            made = volumes.of_change(session, run.change)
        if made is None or made.forming:
            super().take_back(run)


class PlaceThere(Place):
    """Room in the other pool, as for a copy of the snapshot that this change has taken. Where its name has
    been given to another meanwhile, it gets one that is free: consumers wait.
    """

    name: ClassVar[str] = "place-there"
    moved: int

    def carry_out(self, run: Run, session: Session) -> str:
        number = snapshots.numbers_by(session, run.change).get(self.moved)
        if number is None:
            raise Overtaken("The snapshot is gone.", about="volume")
        view = load_view(session)
        name = _free_name(view, self.volume, view.volume_numbered(self.moved))
        copied = self.model_copy(update={"origin": (self.moved, number), "volume": name})
        return Place.carry_out(copied, run, session)

    def take_back(self, run: Run) -> None:
        """Consumers come first: dropping what was set aside may take a while."""
        _let_go_on(self.moved)
        super().take_back(run)


class ReadThere(OfMoving):
    """Each disk there must hold what it was given. nth: of those that the change moves."""

    name: ClassVar[str] = "read-there"
    nth: int = 0

    def carry_out(self, run: Run) -> str:
        with transaction() as session:
            made = volumes.of_change(session, run.change, self.nth)
        if made is None:
            raise NotPossible("What was placed there is gone.", next_step="Withdraw this change.")
        for ply in made.plies:
            read_back(run, ply)
        return "Every disk holds its strips."


class ChangePlaces(OfMoving):
    """From here on the volume lies in the other pool, and what lay in its own is in the bin, under a name of
    its own, for so many days. Strips may move meanwhile: each ply stays where it is, and in its pool.
    """

    name: ClassVar[str] = "change-places"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "consumers use it there"
    pools: tuple[int, int]
    days: int

    def carry_out(self, run: Run) -> str:
        with run.writing() as session:
            return self.put_there(run, session)

    def put_there(self, run: Run, session: Session, nth: int = 0) -> str:
        """nth: of those that the change moves. Raises BarnError."""
        view = load_view(session)
        volume = self.find(view)
        made = volumes.of_change(session, run.change, nth)
        number = snapshots.numbers_by(session, run.change).get(volume.number)
        if made is not None and made.pool == self.pools[0]:
            return f"{volume.name} is there."  # killed when it was
        if made is None or number is None or not volume.parked:
            raise NotPossible("What it was to be is gone.", next_step="Withdraw this change.")
        if refusal := against_moving(view, volume):
            raise refusal
        check_parked(session, view, volume)
        volumes.change_places(session, volume.number, made.number, snapshot=number)
        volumes.put_in_bin(session, made.number, self.days, run.change)
        announce(session, "site")
        return f"{volume.name} is there; what it was is in the bin as {made.name}."


class TellMoved(Outside):
    """Their nodes serve a volume (by number) where it is, and nothing of what it was. nth: of those that the
    change moves.
    """

    name: ClassVar[str] = "tell-moved"
    volume: int
    nth: int = 0

    def carry_out(self, run: Run) -> str:
        with transaction() as session:
            was = volumes.of_change(session, run.change, self.nth)
        both = (was.number, self.volume) if was is not None else (self.volume,)
        told = TellServing(volumes=both).carry_out(run)
        if was is not None:
            TellMarks(volume=was.number).carry_out(run)
        return told


@register
class MoveVolume(Kind[MoveVolumeParams]):
    """park (ours), tell parked (agents), note (ours), take snapshots (agents), place there (ours), reserve,
    read there (agents), change places (ours), tell moved (agents).
    """

    name: ClassVar[str] = "move-volume"
    params: ClassVar[type[Params]] = MoveVolumeParams

    def plan(self, view: SiteView, params: MoveVolumeParams) -> Plan:
        title, about = f"Move {params.volume or '...'} to {params.pool or 'another pool'}", params.volume
        try:
            volume = view.volume(params.volume)
            pool = view.pool(params.pool)
            policy, wish, before = wished_there(view, volume, pool)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        old, was = view.pools[volume.pool], name_for(view, volume)
        marked, plies, after = placed_there(before, volume, wish, was)
        mine = {"volume": volume.number}
        place = PlaceThere(**place_of(wish, was, policy).model_dump(exclude={"origin"}), moved=volume.number)
        lacking = [(volume, past_room(volume))] if volume.past is None else []
        return Plan(
            title=f"Move {volume.name} to {pool.name}",
            about=volume.name,
            summary=f"{say_size(wish.size)} from {old.name}. {wish.wishes.sentence()}",
            steps=[
                *set_up(old, lacking, one=True),
                Planned(Park(**mine), "Let its consumers wait", "They are not sent away."),
                Planned(TellParked(**mine), "Tell its nodes", "Every one of them has to know.", seconds=1),
                Planned(NoteMoment(volumes=(volume.number,), called=marked), "Write down a snapshot of it"),
                Planned(TakeSnapshots(volumes=(volume.number,)), "Mark the moment", seconds=1),
                Planned(place, f"Choose a disk in {pool.name} for every strip"),
                Planned(Reserve(), "Set the strips aside", "Every agent reserves its strips.", seconds=1),
                Planned(ReadThere(**mine), "Read the strips back", seconds=1),
                Planned(
                    ChangePlaces(**mine, pools=(old.number, pool.number), days=USUAL_DAYS),
                    f"{volume.name} lies in {pool.name}",
                    "From here on there is no way back but to move it again.",
                ),
                Planned(TellMoved(**mine), "Tell their nodes", "Its consumers go on.", seconds=1),
            ],
            effects=_effects(view, after, volume, wish, was, strips_placed(plies)),
            touches=[
                alone(Thing.VOLUME, volume.number),
                alone(Thing.TARGET, volume.number),
                *(shared(Thing.POOL, number) for number in sorted({old.number, pool.number})),
                *([shared(Thing.POLICY, policy.number)] if policy else []),
            ],
            meant=Meant(volumes=(volume,), pools=(old, pool), policies=(policy,) if policy else ()),
            warnings=[
                *consumers_wait_for(volume),
                *hosts_move(view, after, volume),
                *unreadable(after, after.volume_numbered(volume.number)),
                *warnings_of(view, after, pool, wish.scheme, wish.tier),
            ],
        )


def against_moving(view: SiteView, volume: Volume) -> NotPossible | None:
    """Why a volume cannot be moved now, wherever it is to go; None where it can."""
    if refusal := against_altering(volume) or against_reshaping(volume):
        return refusal
    if volume.anew is not None:
        words = f"{volume.name} is being written anew."
        return NotPossible(words, about="volume", next_step="Wait until that change is done.")
    numbers = {number for number, _ in holders(view, volume)}
    silent = [n.name for n in view.nodes if n.number in numbers and n.contact != Contact.HEARD]
    if silent:
        hold = "hold" if len(silent) > 1 else "holds"
        words = f"{say_list(silent)} {hold} some of {volume.name}, and cannot be told that consumers wait."
        step = "Bring it back, or wait until that is rebuilt."
        return NotPossible(words, about="volume", next_step=step)
    return None


def wished_there(view: SiteView, volume: Volume, pool: Pool) -> tuple[Policy | None, VolumeWish, SiteView]:
    """The policy that it keeps, if any, what it is to be there, and the site with room for the snapshot that
    it is read from meanwhile. Raises NotPossible.
    """
    if view.pools[volume.pool] is pool:
        raise NotPossible(f"{volume.name} lies in {pool.name} already.", about="pool")
    if refusal := against_moving(view, volume) or against_strips(view, volume, view.pool_row(pool)):
        raise refusal
    policy = view.policy_of(volume)
    wishes = policy.wishes if policy else _plainly(volume)
    if volume.past is None:
        past = replace(new_past(view, volume, past_room(volume)), forming=False)
        view = with_volumes(view, {volume.number: replace(volume, plies=(*volume.plies, past))})
    return policy, wish_in(view, pool, volume.size_bytes, wishes, copied=True), view


def _plainly(volume: Volume) -> Wishes:
    return plainly(volume.whole.scheme, volume.whole.tier, thin=volume.thin)


def past_room(volume: Volume) -> int:
    return room_extents(volume.whole.extents, ROOM)


def _free_name(view: SiteView, wanted: str, volume: Volume) -> str:
    taken = any(folded(other.name) == folded(wanted) for other in view.volumes)
    return name_for(view, volume) if taken else wanted


def name_for(view: SiteView, volume: Volume) -> str:
    """What it was is called so in the bin."""
    known = {folded(other.name) for other in view.volumes}
    end, nth = f"-in-{view.pools[volume.pool].name}", 1
    while True:
        tail = end if nth == 1 else f"{end}-{nth}"
        name = f"{volume.name[: LONGEST_NAME - len(tail)].rstrip('-')}{tail}"[-LONGEST_NAME:].strip("-")
        if folded(name) not in known:
            return name
        nth += 1


def placed_there(
    view: SiteView, volume: Volume, wish: VolumeWish, was: str, marked: str = ""
) -> tuple[str, tuple[Ply, ...], SiteView]:
    """The name of the snapshot that it is read from, its plies there, and the site with them: the volume in
    its new pool, and beside it what it was. marked: that name, where it is chosen already.
    """
    volume = view.volume_numbered(volume.number)
    marked = marked or snapshot_name([volume], wish.pool)
    newest = max((s.number for s in volume.snapshots), default=0)
    snapshot = Snapshot(newest + 1, marked, bytes=volume.size_bytes)
    source = replace(volume, snapshots=(*volume.snapshots, snapshot))
    view = with_volumes(view, {volume.number: source})
    plies = plies_for(view, wish, was, source)
    made = with_new(view, wish, was, plies, origin=Origin(volume.number, snapshot.number)).volumes[-1]
    # They change places: what was made there is the volume, and what it was has the other's number.
    numbered = -volume.number
    there = replace(
        source,
        pool=made.pool,
        plies=_plies_of(made.plies, volume.number),
        anew=replace(made.anew, volume=volume.number) if made.anew else None,
        origin=Origin(numbered, snapshot.number),
        snapshots=(),
        spans=(),
        only_on=made.only_on,
    )
    left = replace(source, number=numbered, name=was, plies=_plies_of(source.plies, numbered))
    others = [there if v.number == volume.number else v for v in view.volumes]
    return marked, plies, replace(view, volumes=(*others, left))


def _plies_of(plies: tuple[Ply, ...], volume: int) -> tuple[Ply, ...]:
    return tuple(replace(ply, volume=volume) for ply in plies)


def snapshot_name(chosen: Sequence[Volume], pool: Pool) -> str:
    """A name that no snapshot of these has."""
    tail, nth = f"moved-to-{pool.name}"[:LONGEST_NAME].rstrip("-"), 1
    while True:
        name = tail if nth == 1 else f"{tail[: LONGEST_NAME - 4].rstrip('-')}-{nth}"
        try:
            for volume in chosen:
                check_snapshot_name(volume, name)
            return name
        except BarnError:
            nth += 1


def consumers_wait_for(volume: Volume) -> list[Note]:
    """Of a volume that is in use, that its consumers wait."""
    if not in_use([volume]):
        return []
    words = (
        "It is in use: its consumers wait while it is marked and room is set aside for it, and go on then."
    )
    return [warning("consumers-wait", words, about=volume.name)]


def _effects(
    view: SiteView, after: SiteView, volume: Volume, wish: VolumeWish, was: str, strips: int
) -> list[AnyEffect]:
    old, pool = view.pools[volume.pool], wish.pool
    there = after.volume_numbered(volume.number)
    rows = [TextRow(label="Lies in", before=old.name, after=pool.name)]
    if there.whole.scheme != volume.whole.scheme:
        rows.append(
            TextRow(label="Held as", before=volume.whole.scheme.counted(), after=there.whole.scheme.counted())
        )
    if volume.only_on:
        rows.append(
            TextRow(
                label="May lie on", before=say_only_on(view, volume.only_on), after=f"any disk of {pool.name}"
            )
        )
    if gateways := gateways_of(view, after, volume):
        rows.append(TextRow(label="Served to hosts by", before=gateways[0], after=gateways[1]))
    days, kept = say_count(USUAL_DAYS, "day"), say_count(len(volume.snapshots), "snapshot")
    with_it = f", with {kept} that {'were' if len(volume.snapshots) > 1 else 'was'} taken of it" * bool(
        volume.snapshots
    )
    on_disks = Figure("On disks", strips * pool.strip_bytes, "bytes")
    return [
        Texts(heads=["Of it", "Now", "Then"], rows=rows),
        Promise(
            title="What it was",
            sentence=f"It is in the bin as {was} for {days}{with_it}, and takes "
            f"its room in {old.name} until the bin is emptied of it, once {volume.name} stands alone.",
        ),
        Sums(
            pool=pool.name,
            rows=[
                Row(label="On disks, once it is written", after=on_disks),
                *room_rows(view, after, pool, {ply.tier for ply in there.plies}),
            ],
        ),
        OnDisks(arriving=arriving(after, there)),
    ]
