"""What every kind of change provides, and the register of kinds."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Any, ClassVar, Generic, TypeVar

from pydantic import BaseModel, ConfigDict

from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.core.errors import NotFound
from foldbarn.core.site import SiteView


class Params(BaseModel):
    """What a person fills in. Unknown fields are refused."""

    model_config = ConfigDict(extra="forbid")


P = TypeVar("P", bound=Params)


class Kind(ABC, Generic[P]):
    """One kind of change: what its wish is given, and what that comes to. Its steps carry themselves out."""

    name: ClassVar[str]
    params: ClassVar[type[Params]]

    @abstractmethod
    def plan(self, view: SiteView, params: P) -> Plan:
        """Pure. What is wrong with the wish stands in the plan's blockers."""

    def to_keep(self, view: SiteView, params: P) -> dict[str, Any]:
        """The parameters as they are recorded; a kind that takes secrets leaves them out here."""
        return params.model_dump(mode="json")

    def with_secrets(self, params: P, steps: Sequence[Planned]) -> Sequence[Planned]:
        """The steps as they are carried out. A plan holds no secrets; a kind that takes them seals them into
        its steps here.
        """
        return steps


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
