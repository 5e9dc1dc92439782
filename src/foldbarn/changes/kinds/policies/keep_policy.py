"""Another policy, or a newer version of one, for volumes in use, which are read and written all the while."""

from __future__ import annotations

from collections.abc import Sequence
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
)
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.moving import Mover
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside, Payload
from foldbarn.changes.kinds.pools.effects import NO_FEWER_COPIES, estimate_of, moved
from foldbarn.changes.kinds.pools.rebuild import DropOld, OfPool
from foldbarn.changes.kinds.pools.schemes import SchemeAt
from foldbarn.changes.kinds.volumes.warnings import warnings_of
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.figures import Figure
from foldbarn.core.moving.rebuild import crowded_strips, lost_strips
from foldbarn.core.policies.adopting import Adoption, Holding, Opposed, adopt, held_as
from foldbarn.core.policies.matching import Wish
from foldbarn.core.policies.policy import Policy
from foldbarn.core.pools.capacity import free_figure, pool_space
from foldbarn.core.site import Pool, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, Touch, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.store import policies, pools
from foldbarn.store import volumes as store_volumes
from foldbarn.store.database import announce
from foldbarn.store.views import current_view, load_view

MOST_NAMED = 3  # in a title


class KeepPolicyParams(Params):
    """Volumes by name, and the policy whose newest version they are to keep."""

    volumes: list[str] = Field(min_length=1, max_length=500)
    policy: str


class HeldAs(Payload):
    """How a volume (by number) was held when the change was planned. kept: number and version of its
    policy.
    """

    volume: int
    scheme: SchemeAt
    kept: tuple[int, int] | None

    @classmethod
    def of(cls, volume: Volume) -> HeldAs:
        held = Holding.of(volume)
        return cls(volume=volume.number, scheme=SchemeAt.of(held.scheme), kept=held.policy)

    def holding(self) -> Holding:
        return Holding(self.scheme.scheme(), self.kept)


class Adopt(Outside):
    """Volumes of a pool (by number) are held as a version of a policy has it from here on."""

    name: ClassVar[str] = "adopt"
    pool: int
    policy: int
    version: int
    volumes: tuple[HeldAs, ...]

    def carry_out(self, run: Run) -> str:
        with run.holding_strips(current_view().pool_numbered(self.pool)), run.writing() as session:
            pools.locked(session, self.pool)
            view = load_view(session)
            policy = self._policy(view)
            asked = [v for v in self._there(view) if v.policy != (self.policy, self.version)]
            for volume in asked:
                if HeldAs.of(volume) not in self.volumes:
                    words = f"{volume.name} keeps another policy by now."
                    raise Overtaken(words, next_step="Look at it again.")
            found = adopt(view, asked, policy)
            for one in found.opposed:
                raise Overtaken(one.against.sentence, about=one.volume, next_step=one.against.cure)
            version = policies.version_id(session, self.policy, self.version)
            for volume in asked:
                ply = found.after.volume_numbered(volume.number).plies[0]
                store_volumes.hold_as(session, ply.number, ply.scheme, ply.placement, version)
            announce(session, "site")
        kept = say_count(len(self._there(view)), "volume")
        return f"{kept} {'keeps' if len(self.volumes) == 1 else 'keep'} version {self.version}."

    def take_back(self, run: Run) -> None:
        """They keep what they kept before; what they gave up for it is written again, as all that is lost."""
        view = current_view()
        pool = next((p for p in view.pools if p.number == self.pool), None)
        if pool is None:
            return
        with run.holding_strips(pool), run.writing() as session:
            pools.locked(session, self.pool)
            view = load_view(session)
            before = {held.volume: held.holding() for held in self.volumes}
            mine = [v for v in self._there(view) if v.policy == (self.policy, self.version)]
            for volume in mine:
                held = before[volume.number]
                ply = held_as(view, volume, held).volume_numbered(volume.number).plies[0]
                version = policies.version_id(session, *held.policy) if held.policy else None
                store_volumes.hold_as(session, ply.number, ply.scheme, ply.placement, version)
            if mine:
                words = f"{say_list([v.name for v in mine])} went back to what was kept before"
                pools.look(session, [self.pool], words)
            announce(session, "site")

    def _policy(self, view: SiteView) -> Policy:
        found = next((p for p in view.policies if (p.number, p.version) == (self.policy, self.version)), None)
        if found is None:
            raise Overtaken("The policy is gone.", about="policy")
        return found

    def _there(self, view: SiteView) -> list[Volume]:
        numbers = {held.volume for held in self.volumes}
        return [v for v in view.volumes if v.number in numbers]


class CatchUp(OfPool):
    """Writes what volumes (by number) lack for their policy, and moves apart what it wants apart."""

    name: ClassVar[str] = "catch-up"
    moves_strips: ClassVar[bool] = True
    volumes: tuple[int, ...]

    def carry_out(self, run: Run) -> str:
        copied, stuck = Mover(run, "catch-up", self.pool, rate="rebuild_rate").carry()
        view = current_view()
        for volume in view.volumes:
            if volume.number in self.volumes:
                left = sum(int((lost_strips(view, p) | crowded_strips(view, p)).sum()) for p in volume.plies)
                if left:
                    words = f"{say_count(left, 'strip')} of {volume.name} could not be written."
                    raise NotPossible(f"{words} {stuck}".strip(), next_step="Resume it when there is room.")
        return f"{say_count(copied, 'strip')} written."


@register
class KeepPolicy(Kind[KeepPolicyParams]):
    """For each pool: adopt (ours), drop old (agents, where strips are given up), catch up, drop old."""

    name: ClassVar[str] = "keep-policy"
    params: ClassVar[type[Params]] = KeepPolicyParams

    def plan(self, view: SiteView, params: KeepPolicyParams) -> Plan:
        title, about = f"Let {_said(params.volumes)} keep {params.policy or '...'}", params.policy
        try:
            volumes = list({v.number: v for v in map(view.volume, params.volumes)}.values())
            policy = view.policy(params.policy)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        found = adopt(view, volumes, policy)
        if found.opposed:
            blockers = [_blocker(o) for o in found.opposed]
            return Plan(title=title, about=policy.name, blockers=blockers)
        mine = [view.pools[row] for row in sorted({v.pool for v in volumes})]
        return Plan(
            title=f"Let {_said([v.name for v in volumes])} keep {policy.name}",
            about=policy.name,
            summary=_summary(view, found, policy),
            steps=[step for pool in mine for step in _steps(view, pool, volumes, policy, found)],
            effects=[
                _promises(view, volumes, policy),
                _meanwhile(volumes, policy),
                *(effect for pool in mine for effect in _effects(view, pool, volumes, found)),
            ],
            touches=_touches(mine, volumes, policy),
            meant=Meant(pools=tuple(mine), volumes=tuple(volumes), policies=(policy,)),
            warnings=_warnings(view, volumes, policy, found),
        )


def _said(names: Sequence[str]) -> str:
    return say_list(list(names)) if len(names) <= MOST_NAMED else say_count(len(names), "volume")


def _blocker(opposed: Opposed) -> Note:
    found = opposed.against
    code = UNCHANGED if found.wish == Wish.UNCHANGED else ""
    about = "volumes" if found.wish == Wish.WHOLE else "policy"
    return Note(sentence=found.sentence, about=about, next_step=found.cure, code=code)


def _in(pool: Pool, view: SiteView, volumes: Sequence[Volume]) -> list[Volume]:
    return [v for v in volumes if view.pools[v.pool].number == pool.number]


def _gives_up(volumes: Sequence[Volume], policy: Policy) -> list[Volume]:
    """Those that have more strips than the policy wants."""
    return [v for v in volumes if v.plies[0].scheme.strips > policy.wishes.scheme.strips]


def _summary(view: SiteView, found: Adoption, policy: Policy) -> str:
    written = sum(len(moves) * view.pools[row].strip_bytes for row, moves in found.moves.items())
    said = f"{say_size(written)} to be written" if written else "Nothing has to be written"
    return f"{policy.wishes.sentence()} {said}."


def _steps(
    view: SiteView, pool: Pool, volumes: Sequence[Volume], policy: Policy, found: Adoption
) -> list[Planned]:
    mine = _in(pool, view, volumes)
    adopting = Adopt(
        pool=pool.number,
        policy=policy.number,
        version=policy.version,
        volumes=tuple(HeldAs.of(v) for v in mine),
    )
    given_up = _gives_up(mine, policy)
    again = " Withdrawn after this, the strips that are given up are written again." if given_up else ""
    steps = [
        Planned(
            adopting,
            f"Hold {_said([v.name for v in mine])} to it",
            f"From here on this is what is kept whole.{again}",
        )
    ]
    drop = Planned(
        DropOld(pool=pool.number), "Let go of what it has no place for", "Their room is free again."
    )
    if given_up:
        steps.append(drop)
    moves = found.moves[view.pool_row(pool)]
    other = any(v.plies[0].scheme != policy.wishes.scheme for v in mine)
    if (other and len(given_up) < len(mine)) or len(moves):
        seconds = estimate_of(found.after, pool, moves, lost=True).seconds
        numbers = tuple(v.number for v in mine)
        writing = CatchUp(pool=pool.number, volumes=numbers)
        steps.append(
            Planned(writing, "Write what it lacks", "Each strip where the policy has it.", seconds=seconds)
        )
        steps.append(
            Planned(
                DropOld(pool=pool.number), "Let go of the old strips", "Only after the new ones are whole."
            )
        )
    return steps


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
        said = kept.wishes.sentence() if kept else f"{volume.plies[0].scheme.sentence().capitalize()}."
        by = f" ({kept.name}, version {kept.version})" if kept else ""
        rows.append(TextRow(label=volume.name, before=f"{said}{by}", after=policy.wishes.sentence()))
    return Texts(heads=["Volume", "It is promised", "From here on"], rows=rows)


def _meanwhile(volumes: Sequence[Volume], policy: Policy) -> AnyEffect:
    given_up = _gives_up(volumes, policy)
    if not given_up:
        return NO_FEWER_COPIES
    counted = policy.wishes.scheme.counted()
    words = (
        f"What {_said([v.name for v in given_up])} {'have' if len(given_up) > 1 else 'has'} beyond {counted}"
    )
    return Promise(sentence=f"{words} is given up only while all the others can be read.")


def _effects(view: SiteView, pool: Pool, volumes: Sequence[Volume], found: Adoption) -> list[AnyEffect]:
    mine = _in(pool, view, volumes)
    strips = [
        sum(p.placement.size for v in mine for p in site.volume_numbered(v.number).plies) * pool.strip_bytes
        for site in (view, found.after)
    ]
    moves = found.moves[view.pool_row(pool)]
    tiers = sorted({v.plies[0].tier for v in mine})
    rows = [
        Row(
            label=f"{_said([v.name for v in mine])} on disks",
            before=Figure("On disks", strips[0], "bytes"),
            after=Figure("On disks", strips[1], "bytes"),
        )
    ]
    for tier in tiers:
        space, after = (pool_space(site, pool).of(tier) for site in (view, found.after))
        where = pool.name if len(view.tiers_of(pool)) == 1 else f"{pool.name}, {tier.value} tier"
        rows += [
            Row(
                label=f"Free in {where}",
                before=free_figure(pool, space),
                after=free_figure(pool, after),
            ),
            Row(
                label=f"{where} full",
                before=Figure("full", space.full, "share"),
                after=Figure("full", after.full, "share"),
            ),
        ]
    told = moved(found.after, pool, moves, lost=True) if len(moves) else []
    return [Sums(pool=pool.name, rows=rows), *told]


def _warnings(view: SiteView, volumes: Sequence[Volume], policy: Policy, found: Adoption) -> list[Note]:
    """Each once, though it be of several volumes."""
    said: dict[tuple[str, str], Note] = {}
    for volume in volumes:
        pool, ply = view.pools[volume.pool], volume.plies[0]
        for note in warnings_of(view, found.after, pool, policy.wishes.scheme, ply.tier):
            said[note.code, note.sentence] = note
    return list(said.values())
