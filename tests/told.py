"""What previews tell, for tests."""

from __future__ import annotations

from typing import TypeVar

from foldbarn.changes.engine.effects import Effect, Texts
from foldbarn.changes.engine.preview import Preview

E = TypeVar("E", bound=Effect)


def told(preview: Preview, effect: type[E]) -> E:
    """The one effect of a kind."""
    [found] = preview.every(effect)
    return found


def in_words(preview: Preview) -> list[tuple[str, str, str]]:
    """What it says of each thing: label, before, after."""
    return [(row.label, row.before, row.after) for row in told(preview, Texts).rows]
