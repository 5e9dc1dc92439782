"""Granting a policy to a namespace, and altering what was granted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar

from pydantic import BaseModel, ConfigDict, Field

from foldbarn.changes.engine.effects import AnyEffect, Note, TextRow, Texts, unchanged, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Payload
from foldbarn.changes.kinds.consumers.touched_claims import verdicts, waiting_in
from foldbarn.core.claims.admission import had_in
from foldbarn.core.claims.classes import check_namespace
from foldbarn.core.claims.grants import Grant, Had, Limits
from foldbarn.core.claims.kept import Orchestrator
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.policies.policy import Policy
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, Touch, alone, shared
from foldbarn.core.units import parse_size, say_count, say_exactly, say_list
from foldbarn.store import claims
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view

NEW = 0
MOST_CLAIMS = 1_000_000


class OfClass(BaseModel):
    """Limits of one class, as typed; empty or none for no limit."""

    model_config = ConfigDict(extra="forbid")
    name: str
    size: str = Field(default="", max_length=40)
    claims: int | None = Field(default=None, ge=0, le=MOST_CLAIMS)


class GrantPolicyParams(Params):
    """A policy for a namespace of an orchestrator, each by name. size: that its claims may have together, as
    typed; size_a_claim: that one may have at the most; empty for no limit. claims: how many there may be.
    """

    orchestrator: str = ""
    namespace: str = ""
    policy: str = ""
    size: str = Field(default="", max_length=40)
    claims: int | None = Field(default=None, ge=0, le=MOST_CLAIMS)
    size_a_claim: str = Field(default="", max_length=40)
    by_class: list[OfClass] = Field(default_factory=list, max_length=100)


class LimitsAt(Payload):
    name: str
    bytes: int | None = None
    claims: int | None = None


class GrantAt(Payload):
    """A grant inside a step, everything by number."""

    orchestrator: int
    namespace: str
    policy: int
    bytes: int | None = None
    claims: int | None = None
    bytes_a_claim: int | None = None
    by_class: tuple[LimitsAt, ...] = ()

    @classmethod
    def of(cls, grant: Grant) -> GrantAt:
        each = ((name, grant.by_class[name]) for name in sorted(grant.by_class))
        return cls(
            orchestrator=grant.orchestrator,
            namespace=grant.namespace,
            policy=grant.policy,
            bytes=grant.limits.bytes,
            claims=grant.limits.claims,
            bytes_a_claim=grant.bytes_a_claim,
            by_class=tuple(LimitsAt(name=name, bytes=one.bytes, claims=one.claims) for name, one in each),
        )

    def grant(self, number: int) -> Grant:
        by_class = {one.name: Limits(one.bytes, one.claims) for one in self.by_class}
        limits = Limits(self.bytes, self.claims)
        return Grant(
            self.policy, self.namespace, limits, self.bytes_a_claim, by_class, number, self.orchestrator
        )


class WriteGrant(Inside):
    """What is granted (by number; 0 for a new one) from here on. was: the same, before."""

    name: ClassVar[str] = "write-grant"
    grant: int
    to_be: GrantAt
    was: GrantAt | None = None

    def carry_out(self, run: Run, session: Session) -> str:
        if self.grant:
            if claims.grant_row(session, self.grant) is None:
                raise Overtaken("It was withdrawn meanwhile.", about="policy")
            claims.alter_grant(session, run.change, self.to_be.grant(self.grant))
        else:
            _check(load_view(session), self.to_be)
            claims.add_grant(session, run.change, self.to_be.grant(NEW))
        announce(session, "site")
        return "It is granted."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            made = claims.grant_made_by(session, run.change)
            if made is not None:
                claims.forget_grant(session, made)
            elif self.was is not None and claims.grant_altered_by(session, self.grant) == run.change:
                claims.alter_grant(session, run.change, self.was.grant(self.grant))
            announce(session, "site")


def _check(view: SiteView, said: GrantAt) -> None:
    """Raises BarnError where a new grant cannot be made any more."""
    view.orchestrator_numbered(said.orchestrator)
    view.policy_numbered(said.policy)
    if granted(view, said.orchestrator, said.namespace, said.policy) is not None:
        raise Overtaken("It was granted meanwhile.", about="policy")


def granted(view: SiteView, orchestrator: int, namespace: str, policy: int) -> Grant | None:
    """What a namespace was granted of a policy; orchestrator, policy: by number."""
    whose = orchestrator, namespace, policy
    return next((g for g in view.grants if (g.orchestrator, g.namespace, g.policy) == whose), None)


@register
class GrantPolicy(Kind[GrantPolicyParams]):
    """write (ours)."""

    name: ClassVar[str] = "grant-policy"
    params: ClassVar[type[Params]] = GrantPolicyParams

    def plan(self, view: SiteView, params: GrantPolicyParams) -> Plan:
        about = params.namespace.strip()
        title = f"Grant {params.policy or 'a policy'} to {about or 'a namespace'}"
        try:
            orchestrator = view.orchestrator(params.orchestrator)
            namespace = check_namespace(params.namespace.strip())
            policy = view.policy(params.policy)
            wanted = _wanted(view, params, orchestrator, namespace, policy)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        old = granted(view, orchestrator.number, namespace, policy.number)
        new = replace(wanted, number=old.number if old else NEW)
        others = tuple(grant for grant in view.grants if grant is not old)
        after = replace(view, grants=(*others, new))
        mine = waiting_in(
            view, lambda k: (k.orchestrator, k.claim.namespace) == (orchestrator.number, namespace)
        )
        had = had_in(view).get(orchestrator.number, {}).get((namespace, policy.number), [])
        step = WriteGrant(
            grant=new.number, to_be=GrantAt.of(new), was=GrantAt.of(old) if old is not None else None
        )
        effects: list[AnyEffect] = [
            Texts(heads=["", "Now", "Then"], rows=rows_of(old, new)),
            _had(had, new),
            *verdicts(view, after, mine),
        ]
        return Plan(
            title=f"Change what {namespace} may have of {policy.name}" if old else title,
            about=namespace,
            steps=[Planned(step, "Write it down", "Claims that wait are judged anew by it at once.")],
            effects=effects,
            touches=touches_of(orchestrator, policy),
            meant=Meant(orchestrators=(orchestrator,), policies=(policy,)),
            blockers=[unchanged("policy")] if old == new else [],
            warnings=[*_unseen(orchestrator, namespace), *_unpublished(view, policy), *_below(had, new)],
            undo=undo_of(view, old, new),
        )


def touches_of(orchestrator: Orchestrator, policy: Policy) -> list[Touch]:
    """One after the other grants of a policy, so that of two new ones for a namespace the second is told."""
    return [
        shared(Thing.ORCHESTRATOR, orchestrator.number),
        shared(Thing.POLICY, policy.number),
        alone(Thing.GRANTS, policy.number),
    ]


def undo_of(view: SiteView, old: Grant | None, new: Grant) -> Undo:
    named = {
        "orchestrator": view.orchestrator_numbered(new.orchestrator).name,
        "namespace": new.namespace,
        "policy": view.policy_numbered(new.policy).name,
    }
    return Undo("withdraw-grant", named) if old is None else Undo("grant-policy", wish_of(view, old))


def wish_of(view: SiteView, grant: Grant) -> dict[str, object]:
    """The wish that would make a grant."""

    def size(bytes_: int | None) -> str:
        return "" if bytes_ is None else f"{bytes_} B"

    return {
        "orchestrator": view.orchestrator_numbered(grant.orchestrator).name,
        "namespace": grant.namespace,
        "policy": view.policy_numbered(grant.policy).name,
        "size": size(grant.limits.bytes),
        "claims": grant.limits.claims,
        "size_a_claim": size(grant.bytes_a_claim),
        "by_class": [
            {"name": name, "size": size(one.bytes), "claims": one.claims}
            for name, one in sorted(grant.by_class.items())
        ],
    }


def _wanted(
    view: SiteView, params: GrantPolicyParams, orchestrator: Orchestrator, namespace: str, policy: Policy
) -> Grant:
    """Raises NotPossible."""
    of_policy = {one.name for one in view.classes if one.policy == policy.number}
    for one in params.by_class:
        if one.name not in of_policy:
            words = f"{one.name} is no class of {policy.name}."
            step = f"It is published as {say_list(sorted(of_policy))}." if of_policy else "Publish it first."
            raise NotPossible(words, about="by_class", next_step=step)
    return Grant(
        policy=policy.number,
        namespace=namespace,
        limits=Limits(_size(params.size, "size"), params.claims),
        bytes_a_claim=_size(params.size_a_claim, "size_a_claim"),
        by_class={one.name: Limits(_size(one.size, "by_class"), one.claims) for one in params.by_class},
        orchestrator=orchestrator.number,
    )


def _size(text: str, about: str) -> int | None:
    return parse_size(text, about=about) if text.strip() else None


def rows_of(old: Grant | None, new: Grant | None) -> list[TextRow]:
    """What of a grant becomes another; none for one that is not there."""

    def said(of: Grant | None) -> dict[str, str]:
        if of is None:
            return {}
        found = {
            "In all": _bytes(of.limits.bytes),
            "Claims": _count(of.limits.claims),
            "One claim": _bytes(of.bytes_a_claim),
        }
        for name, one in sorted(of.by_class.items()):
            found[f"In {name}"] = f"{_bytes(one.bytes)}, {_count(one.claims)}"
        return found

    before, after = said(old), said(new)
    missing = "nothing", "no limit of its own"
    rows = []
    for label in dict.fromkeys([*before, *after]):
        was = before.get(label, missing[0] if old is None else missing[1])
        then = after.get(label, missing[0] if new is None else missing[1])
        if was != then:
            rows.append(TextRow(label=label, before=was, after=then))
    return rows


def _bytes(limit: int | None) -> str:
    return "as much as there is room for" if limit is None else f"at most {say_exactly(limit)}"


def _count(limit: int | None) -> str:
    return "as many as it asks for" if limit is None else f"at most {say_count(limit, 'claim')}"


def _had(had: Sequence[Had], new: Grant) -> Texts:
    """What it has, and what is left then."""
    used, count = sum(one.bytes for one in had), len(had)
    rows = [TextRow(label="Bytes", before=say_exactly(used), after=_left(new.limits.bytes, used))]
    left = "no limit" if new.limits.claims is None else f"{max(0, new.limits.claims - count)} more"
    rows.append(TextRow(label="Claims", before=str(count), after=left))
    return Texts(heads=["Of this policy", "It has", "Left then"], rows=rows)


def _left(limit: int | None, used: int) -> str:
    return "no limit" if limit is None else say_exactly(max(0, limit - used))


def _unseen(orchestrator: Orchestrator, namespace: str) -> list[Note]:
    """That the namespace is not there: it may come, and may be a slip of the pen."""
    if namespace in orchestrator.namespaces:
        return []
    words = f"{orchestrator.name} has no namespace {namespace} as far as is known."
    return [warning("no-namespace", words, about="namespace", next_step="It counts once there is one.")]


def _unpublished(view: SiteView, policy: Policy) -> list[Note]:
    if any(one.policy == policy.number for one in view.classes):
        return []
    words = f"No class stands for {policy.name} yet: no claim can ask for it."
    return [warning("no-class", words, next_step="Publish one.")]


def _below(had: Sequence[Had], new: Grant) -> list[Note]:
    """That less is granted than is had."""
    used, limits = sum(one.bytes for one in had), new.limits
    over = limits.bytes is not None and used > limits.bytes
    if not over and (limits.claims is None or len(had) <= limits.claims):
        return []
    words = f"{new.namespace} has {say_exactly(used)} in {say_count(len(had), 'claim')} already: nothing is "
    words += "taken from it, and no claim gets more before it is below."
    return [warning("below-use", words)]
