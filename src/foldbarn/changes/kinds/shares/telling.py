"""The step by which nodes learn of the file service, and who wants to know."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.files import FILES, members
from foldbarn.changes.engine.plan import Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.changes.engine.telling import tell_for_a_step
from foldbarn.store.views import current_view


class TellFiles(Outside):
    """The nodes of the cluster know all of the file service as it is now. Those that cannot be told now are
    told as soon as they can.
    """

    name: ClassVar[str] = "tell-files"

    def carry_out(self, run: Run) -> str:
        return tell_for_a_step(run, FILES, members(current_view()))


def tell_files(words: str) -> Planned:
    return Planned(TellFiles(), "Tell the nodes of the cluster", words, seconds=1)
