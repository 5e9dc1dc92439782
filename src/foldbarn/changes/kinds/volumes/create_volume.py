"""Making a volume: its extents are placed apart, and room for every strip is set aside on the disks."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import ClassVar, Protocol, TypeVar

import numpy as np
from pydantic import Field

from foldbarn.changes.engine.effects import (
    AnyEffect,
    DomainRow,
    Domains,
    Note,
    OnDisks,
    Promise,
    Row,
    Sums,
    TextRow,
    Texts,
)
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.kinds.policies.save_policy import answers_effect
from foldbarn.changes.kinds.pools.effects import room_rows
from foldbarn.changes.kinds.pools.schemes import SchemeAt
from foldbarn.changes.kinds.snapshots.reading import against_name, still_to_read
from foldbarn.changes.kinds.volumes.chosen import OnlyOnAt
from foldbarn.changes.kinds.volumes.setting_aside import (
    read_all_back,
    read_back,
    set_all_aside,
    set_aside,
    strips_by_node,
)
from foldbarn.changes.kinds.volumes.warnings import warnings_of
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.figures import Figure, Part, make_figure
from foldbarn.core.policies.adopting import new_landing
from foldbarn.core.policies.matching import (
    Wish,
    against,
    answers,
    aside_for,
    best,
    extents_for,
    first_extents,
    open_disks,
    place_new,
    room_for,
    rounded_size,
    tier_of,
)
from foldbarn.core.policies.policy import Policy, Wishes, against_draft
from foldbarn.core.pools.capacity import by_domain, stranded_slots
from foldbarn.core.pools.only_on import chosen, say_only_on
from foldbarn.core.pools.protection import Level, Scheme, mirror
from foldbarn.core.site import (
    ANYWHERE,
    UNWRITTEN,
    Contact,
    OnlyOn,
    Ply,
    Pool,
    SiteView,
    Tier,
    Volume,
    plain_volume,
)
from foldbarn.core.touching import Meant, Thing, Touch, shared
from foldbarn.core.units import parse_size, say_binary, say_count, say_list, say_size
from foldbarn.core.volumes.asked import asked_for, is_several
from foldbarn.core.volumes.bin import check_volume_name
from foldbarn.core.volumes.origins import (
    against_strips,
    as_read,
    copied_from,
    written_in,
)
from foldbarn.core.volumes.snapshots import Origin
from foldbarn.core.volumes.tiers import in_tiers, new_hot
from foldbarn.store import nodes, policies, pools, volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.tables import VolumeRow
from foldbarn.store.views import current_view, load_view

FIRST_PLANNED, MOST_PLIES = -2, 8  # numbers of plies that are not there yet; so many of a volume at the most
MOST_EXTENTS = 4_000_000  # placed in a few seconds; a larger volume wants larger extents


class CreateVolumeParams(Params):
    """A volume as wished for, or several: by a pattern of names such as web-{01..12}, or by a table with a
    name and a size in each line. size: as typed, such as "1 TiB", bytes, or for one volume "all that fits".
    policy: gives it its protection and its tier; without a pool one is chosen then that keeps it. Without a
    policy, copies and level are those of the pool's usual protection where nothing is said; thin: it takes
    room as it is written. only_on: names of the nodes and disks of which alone some may hold it; any of its
    pool where none is named.
    """

    name: str = ""
    pool: str = ""
    size: str = Field(default="", max_length=40)
    table: str = Field(default="", max_length=60_000)
    policy: str = ""
    copies: int | None = None
    level: Level | None = None
    tier: Tier = Tier.BULK
    thin: bool = False
    only_on: list[str] = Field(default=[], max_length=2000)


class Place(Inside):
    """A new volume in a pool (by number), with a disk for each of its strips. bytes: a whole number of the
    pool's allocation units; policy: number and version of the policy that it keeps; nth: of those that the
    change makes. origin: the volume, and the snapshot of it, that it is to be a copy of, by their numbers.
    """

    name: ClassVar[str] = "place"
    volume: str
    pool: int
    bytes: int
    scheme: SchemeAt
    tier: Tier
    policy: tuple[int, int] | None = None
    thin: bool = False  # where no policy says
    nth: int = 0
    origin: tuple[int, int] | None = None
    only_on: OnlyOnAt = OnlyOnAt()

    def carry_out(self, run: Run, session: Session) -> str:
        """Looks again at everything the plan looked at: what is made at the same time in the same pool comes
        before or after.
        """
        _, strips, extents = self.put(run, session, self.locked_view(session))
        return f"{say_count(strips, 'strip')} of {say_count(extents, 'extent')} placed."

    def locked_view(self, session: Session) -> SiteView:
        """The site, while nobody else places anything in the pool. Raises NotPossible."""
        locked = pools.locked(session, self.pool)
        view = load_view(session)
        if locked is None:
            raise NotPossible("The pool is gone.", about="pool")
        return view

    def put(self, run: Run, session: Session, view: SiteView) -> tuple[SiteView, int, int]:
        """Returns the site with it, its strips that have a disk, and its extents. Raises BarnError."""
        check_volume_name(view, self.volume)
        kept_by = policies.version_id(session, *self.policy) if self.policy else None
        kept = next((p for p in view.policies if (p.number, p.version) == self.policy), None)
        wishes = kept.wishes if kept else plainly(self.scheme.scheme(), self.tier, thin=self.thin)
        wish = wish_in(
            view,
            view.pool_numbered(self.pool),
            self.bytes,
            wishes,
            self.only_on.value(),
            copied=self.origin is not None,
        )
        source = self._source(view)
        row = VolumeRow(
            name=self.volume,
            pool_id=self.pool,
            size_bytes=wish.size,
            change_id=run.change,
            nth=self.nth,
            policy_version_id=kept_by,
            thin=self.thin,
            only_nodes=sorted(self.only_on.nodes),
            only_disks=sorted(self.only_on.disks),
        )
        origin = None
        if self.origin is not None:
            row.origin_id, row.origin_snapshot = self.origin
            origin = Origin(*self.origin)
        plies = plies_for(view, wish, self.volume, source)
        volumes.add(session, row, plies)
        after = with_new(view, wish, self.volume, plies, number=row.id, origin=origin)
        return after, strips_placed(plies), wish.extents

    def _source(self, view: SiteView) -> Volume | None:
        """The volume that it is to be a copy of. Raises Overtaken where there is nothing to copy any more."""
        if self.origin is None:
            return None
        source, _ = still_to_read(view, *self.origin)
        if refusal := against_strips(view, source, view.pool_row(view.pool_numbered(self.pool))):
            raise refusal
        return source

    def take_back(self, run: Run) -> None:
        """Its strips are dropped, and it is forgotten. Nobody moves its strips meanwhile: a rebuild may have
        had some on their way. One that is open stays: consumers may have written to it.
        """
        with transaction() as session:
            made = volumes.of_change(session, run.change, self.nth)
        if made is None or not made.forming:
            return
        with run.holding_strips(current_view().pool_numbered(made.pool)):
            heard = {n.number for n in current_view().nodes if n.contact == Contact.HEARD}
            silent: set[int] = set()
            for ply in made.plies:
                orders = {
                    node: {serial: [[ply, e, s] for e, s in strips] for serial, strips in held.items()}
                    for node, held in strips_by_node(ply).items()
                }
                told = {n: {"kind": "drop", "strips": strips} for n, strips in orders.items() if n in heard}
                run.tell_nodes(told, part=f"ply{ply}")
                silent |= orders.keys() - heard
            with run.writing() as session:
                nodes.owe(session, silent)
                # Copies of its strips that were on their way are dropped by the comparison that follows.
                if volumes.forget(session, made.number):
                    pools.look(session, [made.pool], f"{made.name} was withdrawn")
                announce(session, "site")


class Reserve(Outside):
    """Every agent sets the strips of the change's volume aside."""

    name: ClassVar[str] = "reserve"
    nth: int = 0  # as an earlier version planned it, one by one

    def carry_out(self, run: Run) -> str:
        made = _made(run, self.nth)
        told: set[int] = set()
        for ply in made.plies:
            told |= set_aside(run, ply, made.strip_bytes)
        return f"Reserved on {say_count(len(told), 'node')}."


class ReadStrips(Outside):
    """Each disk must hold what it was given; then the volume opens."""

    name: ClassVar[str] = "read-strips"
    nth: int = 0  # as an earlier version planned it, one by one

    def carry_out(self, run: Run) -> str:
        made = _made(run, self.nth)
        for ply in made.plies:
            read_back(run, ply)
        with run.writing() as session:
            volumes.open_(session, made.number)
            announce(session, "site")
        return "Every disk holds its strips."


# Of several volumes, so many are placed, set aside and read back together, unless these have more strips.
AT_ONCE, STRIPS_AT_ONCE = 100, 20_000


class PlaceAll(Inside):
    """Several new volumes in a pool, each beside those before it."""

    name: ClassVar[str] = "place-all"
    each: tuple[Place, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        view, strips = self.each[0].locked_view(session), 0
        for one in self.each:
            view, its, _ = one.put(run, session, view)
            strips += its
        return f"{say_count(strips, 'strip')} of {say_count(len(self.each), 'volume')} placed."

    def take_back(self, run: Run) -> None:
        for one in self.each:
            one.take_back(run)


class ReserveAll(Outside):
    """Every agent sets the strips of the change's volumes aside, from the first to before the last."""

    name: ClassVar[str] = "reserve-all"
    first: int
    last: int

    def carry_out(self, run: Run) -> str:
        return reserve_made(run, _all_made(run, self.first, self.last))


class ReadAll(Outside):
    """Each disk must hold what it was given; then the volumes open, from the first to before the last."""

    name: ClassVar[str] = "read-all"
    first: int
    last: int

    def carry_out(self, run: Run) -> str:
        return open_made(run, _all_made(run, self.first, self.last))


def reserve_made(run: Run, made: Sequence[volumes.Made]) -> str:
    """Has every agent set the strips of volumes of one pool aside; for people."""
    if not made:
        return "None of them is to be made."
    told = set_all_aside(run, [ply for one in made for ply in one.plies], made[0].strip_bytes)
    return f"Reserved on {say_count(len(told), 'node')}."


def open_made(run: Run, made: Sequence[volumes.Made]) -> str:
    """Opens volumes of which each disk holds what it was given; for people. Raises NotPossible where one does
    not.
    """
    read_all_back(run, [ply for one in made for ply in one.plies])
    with run.writing() as session:
        for one in made:
            volumes.open_(session, one.number)
        announce(session, "site")
    return f"Every disk holds its strips: {say_count(len(made), 'volume')} open."


@register
class CreateVolume(Kind[CreateVolumeParams]):
    """place (ours), reserve (agents), read back (from agents); of several volumes for one after the other."""

    name: ClassVar[str] = "create-volume"
    params: ClassVar[type[Params]] = CreateVolumeParams

    def plan(self, view: SiteView, params: CreateVolumeParams) -> Plan:
        if is_several(params.name, params.table):
            return _several(view, params)
        name = params.name.strip()
        title, blockers = f"Make {name or 'a volume'}", against_name(view, name)
        try:
            only = chosen(view, params.only_on)
            params, asked = _sized(view, params, only)
            policy, wishes, pool = wished(view, params, asked, only)
            wish = wish_in(view, pool, asked, wishes, only)
        except BarnError as error:
            return Plan(title=title, about=name, blockers=[*blockers, Note.of(error)])
        plies = plies_for(view, wish, name)
        after = with_new(view, wish, name, plies)
        return Plan(
            title=title,
            about=name,
            summary=_summary(wish, asked),
            steps=steps_for(wish, name, policy),
            effects=[*_choice(view, params, policy, wish), *_effects(view, after, wish, plies)],
            touches=touches_of([pool], policy),
            meant=Meant(pools=(pool,), policies=(policy,) if policy else ()),
            blockers=blockers,
            warnings=warnings_of(view, after, wish.pool, wish.scheme, wish.tier),
        )


def touches_of(pools_: Sequence[Pool], *policies_: Policy | None) -> list[Touch]:
    """What new volumes draw from, and what they are to keep, if anything."""
    return [
        *(shared(Thing.POOL, pool.number) for pool in pools_),
        *(shared(Thing.POLICY, policy.number) for policy in policies_ if policy is not None),
    ]


@dataclass(frozen=True, slots=True, eq=False)
class New:
    """One of several new volumes, as it is placed beside those before it. policy: that it keeps, if any;
    origin: as Place has it.
    """

    name: str
    wish: VolumeWish
    plies: tuple[Ply, ...]
    policy: Policy | None = None
    origin: tuple[int, int] | None = None


def _several(view: SiteView, params: CreateVolumeParams) -> Plan:
    about = params.name.strip() or "several volumes"
    try:
        each = [(one.name, one.size, params) for one in asked_for(params.name, params.size, params.table)]
        made, after = placed(view, each)
    except BarnError as error:
        return Plan(title=f"Make {about}", about=about, blockers=[Note.of(error)])
    # By number, as the first volume in each pool has it: of one wish all there are held alike.
    first = {new.wish.pool.number: new.wish for new in reversed(made)}
    mine, policy = [wish.pool for wish in first.values()], made[0].policy
    counted = say_count(len(made), "volume")
    size = say_size(sum(new.wish.size for new in made))
    return Plan(
        title=f"Make {counted}",
        about=about,
        summary=f"{counted}, {size} in {say_list([pool.name for pool in mine])}.",
        steps=[step for together in made_together(made) for step in _steps_of_several(together, policy)],
        effects=[*_effects_of_several(made), *room_effects(view, after, mine, made)],
        touches=touches_of(mine, policy),
        meant=Meant(pools=tuple(mine), policies=(policy,) if policy else ()),
        warnings=each_once(
            note for of in first.values() for note in warnings_of(view, after, of.pool, of.scheme, of.tier)
        ),
    )


def placed(view: SiteView, each: Iterable[tuple[str, int, CreateVolumeParams]]) -> tuple[list[New], SiteView]:
    """Several volumes by name, bytes, and what else is wished for, each placed beside those before it, and
    the site with all of them. Raises BarnError, with the name of the one that it is about.
    """
    made: list[New] = []
    after = view
    for name, size, params in each:
        try:
            check_volume_name(after, name)
            only = chosen(after, params.only_on)
            policy, wishes, pool = wished(after, params, size, only)
            wish = wish_in(after, pool, size, wishes, only)
        except BarnError as error:
            words = f"{name}: {error.sentence}"
            raise NotPossible(words, about=error.about, next_step=error.next_step) from error
        made.append(New(name, wish, plies_for(after, wish, name), policy))
        after = with_new(after, wish, name, made[-1].plies, number=-len(made))
    return made, after


class Made(Protocol):
    """What is wished for of one of several new volumes."""

    @property
    def wish(self) -> VolumeWish: ...


OneMade = TypeVar("OneMade", bound=Made)


def made_together(made: Sequence[OneMade]) -> Iterator[list[tuple[int, OneMade]]]:
    """Those that are placed, set aside and read back together, in one pool each, with their place among all:
    one after the other as they are asked for.
    """
    together: list[tuple[int, OneMade]] = []
    strips = 0
    for nth, new in enumerate(made):
        its = new.wish.aside * new.wish.scheme.strips
        full = len(together) == AT_ONCE or strips + its > STRIPS_AT_ONCE
        if together and (full or together[0][1].wish.pool != new.wish.pool):
            yield together
            together, strips = [], 0
        together.append((nth, new))
        strips += its
    if together:
        yield together


def _steps_of_several(together: Sequence[tuple[int, New]], policy: Policy | None) -> list[Planned]:
    first, last = together[0], together[-1]
    names = say_list([new.name for _, new in together], 3) if len(together) < 4 else ""
    about = names or f"{first[1].name} to {last[1].name}"
    place = PlaceAll(each=tuple(place_of(new.wish, new.name, policy, nth=nth) for nth, new in together))
    span = {"first": first[0], "last": last[0] + 1}
    return [
        Planned(
            place,
            f"Choose a disk for every strip of {about}",
            "What protects an extent goes to different domains.",
            about=about,
        ),
        Planned(
            ReserveAll(**span),
            f"Set the strips of {about} aside",
            "Every agent reserves its strips.",
            seconds=1,
            about=about,
        ),
        Planned(
            ReadAll(**span),
            f"Read the strips of {about} back",
            "Each disk must hold what it was given before the volumes open.",
            seconds=1,
            about=about,
        ),
    ]


def each_once(notes: Iterable[Note]) -> list[Note]:
    return list({(note.code, note.sentence): note for note in notes}.values())


def _effects_of_several(made: Sequence[New]) -> list[AnyEffect]:
    rows = [TextRow(label=new.name, before=say_size(new.wish.size), after=new.wish.pool.name) for new in made]
    return [
        Promise(sentence=made[0].wish.wishes.sentence()),
        Promise(title="Called off in between", sentence="What is open by then stays, and may be in use."),
        Texts(heads=["Volume", "Size", "In"], rows=rows),
    ]


def room_effects(
    view: SiteView, after: SiteView, mine: Sequence[Pool], made: Sequence[New]
) -> list[AnyEffect]:
    """What several new volumes take in their pools, and on which disks."""
    arriving: Counter[str] = Counter()
    effects: list[AnyEffect] = []
    for pool in mine:
        here = [new for new in made if new.wish.pool is pool]
        placements = [ply.placement.reshape(-1) for new in here for ply in new.plies]
        strips = sum(int((placement > 0).sum()) for placement in placements)
        tiers = {ply.tier for new in here for ply in new.plies if ply.extents_here}
        on_disks = Row(
            label="On disks, at once", after=Figure("On disks", strips * pool.strip_bytes, "bytes")
        )
        effects.append(Sums(pool=pool.name, rows=[on_disks, *room_rows(view, after, pool, tiers)]))
        taken = np.bincount(view.row_of_number[np.concatenate(placements)], minlength=len(view.disks) + 1)
        for row in np.flatnonzero(taken[: len(view.disks)]).tolist():
            arriving[view.disks[row].name] += int(taken[row]) * pool.strip_bytes
    return [*effects, OnDisks(arriving=dict(arriving))]


ALL = "all that fits"


def _sized(view: SiteView, params: CreateVolumeParams, only: OnlyOn) -> tuple[CreateVolumeParams, int]:
    """The bytes that are asked for. Of all that fits: as much as the largest volume may have, in the pool
    that has room for most of it where none is named. Raises NotFound, NotPossible.
    """
    if params.size.strip().lower() != ALL:
        return params, parse_size(params.size)
    if params.policy and not params.pool:
        policy = view.policy(params.policy)
        if draft := against_draft(policy):
            raise draft
        wishes = policy.wishes
        found = answers(view, wishes, 1, room=False, only=only)
        pools_ = [view.pools[one.pool] for one in found if one.keeps]
    else:
        _, wishes, pool = wished(view, params, 1, only)
        pools_ = [pool]
    room = {pool.number: room_for(view, pool, wishes, only).bytes for pool in pools_}
    # Sizes are rounded up to whole units: what is left below one is no room for it.
    room = {p.number: room[p.number] // p.allocation_bytes * p.allocation_bytes for p in pools_}
    best_ = max(pools_, key=lambda pool: room[pool.number], default=None)
    if best_ is None or not room[best_.number]:
        where = best_.name if best_ is not None and len(pools_) == 1 else "any pool"
        raise NotPossible(f"Nothing of it fits into {where}.", about="size", next_step="Make room first.")
    return params.model_copy(update={"pool": best_.name}), room[best_.number]


def wished(
    view: SiteView, params: CreateVolumeParams, asked: int, only: OnlyOn
) -> tuple[Policy | None, Wishes, Pool]:
    """The policy, if any, what is wished for, and the pool that was named or is chosen for so many bytes.
    Raises NotFound, NotPossible.
    """
    if not params.policy:
        if not params.pool:
            raise NotPossible("A volume draws from a pool, or keeps a policy.", about="pool")
        pool = view.pool(params.pool)
        usual = pool.usual
        level = params.level or usual.level
        copies = params.copies
        scheme = replace(usual, level=level) if copies is None else mirror(copies, level)
        return None, plainly(scheme, params.tier, thin=params.thin), pool
    said = params.copies is not None or params.level is not None or params.tier != Tier.BULK
    if said or params.thin:
        raise NotPossible(
            "A policy says how many copies there are, what keeps them apart, on which tier they lie, and "
            "when they take room.",
            about="copies",
            next_step="Leave copies, level, tier and thin out, or the policy.",
        )
    policy = view.policy(params.policy)
    if draft := against_draft(policy):
        raise draft
    if params.pool:
        return policy, policy.wishes, view.pool(params.pool)
    found = answers(view, policy.wishes, asked, room=False, only=only)
    mine = best(found)
    if mine is None:
        why = min(found, key=lambda a: len(a.against)).against[0] if found else None
        raise NotPossible(
            f"No pool can take it by {policy.name}. {why.sentence}" if why else "There is no pool yet.",
            about="policy",
            next_step=why.cure if why else "Form a pool first.",
        )
    return policy, policy.wishes, view.pools[mine.pool]


def plainly(scheme: Scheme, tier: Tier, *, thin: bool) -> Wishes:
    """What a volume without a policy wishes for."""
    return Wishes(scheme, scheme.survives, fast=tier == Tier.FAST, thin=thin)


def _choice(
    view: SiteView, params: CreateVolumeParams, policy: Policy | None, wish: VolumeWish
) -> list[AnyEffect]:
    """Why it is this pool, where nobody named one."""
    if policy is None or params.pool:
        return []
    found = answers(view, policy.wishes, parse_size(params.size), room=False, only=wish.only)
    mine = next(a for a in found if view.pools[a.pool].number == wish.pool.number)
    others = [a for a in found if a.keeps and a is not mine]
    words = f"{wish.pool.name} keeps {policy.name}, and would be {mine.full:.0%} full."
    if others:
        fuller = say_list([f"{view.pools[a.pool].name} ({a.full:.0%})" for a in others])
        words += f" {fuller} would be at least as full."
    else:
        words += " No other pool can take it."
    return [Promise(title="Chosen pool", sentence=words), answers_effect(view, found)]


def place_of(
    wish: VolumeWish,
    name: str,
    policy: Policy | None,
    *,
    nth: int = 0,
    origin: tuple[int, int] | None = None,
) -> Place:
    """The step that places a volume; origin: as that has it."""
    return Place(
        volume=name,
        pool=wish.pool.number,
        bytes=wish.size,
        scheme=SchemeAt.of(wish.scheme),
        tier=wish.tier,
        policy=(policy.number, policy.version) if policy else None,
        thin=wish.wishes.thin and policy is None,
        nth=nth,
        origin=origin,
        only_on=OnlyOnAt.of(wish.only),
    )


def steps_for(
    wish: VolumeWish, name: str, policy: Policy | None, *, origin: tuple[int, int] | None = None
) -> Sequence[Planned]:
    """The steps that make one volume; origin: as Place has it."""
    apart = "copies" if wish.scheme.is_mirror else "strips"
    return [
        Planned(
            place_of(wish, name, policy, origin=origin),
            "Choose a disk for every strip",
            f"Each extent's {apart} go to different domains.",
        ),
        Planned(Reserve(), "Set the strips aside", "Every agent reserves its strips.", seconds=1),
        Planned(
            ReadStrips(),
            "Read the strips back",
            "Each disk must hold what it was given before the volume opens.",
            seconds=1,
        ),
    ]


@dataclass(frozen=True, slots=True)
class VolumeWish:
    """A volume that its pool can take as it stands: bytes, extents. only: where it may lie; copied: it is to
    be a copy of another one.
    """

    pool: Pool
    size: int
    extents: int
    scheme: Scheme
    tier: Tier
    wishes: Wishes
    only: OnlyOn = ANYWHERE
    copied: bool = False

    @property
    def first(self) -> int:
        """Extents that lie on the fast tier as it is made; those of a copy go up once it stands alone."""
        return 0 if self.copied else first_extents(self.pool, self.wishes)

    @property
    def extent_bytes(self) -> int:
        """Bytes of data in an extent."""
        return self.scheme.k * self.pool.strip_bytes

    @property
    def aside(self) -> int:
        """Extents for which room is set aside as it is made."""
        return aside_for(self.wishes, self.extents)


# Which field each wish that is not kept is about.
ABOUT = {
    Wish.OPEN: "pool",
    Wish.ENCRYPTION: "pool",
    Wish.COMPRESSION: "pool",
    Wish.TIER: "tier",
    Wish.DOMAINS: "copies",
    Wish.ROOM: "size",
    Wish.LANDING: "size",
    Wish.SHARE: "pool",
    Wish.SIZE: "size",
    Wish.LABELS: "pool",
    Wish.CACHE: "pool",
}


def wish_in(
    view: SiteView,
    pool: Pool,
    asked: int,
    wishes: Wishes,
    only: OnlyOn = ANYWHERE,
    *,
    copied: bool = False,
) -> VolumeWish:
    """The one rule of what a pool takes, for the plan and for the step. asked: bytes; copied: as VolumeWish
    has it. Raises NotPossible with what stands against it.
    """
    size, scheme = rounded_size(asked, pool), wishes.scheme
    extents = extents_for(size, pool, scheme)
    if extents > MOST_EXTENTS:
        raise NotPossible(
            f"{say_size(size)} would take {extents:,} extents of "
            f"{say_binary(scheme.k * pool.strip_bytes)}; {MOST_EXTENTS:,} are the most for one volume.",
            about="size",
        )
    for found in against(view, pool, wishes, asked, only=only, rises=copied):
        raise NotPossible(found.sentence, about=ABOUT[found.wish], next_step=found.cure)
    return VolumeWish(pool, size, extents, scheme, tier_of(wishes), wishes, only, copied)


def _made(run: Run, nth: int) -> volumes.Made:
    with transaction() as session:
        made = volumes.of_change(session, run.change, nth)
    if made is None:
        raise NotPossible("The volume is gone.", next_step="Withdraw this change.")
    return made


def _all_made(run: Run, first: int, last: int) -> list[volumes.Made]:
    with transaction() as session:
        made = volumes.all_of_change(session, run.change, first, last)
    if len(made) < last - first:
        raise NotPossible("One of the volumes is gone.", next_step="Withdraw this change.")
    return made


def plies_for(view: SiteView, wish: VolumeWish, name: str, source: Volume | None = None) -> tuple[Ply, ...]:
    """The plies of a new volume, whose strips have still to be made. The same site and name give the same
    placement. source: what it is to be a copy of; what asked of it most goes up once it stands alone.
    """
    placement = np.full((wish.extents, wish.scheme.strips), UNWRITTEN, dtype=np.int32)
    each = np.arange(wish.extents)
    wanted = (each >= wish.first) & (each < wish.aside)
    written = np.zeros(wish.extents, dtype=np.bool_)
    if source is not None:
        written = written_in(source, wish.scheme, wish.extents)
        wanted |= written
    count = int(wanted.sum())
    placement[wanted] = place_new(view, wish.pool, wish.tier, wish.scheme, count, name, only=wish.only)
    if source is not None:
        placement = copied_from(placement, written, wish.aside)
    row = view.pool_row(wish.pool)
    volume = plain_volume(0, name, row, wish.size, wish.scheme, placement, tier=wish.tier)
    volume = replace(volume, only_on=wish.only)
    landing = new_landing(view, volume, wish.wishes, view.disk_free.copy())
    plies = volume.plies
    if landing is not None:  # the whole volume is forming, and its landing with it
        plies = (*plies, replace(landing, forming=False))
    if source is None and (scheme := wish.wishes.hot_scheme):
        plies = (*plies, _in_first(view, wish, new_hot(volume, scheme)))
        plies, _ = in_tiers(plies, each < wish.first)
    return plies


def _in_first(view: SiteView, wish: VolumeWish, hot: Ply) -> Ply:
    """A hot ply with what lies in it from the begin; its strips have still to be made."""
    if not wish.first:
        return hot
    count, only = wish.first * wish.scheme.k, wish.only
    placement = hot.placement.copy()
    name = f"{hot.name} first"
    placement[:count] = place_new(view, wish.pool, hot.tier, hot.scheme, count, name, only=only)
    return replace(hot, placement=placement)


def with_new(
    view: SiteView,
    wish: VolumeWish,
    name: str,
    plies: tuple[Ply, ...],
    *,
    number: int = 0,
    origin: Origin | None = None,
) -> SiteView:
    """The site with the volume, under a number of no other; origin: what it is a copy of."""
    # Nor has a ply of it the number of another: what is held and what is to come of one are told apart by it.
    first = FIRST_PLANNED - MOST_PLIES * len(view.volumes)
    plies, anew = tuple(replace(ply, number=first - place) for place, ply in enumerate(plies)), None
    if origin is not None:
        source = view.volume_numbered(origin.volume).whole.number
        whole, anew = as_read(plies[0], origin, source)
        plies = (whole, *plies[1:])
    pool = view.pool_row(wish.pool)
    volume = Volume(number, name or "it", pool, wish.size, plies, anew=anew, origin=origin, only_on=wish.only)
    return replace(view, volumes=(*view.volumes, volume))


def strips_placed(plies: Iterable[Ply]) -> int:
    """Strips that have a disk, though what is to come lie nowhere yet."""
    return sum(int(((ply.placement > 0) | (ply.placement < UNWRITTEN)).sum()) for ply in plies)


def _summary(wish: VolumeWish, asked: int) -> str:
    pool = wish.pool
    rounded = (
        f", rounded up from {say_size(asked)} to whole units of {say_binary(pool.allocation_bytes)}"
        if wish.size > asked * 1.001
        else ""
    )
    return (
        f"{say_size(wish.size)}{rounded} in {pool.name}, as {say_count(wish.extents, 'extent')} "
        f"of {say_binary(wish.extent_bytes)}."
    )


def _effects(view: SiteView, after: SiteView, wish: VolumeWish, plies: tuple[Ply, ...]) -> list[AnyEffect]:
    pool = wish.pool
    whole, *others = [
        np.bincount(view.row_of_number[ply.placement].reshape(-1), minlength=len(view.disks)) for ply in plies
    ]
    # What lies nowhere yet is counted beyond the last of them.
    whole, others = whole[: len(view.disks)], [other[: len(view.disks)] for other in others]
    taken = sum(others, start=whole)
    arriving = {view.disks[r].name: int(taken[r]) * pool.strip_bytes for r in np.flatnonzero(taken).tolist()}
    label = "On the bulk tier" if wish.first else "On disks, at once" if wish.wishes.thin else "On disks"
    rows = [
        Row(label=label, after=_on_disks(wish, wish.aside - wish.first)),
        *room_rows(view, after, pool, {ply.tier for ply in plies if ply.extents_here}),
    ]
    if wish.wishes.thin:
        rows.insert(1, Row(label="On disks once all is written", after=_on_disks(wish, wish.extents)))
    if landing := wish.wishes.landing_scheme:
        rows.insert(1, Row(label="Landing on the fast tier", after=_landing_figure(wish, plies[1], landing)))
    if wish.first and (hot := wish.wishes.hot_scheme):
        rows.insert(1, Row(label="On the fast tier", after=_first_figure(wish, hot)))
    where = [Promise(title="Only on", sentence=f"{say_only_on(view, wish.only)}.")] if wish.only else []
    return [
        Promise(sentence=wish.wishes.sentence()),
        *where,
        Sums(rows=rows),
        OnDisks(arriving=arriving),
        _domains(view, wish, whole),
    ]


def _on_disks(wish: VolumeWish, extents: int) -> Figure:
    scheme = wish.scheme
    return make_figure(
        "On disks",
        "bytes",
        [
            Part("+", "extents", extents, "count"),
            Part("×", "bytes of a strip", wish.pool.strip_bytes, "bytes"),
            Part("×", "copies" if scheme.is_mirror else "strips of an extent", scheme.strips, "count"),
        ],
        f"Rounded up to whole extents of {say_binary(wish.extent_bytes)}.",
    )


def _landing_figure(wish: VolumeWish, ply: Ply, scheme: Scheme) -> Figure:
    return make_figure(
        "Landing",
        "bytes",
        [
            Part("+", "extents", ply.extents, "count"),
            Part("×", "bytes of a strip", wish.pool.strip_bytes, "bytes"),
            Part("×", "copies", scheme.strips, "count"),
        ],
        f"{wish.wishes.landing} % of the volume's size, rounded up to whole extents.",
    )


def _first_figure(wish: VolumeWish, scheme: Scheme) -> Figure:
    return make_figure(
        "On the fast tier",
        "bytes",
        [
            Part("+", "strips of data", wish.first * wish.scheme.k, "count"),
            Part("×", "bytes of a strip", wish.pool.strip_bytes, "bytes"),
            Part("×", "copies", scheme.strips, "count"),
        ],
        f"Its first {say_binary(wish.wishes.first)}, rounded up to whole extents.",
    )


def _domains(view: SiteView, wish: VolumeWish, taken: np.ndarray) -> Domains:
    """taken: strips by disk row."""
    pool, scheme = wish.pool, wish.scheme
    rows = open_disks(view, pool, wish.tier, wish.only)
    spread_of = view.domain_of(scheme.level)[rows]
    names = view.domain_names(scheme.level)
    labels, room = by_domain(view.disk_free[rows], spread_of)
    takes = by_domain(taken[rows], spread_of)[1]
    left = stranded_slots(view.disk_free[rows], spread_of, scheme)
    return Domains(
        level=scheme.level.value,
        rows=[
            DomainRow(
                name=names[d],
                room=r * pool.strip_bytes,
                takes=t * pool.strip_bytes,
                stranded=left[d] * pool.strip_bytes,
            )
            for d, r, t in zip(labels.tolist(), room.tolist(), takes.tolist(), strict=True)
        ],
    )
