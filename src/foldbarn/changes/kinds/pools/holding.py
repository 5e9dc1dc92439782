"""Steps that alter where strips of a pool are to lie, while nobody else does."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.store import pools
from foldbarn.store.database import Session
from foldbarn.store.views import current_view


class InPool(Outside):
    """A step in a pool (by number)."""

    pool: int

    @contextmanager
    def holding(self, run: Run) -> Iterator[Session]:
        """Nobody moves strips of the pool, or places a volume there, meanwhile."""
        with run.holding_strips(current_view().pool_numbered(self.pool)), run.writing() as session:
            pools.locked(session, self.pool)
            yield session

    @contextmanager
    def placing(self, run: Run) -> Iterator[Session]:
        """Nobody else places anything in the pool meanwhile. Strips may be on their way there: what is placed
        beside them has strips of its own, as a new volume has, and waits for nobody.
        """
        with run.writing() as session:
            pools.locked(session, self.pool)
            yield session
