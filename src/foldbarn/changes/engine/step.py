"""The steps of a plan: frozen values that hold all it takes to carry them out, and beside it how that is done
and, where there is a way back, how it is taken back.

Things stand in a step by their numbers, so that a rename never disturbs a change under way.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from pydantic import BaseModel, ConfigDict, ValidationError

from foldbarn.core.errors import NotPossible

if TYPE_CHECKING:
    from foldbarn.changes.engine.runner import Run
    from foldbarn.store.database import Session


class Payload(BaseModel):
    """A value inside a step."""

    model_config = ConfigDict(frozen=True, extra="forbid")


class Step(Payload, ABC):
    """One step. Its name is the same wherever it is recorded, and no two kinds of step have the same."""

    name: ClassVar[str]
    # from when its change can be withdrawn no more, and why
    no_way_back: ClassVar[Literal["", "begun", "done"]] = ""
    why_no_way_back: ClassVar[str] = ""
    # what it has done stays, though its change be withdrawn
    lasting: ClassVar[bool] = False
    # once it has begun consumers wait, until a step of which there is no way back is done: where its change
    # cannot go on meanwhile, or is to pause, it is withdrawn, rather than that they wait for a person
    consumers_wait: ClassVar[bool] = False
    # strips are copied by it, so it can be slowed down
    moves_strips: ClassVar[bool] = False

    @classmethod
    def __pydantic_init_subclass__(cls, **kwargs: Any) -> None:
        super().__pydantic_init_subclass__(**kwargs)
        if "name" in cls.__dict__:
            assert cls.name not in STEPS, cls.name
            STEPS[cls.name] = cls

    @property
    def done_again(self) -> bool:
        """Whether others may undo what it has done while its change is paused: then it is done again when
        that goes on, unless a step after it has been done.
        """
        return False

    def take_back(self, run: Run) -> None:
        """Puts back what this step, once begun, has done. Steps are taken back in reverse order; each may be
        asked again.
        """
        return

    def stop(self, run: Run) -> None:
        """Stops what nodes are doing for it, as its change is to pause: others may go on with the same things
        meanwhile.
        """
        return


class Outside(Step):
    """A step that talks to agents; it may be repeated from its start without harm."""

    @abstractmethod
    def carry_out(self, run: Run) -> str:
        """Returns its outcome as a sentence."""


class Inside(Step):
    """A step whose effects commit together with the record that it is done."""

    @abstractmethod
    def carry_out(self, run: Run, session: Session) -> str:
        """Returns its outcome as a sentence."""


STEPS: dict[str, type[Step]] = {}


def read_step(name: str, payload: dict[str, Any] | None) -> Step:
    """A step as it was recorded. Raises NotPossible where this version cannot read it."""
    try:
        return STEPS[name].model_validate(payload)
    except (KeyError, ValidationError) as error:
        raise NotPossible(
            "This step was planned by another version, and cannot be carried out by this one.",
            next_step="Withdraw this change and preview it again.",
        ) from error


def done_again(name: str, payload: dict[str, Any] | None) -> bool:
    """Whether a step is, as it was recorded, where its change goes on after a pause right behind it."""
    try:
        return read_step(name, payload).done_again
    except NotPossible:
        return False


def moves_strips(name: str) -> bool:
    """Whether a step of this name copies strips."""
    return name in STEPS and STEPS[name].moves_strips
