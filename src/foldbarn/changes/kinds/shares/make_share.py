"""Making a share: a volume of its own, the file system on it, and who may mount that."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import ClassVar

from pydantic import BaseModel, ConfigDict, Field

from foldbarn.changes.engine.effects import AnyEffect, Note, Promise, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Payload
from foldbarn.changes.kinds.policies.save_policy import answers_effect
from foldbarn.changes.kinds.shares.telling import tell_files
from foldbarn.changes.kinds.volumes.create_volume import (
    CreateVolumeParams,
    New,
    ReadStrips,
    each_once,
    placed,
    room_effects,
    steps_for,
    touches_of,
)
from foldbarn.changes.kinds.volumes.warnings import warnings_of
from foldbarn.core.errors import BarnError, NotFound, NotPossible, Overtaken
from foldbarn.core.names import folded, labels_of
from foldbarn.core.policies.matching import answers
from foldbarn.core.shares.addresses import with_fewest
from foldbarn.core.shares.belonging import check_share_name, volume_name
from foldbarn.core.shares.mounting import how_to_mount
from foldbarn.core.shares.quotas import USUAL_WARN, check_quota, warn_bytes
from foldbarn.core.shares.rules import SAID, Right, Rule, check_rules, idle_rules
from foldbarn.core.shares.share import FileAddress, Protocol, Share
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, shared
from foldbarn.core.units import parse_size, say_binary, say_count, say_list
from foldbarn.store import shares
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view

SHOWN = 8  # rules that a preview names one by one


class RuleAt(BaseModel):
    """A rule of access: an address, a range, a network or everyone; what who is there may do; and whether
    root stays root.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    who: str = Field(max_length=200)
    right: Right = Right.READ
    root: bool = False

    def rule(self) -> Rule:
        return Rule(self.who, self.right, self.root)


class MakeShareParams(Params):
    """quota: as typed, such as "500 GiB"; warn: per cent of it. policy, pool: of its volume; by a policy
    alone a pool is chosen that keeps it. address: of the file service, by name; that with fewest shares where
    none is named. labels: of its volume, by which people find both.
    """

    name: str = ""
    policy: str = ""
    pool: str = ""
    quota: str = Field(default="", max_length=40)
    warn: int = USUAL_WARN
    protocols: list[Protocol] = Field(default_factory=lambda: [Protocol.NFS41], max_length=10)
    rules: list[RuleAt] = Field(default_factory=list, max_length=20_000)
    address: str = ""
    labels: list[str] = Field(default_factory=list, max_length=100)


class RuleKept(Payload):
    """A rule, as a step holds it."""

    who: str
    right: Right
    root: bool

    @classmethod
    def of(cls, rule: Rule) -> RuleKept:
        return cls(who=rule.who, right=rule.right, root=rule.root)

    def rule(self) -> Rule:
        return Rule(self.who, self.right, self.root)


class OpenShare(ReadStrips):
    """The same as of any volume; after that there is no way back."""

    name: ClassVar[str] = "open-share"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "clients may have mounted it"


class NameShare(Inside):
    """On the volume that the change has placed lies a share from here on."""

    name: ClassVar[str] = "name-share"
    called: str
    address: int
    quota: int
    warn: int
    protocols: tuple[Protocol, ...]
    rules: tuple[RuleKept, ...]
    labels: tuple[str, ...] = ()

    def carry_out(self, run: Run, session: Session) -> str:
        shares.one_at_a_time(session)
        view = load_view(session)
        name = check_share_name(view, self.called)
        if view.files is None or view.files.numbered(self.address) is None:
            raise Overtaken("The address at which it was to be served is gone.", about="address")
        share = Share(
            number=0,
            name=name,
            volume=0,
            address=self.address,
            quota=self.quota,
            warn=self.warn,
            protocols=self.protocols,
            rules=tuple(one.rule() for one in self.rules),
        )
        if not shares.add(session, run.change, share, self.labels):
            raise NotPossible("Its volume is gone.", next_step="Withdraw this change.")
        announce(session, "site")
        return f"{name}, with {say_count(len(self.rules), 'rule')}."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            made = shares.made_by(session, run.change)
            if made is not None:
                shares.forget(session, made)
                announce(session, "site")


@dataclass(frozen=True, slots=True)
class Wished:
    """What of a share does not concern its volume."""

    address: FileAddress
    quota: int
    warn: int
    protocols: tuple[Protocol, ...]
    rules: tuple[Rule, ...]
    labels: tuple[str, ...]


def address_called(view: SiteView, name: str) -> FileAddress:
    """By its name, or by itself; that with fewest shares where none is named. Raises NotFound, and
    NotPossible.
    """
    if view.files is None:
        words, step = "The file service is not switched on.", "Switch it on first."
        raise NotPossible(words, about="address", next_step=step)
    if not name.strip():
        return with_fewest(view.files, view.shares)
    wanted = folded(name.strip())
    found = next((one for one in view.files.addresses if wanted in (one.name, *one.at)), None)
    if found is None:
        raise NotFound(f"The file service has no address '{name.strip()[:80]}'.", about="address")
    return found


def check_protocols(protocols: Sequence[Protocol]) -> tuple[Protocol, ...]:
    """Each once, in their order. Raises NotPossible for none."""
    if not protocols:
        raise NotPossible("A share is mounted by a protocol: choose one.", about="protocols")
    return tuple(one for one in Protocol if one in protocols)


def wished(view: SiteView, params: MakeShareParams) -> Wished:
    """Raises NotFound, NotPossible."""
    quota = parse_size(params.quota, about="quota")
    check_quota(quota, params.warn)
    return Wished(
        address=address_called(view, params.address),
        quota=quota,
        warn=params.warn,
        protocols=check_protocols(params.protocols),
        rules=check_rules([one.rule() for one in params.rules]),
        labels=labels_of(params.labels),
    )


@register
class MakeShare(Kind[MakeShareParams]):
    """place (ours), name (ours), reserve (agents), read back and open (agents), tell (agents)."""

    name: ClassVar[str] = "make-share"
    params: ClassVar[type[Params]] = MakeShareParams

    def plan(self, view: SiteView, params: MakeShareParams) -> Plan:
        name = params.name.strip()
        title = f"Make the share {name}" if name else "Make a share"
        try:
            check_share_name(view, name)
            found = wished(view, params)
            volume = CreateVolumeParams(policy=params.policy, pool=params.pool)
            (new,), after = placed(view, [(volume_name(name), found.quota, volume)])
        except BarnError as error:
            return Plan(title=title, about=name, blockers=[Note.of(error)])
        pool, policy = new.wish.pool, new.policy
        place, reserve, opening = steps_for(new.wish, new.name, policy)
        assert isinstance(opening.step, ReadStrips)
        naming = NameShare(
            called=name,
            address=found.address.number,
            quota=found.quota,
            warn=found.warn,
            protocols=found.protocols,
            rules=tuple(map(RuleKept.of, found.rules)),
            labels=found.labels,
        )
        return Plan(
            title=title,
            about=name,
            summary=f"{say_binary(found.quota)} in {pool.name}, served at {found.address.name} by "
            f"{say_list([one.said for one in found.protocols])}.",
            steps=[
                place,
                Planned(naming, "Make it a share", "From here on its volume is not deleted by itself."),
                reserve,
                replace(opening, step=OpenShare()),
                tell_files("Whoever has its address serves it; clients may mount it from then on."),
            ],
            effects=[
                *access_effects(found.rules),
                quota_effect(found.quota, found.warn),
                *_choice(view, params, new),
                *_mounting(name, found),
                *room_effects(view, after, [pool], [new]),
            ],
            touches=[*touches_of([pool], policy), shared(Thing.FILES)],
            meant=Meant(pools=(pool,), policies=(policy,) if policy is not None else ()),
            warnings=[
                *rule_warnings(found.rules),
                *user_warnings(found.protocols, 0),
                *each_once(warnings_of(view, after, pool, new.wish.scheme, new.wish.tier)),
            ],
            undo=Undo("delete-share", {"share": name}),
        )


def _choice(view: SiteView, params: MakeShareParams, new: New) -> list[AnyEffect]:
    """What its policy promises, and which pools could keep it."""
    if new.policy is None:
        return []
    found: list[AnyEffect] = [Promise(title=new.policy.name, sentence=new.policy.wishes.sentence())]
    if not params.pool:
        found.append(answers_effect(view, answers(view, new.policy.wishes, new.wish.size, room=False)))
    return found


def _mounting(name: str, found: Wished) -> list[AnyEffect]:
    share = Share(0, name, 0, 0, found.quota, protocols=found.protocols)
    rows = [
        TextRow(label=one.protocol.said, before="", after=one.commands[-1])
        for one in how_to_mount(share, found.address)
        if one.by == found.address.name
    ]
    return [Texts(heads=["Mounted by", "", "On a client"], rows=rows)]


def access_effects(rules: Sequence[Rule]) -> list[AnyEffect]:
    """Who may do what; of many rules the first."""
    rows = [
        TextRow(label=f"{place}. {rule.who}", before=SAID[rule.right], after=_of_root(rule))
        for place, rule in enumerate(rules[:SHOWN], 1)
    ]
    if len(rules) > SHOWN:
        rows.append(TextRow(label=f"and {len(rules) - SHOWN:,} more", before="", after=""))
    if not rows:
        return [Promise(title="Access", sentence="Nobody is let in: there is no rule yet.")]
    return [Texts(heads=["Rule", "May", "Root"], rows=rows)]


def _of_root(rule: Rule) -> str:
    if rule.right is Right.NONE:
        return ""
    return "stays root" if rule.root else "is nobody there"


def quota_effect(quota: int, warn: int) -> Promise:
    words = f"From {say_binary(warn_bytes(quota, warn))} on it is said that it fills; at {say_binary(quota)} "
    return Promise(title="Quota", sentence=f"{words}writes that need more room are refused.")


def rule_warnings(rules: tuple[Rule, ...]) -> list[Note]:
    """Rules that can never apply; that nobody is let in."""
    idle = list(idle_rules(rules))
    found = [warning(f"idle-rule-{one.rule}", one.sentence) for one in idle[:SHOWN]]
    if len(idle) > SHOWN:
        found.append(warning("idle-rules", f"{len(idle) - SHOWN:,} more rules can never apply."))
    if not any(rule.right is not Right.NONE for rule in rules):
        found.append(warning("nobody-let-in", "No rule lets anybody in."))
    return found


def user_warnings(protocols: Sequence[Protocol], users: int) -> list[Note]:
    """That nobody signs in yet where one must."""
    if Protocol.SMB not in protocols or users:
        return []
    words = "By SMB a client signs in, and nobody is known yet who may."
    return [warning("nobody-signs-in", words, next_step="Let a user in, on its page.")]
