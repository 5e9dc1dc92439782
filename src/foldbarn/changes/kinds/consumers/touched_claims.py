"""What a change of what is offered does to the claims that wait, found by judging each as it would be."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from foldbarn.changes.engine.effects import TextRow, Texts
from foldbarn.core.claims.admission import admission_of
from foldbarn.core.claims.kept import KeptClaim
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.site import SiteView

MOST_ROWS = 200  # as many as anyone reads


def waiting_in(view: SiteView, test: Callable[[KeptClaim], bool]) -> list[KeptClaim]:
    """Claims that wait, of which something is so."""
    return [kept for kept in view.claims if kept.life is Life.WAITING and test(kept)]


def verdicts(view: SiteView, after: SiteView, waiting: Sequence[KeptClaim]) -> list[Texts]:
    """Those of which something else is said from then on. Of each it is what the duty will say that makes
    their volumes: both ask the same.
    """
    now = {one.number: admission_of(view, one.number) for one in view.orchestrators}
    then = {one.number: admission_of(after, one.number) for one in after.orchestrators}
    rows = []
    for kept in waiting:
        before, later = (judge[kept.orchestrator].judge_kept(kept) for judge in (now, then))
        if (before.hindrance, before.sentence) == (later.hindrance, later.sentence):
            continue
        words = "gets its volume" if later.fits else f"waits: {later.sentence}"
        was = "gets its volume" if before.fits else f"waits: {before.sentence}"
        rows.append(TextRow(label=path_of(view, kept), before=was, after=words))
    left = len(rows) - MOST_ROWS
    if left > 0:
        rows = [*rows[:MOST_ROWS], TextRow(label=f"and {left} more", before="", after="")]
    return [Texts(heads=["Claims that wait", "Now", "Then"], rows=rows)] if rows else []


def path_of(view: SiteView, kept: KeptClaim) -> str:
    """As people say which it is; with its orchestrator, where there are several."""
    if len(view.orchestrators) < 2:
        return kept.path
    return f"{view.orchestrator_numbered(kept.orchestrator).name}/{kept.path}"
