"""One look at an orchestrator: what has come of claims is written down, what follows is done, and what was
granted appears. Everything is found from what is seen, so that a look may be broken off anywhere and done
again.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field, replace
from itertools import islice
from typing import Any

import structlog

from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.claims.admission import Admission, Verdict, admission_of
from foldbarn.core.claims.claims import Claim, read_claim
from foldbarn.core.claims.grants import Had, excesses, say_excess
from foldbarn.core.claims.kept import OF_OFFERS, TRIED_AGAIN, Hindrance, KeptClaim
from foldbarn.core.claims.objects import (
    alteration,
    class_object,
    driver_object,
    event_not_understood,
    event_of,
    handle_in,
    handle_of,
    is_altered,
    is_ours,
    object_name,
    reclaim_of,
    says_the_same,
    share_object,
    volume_object,
    waits_for_consumer,
)
from foldbarn.core.claims.places import node_of, places_of
from foldbarn.core.claims.reclaiming import Deed, Life, Turn, next_turn
from foldbarn.core.claims.seeing import seen_of
from foldbarn.core.claims.sources import source_of_kept
from foldbarn.core.errors import BarnError, Conflict, NotFound, NotPossible
from foldbarn.core.shares.claimed import rules_for
from foldbarn.core.shares.rules import Rule
from foldbarn.core.shares.share import Share
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Thing as Touched
from foldbarn.core.units import quantity_bytes, say_count
from foldbarn.core.volumes.snapshots import Origin
from foldbarn.links import orchestrators as link
from foldbarn.links.orchestrators import MERGE, Key, Mirror, Resource, Thing
from foldbarn.services.changes import ask, carry_out
from foldbarn.services.consumers.attaching import Attacher
from foldbarn.services.consumers.snapshotting import Snapshotter
from foldbarn.store import claims, orchestrators, records, shares, touching
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import current_view, load_view

log = structlog.get_logger()
AT_ONCE = 100  # volumes that one change makes
MOST_UNDER_WAY = 2  # changes: while they are, what comes gathers, and is made with one place for all
TOLD_AT_ONCE = 8  # questions to the orchestrator
MOST_TOLD = 200  # claims in one look that nothing but another offer would help
REST_SECONDS = 15.0  # before what came to nothing is tried again
FORGET_SECONDS = 3600.0  # for which what is over is known still
AT_REST = frozenset({Life.BOUND, Life.ASIDE, Life.OVER})


@dataclass(frozen=True, slots=True)
class _Noted:
    """What is to be written down of a claim: its life, and why it waits."""

    kept: KeptClaim
    life: Life
    hindrance: Hindrance | None
    sentence: str
    cure: str

    @property
    def is_news(self) -> bool:
        was = self.kept
        said = was.hindrance, was.sentence, was.cure
        return was.life is not self.life or said != (self.hindrance, self.sentence, self.cure)


def steward_of(number: int, asked: link.Orchestrator, mirrors: Mapping[Resource, Mirror]) -> Steward:
    return Steward(
        number, asked, mirrors, Attacher(number, asked, mirrors), Snapshotter(number, asked, mirrors)
    )


@dataclass(eq=False, slots=True)
class Steward:
    """number: of the orchestrator. rests: until when a claim (by number) is left, as what was tried for it
    came to nothing, and what that was; by the process's clock.
    """

    number: int
    asked: link.Orchestrator
    mirrors: Mapping[Resource, Mirror]
    attacher: Attacher
    snapshotter: Snapshotter
    rests: dict[int, tuple[float, str]] = field(default_factory=dict)
    looked_at: dict[int, KeptClaim] = field(default_factory=dict)  # as they were at the last look
    seen: SiteView | None = None  # at the last look
    driver_known: bool = False
    # of namespaces, and of others' classes, as they are written down
    noted_names: tuple[list[str], list[str]] | None = None
    not_understood: dict[str, str] = field(default_factory=dict)  # by uid, what claims were told of that
    # By number of the claim, what is still to be written down of it, and told.
    later: dict[int, _Noted] = field(default_factory=dict)
    untold: dict[int, Mapping[str, Any]] = field(default_factory=dict)  # events, of what is written down
    given_up: set[int] = field(default_factory=set)  # changes that were asked to be withdrawn
    forget_at: float = 0.0
    again_in: float | None = None  # seconds until it wants to look, though nothing be new

    def look(self, touched: Mapping[Resource, set[Key]]) -> bool:
        """touched: what is new there since the last look. Whether another look is due at once."""
        if self.seen is None:
            self._begin_to_tell(current_view())
        self._publish(current_view())
        self._note_names()
        came = self._take_in(touched)
        came = self._learn(current_view(), touched) or came
        view = current_view()
        more = self._see_to(view, self._keys(touched)) or came
        self._let_nodes_in(view)
        self.attacher.look(view)
        self.snapshotter.look(view)
        self.snapshotter.drop_spent(view)
        self.seen = view
        self._forget_old()
        now = time.monotonic()
        ripe = [at for at, _ in self.rests.values()]
        ripe += [*self.attacher.rests.values(), *self.snapshotter.rests.values()]
        self.again_in = max(0.1, min(ripe) - now) if ripe else None
        self._tell_some()  # last, so that nobody else waits where it cannot be told
        return more or bool(self.untold)

    def _things(self, resource: Resource) -> dict[Key, Thing]:
        return self.mirrors[resource].things

    # What was granted appears. -----------------------------------------------------------------------------

    def _publish(self, view: SiteView) -> None:
        """Classes are there for whom their policies were granted, and say what they are to; no others of ours
        are.
        """
        if not self.driver_known:
            self._make(link.DRIVERS, driver_object())
            self.driver_known = True
        granted = {grant.policy for grant in view.grants if grant.orchestrator == self.number}
        wanted = {}
        for one in view.classes:
            policy = next((p for p in view.current_policies if p.number == one.policy), None)
            if policy is not None and one.policy in granted:
                pool = view.pool_numbered(one.pool).name if one.pool is not None else ""
                wanted[one.name] = class_object(one, policy.name, pool)
        there = {name: thing for (_, name), thing in list(self._things(link.CLASSES).items())}
        for name, thing in there.items():
            if is_ours(thing) and name not in wanted:
                self._drop(link.CLASSES, "", name)
        # What other claims get is not the default while this one comes to be.
        for name, said in sorted(wanted.items(), key=lambda one: "annotations" in one[1]["metadata"]):
            known = there.get(name)
            if known is None:
                self._make(link.CLASSES, said)
            elif not is_ours(known) or says_the_same(known, said):
                continue  # somebody else's class of that name is left alone
            elif is_altered(known, said):
                self._patch(link.CLASSES.path(name=name), alteration(said))
            else:
                self._drop(link.CLASSES, "", name)
                self._make(link.CLASSES, said)

    def _note_names(self) -> None:
        names = sorted(name for _, name in list(self._things(link.NAMESPACES))), sorted(self._others())
        if names == self.noted_names:
            return
        with transaction() as session:
            if orchestrators.note_names(session, self.number, *names):
                announce(session, "site")
        self.noted_names = names

    # Claims come. ------------------------------------------------------------------------------------------

    def _keys(self, touched: Mapping[Resource, set[Key]]) -> set[Key]:
        """Of the claims about which something is new there."""
        found = set(touched.get(link.CLAIMS, ()))
        volumes = self._things(link.VOLUMES)
        for key in touched.get(link.VOLUMES, ()):
            reference = (volumes.get(key) or {}).get("spec", {}).get("claimRef") or {}
            if reference:
                found.add((str(reference.get("namespace")), str(reference.get("name"))))
        gone = {key[1] for key in touched.get(link.VOLUMES, ()) if key not in volumes}
        if gone:
            mine = (k for k in current_view().claims if k.orchestrator == self.number)
            found |= {(k.claim.namespace, k.claim.name) for k in mine if object_name(k.claim.uid) in gone}
        for key in touched.get(link.PODS, ()):
            pod = self._things(link.PODS).get(key)
            for name in _claims_of(pod) if pod else ():
                found.add((key[0], name))
        return found

    def _take_in(self, touched: Mapping[Resource, set[Key]]) -> bool:
        """Claims that are new, or ask for something else, are written down; whether any are. Those of others'
        classes are none of ours.
        """
        things, view = self._things(link.CLAIMS), current_view()
        known = {kept.claim.uid: kept for kept in view.claims if kept.orchestrator == self.number}
        # A class that has come or gone may make claims ours that were not.
        keys = set(things) if touched.get(link.CLASSES) or self.seen is None else touched[link.CLAIMS]
        others = self._others()
        fresh, altered = [], {}
        for key in keys:
            thing = things.get(key)
            claim = self._read(thing, others) if thing is not None else None
            if thing is None or claim is None:
                continue
            kept = known.get(claim.uid)
            if kept is None and self._concerns(thing, claim, others):
                fresh.append(claim)
            elif kept is not None and kept.claim != claim:
                altered[kept.number] = claim
        users = self._users(touched, known)
        if not fresh and not altered and not users:
            return False
        with transaction() as session:
            claims.add_claims(session, self.number, fresh)
            rows = claims.locked(session, altered.keys() | users.keys())
            for number, claim in altered.items():
                claims.set_asked(rows[number], claim)
            for number, pod in users.items():
                rows[number].used_by = pod
            claims.note(session)
            announce(session, "site")
        return True

    def _read(self, thing: Thing, others: frozenset[str]) -> Claim | None:
        """None for one of which this version has no word: it is told so, and nobody is kept from the others
        by it.
        """
        try:
            return read_claim(thing)
        except NotPossible as error:
            uid, named = thing["metadata"]["uid"], (thing.get("spec") or {}).get("storageClassName")
            if named != "" and named not in others and self.not_understood.get(uid) != error.sentence:
                self._make(link.EVENTS, event_not_understood(thing, error.sentence, time.time()))
                self.not_understood[uid] = error.sentence
            return None

    def _users(self, touched: Mapping[Resource, set[Key]], known: Mapping[str, KeptClaim]) -> dict[int, str]:
        """By number of the claim, the pod that uses it now, where that is another one than is known."""
        pods, things = self._things(link.PODS), self._things(link.CLAIMS)
        found = {}
        for key in touched.get(link.PODS, ()):
            pod = pods.get(key)
            for name in _claims_of(pod) if pod else ():
                uid = (things.get((key[0], name)) or {}).get("metadata", {}).get("uid")
                kept = known.get(str(uid))
                if kept is not None and kept.used_by != key[1]:
                    found[kept.number] = key[1]
        return found

    def _others(self) -> frozenset[str]:
        """Names of classes that are somebody else's."""
        return frozenset(
            n for (_, n), thing in list(self._things(link.CLASSES).items()) if not is_ours(thing)
        )

    def _concerns(self, thing: Thing, claim: Claim, others: frozenset[str]) -> bool:
        """Whether a claim is to get its volume from here, or is told why nobody gives it one."""
        named = thing["spec"].get("volumeName")
        if named:
            return bool(named == object_name(claim.uid))
        if claim.class_name == "":
            return False  # it asks for no class on purpose: it waits for a volume that somebody makes
        return claim.class_name not in others

    def _learn(self, view: SiteView, touched: Mapping[Resource, set[Key]]) -> bool:
        """What claims that wait are to be filled from, and where their first pods run, is written down as
        soon as that is known, and no more when it is gone; whether anything was.
        """
        news: dict[int, tuple[Origin | None, tuple[str, ...]]] = {}
        keys, places = touched.get(link.CLAIMS, set()), bool(touched.get(link.NODES)) or self.seen is None
        for kept in view.claims_waiting:
            if kept.orchestrator != self.number:
                continue
            known = kept.number in self.looked_at and not kept.claim.source
            if known and not places and (kept.claim.namespace, kept.claim.name) not in keys:
                continue  # of tens of thousands it is the same as at the last look
            origin = self.snapshotter.found(view, kept).origin if kept.claim.source else None
            found = origin, self._near(kept)
            if found != (kept.origin, kept.near):
                news[kept.number] = found
        if not news:
            return False
        with transaction() as session:
            for number, row in claims.locked(session, news).items():
                if row.life == Life.WAITING.value:
                    origin, near = news[number]
                    claims.set_origin(row, origin)
                    claims.set_near(row, near)
            claims.note(session)
            announce(session, "site")
        return True

    def _near(self, kept: KeptClaim) -> tuple[str, ...]:
        claim = self._things(link.CLAIMS).get((kept.claim.namespace, kept.claim.name))
        if claim is None or not (node := node_of(claim)):
            return ()
        return places_of(self._things(link.NODES).get(("", node)))

    # What follows. -----------------------------------------------------------------------------------------

    def _see_to(self, view: SiteView, keys: Collection[Key]) -> bool:
        """Whether another look is due at once."""
        mine = self._worth_a_look(view, keys)
        if not mine and not self.later:
            return False
        with transaction() as session:
            open_ = touching.open_numbers(session, Touched.CLAIM)
        judge = admission_of(view, self.number)
        found = [(kept, *self._judge(view, judge, kept, open_)) for kept in mine]
        due = self._due(noted for *_, noted in found)
        written = self._write(due)
        for noted in due:
            self.later.pop(noted.kept.number, None)
        self.looked_at |= {kept.number: kept for kept in mine}
        deeds: dict[Deed, list[KeptClaim]] = {}
        for kept, turn, noted in found:
            # What could not be written down was altered meanwhile: it is looked at again.
            if not noted.is_news or kept.number in written:
                deeds.setdefault(turn.deed, []).append(kept)
        self._give_up(deeds.get(Deed.GIVE_UP, ()), open_)
        self._do(view, deeds, under_way=len(set(open_.values())))
        self._grow(view, [kept for kept in mine if kept.life is Life.BOUND])
        return bool(written)

    def _due(self, judged: Iterable[_Noted]) -> list[_Noted]:
        """What is to be written down, and told, in this look: of those that wait for something else to be
        offered a part. There may be tens of thousands, and nobody else is to wait until all are told.
        """
        due = []
        for noted in judged:
            self.later.pop(noted.kept.number, None)  # it was judged anew
            if noted.is_news and noted.life is Life.WAITING and noted.hindrance in OF_OFFERS:
                self.later[noted.kept.number] = noted
            elif noted.is_news:
                due.append(noted)
        return [*due, *islice(self.later.values(), MOST_TOLD)]

    def _worth_a_look(self, view: SiteView, keys: Collection[Key]) -> list[KeptClaim]:
        """Claims of which something may follow that did not before."""
        site = self.seen is None or self.seen.revision != view.revision
        volumes = self.seen is None or self.seen.volumes is not view.volumes
        offers = self.seen is None or _offered(self.seen, self.number) != _offered(view, self.number)
        now, found = time.monotonic(), []
        for kept in view.claims:
            if kept.orchestrator != self.number or (kept.life is Life.OVER and kept.volume is None):
                continue
            known = self.looked_at.get(kept.number) is kept
            noted = self.later.get(kept.number)
            # What it waits for by the last judgement, though that is still to be written down.
            hindrance = kept.hindrance if noted is None else noted.hindrance
            waits = kept.life is Life.WAITING or hindrance is not None
            # What is under way may have ended without any news of the site, such as a change that was
            # withdrawn.
            under_way = kept.life is not Life.WAITING and kept.life not in AT_REST
            if (
                not known
                or under_way
                or (kept.claim.namespace, kept.claim.name) in keys
                or (waits and (offers if hindrance in OF_OFFERS else site))
                or (waits and kept.number in self.rests)
                or (volumes and kept.volume is not None)
                # Its source may have come, or have gone: of these there are few.
                or (kept.life is Life.WAITING and kept.claim.source is not None)
            ):
                found.append(kept)
        self.rests = {n: rest for n, rest in self.rests.items() if rest[0] > now}
        return found

    def _judge(
        self, view: SiteView, judge: Admission, kept: KeptClaim, open_: Mapping[int, int]
    ) -> tuple[Turn, _Noted]:
        claim = self._things(link.CLAIMS).get((kept.claim.namespace, kept.claim.name))
        volume = self._things(link.VOLUMES).get(("", object_name(kept.claim.uid)))
        if kept.life is Life.WAITING and claim is not None and self._is_anothers(claim, kept):
            claim = None
        said = Verdict()
        if kept.life in (Life.WAITING, Life.MAKING) and kept.volume is None and kept.number not in open_:
            said = self._verdict(view, judge, kept, claim)
        seen = seen_of(view, kept, claim, volume, admitted=said.fits, open_=kept.number in open_)
        turn = next_turn(kept.life, reclaim_of(volume) or kept.reclaim, seen)
        if turn.deed is Deed.MAKE and not said.fits:
            turn = Turn(Life.WAITING)  # it may not have one any more
        # It is written down as being made together with its volume.
        life = kept.life if turn.deed is Deed.MAKE else turn.life
        if life is Life.WAITING:
            return turn, _Noted(kept, life, said.hindrance, said.sentence, said.cure)
        keeps = kept.hindrance if life is Life.BOUND else None
        words = (kept.sentence, kept.cure) if keeps else ("", "")
        return turn, _Noted(kept, life, keeps, *words)

    def _is_anothers(self, claim: Thing, kept: KeptClaim) -> bool:
        named = claim["spec"].get("volumeName")
        return bool(named) and named != object_name(kept.claim.uid)

    def _verdict(self, view: SiteView, judge: Admission, kept: KeptClaim, claim: Thing | None) -> Verdict:
        rest = self.rests.get(kept.number)
        if rest is not None:
            words = rest[1]
            return Verdict(Hindrance.RESTING, words, TRIED_AGAIN)
        filled = source_of_kept(kept)
        if filled is not None and filled.origin is None:
            filled = self.snapshotter.found(view, kept)  # which says why there is none
        said, found = judge.judge(kept.claim, filled=filled, near=kept.near), None
        if said.fits or said.hindrance is Hindrance.NO_SOURCE:
            found = said.storage_class
        if found is not None and claim is not None and waits_for_consumer(claim, found):
            words = (
                f"{found.name} makes a volume when a pod that uses the claim has a node, and none has yet."
            )
            return Verdict(Hindrance.NO_CONSUMER, words, "Run a pod that uses it.")
        if said.hindrance is Hindrance.NO_SOURCE and filled is not None and filled.take_of is not None:
            against = self.snapshotter.take_for(view, kept, filled.take_of)
            return replace(said, sentence=against) if against else said
        return said

    def _write(self, noted: Sequence[_Noted]) -> set[int]:
        """Numbers of those that were written down: the others have become something else meanwhile."""
        if not noted:
            return set()
        written = set()
        told = []
        with transaction() as session:
            rows = claims.locked(session, [one.kept.number for one in noted])
            for one in noted:
                row = rows.get(one.kept.number)
                if row is None or row.life != one.kept.life or row.volume_id != one.kept.volume:
                    continue
                claims.set_life(row, one.life)
                if (row.sentence, row.hindrance) != (one.sentence, one.hindrance):
                    told.append(one)
                claims.say_hindrance(row, one.hindrance, one.sentence, one.cure)
                written.add(one.kept.number)
            claims.note(session)
            announce(session, "site")
        self._tell_why(told)
        return written

    def _tell_why(self, told: Sequence[_Noted]) -> None:
        """What keeps a claim waiting is to stand in its events as well."""
        for one in told:
            self.untold.pop(one.kept.number, None)  # by now it waits for something else, or for nothing
            if one.hindrance is not None:
                words = f"{one.sentence} {one.cure}".strip()
                self.untold[one.kept.number] = event_of(one.kept.claim, one.hindrance, words, time.time())

    def _begin_to_tell(self, view: SiteView) -> None:
        """Whoever looked before may have ended between writing down and telling: what was told already has
        its name there, and is left as it is.
        """
        mine = (kept for kept in view.claims if kept.orchestrator == self.number)
        waiting = [kept for kept in mine if kept.life is not Life.OVER and kept.hindrance is not None]
        self._tell_why([_Noted(k, k.life, k.hindrance, k.sentence, k.cure) for k in waiting])

    def _tell_some(self) -> None:
        """What cannot be told now is told with the next look. Raises what asking does."""

        def tell(number: int) -> None:
            self._make(link.EVENTS, self.untold[number])
            del self.untold[number]

        self._all(tell, list(islice(self.untold, MOST_TOLD)))

    # Deeds. ------------------------------------------------------------------------------------------------

    def _do(self, view: SiteView, deeds: Mapping[Deed, Sequence[KeptClaim]], *, under_way: int) -> None:
        """under_way: changes that make volumes for claims now."""
        self._make_volumes(deeds.get(Deed.MAKE, ()), MOST_UNDER_WAY - under_way)
        self._all(lambda kept: self._tell(view, kept), deeds.get(Deed.TELL, ()))
        self._all(
            lambda kept: self._drop(link.VOLUMES, "", object_name(kept.claim.uid)),
            deeds.get(Deed.FORGET, ()),
        )
        for kept in deeds.get(Deed.BIN, ()):
            self._bin(view, kept)

    def _give_up(self, gone: Sequence[KeptClaim], open_: Mapping[int, int]) -> None:
        """Changes that make volumes for claims which are gone, and for no others, are withdrawn. Of those
        that make others beside them nothing is taken back: what is made in vain goes into the bin.
        """
        numbers = {kept.number for kept in gone}
        for change in {open_[number] for number in numbers if number in open_} - self.given_up:
            if {number for number, other in open_.items() if other == change} <= numbers:
                self.given_up.add(change)
                with suppress(BarnError):  # such as one that has just ended
                    ask(BY_ITSELF, change, "withdraw")

    def _make_volumes(self, wanted: Sequence[KeptClaim], most: int) -> None:
        """As many changes as may be; those that are left gather meanwhile, and are made together."""
        for number in range(max(0, most)):
            if mine := wanted[number * AT_ONCE : (number + 1) * AT_ONCE]:
                self._begin([kept.number for kept in mine])

    def _begin(self, numbers: list[int]) -> None:
        """Where not all of them can be made together, each is by itself, so that none waits for another."""
        why = "Claims ask for them." if len(numbers) > 1 else "A claim asks for it."
        try:
            carry_out(BY_ITSELF, "make-claimed", {"claims": numbers}, reason=why)
        except BarnError as error:
            if len(numbers) > 1:
                for number in numbers:
                    self._begin([number])
                return
            self.rests[numbers[0]] = time.monotonic() + REST_SECONDS, error.sentence

    def _tell(self, view: SiteView, kept: KeptClaim) -> None:
        volume = view.known_volume(kept.volume) if kept.volume is not None else None
        if volume is None:
            return
        handle = handle_of(view.mark, volume.number)
        said = self._object(view, kept, volume)
        if said is None:
            return
        mine = said["metadata"]["name"]
        for (_, name), thing in list(self._things(link.VOLUMES).items()):
            if name != mine and handle_in(thing) == handle:
                return  # the object by which it was known before has to go first
        self._make(link.VOLUMES, said)

    def _object(self, view: SiteView, kept: KeptClaim, volume: Volume) -> dict[str, Any] | None:
        """That by which the orchestrator is to know a volume, or the share on it; None while that is served
        nowhere.
        """
        share = view.share_of(volume.number)
        if share is None:
            size = volume.size_bytes
            return volume_object(kept, mark=view.mark, volume=volume.number, name=volume.name, size=size)
        address = view.files.numbered(share.address) if view.files is not None else None
        if address is None:
            return None
        return share_object(
            kept,
            mark=view.mark,
            volume=volume.number,
            server=address.name,
            share=share.name,
            size=share.quota,
        )

    def _let_nodes_in(self, view: SiteView) -> None:
        """Shares of claims are mounted by the orchestrator's nodes, and by whom people let in besides: as
        nodes come and go their rules follow. Of a claim that is over no node is let in any more.
        """
        lives = {
            share.number: kept.life
            for share in view.shares
            if (kept := view.last_claim_of(share.volume)) is not None and kept.orchestrator == self.number
        }
        if not lives:
            return
        rules = rules_for(view, self._things(link.NODES).values())
        following = {number: () if life is Life.OVER else rules for number, life in lives.items()}
        if all(_lets_in(share, following[share.number]) for share in view.shares if share.number in lives):
            return
        with transaction() as session:
            shares.one_at_a_time(session)
            for share in shares.read_shares(session):
                wanted = following.get(share.number)
                if wanted is not None and not _lets_in(share, wanted):
                    shares.write(session, share.with_rules(share.own_rules, wanted))
                    counted = say_count(len(wanted), "address", "addresses")
                    whom = f"{counted} of nodes in" if wanted else "no node in"
                    records.note(session, BY_ITSELF, f"{share.name} lets {whom} from here on.")
            announce(session, "site")

    def _bin(self, view: SiteView, kept: KeptClaim) -> None:
        volume = view.known_volume(kept.volume) if kept.volume is not None else None
        if volume is None or kept.number in self.rests:
            return
        with transaction() as session:
            if touching.open_touching(session, Touched.VOLUME, volume.number):
                self.rests[kept.number] = time.monotonic() + 1.0, ""
                return
        why = f"The claim {kept.path} is gone, and its class says that its volume goes with it."
        share = view.share_of(volume.number)
        kind, wish = "delete-volume", {"volume": volume.name, "typed": volume.name}
        if share is not None:
            kind, wish = "delete-share", {"share": share.name, "typed": share.name}
        try:
            carry_out(BY_ITSELF, kind, wish, reason=why)
        except BarnError as error:  # such as a host that is connected still
            self.rests[kept.number] = time.monotonic() + REST_SECONDS, error.sentence

    # Growing. ----------------------------------------------------------------------------------------------

    def _grow(self, view: SiteView, bound: Sequence[KeptClaim]) -> None:
        """Claims that ask for more than they were promised are promised that, where they may have it; their
        volumes grow; and then the orchestrator is told.
        """
        for kept in bound:
            volume = view.known_volume(kept.volume) if kept.volume is not None else None
            if volume is None or volume.binned is not None or volume.forming:
                continue
            if kept.claim.size > kept.promised and not self._promise(kept):
                continue
            self._grow_volume(view, kept, volume)

    def _promise(self, kept: KeptClaim) -> bool:
        """Whether it may have what it asks for, with all others in view."""
        if kept.number in self.rests:
            return False
        with transaction() as session:
            claims.lock_grants(session, {(self.number, kept.claim.namespace)})
            row = claims.locked(session, [kept.number]).get(kept.number)
            if row is None or row.life != Life.BOUND.value:
                return False
            over, words = self._over(session, kept)
            if over:
                cure = "Ask who runs the storage for more."
                said = _Noted(kept, Life.BOUND, Hindrance.OVER_LIMIT, words, cure)
                claims.say_hindrance(row, said.hindrance, words, cure)
            else:
                claims.say_hindrance(row, None)
                row.promised = kept.claim.size
            claims.note(session)
            announce(session, "site")
        if over:
            self.rests[kept.number] = time.monotonic() + REST_SECONDS, words
            self._tell_why([said] if (kept.hindrance, kept.sentence) != (said.hindrance, words) else [])
        return not over

    def _over(self, session: Session, kept: KeptClaim) -> tuple[bool, str]:
        view = load_view(session)
        judge = admission_of(view, self.number)
        whose = kept.claim.namespace, kept.policy
        grant = next((g for g in judge.grants if (g.namespace, g.policy) == whose), None)
        if grant is None:
            return True, f"What it keeps is not granted to {kept.claim.namespace} any more: it may not grow."
        asked = Had(kept.claim.uid, kept.class_name, kept.claim.size)
        over = excesses(grant, judge.had.get(whose, ()), asked)
        return bool(over), " ".join(say_excess(one, kept.claim.namespace, kept.class_name) for one in over)

    def _grow_volume(self, view: SiteView, kept: KeptClaim, volume: Volume) -> None:
        share = view.share_of(volume.number)
        if (volume.size_bytes if share is None else share.quota) < kept.claim.size:
            with transaction() as session:
                if touching.open_touching(session, Touched.VOLUME, volume.number):
                    return
            kind, wish = "grow-volume", {"volume": volume.name, "size": f"{kept.claim.size} B"}
            if share is not None:
                kind, wish = "alter-share", {"share": share.name, "quota": f"{kept.claim.size} B"}
            try:
                carry_out(BY_ITSELF, kind, wish, reason=f"The claim {kept.path} asks for more.")
            except BarnError as error:
                self.rests[kept.number] = time.monotonic() + REST_SECONDS, error.sentence
            return
        self._tell_size(kept, volume.size_bytes if share is None else share.quota)

    def _tell_size(self, kept: KeptClaim, bytes_: int) -> None:
        name = object_name(kept.claim.uid)
        thing = self._things(link.VOLUMES).get(("", name))
        claim = self._things(link.CLAIMS).get((kept.claim.namespace, kept.claim.name))
        size = {"storage": str(bytes_)}
        if thing is not None and _bytes_of(thing["spec"]) < bytes_:
            self._patch(link.VOLUMES.path(name=name), {"spec": {"capacity": size}})
        if claim is not None and _bytes_of(claim.get("status") or {}) < bytes_:
            path = link.CLAIMS.path(kept.claim.namespace, kept.claim.name, "status")
            self._patch(path, {"status": {"capacity": size}})

    def _forget_old(self) -> None:
        """Claims of which all has been over for a while."""
        if time.monotonic() < self.forget_at:
            return
        self.forget_at = time.monotonic() + FORGET_SECONDS / 10
        with transaction() as session:
            if claims.forget_old(session, FORGET_SECONDS):
                claims.note(session)
                announce(session, "site")
        there = {kept.number for kept in current_view().claims}
        self.looked_at = {number: kept for number, kept in self.looked_at.items() if number in there}

    # Asking. -----------------------------------------------------------------------------------------------

    def _all(self, work: Callable[[Any], None], wanted: Sequence[Any]) -> None:
        """Several at once; the first refusal is raised when all have been asked."""
        if len(wanted) < 2:
            for one in wanted:
                work(one)
            return
        with ThreadPoolExecutor(max_workers=TOLD_AT_ONCE) as crew:
            for answer in [crew.submit(work, one) for one in wanted]:
                answer.result()

    def _make(self, resource: Resource, said: Mapping[str, Any]) -> None:
        """What is there already is left as it is. Raises what asking does."""
        space = said["metadata"].get("namespace", "")
        try:
            self.asked.ask("POST", resource.path(space), said)
        except Conflict:
            pass
        except NotFound:
            if resource is not link.EVENTS:  # its namespace is gone, and whom it would tell
                raise

    def _drop(self, resource: Resource, space: str, name: str) -> None:
        with suppress(NotFound):
            self.asked.ask("DELETE", resource.path(space, name))

    def _patch(self, path: str, said: Mapping[str, Any]) -> None:
        with suppress(NotFound):
            self.asked.ask("PATCH", path, said, patch=MERGE)


def _offered(view: SiteView, orchestrator: int) -> tuple[object, ...]:
    """All that is offered to claims of an orchestrator (by number), and to whom; what becomes of it besides,
    such as how it answers, offers nobody anything.
    """
    others = [one.others for one in view.orchestrators if one.number == orchestrator]
    return view.classes, view.grants, view.policies, view.files is None, others


def _lets_in(share: Share, rules: tuple[Rule, ...]) -> bool:
    """Whether just these of its rules follow nodes."""
    return share == share.with_rules(share.own_rules, rules)


def _claims_of(pod: Thing | None) -> Iterator[str]:
    """Names of the claims that a pod uses."""
    for volume in ((pod or {}).get("spec") or {}).get("volumes") or ():
        if name := (volume.get("persistentVolumeClaim") or {}).get("claimName"):
            yield str(name)


def _bytes_of(of: Mapping[str, Any]) -> int:
    said = (of.get("capacity") or {}).get("storage")
    return quantity_bytes(str(said)) if said is not None else 0
