"""The duties that tell nodes what they go by: on which terms they serve what they hold, and whom."""

from __future__ import annotations

from foldbarn.changes.engine.files import FILES
from foldbarn.changes.engine.marks import MARKS
from foldbarn.changes.engine.targets import TARGETS
from foldbarn.changes.engine.telling import Matter, tell
from foldbarn.changes.engine.terms import TERMS


def tell_limits() -> bool:
    """Tells every node that is heard its terms, where these are others than it was told last. Whether any
    could not be told, or is not heard.
    """
    return _left(TERMS)


def tell_targets() -> bool:
    """The same of what they serve to hosts."""
    return _left(TARGETS)


def tell_marks() -> bool:
    """The same of snapshots."""
    return _left(MARKS)


def tell_files() -> bool:
    """The same of the file service."""
    return _left(FILES)


def _left(matter: Matter) -> bool:
    left = tell(matter)
    return left is None or bool(left)
