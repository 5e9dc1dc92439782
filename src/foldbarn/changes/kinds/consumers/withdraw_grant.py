"""Withdrawing what a namespace was granted of a policy."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from foldbarn.changes.engine.effects import AnyEffect, Note, Promise, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.consumers.grant_policy import granted, rows_of, touches_of, wish_of
from foldbarn.changes.kinds.consumers.touched_claims import verdicts, waiting_in
from foldbarn.core.claims.admission import had_in
from foldbarn.core.errors import BarnError, NotFound
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant
from foldbarn.core.units import say_count, say_exactly
from foldbarn.store import claims
from foldbarn.store.database import Session, announce


class WithdrawGrantParams(Params):
    """Each by name."""

    orchestrator: str
    namespace: str
    policy: str


class ForgetGrant(Inside):
    """What was granted (by number) is no more."""

    name: ClassVar[str] = "forget-grant"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is withdrawn, and can be granted again"
    grant: int

    def carry_out(self, run: Run, session: Session) -> str:
        claims.forget_grant(session, self.grant)
        announce(session, "site")
        return "It is withdrawn."


@register
class WithdrawGrant(Kind[WithdrawGrantParams]):
    """forget (ours)."""

    name: ClassVar[str] = "withdraw-grant"
    params: ClassVar[type[Params]] = WithdrawGrantParams

    def plan(self, view: SiteView, params: WithdrawGrantParams) -> Plan:
        title, namespace = f"Withdraw {params.policy} from {params.namespace}", params.namespace
        try:
            orchestrator, policy = view.orchestrator(params.orchestrator), view.policy(params.policy)
            old = granted(view, orchestrator.number, namespace, policy.number)
            if old is None:
                raise NotFound(f"{policy.name} was not granted to {namespace}.", about="policy")
        except BarnError as error:
            return Plan(title=title, about=namespace, blockers=[Note.of(error)])
        after = replace(view, grants=tuple(grant for grant in view.grants if grant is not old))
        mine = waiting_in(
            view, lambda k: (k.orchestrator, k.claim.namespace) == (orchestrator.number, namespace)
        )
        had = had_in(view).get(orchestrator.number, {}).get((namespace, policy.number), [])
        effects: list[AnyEffect] = [
            Texts(heads=["", "Now", "Then"], rows=rows_of(old, None)),
            *verdicts(view, after, mine),
        ]
        if had:
            words = f"{say_count(len(had), 'claim')} with {say_exactly(sum(one.bytes for one in had))} keep "
            effects.append(Promise(title="What it has", sentence=f"{words}their volumes, and may not grow."))
        return Plan(
            title=title,
            about=namespace,
            steps=[Planned(ForgetGrant(grant=old.number), "Withdraw it", "Volumes are left as they are.")],
            effects=effects,
            touches=touches_of(orchestrator, policy),
            meant=Meant(orchestrators=(orchestrator,), policies=(policy,)),
            undo=Undo("grant-policy", wish_of(view, old)),
        )
