"""Withdrawing a storage class: volumes that were made by it stay as they are."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from foldbarn.changes.engine.effects import AnyEffect, Note, Promise, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.consumers.publish_class import wish_of
from foldbarn.changes.kinds.consumers.touched_claims import verdicts, waiting_in
from foldbarn.core.errors import BarnError
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count
from foldbarn.store import claims
from foldbarn.store.database import Session, announce

NEW_TOO = 0  # which is the default one is decided by one at a time


class WithdrawClassParams(Params):
    """A class by name."""

    storage_class: str


class ForgetClass(Inside):
    """A class (by number) is no more."""

    name: ClassVar[str] = "forget-class"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is withdrawn, and can be published again"
    storage_class: int

    def carry_out(self, run: Run, session: Session) -> str:
        claims.forget_class(session, self.storage_class)
        announce(session, "site")
        return "It is withdrawn. It goes from orchestrators by itself."


@register
class WithdrawClass(Kind[WithdrawClassParams]):
    """forget (ours); the duty that looks after orchestrators takes it away there."""

    name: ClassVar[str] = "withdraw-class"
    params: ClassVar[type[Params]] = WithdrawClassParams

    def plan(self, view: SiteView, params: WithdrawClassParams) -> Plan:
        title = f"Withdraw the class {params.storage_class}"
        try:
            old = view.storage_class(params.storage_class)
        except BarnError as error:
            return Plan(title=title, about=params.storage_class, blockers=[Note.of(error)])
        after = replace(view, classes=tuple(one for one in view.classes if one is not old))
        waiting = waiting_in(view, lambda kept: kept.claim.class_name in (None, old.name))
        having = sum(kept.held and kept.class_name == old.name for kept in view.claims)
        effects: list[AnyEffect] = [*verdicts(view, after, waiting)]
        if having:
            words = (
                f"{say_count(having, 'claim')} got their volumes by it, and keep them. They may not grow: "
            )
            words += "orchestrators look at the class for that."
            effects.append(Promise(title="Claims that have it", sentence=words))
        warned = []
        if old.default:
            words = "Claims that name no class get this one now; there is none for them then."
            warned.append(warning("no-default", words, next_step="Let another class be the default one."))
        return Plan(
            title=title,
            about=old.name,
            steps=[
                Planned(ForgetClass(storage_class=old.number), "Withdraw it", "Volumes are left as they are.")
            ],
            effects=effects,
            touches=[alone(Thing.CLASS, NEW_TOO), alone(Thing.CLASS, old.number)],
            meant=Meant(classes=(old,)),
            warnings=warned,
            undo=Undo("publish-class", wish_of(view, old)),
        )
