"""What a change will do, as data: its steps, its effects, and what it touches."""

from __future__ import annotations

import hashlib
import json
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from foldbarn.changes.engine.effects import AnyEffect, Note
from foldbarn.changes.engine.step import Step
from foldbarn.core.touching import Meant, Touch


@dataclass(frozen=True, slots=True)
class Planned:
    """A step with what a person reads of it. seconds: an estimate, None where it takes no time worth naming.

    about: the one of several things that it is about, such as a node, where its kind has a step for each.
    """

    step: Step
    title: str
    detail: str = ""
    seconds: float | None = None
    about: str = ""


NOTHING_MEANT = Meant()


@dataclass(frozen=True, slots=True)
class Undo:
    """The wish that takes a change back."""

    kind: str
    params: dict[str, Any]


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """What a wish comes to as the site stands. With blockers it cannot be carried out, and may lack the rest.

    about: name of the thing that it makes or mends; meant: the things that the wish names, by number.
    type_to_confirm: what a person must type before it is carried out, where it destroys something.
    """

    title: str
    about: str
    summary: str = ""
    steps: Sequence[Planned] = ()
    effects: Sequence[AnyEffect] = ()
    touches: Sequence[Touch] = ()
    meant: Meant = NOTHING_MEANT
    warnings: Sequence[Note] = ()
    blockers: Sequence[Note] = ()
    undo: Undo | None = None
    type_to_confirm: str = ""

    def __post_init__(self) -> None:
        for note in self.warnings:
            assert note.code, f"a warning without a code: {note.sentence}"

    def digest(self) -> str:
        """Of what carrying it out does (its steps with their payloads), and of each thing it warns of.

        Figures may differ from look to look: consumers write, and strips are on their way.
        """
        steps = [[p.step.name, p.step.model_dump(mode="json")] for p in self.steps]
        warned = sorted(_hash([note.code, note.about or ""])[:8] for note in self.warnings)
        return ".".join([_hash([steps, self.type_to_confirm])[:24], *warned])

    def was_seen(self, digest: str) -> bool:
        """Whether who looked at the preview with this digest knows what this plan does and warns of. What it
        warned of then and does no more, such as a clock that was not known yet, is no news to refuse it for.
        """
        does, *warned = digest.split(".")
        does_now, *warns_now = self.digest().split(".")
        return does == does_now and not Counter(warns_now) - Counter(warned)


def _hash(value: object) -> str:
    return hashlib.sha256(json.dumps(value, sort_keys=True).encode()).hexdigest()
