"""Writing a policy: a new one, or a new version of one. Volumes keep the version they have."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import (
    AgainstRow,
    AnyEffect,
    Note,
    PoolAnswerRow,
    PoolAnswers,
    Promise,
    TextRow,
    Texts,
    unchanged,
    warning,
)
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.pools.schemes import SchemeAt
from foldbarn.changes.kinds.volumes.warnings import survives_nothing
from foldbarn.core.errors import BarnError, Conflict
from foldbarn.core.names import check_name
from foldbarn.core.policies.matching import Answer, answers
from foldbarn.core.policies.memory import too_much
from foldbarn.core.policies.policy import Cache, Policy, Wishes, scheme_wished, wishes_of
from foldbarn.core.pools.protection import Level
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, Touch, alone, shared
from foldbarn.core.units import say_count, say_list
from foldbarn.core.volumes.schedules import Schedule, schedule_of
from foldbarn.core.volumes.snapshots import USUAL_ROOM
from foldbarn.store import policies
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view

NEW = 0  # the number of a policy that has none yet


class SavePolicyParams(Params):
    """A policy as wished for: by copies, or by strips of data and of parity. version: the version it is
    written upon; 0 for a new policy. per_domain: strips of an extent that may lie in one thing of the level,
    each on another disk. survives: losses at the level that it must survive, as many as the protection does
    where nothing is said. landing: per cent of a volume for an area on the fast tier that takes what is
    written first; 0 for none. share: per cent of a volume that may lie on the fast tier, what is asked for
    most; 0 for none; first: bytes of a volume, from its begin, that lie there outright; 0 for none;
    share_copies: of either there, as many as survive what the protection does where nothing is said. memory:
    per cent of each node's memory that caches its volumes, where the cache is memory. thin: room is taken as
    it is written. hourly, daily, weekly: how many snapshots are kept of the first of each hour, day and week;
    snapshot_room: per cent of a volume for what is overwritten. draft: it is only written down, and need not
    be kept by any pool.
    """

    name: str
    version: int = Field(default=0, ge=0)
    copies: int | None = None
    data: int | None = None
    parity: int | None = None
    level: Level = Level.NODE
    per_domain: int = Field(default=1, ge=1)
    survives: int | None = None
    fast: bool = False
    encrypted: bool = False
    landing: int = 0
    share: int = 0
    labels: list[str] = Field(default_factory=list, max_length=200)
    operations: int | None = None
    throughput: int | None = None
    cache: Cache = Cache.ANY
    thin: bool = False
    share_copies: int | None = None
    memory: int = 0
    compressed: bool = False
    first: int = 0
    hourly: int = 0
    daily: int = 0
    weekly: int = 0
    snapshot_room: int | None = None
    meant_for: str = Field(default="", max_length=200)
    draft: bool = False


class WritePolicy(Inside):
    """A new version of a policy (by number; 0 for a new one), written upon its version `base`."""

    name: ClassVar[str] = "write-policy"
    policy: int
    base: int
    called: str
    scheme: SchemeAt
    survives: int
    fast: bool
    encrypted: bool
    meant_for: str
    draft: bool = False
    landing: int = 0
    share: int = 0
    labels: tuple[str, ...] = ()
    operations: int = 0
    throughput: int = 0
    cache: Cache = Cache.ANY
    thin: bool = False
    share_copies: int = 0
    memory: int = 0
    compressed: bool = False
    first: int = 0
    hourly: int = 0
    daily: int = 0
    weekly: int = 0
    snapshot_room: int = USUAL_ROOM

    def carry_out(self, run: Run, session: Session) -> str:
        if not self.policy:
            check_name(self.called, "policy", [p.name for p in load_view(session).current_policies])
        scheme = self.scheme.scheme()
        wishes = Wishes(scheme, self.survives, self.fast, self.encrypted, self.landing, self.share)
        wishes = replace(wishes, labels=self.labels, operations=self.operations, throughput=self.throughput)
        wishes = replace(wishes, cache=self.cache, thin=self.thin, share_copies=self.share_copies)
        wishes = replace(wishes, memory=self.memory, compressed=self.compressed, first=self.first)
        if not self.draft and (more := too_much(load_view(session), wishes, self.policy)):
            raise more
        schedule = Schedule(self.hourly, self.daily, self.weekly, self.snapshot_room)
        wishes = replace(wishes, schedule=schedule)
        said = Policy(self.policy, self.called, self.base + 1, wishes, self.meant_for, draft=self.draft)
        version = policies.save(session, run.change, policy=self.policy, base=self.base, said=said)
        announce(session, "site")
        return f"Version {version} is written down{', as a draft' if self.draft else ''}."


@register
class SavePolicy(Kind[SavePolicyParams]):
    """write (ours)."""

    name: ClassVar[str] = "save-policy"
    params: ClassVar[type[Params]] = SavePolicyParams

    def plan(self, view: SiteView, params: SavePolicyParams) -> Plan:
        name, blockers, old = params.name.strip(), [], None
        title = f"Change the policy {name}" if params.version else f"Write the policy {name or '...'}"
        try:
            old = _old(view, params)
            name = old.name if old else name
        except BarnError as error:
            blockers.append(Note.of(error))
        try:
            scheme = scheme_wished(params.copies, params.data, params.parity, params.level, params.per_domain)
            wishes = wishes_of(
                scheme,
                params.survives,
                params.fast,
                params.encrypted,
                params.landing,
                params.share,
                params.labels,
                params.operations,
                params.throughput,
                params.cache,
                thin=params.thin,
                share_copies=params.share_copies,
                schedule=schedule_of(params.hourly, params.daily, params.weekly, params.snapshot_room),
                memory=params.memory,
                compressed=params.compressed,
                first=params.first,
            )
        except BarnError as error:
            return Plan(title=title, about=name, blockers=[*blockers, Note.of(error)])
        found = answers(view, wishes)
        meant_for = params.meant_for.strip()
        if old and (old.wishes, old.meant_for, old.draft) == (wishes, meant_for, params.draft):
            blockers.append(unchanged("name"))
        if params.draft and old and not old.draft:
            words = f"{old.name} is in force: volumes may keep it, and it becomes no draft any more."
            other = "Save it as more than a draft, or write another policy."
            blockers.append(Note(sentence=words, about="draft", next_step=other))
        if not params.draft and (more := too_much(view, wishes, old.number if old else NEW)):
            blockers.append(Note.of(more))
        if not any(a.keeps for a in found) and not params.draft:
            blockers.append(_kept_by_none(view, found))
        step = WritePolicy(
            policy=old.number if old else NEW,
            base=params.version,
            called=name,
            scheme=SchemeAt.of(scheme),
            survives=wishes.survives,
            fast=wishes.fast,
            encrypted=wishes.encrypted,
            meant_for=meant_for,
            draft=params.draft,
            landing=wishes.landing,
            share=wishes.share,
            labels=wishes.labels,
            operations=wishes.operations,
            throughput=wishes.throughput,
            cache=wishes.cache,
            thin=wishes.thin,
            share_copies=wishes.share_copies,
            memory=wishes.memory,
            compressed=wishes.compressed,
            first=wishes.first,
            hourly=wishes.schedule.hourly,
            daily=wishes.schedule.daily,
            weekly=wishes.schedule.weekly,
            snapshot_room=wishes.schedule.room,
        )
        kept_by = say_list([view.pools[a.pool].name for a in found if a.keeps])
        return Plan(
            title=title,
            about=name,
            summary=f"{wishes.sentence()} Kept by {kept_by or 'no pool yet'}.",
            steps=[Planned(step, "Write it down", _then(params))],
            effects=_effects(view, old, wishes, found),
            # New ones come one after the other, so that of two with the same name the second is told so.
            touches=_touches(old, wishes),
            meant=Meant(policies=(old,)) if old else Meant(),
            blockers=blockers,
            warnings=_warnings(wishes),
        )


def _touches(old: Policy | None, wishes: Wishes) -> list[Touch]:
    """Memory is given to one at a time, so that each sees what the others take."""
    mine = [shared(Thing.POLICY, old.number)] if old else []
    return [*mine, alone(Thing.POLICY, NEW)] if not old or wishes.memory else mine


def _old(view: SiteView, params: SavePolicyParams) -> Policy | None:
    """The version that this is written upon; none for a new policy. Raises BarnError."""
    if not params.version:
        check_name(params.name, "policy", [p.name for p in view.current_policies])
        return None
    old = view.policy(params.name)
    if old.version != params.version:
        raise Conflict(
            f"{old.name} is in its version {old.version} by now; this was written upon version "
            f"{params.version}.",
            about="name",
            next_step="Look at what it says now, and wish again.",
        )
    return old


def _then(params: SavePolicyParams) -> str:
    return "As a draft: no volume is made by it yet." if params.draft else "New volumes get this version."


def _kept_by_none(view: SiteView, found: list[Answer]) -> Note:
    """A policy that nothing can keep would be a promise to nobody."""
    if not found:
        return Note(
            sentence="There is no pool yet that could keep it.",
            about="copies",
            next_step="Form a pool first, or save it as a draft.",
        )
    nearest = min(found, key=lambda a: len(a.against))
    first = nearest.against[0]
    step = f"{first.cure} Or save it as a draft."
    return Note(sentence=f"No pool can keep it. {first.sentence}", about="copies", next_step=step)


def _effects(view: SiteView, old: Policy | None, wishes: Wishes, found: list[Answer]) -> list[AnyEffect]:
    effects: list[AnyEffect] = [
        Promise(title="It promises", sentence=wishes.sentence()),
        answers_effect(view, found),
    ]
    if old:
        keep = [v.name for v in view.volumes if v.policy and v.policy[0] == old.number]
        if old.wishes.sentence() != wishes.sentence():
            row = TextRow(label=old.name, before=old.wishes.sentence(), after=wishes.sentence())
            effects.append(Texts(heads=["Policy", f"Version {old.version}", "From here on"], rows=[row]))
        if keep:
            what = "keep the version they have" if len(keep) > 1 else "keeps the version it has"
            words = f"{say_list(keep)} {what}."
            effects.append(Promise(title="Volumes that have it", sentence=words))
    return effects


def answers_effect(view: SiteView, found: list[Answer]) -> PoolAnswers:
    """What the pools say, as a preview tells it."""
    return PoolAnswers(
        rows=[
            PoolAnswerRow(
                pool=view.pools[a.pool].name,
                keeps=a.keeps,
                room=a.room,
                against=[AgainstRow(wish=w.wish.value, sentence=w.sentence, cure=w.cure) for w in a.against],
                cache=list(a.cache),
            )
            for a in found
        ]
    )


def _warnings(wishes: Wishes) -> list[Note]:
    found = survives_nothing(wishes.scheme)
    if wishes.survives < wishes.scheme.survives:
        more = say_count(wishes.scheme.survives - wishes.survives, "loss", "losses")
        words = f"Its protection survives {more} more than it asks for: a volume that is short may be kept."
        found.append(warning("asks-less", words, about="survives"))
    return found
