"""What all bodies of requests and answers have alike."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict, model_validator

from foldbarn.core.watch.states import Lamp, State


class Body(BaseModel):
    """What is sent to the API: a field that is not known is refused, not passed over, and so is text that
    cannot be kept.
    """

    model_config = ConfigDict(extra="forbid")

    @model_validator(mode="before")
    @classmethod
    def _can_be_kept(cls, sent: Any) -> Any:
        if (text := _unwritable(sent)) is not None:
            shown = text[:40].encode("utf-8", "replace").decode("utf-8")
            raise ValueError(f"'{shown}' holds a character that cannot be stored")
        return sent


def _unwritable(sent: Any) -> str | None:
    """A text anywhere in what was sent that holds half a surrogate pair or a zero character, which no
    database takes.
    """
    waiting = [sent]
    while waiting:
        value = waiting.pop()
        if isinstance(value, str):
            if "\0" in value or any("\ud800" <= c <= "\udfff" for c in value if c > "\ud7ff"):
                return value
        elif isinstance(value, dict):
            waiting += [*value.keys(), *value.values()]
        elif isinstance(value, list):
            waiting += value
    return None


class StateOut(BaseModel):
    """A lamp with its reason."""

    lamp: Lamp
    reason: str

    @classmethod
    def of(cls, state: State) -> StateOut:
        return cls(lamp=state.lamp, reason=state.reason)
