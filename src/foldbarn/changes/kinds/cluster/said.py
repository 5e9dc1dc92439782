"""Checks and losses of a cluster, as previews show them."""

from __future__ import annotations

from foldbarn.changes.engine.effects import (
    CheckRow,
    LossRow,
    Note,
)
from foldbarn.core.cluster.forming import Check, Wish, voters
from foldbarn.core.cluster.quorum import domain_losses
from foldbarn.core.site import SiteView


def check_rows(checks: list[Check]) -> list[CheckRow]:
    """Prechecks as a preview shows them."""
    return [
        CheckRow(name=c.name, result=c.result, sentence=c.sentence, cure=c.cure, about=c.about)
        for c in checks
    ]


def failing(checks: list[Check]) -> list[Note]:
    """Checks that stand against it."""
    return [
        Note(sentence=c.sentence, about=c.name, next_step=c.cure or None, check=True)
        for c in checks
        if c.result == "fail"
    ]


def doubted(checks: list[Check]) -> list[Note]:
    return [
        Note(
            sentence=c.sentence,
            about=c.name,
            next_step=c.cure or None,
            check=True,
            code=f"check {c.name} {c.about}".strip(),
        )
        for c in checks
        if c.result == "doubt"
    ]


def losses(view: SiteView, wish: Wish) -> list[LossRow]:
    return [
        LossRow(what=e.what, votes_lost=e.votes_lost, votes_left=e.votes_left, decides=e.decides)
        for e in domain_losses(voters(view, wish))
    ]
