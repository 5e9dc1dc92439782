"""Which snapshots of what they hold nodes know of."""

from __future__ import annotations

from collections import defaultdict
from typing import Any, ClassVar

from foldbarn.changes.engine.telling import Matter
from foldbarn.core.policies.limits import holders
from foldbarn.core.site import SiteView
from foldbarn.core.volumes.origins import readers_of
from foldbarn.store import nodes
from foldbarn.store.database import Session
from foldbarn.store.nodes import Told


class _Marks(Matter):
    """By the ply of all of a volume: the numbers of its snapshots, and of those that other volumes read from,
    which give way last. What is not among them a node lets go of; it takes none by being told of one.
    """

    kind: ClassVar[str] = "marks"
    number: ClassVar[int] = 2

    def wanted(self, view: SiteView) -> dict[int, dict[str, Any]]:
        found: dict[int, dict[str, Any]] = defaultdict(dict)
        for volume in view.volumes:
            if volume.past is None:
                continue
            for node in {node for node, _ in holders(view, volume)}:
                read = {v.origin.snapshot for v in readers_of(view, volume) if v.origin is not None}
                said = {"there": list(volume.marks), "read": sorted(read)}
                found[node][str(volume.whole.number)] = said
        return dict(found)

    def same(self, told: dict[str, Any], wanted: dict[str, Any]) -> bool:
        return told == wanted

    def order(self, view: SiteView, node: int, wanted: dict[str, Any]) -> dict[str, Any]:
        return {"marks": wanted}

    def told(self, session: Session) -> dict[int, Told]:
        return nodes.marks_told(session)

    def note(self, session: Session, node: int, wanted: dict[str, Any], order: str) -> None:
        nodes.note_marks(session, node, wanted)


MARKS = _Marks()
