"""Another policy, or a newer version of one, for volumes in use, which are read and written all the while."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import (
    UNCHANGED,
    AnyEffect,
    Note,
    Promise,
    Row,
    Sums,
    TextRow,
    Texts,
    warning,
)
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.moving import stop_moving
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Payload
from foldbarn.changes.kinds.policies.catching_up import CatchUp, not_written
from foldbarn.changes.kinds.pools.effects import NO_FEWER_COPIES, estimate_of, moved, room_rows
from foldbarn.changes.kinds.pools.holding import InPool
from foldbarn.changes.kinds.pools.rebuild import DropOld, OfPool
from foldbarn.changes.kinds.pools.schemes import SchemeAt
from foldbarn.changes.kinds.volumes.move_extents import steps_for
from foldbarn.changes.kinds.volumes.setting_aside import read_back, set_aside
from foldbarn.changes.kinds.volumes.several import MOST_VOLUMES
from foldbarn.changes.kinds.volumes.warnings import warnings_of
from foldbarn.core.arrays import Ints
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.figures import Figure
from foldbarn.core.moving.rebuild import (
    ready_to_hold,
)
from foldbarn.core.policies.adopting import (
    Adoption,
    Holding,
    Opposed,
    adopt,
    held_as,
    hot_for,
    landing_unread,
    new_landing,
    to_come_down,
)
from foldbarn.core.policies.matching import Wish, landing_as_wished, tier_of
from foldbarn.core.policies.policy import Policy
from foldbarn.core.policies.shifting import shift
from foldbarn.core.site import Ply, Pool, Purpose, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, Touch, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.store import policies, pools
from foldbarn.store import volumes as store_volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import current_view, load_view


class KeepPolicyParams(Params):
    """Volumes by name, and the policy whose newest version they are to keep."""

    volumes: list[str] = Field(max_length=MOST_VOLUMES)
    policy: str


class HeldAs(Payload):
    """How a volume (by number) was held when the change was planned. kept: number and version of its policy;
    anew: whether it is written anew; unread: extents of its landing that could not be read.
    """

    volume: int
    scheme: SchemeAt
    kept: tuple[int, int] | None
    anew: bool
    unread: int = 0

    @classmethod
    def of(cls, view: SiteView, volume: Volume, *, anew: bool) -> HeldAs:
        held = Holding.of(volume)
        return cls(
            volume=volume.number,
            scheme=SchemeAt.of(held.scheme),
            kept=held.policy,
            anew=anew,
            unread=landing_unread(view, volume),
        )

    def holding(self) -> Holding:
        return Holding(self.scheme.scheme(), self.kept)


class OfVolumes(InPool):
    """A step for volumes of a pool (by number) that are to keep a version of a policy."""

    policy: int
    version: int

    @property
    def kept(self) -> tuple[int, int]:
        return self.policy, self.version


class Adopt(OfVolumes):
    """What is held in place is held as the policy has it from here on; for what is written anew room is
    kept.
    """

    name: ClassVar[str] = "adopt"
    volumes: tuple[HeldAs, ...]

    def carry_out(self, run: Run) -> str:
        with self.holding(run) as session:
            view = load_view(session)
            policy = next((p for p in view.policies if (p.number, p.version) == self.kept), None)
            if policy is None:
                raise Overtaken("The policy is gone.", about="policy")
            # Some may be held so already, where this was killed when it was done.
            asked = [v for v in self._there(view) if v.policy != self.kept and v.anew is None]
            planned = {held.volume: held for held in self.volumes}
            for volume in asked:
                if Holding.of(volume) != planned[volume.number].holding():
                    words = f"{volume.name} keeps another policy by now."
                    raise Overtaken(words, next_step="Look at it again.")
                if landing_unread(view, volume) > planned[volume.number].unread:
                    words = f"More of the landing of {volume.name} cannot be read by now."
                    raise Overtaken(words, next_step="Look at it again.")
            found = adopt(view, asked, policy)
            for one in found.opposed:
                raise Overtaken(one.against.sentence, about=one.volume, next_step=one.against.cure)
            for volume in asked:
                if planned[volume.number].anew != (volume.number in found.anew):
                    how = "in place" if planned[volume.number].anew else "only if it is written anew"
                    words = f"{volume.name} can be held to it {how} by now."
                    raise Overtaken(words, next_step="Look at it again.")
            version = policies.version_id(session, *self.kept)
            for volume in asked:
                then = found.during.volume_numbered(volume.number)
                if then.anew is not None:
                    store_volumes.add_ply(session, volume.number, then.anew)
                else:
                    ply = then.whole
                    store_volumes.hold_as(session, ply.number, ply.scheme, ply.placement, version)
                change_landing(session, volume, then.landing)
                _change_hot(session, volume, then.hot)
            announce(session, "site")
        return f"{say_count(len(self.volumes), 'volume')}, version {self.version}."

    def take_back(self, run: Run) -> None:
        """They keep what they kept before; what they gave up for it is written again, as all that is lost.

        Raises NotPossible where one is held by what was written anew already.
        """
        with self.holding(run) as session:
            view = load_view(session)
            before = {held.volume: held for held in self.volumes}
            free = view.disk_free.copy()
            back = []
            for volume in self._there(view):
                if volume.anew is not None:
                    store_volumes.forget_anew(session, volume.number)
                elif volume.policy == self.kept:
                    if before[volume.number].anew:
                        # A process may have died when that was done, and before it was recorded.
                        words = f"{volume.name} is held by what was written anew already."
                        raise NotPossible(words, next_step="Let it go on.")
                    held = before[volume.number].holding()
                    ply = held_as(view, volume, held).volume_numbered(volume.number).whole
                    version = policies.version_id(session, *held.policy) if held.policy else None
                    store_volumes.hold_as(session, ply.number, ply.scheme, ply.placement, version)
                elif volume.landing is None or not volume.landing.forming:
                    continue
                change_landing(session, volume, self._landing_before(view, volume, free))
                kept = self._kept_before(view, volume)
                _change_hot(session, volume, hot_for(volume, kept.wishes) if kept else None)
                back.append(volume.name)
            if back:
                pools.look(session, [self.pool], f"{say_list(back)} went back to what was kept before")
            announce(session, "site")
        set_landings_aside(run, self.pool, [held.volume for held in self.volumes])

    def _landing_before(self, view: SiteView, volume: Volume, free: Ints) -> Ply | None:
        """The landing that a volume had by the policy that it kept before."""
        kept = self._kept_before(view, volume)
        if kept is None:
            return None
        if landing_as_wished(volume, view.pools[volume.pool], kept.wishes):
            return volume.landing
        return new_landing(view, volume, kept.wishes, free)

    def _kept_before(self, view: SiteView, volume: Volume) -> Policy | None:
        """The policy that a volume kept before, if any."""
        before = next(held.kept for held in self.volumes if held.volume == volume.number)
        return next((p for p in view.policies if (p.number, p.version) == before), None)

    def _there(self, view: SiteView) -> list[Volume]:
        numbers = {held.volume for held in self.volumes}
        return [v for v in view.volumes if v.number in numbers]


def change_landing(session: Session, volume: Volume, landing: Ply | None) -> None:
    """A volume has this landing from here on."""
    if landing is volume.landing:
        return
    if volume.landing is not None:
        store_volumes.forget_landing(session, volume.number)
    if landing is not None:
        store_volumes.add_ply(session, volume.number, landing)


def _change_hot(session: Session, volume: Volume, hot: Ply | None) -> None:
    """A volume has this hot ply from here on; what it had is empty, where it is not this one."""
    if hot is volume.hot:
        return
    if volume.hot is not None:
        store_volumes.forget_hot(session, volume.number)
    if hot is not None:
        store_volumes.add_ply(session, volume.number, hot, volume.whole.extents)


def set_landings_aside(run: Run, pool: int, volumes: Sequence[int]) -> int:
    """Has agents make the landings of volumes in a pool (by number) that are not there yet; returns how
    many. Raises BarnError.
    """
    with transaction() as session:
        forming = store_volumes.forming_landings(session, volumes)
    for ply in forming:
        set_aside(run, ply, current_view().pool_numbered(pool).strip_bytes)
        read_back(run, ply)
        with run.writing() as session:
            store_volumes.made(session, ply)
            announce(session, "site")
    return len(forming)


class SetLandings(OfPool):
    """Agents set the strips of landings aside that volumes (by number) do not have yet."""

    name: ClassVar[str] = "set-landings"
    volumes: tuple[int, ...]

    def carry_out(self, run: Run) -> str:
        made = set_landings_aside(run, self.pool, self.volumes)
        return f"{say_count(made, 'landing')} set aside."


class TakeOver(OfVolumes):
    """What was written anew holds its volumes (by number) from here on."""

    name: ClassVar[str] = "take-over"
    moves_strips: ClassVar[bool] = True
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is held as the new policy has it, and what held it before is gone"
    volumes: tuple[int, ...]

    def take_back(self, run: Run) -> None:
        stop_moving(run)

    def stop(self, run: Run) -> None:
        stop_moving(run)

    def carry_out(self, run: Run) -> str:
        # What was lost since it was written is written once more.
        CatchUp(pool=self.pool, volumes=self.volumes).write(run)
        with self.holding(run) as session:
            view = load_view(session)
            version = policies.version_id(session, *self.kept)
            for volume in view.volumes:
                if volume.number not in self.volumes or volume.anew is None:
                    continue
                if not ready_to_hold(view, volume.anew):
                    raise not_written(view, volume, volume.anew, "")
                store_volumes.take_over(session, volume.number, version)
                kept = next((p for p in view.policies if (p.number, p.version) == self.kept), None)
                held = replace(volume, plies=(replace(volume.anew, purpose=Purpose.WHOLE),), anew=None)
                if kept is not None and (hot := hot_for(held, kept.wishes)):
                    store_volumes.add_ply(session, volume.number, hot, held.whole.extents)
            announce(session, "site")
        return f"{say_count(len(self.volumes), 'volume')} held by what was written anew."


@register
class KeepPolicy(Kind[KeepPolicyParams]):
    """For each pool: adopt (ours), drop old (agents, where strips are given up), catch up, take over (ours,
    where it is written anew), drop old.
    """

    name: ClassVar[str] = "keep-policy"
    params: ClassVar[type[Params]] = KeepPolicyParams

    def plan(self, view: SiteView, params: KeepPolicyParams) -> Plan:
        names = say_list(params.volumes) if params.volumes else "..."
        title, about = f"Let {names} keep {params.policy or '...'}", params.policy
        try:
            volumes = list({v.number: v for v in map(view.volume, params.volumes)}.values())
            policy = view.policy(params.policy)
            if not volumes:
                raise NotPossible("No volume is chosen.", about="volumes")
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        before = view
        try:
            view, coming_down = _brought_down(view, volumes, policy)
        except NotPossible as error:
            return Plan(title=title, about=policy.name, blockers=[Note.of(error)])
        volumes = [view.volume_numbered(v.number) for v in volumes]
        found = adopt(view, volumes, policy)
        if found.opposed:
            blockers = [_blocker(o) for o in found.opposed]
            return Plan(title=title, about=policy.name, blockers=blockers)
        mine = [view.pools[row] for row in sorted({v.pool for v in volumes})]
        return Plan(
            title=f"Let {say_list([v.name for v in volumes])} keep {policy.name}",
            about=policy.name,
            summary=_summary(found, policy),
            steps=[
                *(step for down in coming_down for step in down),
                *(step for pool in mine for step in _steps(view, pool, volumes, policy, found)),
            ],
            effects=[
                _promises(view, volumes, policy),
                *_meanwhile(volumes, policy, found),
                *(effect for pool in mine for effect in _effects(before, pool, volumes, found)),
            ],
            touches=_touches(mine, volumes, policy),
            meant=Meant(pools=tuple(mine), volumes=tuple(volumes), policies=(policy,)),
            warnings=_warnings(view, volumes, policy, found),
        )


def _brought_down(
    view: SiteView, volumes: Sequence[Volume], policy: Policy
) -> tuple[SiteView, list[list[Planned]]]:
    """The site once what cannot stay on the fast tier has come down, and the steps by which it does. Raises
    NotPossible where it finds no room.
    """
    steps = []
    for volume in volumes:
        extents = to_come_down(volume, policy.wishes)
        if len(extents) and not policy.draft:
            mine = view.volume_numbered(volume.number)
            found = shift(view, mine, extents, up=False, leaving=True)
            pool = view.pools[volume.pool]
            steps.append(steps_for(found, pool, mine, extents, up=False, leaving=True))
            view = found.after
    return view, steps


def _blocker(opposed: Opposed) -> Note:
    found = opposed.against
    code = UNCHANGED if found.wish == Wish.UNCHANGED else ""
    about = "volumes" if found.wish == Wish.WHOLE else "policy"
    return Note(sentence=found.sentence, about=about, next_step=found.cure, code=code)


def _in(pool: Pool, view: SiteView, volumes: Sequence[Volume]) -> list[Volume]:
    return [v for v in volumes if view.pools[v.pool].number == pool.number]


def _gives_up(volumes: Sequence[Volume], policy: Policy) -> list[Volume]:
    """Those that have more strips than the policy wants."""
    return [v for v in volumes if v.whole.scheme.strips > policy.wishes.scheme.strips]


def _summary(found: Adoption, policy: Policy) -> str:
    written = sum(len(m) * found.during.pools[row].strip_bytes for row, m in found.moves.items())
    said = f"{say_size(written)} to be written" if written else "Nothing has to be written"
    return f"{policy.wishes.sentence()} {said}."


def _steps(
    view: SiteView, pool: Pool, volumes: Sequence[Volume], policy: Policy, found: Adoption
) -> list[Planned]:
    mine = _in(pool, found.during, volumes)
    anew = [v for v in mine if v.number in found.anew]
    in_place = [v for v in mine if v.number not in found.anew]
    given_up = _gives_up(in_place, policy)
    kept = {"pool": pool.number, "policy": policy.number, "version": policy.version}
    again = " Withdrawn after this, what is given up is written again." if given_up else ""
    beside = f" Room is kept to write {say_list([v.name for v in anew])} anew." if anew else ""
    held = tuple(HeldAs.of(view, v, anew=v.number in found.anew) for v in mine)
    steps = [
        Planned(
            Adopt(**kept, volumes=held),
            f"Hold {say_list([v.name for v in in_place])} to it" if in_place else "Keep room for it",
            f"From here on this is what is kept whole.{again}{beside}" if in_place else beside.strip(),
        )
    ]
    then = [found.during.volume_numbered(v.number) for v in mine]
    let_go = [v for v in mine if _landing_goes(v, found)]
    if given_up or let_go:
        drop = DropOld(pool=pool.number)
        lost = any(landing_unread(view, v) for v in let_go)
        settles = " What waits in a landing, and can be read, settles before." if lost else ""
        if let_go and not lost:
            settles = " What waits in a landing settles before."
        steps.append(Planned(drop, "Let go of what it has beyond", f"Its room is free again.{settles}"))
    if landing := [v.number for v in then if v.landing is not None and v.landing.forming]:
        aside = SetLandings(pool=pool.number, volumes=tuple(landing))
        words = "From here on what is written lands there first."
        steps.append(Planned(aside, "Set its landing aside", words, seconds=1))
    moves = found.moves[found.during.pool_row(pool)]
    other = any(v.whole.scheme != policy.wishes.scheme for v in in_place if v not in given_up)
    if other or anew or len(moves):
        seconds = estimate_of(found.during, pool, moves, lost=True).seconds
        writing = CatchUp(pool=pool.number, volumes=tuple(v.number for v in mine))
        words = "Write it anew" if anew else "Write what it lacks"
        steps.append(Planned(writing, words, "Each strip where the policy has it.", seconds=seconds))
        if anew:
            over = TakeOver(**kept, volumes=tuple(v.number for v in anew))
            words = "Only where every strip of it can be read. From here on there is no way back."
            steps.append(Planned(over, "Hold it by what was written", words))
        old = DropOld(pool=pool.number)
        steps.append(Planned(old, "Let go of the old strips", "Only after the new ones are whole."))
    return steps


def _landing_goes(volume: Volume, found: Adoption) -> bool:
    """Whether a volume lets go of the landing that it has."""
    return (
        volume.landing is not None
        and found.during.volume_numbered(volume.number).landing is not volume.landing
    )


def _touches(mine: Sequence[Pool], volumes: Sequence[Volume], policy: Policy) -> list[Touch]:
    """The policies that they kept so far, too: they may go back to them."""
    kept = {policy.number, *(v.policy[0] for v in volumes if v.policy)}
    return [
        *(shared(Thing.POOL, pool.number) for pool in mine),
        *(alone(Thing.VOLUME, volume.number) for volume in volumes),
        *(shared(Thing.POLICY, number) for number in sorted(kept)),
    ]


def _promises(view: SiteView, volumes: Sequence[Volume], policy: Policy) -> AnyEffect:
    rows = []
    for volume in volumes:
        kept = view.policy_of(volume)
        said = kept.wishes.sentence() if kept else f"{volume.whole.scheme.sentence().capitalize()}."
        by = f" ({kept.name}, version {kept.version})" if kept else ""
        rows.append(TextRow(label=volume.name, before=f"{said}{by}", after=policy.wishes.sentence()))
    return Texts(heads=["Volume", "It is promised", "From here on"], rows=rows)


def _meanwhile(volumes: Sequence[Volume], policy: Policy, found: Adoption) -> list[AnyEffect]:
    anew = [v for v in volumes if v.number in found.anew]
    in_place = [v for v in volumes if v.number not in found.anew]
    given_up = _gives_up(in_place, policy)
    said: list[AnyEffect] = []
    if given_up:
        names, counted = say_list([v.name for v in given_up]), policy.wishes.scheme.counted()
        have = "have" if len(given_up) > 1 else "has"
        words = f"What {names} {have} beyond {counted} is given up only while all the others can be read."
        said.append(Promise(sentence=words))
    elif in_place:
        said.append(NO_FEWER_COPIES)
    if anew:
        names, are = say_list([v.name for v in anew]), "are" if len(anew) > 1 else "is"
        words = f"{names} {are} held as before until all of it has been written anew and can be read."
        said.append(Promise(title="Meanwhile", sentence=words))
    return said


def _effects(view: SiteView, pool: Pool, volumes: Sequence[Volume], found: Adoption) -> list[AnyEffect]:
    numbers = [v.number for v in _in(pool, view, volumes)]
    names = say_list([v.name for v in _in(pool, view, volumes)])

    def on_disks(site: SiteView) -> Figure:
        plies = [p for number in numbers for p in site.volume_numbered(number).every_ply]
        return Figure("On disks", sum(p.placement.size for p in plies) * pool.strip_bytes, "bytes")

    rows = [Row(label=f"{names} on disks", before=on_disks(view), after=on_disks(found.after))]
    if found.anew.intersection(numbers):
        rows.append(Row(label="Both on disks, meanwhile", after=on_disks(found.during)))
    plies = [p for n in numbers for s in (view, found.after) for p in s.volume_numbered(n).plies]
    rows += room_rows(view, found.after, pool, {p.tier for p in plies})
    moves = found.moves[view.pool_row(pool)]
    told = moved(found.during, pool, moves, lost=True) if len(moves) else []
    return [Sums(pool=pool.name, rows=rows), *told]


def _warnings(view: SiteView, volumes: Sequence[Volume], policy: Policy, found: Adoption) -> list[Note]:
    """Each once, though it be of several volumes."""
    said: dict[tuple[str, str], Note] = {}
    for volume in volumes:
        pool, tier = view.pools[volume.pool], tier_of(policy.wishes)
        unread = landing_unread(view, volume) if _landing_goes(volume, found) else 0
        if unread:
            words = (
                f"{say_count(unread, 'extent')} of the landing of {volume.name} cannot be read: what waits "
            )
            words += f"{'there' if unread == 1 else 'in them'} is given up."
            note = warning("landing-given-up", words, about="volumes")
            said[note.code, note.sentence] = note
        for note in warnings_of(view, found.after, pool, policy.wishes.scheme, tier):
            said[note.code, note.sentence] = note
    return list(said.values())
