"""The step by which nodes learn whether consumers may use a volume."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from foldbarn.changes.engine.effects import Note, warning
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.changes.engine.targets import TARGETS
from foldbarn.changes.engine.telling import tell_for_a_step
from foldbarn.changes.engine.terms import TERMS
from foldbarn.core.policies.limits import holders
from foldbarn.core.site import Contact, SiteView, Volume
from foldbarn.core.units import say_list
from foldbarn.store.views import current_view


class TellServing(Outside):
    """The nodes of volumes (by number) know whether they serve them. Those that cannot be told now are told
    as soon as they can, as all that nodes go by.
    """

    name: ClassVar[str] = "tell-serving"
    volumes: tuple[int, ...]

    def carry_out(self, run: Run) -> str:
        view = current_view()
        found = [v for number in self.volumes if (v := find_volume(view, number)) is not None]
        if not found:
            return "It is gone." if len(self.volumes) == 1 else "They are gone."
        outcome = tell_for_a_step(run, TERMS, {number for v in found for number, _ in holders(view, v)})
        targets = [target for v in found if (target := current_view().target_of(v.number)) is not None]
        if not targets:
            return outcome
        # What withholds it comes first, and what lets hosts in again comes last: never the other way round.
        gateways = {number for target in targets for number in target.gateways}
        return f"{outcome} As gateways for hosts: {tell_for_a_step(run, TARGETS, gateways)}"


def find_volume(view: SiteView, number: int) -> Volume | None:
    """The volume of that number; none where it is gone, though a newer one may have its name."""
    return next((v for v in view.volumes if v.number == number), None)


LEAST_ASKED = 0.1  # operations a second; less may be what has yet to be forgotten


def in_use(volumes: Sequence[Volume]) -> list[Note]:
    """Of volumes that are to be taken from their consumers, that these use them."""
    used = [v for v in volumes if v.served and v.asked >= LEAST_ASKED]
    if not used:
        return []
    asked = sum(v.asked for v in used)
    rate = f"{asked:,.0f}" if asked >= 10 else f"{asked:.1f}"
    words = f"It is in use: its consumers got {rate} operations a second of it lately, and get none then."
    if len(volumes) > 1:
        names = say_list([v.name for v in used], 3)
        words = f"{names} {'is' if len(used) == 1 else 'are'} in use: consumers got {rate} operations a "
        words += f"second of {'it' if len(used) == 1 else 'them'} lately, and get none then."
    return [warning("in-use", words, next_step="Stop them first.")]


def silent_holders(view: SiteView, volumes: Sequence[Volume]) -> list[Note]:
    """Of nodes that cannot be told now, that they may go on as before until they can."""
    numbers = {number for v in volumes for number, _ in holders(view, v)}
    silent = [n.name for n in view.nodes if n.number in numbers and n.contact != Contact.HEARD]
    if not silent:
        return []
    many = len(silent) > 1
    words = f"{say_list(silent)} cannot be told now, and {'are' if many else 'is'} told when heard again. "
    words += f"Until then {'they serve' if many else 'it serves'} what {'they hold' if many else 'it holds'} "
    words += f"of {'it' if len(volumes) == 1 else 'them'} as before to whoever still reaches "
    return [warning("cannot-be-told", words + ("them." if many else "it."))]
