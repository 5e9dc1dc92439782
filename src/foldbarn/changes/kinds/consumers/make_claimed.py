"""Making the volumes of claims: what each may have is judged once more where it is promised, so that a
thousand at once never pass a limit.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside, Payload
from foldbarn.changes.kinds.consumers.touched_claims import path_of
from foldbarn.changes.kinds.volumes.create_volume import (
    Place,
    VolumeWish,
    made_together,
    open_made,
    place_of,
    plies_for,
    reserve_made,
    touches_of,
    wish_in,
    with_new,
)
from foldbarn.core.claims.admission import Admission, Verdict, admission_of
from foldbarn.core.claims.grants import Had
from foldbarn.core.claims.kept import KeptClaim
from foldbarn.core.claims.naming import volume_name
from foldbarn.core.claims.places import stands_near
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.names import fitting, folded
from foldbarn.core.policies.policy import Policy
from foldbarn.core.shares.addresses import with_fewest
from foldbarn.core.shares.share import Share
from foldbarn.core.site import Ply, Pool, SiteView
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.store import claims, pools, shares, volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view

MOST_CLAIMS = 1000  # of one change


class MakeClaimedParams(Params):
    """Claims by number."""

    claims: list[int] = Field(min_length=1, max_length=MOST_CLAIMS)


class ForClaim(Payload):
    """The volume that a claim (by number) is to get."""

    claim: int
    place: Place


class PlaceClaimed(Inside):
    """The volumes of several claims, in one pool, each promised and placed beside those before it. What may
    not have one by now is left out.
    """

    name: ClassVar[str] = "place-claimed"
    each: tuple[ForClaim, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        pool = self.each[0].place.pool
        if pools.locked(session, pool) is None:
            raise Overtaken("The pool is gone.", about="pool")
        before = load_view(session)
        numbers = [one.claim for one in self.each]
        mine = [kept for kept in before.claims if kept.number in set(numbers)]
        claims.lock_grants(session, {(kept.orchestrator, kept.claim.namespace) for kept in mine})
        rows = claims.locked(session, numbers)
        view = load_view(session)
        judges = {one.number: _Judge(admission_of(view, one.number)) for one in view.orchestrators}
        known = {kept.number: kept for kept in view.claims}
        taken, made = _taken(view), 0
        for one in self.each:
            kept = known.get(one.claim)
            if kept is None or kept.life not in (Life.WAITING, Life.MAKING) or kept.volume is not None:
                continue
            judge = judges[kept.orchestrator]
            said = judge.judge(kept)
            if not said.fits or said.storage_class is None:
                continue
            name = one.place.volume
            if folded(name) in taken:
                name = volume_name(kept.claim, taken)
            place = one.place.model_copy(update={"volume": name})
            other = said.storage_class.pool not in (None, pool) or place.origin != _origin(kept)
            if other or place.policy is None or place.policy[0] != said.storage_class.policy:
                continue  # judged otherwise by now: it is made another time
            try:
                view, _, _ = place.put(run, session, view)
            except BarnError:
                continue  # such as no room left beside the others
            if kept.claim.wants_share and not self._share(run, session, view, kept, place):
                continue
            judge.promise(kept, said)
            taken.add(folded(name))
            row, number = rows[one.claim], view.volumes[-1].number
            claims.set_life(row, Life.MAKING)
            claims.say_hindrance(row, None)
            row.volume_id, row.promised = number, kept.claim.size
            row.policy, row.class_name = said.storage_class.policy, said.storage_class.name
            row.reclaim = said.storage_class.reclaim.value
            # What lies on a copy is what was made on its origin.
            like = view.last_claim_of(kept.origin.volume) if kept.origin is not None else None
            of = like.file_system if like is not None else said.storage_class.file_system
            row.file_system, row.mount_options = of.value, list(said.storage_class.mount_options)
            row.by_secret = bool(view.orchestrator_numbered(kept.orchestrator).secrets)
            made += 1
        if not made and len(self.each) == 1:
            raise Overtaken("It may not have a volume by now.", about="claims")
        claims.note(session)
        return f"{say_count(made, 'volume')} placed, of {say_count(len(self.each), 'claim')}."

    def _share(self, run: Run, session: Session, view: SiteView, kept: KeptClaim, place: Place) -> bool:
        """Makes the share of a claim on the volume that was just placed. Nobody may mount it yet: that the
        duty sees to which knows the orchestrator's nodes.
        """
        shares.one_at_a_time(session)
        service = shares.read_service(session)
        if service is None:
            return False
        known = shares.read_shares(session)
        share = Share(
            number=0,
            name=fitting(place.volume, [one.name for one in known]),
            volume=0,
            address=with_fewest(service, known).number,
            quota=kept.claim.size,
        )
        return shares.add(session, run.change, share, (), place.nth)

    def take_back(self, run: Run) -> None:
        for one in self.each:
            with transaction() as session:
                made = volumes.of_change(session, run.change, one.place.nth)
                if made is not None and made.forming:
                    claims.parted(session, [made.number])
                    claims.note(session)
                    announce(session, "site")
            one.place.take_back(run)


class _Judge:
    """Judges one claim after the other, each with what was promised to those before it. Which pool takes it
    is looked at as it is placed.
    """

    def __init__(self, admission: Admission) -> None:
        self.had = {whose: list(mine) for whose, mine in admission.had.items()}
        self.admission = replace(admission, had=self.had)

    def judge(self, kept: KeptClaim) -> Verdict:
        return self.admission.judge_kept(kept, has_volume=True)

    def pool_for(self, view: SiteView, kept: KeptClaim) -> Verdict:
        """With the pool that takes it best, as the site is with those before it."""
        return replace(self.admission, view=view, placed={}).judge_kept(kept)

    def promise(self, kept: KeptClaim, said: Verdict) -> None:
        assert said.storage_class is not None
        whose = kept.claim.namespace, said.storage_class.policy
        self.had.setdefault(whose, []).append(Had(kept.claim.uid, said.storage_class.name, kept.claim.size))


def _taken(view: SiteView) -> set[str]:
    return {folded(volume.name) for volume in view.volumes}


class ReserveClaimed(Outside):
    """Every agent sets the strips of these volumes aside: those of the change from the first to before the
    last.
    """

    name: ClassVar[str] = "reserve-claimed"
    first: int
    last: int

    def carry_out(self, run: Run) -> str:
        return reserve_made(run, _made(run, self.first, self.last))


class ReadClaimed(Outside):
    """Each disk must hold what it was given; then the volumes open, and the orchestrators are told."""

    name: ClassVar[str] = "read-claimed"
    first: int
    last: int

    def carry_out(self, run: Run) -> str:
        return open_made(run, _made(run, self.first, self.last))


def _made(run: Run, first: int, last: int) -> list[volumes.Made]:
    with transaction() as session:
        return volumes.all_of_change(session, run.change, first, last)


_Usual = tuple[str, tuple[str, ...]]  # the name of a class, and where the first pod runs


def _origin(kept: KeptClaim) -> tuple[int, int] | None:
    """The volume and the snapshot of it that a claim's is to be a copy of."""
    return None if kept.origin is None else (kept.origin.volume, kept.origin.snapshot)


@dataclass(frozen=True, slots=True, eq=False)
class _New:
    kept: KeptClaim
    name: str
    wish: VolumeWish
    policy: Policy
    plies: tuple[Ply, ...]


@register
class MakeClaimed(Kind[MakeClaimedParams]):
    """promise and place (ours), reserve (agents), read back (from agents)."""

    name: ClassVar[str] = "make-claimed"
    params: ClassVar[type[Params]] = MakeClaimedParams

    def plan(self, view: SiteView, params: MakeClaimedParams) -> Plan:
        try:
            chosen = [view.claim_numbered(number) for number in dict.fromkeys(params.claims)]
        except BarnError as error:
            return Plan(title="Make volumes for claims", about="claims", blockers=[Note.of(error)])
        about = chosen[0].path if len(chosen) == 1 else say_count(len(chosen), "claim")
        title = f"Make the volume{'s' if len(chosen) > 1 else ''} of {about}"
        made, refused = _placed(view, chosen)
        blockers = [] if made else [Note.of(error) for error in refused[:1]]
        here = [new.wish.pool for new in made]
        mine = list({pool.number: pool for pool in here}.values())
        policies = {new.policy.number: new.policy for new in made}
        touches = {touch for pool in mine for touch in touches_of([pool], None)}
        touches |= {touch for policy in policies.values() for touch in touches_of([], policy)}
        touches |= {alone(Thing.CLAIM, new.kept.number) for new in made}
        if any(new.kept.claim.wants_share for new in made):
            touches.add(shared(Thing.FILES))
        origins = {new.kept.origin.volume for new in made if new.kept.origin is not None}
        touches |= {shared(Thing.VOLUME, number) for number in origins}
        return Plan(
            title=title,
            about=about,
            summary=f"{say_size(sum(new.wish.size for new in made))} in {say_list([p.name for p in mine])}."
            if made
            else "",
            steps=[step for together in made_together(made) for step in _steps(together)],
            effects=[
                Promise(title="For whom", sentence="Each is for its claim alone, and bound to it by itself."),
                Texts(heads=["Claim", "Volume", "In"], rows=_rows(view, made)),
            ],
            touches=sorted(touches),
            meant=Meant(pools=tuple(mine), policies=tuple(policies.values())),
            blockers=blockers,
        )


def _placed(view: SiteView, chosen: Sequence[KeptClaim]) -> tuple[list[_New], list[NotPossible]]:
    """Those that get a volume, each placed beside those before it, pool by pool; and what stands against the
    others.
    """
    judges: dict[int, _Judge] = {}
    made: list[_New] = []
    refused: list[NotPossible] = []
    after, taken = view, _taken(view)
    usual: dict[_Usual, Pool] = {}  # where the last of each class went
    for kept in chosen:
        if kept.life not in (Life.WAITING, Life.MAKING) or kept.volume is not None:
            refused.append(NotPossible(f"{kept.path} has a volume, or wants none any more.", about="claims"))
            continue
        judge = judges.setdefault(kept.orchestrator, _Judge(admission_of(view, kept.orchestrator)))
        try:
            said, pool, wish = _wished(judge, after, kept, usual)
        except NotPossible as error:
            refused.append(error)
            continue
        assert said.policy is not None
        assert said.storage_class is not None
        usual[said.storage_class.name, kept.near] = pool
        name = volume_name(kept.claim, taken)
        taken.add(folded(name))
        source = view.volume_numbered(kept.origin.volume) if kept.origin is not None else None
        plies = plies_for(after, wish, name, source)
        made.append(_New(kept, name, wish, said.policy, plies))
        after = with_new(after, wish, name, plies, number=-len(made), origin=kept.origin)
        judge.promise(kept, said)
    order = {pool.number: row for row, pool in enumerate(view.pools)}
    return sorted(made, key=lambda new: order[new.wish.pool.number]), refused


def _wished(
    judge: _Judge, view: SiteView, kept: KeptClaim, usual: Mapping[_Usual, Pool]
) -> tuple[Verdict, Pool, VolumeWish]:
    """Where the one of its class before it went, as long as there is room; else where it is best. Raises
    NotPossible.
    """
    said = judge.judge(kept)
    if said.fits and said.policy is not None and said.storage_class is not None:
        pool = usual.get((said.storage_class.name, kept.near)) if kept.origin is None else None
        if pool is not None:
            with suppress(NotPossible):
                return said, pool, wish_in(view, pool, kept.claim.size, said.policy.wishes)
        said = judge.pool_for(view, kept)
    if said.policy is None or said.pool is None:
        raise NotPossible(said.sentence, about="claims", next_step=said.cure or None)
    copied = kept.origin is not None
    return said, said.pool, wish_in(view, said.pool, kept.claim.size, said.policy.wishes, copied=copied)


def _steps(together: Sequence[tuple[int, _New]]) -> list[Planned]:
    first, last = together[0], together[-1]
    about = first[1].name if len(together) == 1 else f"{first[1].name} to {last[1].name}"
    each = tuple(
        ForClaim(
            claim=new.kept.number,
            place=place_of(new.wish, new.name, new.policy, nth=nth, origin=_origin(new.kept)),
        )
        for nth, new in together
    )
    span = {"first": first[0], "last": last[0] + 1}
    promised = "Each is promised what it asks for once more, with all others in view."
    return [
        Planned(PlaceClaimed(each=each), f"Promise and place {about}", promised, about=about),
        Planned(ReserveClaimed(**span), f"Set the strips of {about} aside", seconds=1, about=about),
        Planned(
            ReadClaimed(**span),
            f"Read the strips of {about} back",
            "Each disk must hold what it was given before the volumes open.",
            seconds=1,
            about=about,
        ),
    ]


def _rows(view: SiteView, made: Iterable[_New]) -> list[TextRow]:
    return [
        TextRow(
            label=path_of(view, new.kept),
            before=f"{new.name}, {say_size(new.wish.size)}",
            after=f"{new.wish.pool.name}, as {new.policy.name} says{_where(view, new)}",
        )
        for new in made
    ]


def _where(view: SiteView, new: _New) -> str:
    """Whether it comes to lie where the pod runs that it is made for, as the end of a sentence."""
    if not new.kept.near:
        return ""
    place = say_list(list(new.kept.near))
    if stands_near(view, new.wish.pool, new.kept.near):
        return f"; it stands in {place}, as its first pod does"
    return f"; its first pod runs in {place}, where {new.wish.pool.name} has no disk"
