"""What every kind of change provides, and the register of kinds."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, ClassVar, Generic, TypeVar

from pydantic import BaseModel, ConfigDict

from foldbarn.changes.engine.preview import Preview
from foldbarn.core.errors import NotFound
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Touch

if TYPE_CHECKING:
    from foldbarn.changes.engine.runner import Run


class Params(BaseModel):
    """What a person fills in. Unknown fields are refused."""

    model_config = ConfigDict(extra="forbid")


P = TypeVar("P", bound=Params)


class Kind(ABC, Generic[P]):
    """One kind of change. Steps are named in the preview; each name is a method, and what follows a colon is
    what it is about (run.subject).

    A step in `inside` takes (run, session): its effects commit together with the record that it is done.
    Any other step takes (run): it talks to agents, and may be repeated from its start without harm.
    """

    name: ClassVar[str]
    params: ClassVar[type[Params]]
    inside: ClassVar[frozenset[str]] = frozenset()
    # whether other bytes on the same disks make it another change, as they do where it chooses places by them
    exact: ClassVar[bool] = True

    @abstractmethod
    def preview(self, view: SiteView, params: P) -> Preview:
        """Steps and effects; pure. What is wrong with the wish stands in its blockers."""

    @abstractmethod
    def about(self, params: P) -> str:
        """Name of the thing that the change makes or mends."""

    def meant(self, view: SiteView, params: P) -> Meant:
        """The things that the wish names. They are known by their numbers from when it is carried out. Raises
        NotFound.
        """
        return Meant()

    @abstractmethod
    def touches(self, view: SiteView, params: P) -> list[Touch]:
        """What it touches: others that touch the same wait, or it waits for them. Raises NotFound."""

    @abstractmethod
    def withdraw(self, run: Run[P]) -> None:
        """Puts back what has been done so far."""

    def stop(self, run: Run[P]) -> None:
        """Stops what nodes are doing for it, as it is to pause: others may go on with the same things
        meanwhile.
        """
        return

    def step(self, name: str) -> Callable[..., str]:
        """What a step does; returns its outcome as a sentence."""
        method: Callable[..., str] = getattr(self, f"step_{name.partition(':')[0]}")
        return method

    def is_inside(self, name: str) -> bool:
        return name.partition(":")[0] in self.inside

    def to_keep(self, view: SiteView, params: P) -> dict[str, Any]:
        """The parameters as they are recorded; a kind that takes secrets replaces them here."""
        return params.model_dump(mode="json")

    def to_show(self, kept: dict[str, Any]) -> dict[str, Any]:
        """Of what is recorded, what anyone may read."""
        return kept


KINDS: dict[str, Kind[Any]] = {}


def register(kind: type[Kind[Any]]) -> type[Kind[Any]]:
    KINDS[kind.name] = kind()
    return kind


def kind_named(name: str) -> Kind[Any]:
    """Raises NotFound for a kind that does not exist."""
    if name not in KINDS:
        raise NotFound(
            f"There is no kind of change named '{name}'.",
            about="kind",
            next_step=f"The kinds are {', '.join(sorted(KINDS))}.",
        )
    return KINDS[name]
