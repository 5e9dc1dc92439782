"""A plan as people and programs read it, before it is carried out and as it was then."""

from __future__ import annotations

from typing import Any, TypeVar

from pydantic import BaseModel, ConfigDict, Field

from foldbarn.changes.engine.effects import AnyEffect, Effect, Moved, Note
from foldbarn.changes.engine.plan import Plan

E = TypeVar("E", bound=Effect)


class PlannedStep(BaseModel):
    """One step. seconds: an estimate, None when it takes no time worth naming; about: the thing it is for,
    where there is a step for each of several.

    can_withdraw: whether the change can still be called off in it, with what it did put back.
    """

    name: str
    title: str
    detail: str = ""
    seconds: float | None = None
    about: str = ""
    can_withdraw: bool = True


class Preview(BaseModel):
    """Steps and effects of a change as the site stands at `revision`. `digest` is the same while it would do
    the same, and warn of the same.

    seconds: that its moves take at the least; None where it moves nothing.
    """

    model_config = ConfigDict(json_schema_serialization_defaults_required=True)

    kind: str
    title: str
    summary: str
    revision: int
    digest: str
    steps: list[PlannedStep]
    effects: list[AnyEffect] = Field(default_factory=list)
    moves_bytes: int = 0
    seconds: float | None = None
    undo: dict[str, Any] | None = None  # kind and params of the change that takes this one back
    type_to_confirm: str = ""
    warnings: list[Note] = Field(default_factory=list)
    blockers: list[Note] = Field(default_factory=list)

    @classmethod
    def of(cls, kind: str, revision: int, plan: Plan) -> Preview:
        moved = [e for e in plan.effects if isinstance(e, Moved)]
        return cls(
            kind=kind,
            title=plan.title,
            summary=plan.summary,
            revision=revision,
            digest=plan.digest(),
            steps=_steps(plan),
            effects=list(plan.effects),
            moves_bytes=sum(e.bytes for e in moved),
            seconds=sum(e.seconds for e in moved) if moved else None,
            undo={"kind": plan.undo.kind, "params": plan.undo.params} if plan.undo else None,
            type_to_confirm=plan.type_to_confirm,
            warnings=list(plan.warnings),
            blockers=list(plan.blockers),
        )

    def every(self, effect: type[E]) -> list[E]:
        """Its effects of one kind."""
        return [e for e in self.effects if isinstance(e, effect)]


def _steps(plan: Plan) -> list[PlannedStep]:
    found, way_back = [], True
    for planned in plan.steps:
        way_back = way_back and not planned.step.no_way_back and not planned.step.lasting
        found.append(
            PlannedStep(
                name=planned.step.name,
                title=planned.title,
                detail=planned.detail,
                seconds=planned.seconds,
                about=planned.about,
                can_withdraw=way_back,
            )
        )
    return found
