"""Deleting a policy that no volume keeps."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, Promise
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.core.claims.offers import against_leaving_policy
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list
from foldbarn.store import policies
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view


class DeletePolicyParams(Params):
    """A policy by name."""

    policy: str


class ForgetPolicy(Inside):
    """A policy (by number), with all its versions."""

    name: ClassVar[str] = "forget-policy"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is forgotten"
    policy: int

    def carry_out(self, run: Run, session: Session) -> str:
        if kept := policies.users(session, self.policy):
            raise NotPossible(_in_use(kept), about="policy", next_step=_cure(kept))
        if offered := against_leaving_policy(load_view(session), self.policy):
            raise offered
        policies.forget(session, self.policy)
        announce(session, "site")
        return "It is forgotten."


@register
class DeletePolicy(Kind[DeletePolicyParams]):
    """forget (ours)."""

    name: ClassVar[str] = "delete-policy"
    params: ClassVar[type[Params]] = DeletePolicyParams

    def plan(self, view: SiteView, params: DeletePolicyParams) -> Plan:
        title = f"Delete the policy {params.policy}"
        try:
            policy = view.policy(params.policy)
        except BarnError as error:
            return Plan(title=title, about=params.policy, blockers=[Note.of(error)])
        kept = [v.name for v in view.volumes if v.policy and v.policy[0] == policy.number]
        versions = sum(p.number == policy.number for p in view.policies)
        blockers = [Note(sentence=_in_use(kept), about="policy", next_step=_cure(kept))] if kept else []
        if offered := against_leaving_policy(view, policy.number):
            blockers.append(Note.of(offered))
        return Plan(
            title=f"Delete the policy {policy.name}",
            about=policy.name,
            summary=f"{say_count(versions, 'version')} of it, which no volume keeps.",
            steps=[Planned(ForgetPolicy(policy=policy.number), "Forget it", "No data is touched.")],
            effects=[Promise(title="It promised", sentence=policy.wishes.sentence())],
            touches=[alone(Thing.POLICY, policy.number), alone(Thing.GRANTS, policy.number)],
            meant=Meant(policies=(policy,)),
            blockers=blockers,
        )


def _in_use(kept: list[str]) -> str:
    return f"{say_list(kept)} {'keep' if len(kept) > 1 else 'keeps'} it."


def _cure(kept: list[str]) -> str:
    those = "them" if len(kept) > 1 else "it"
    return f"Let {those} keep another policy, or delete {those} and empty the bin of {those}."
