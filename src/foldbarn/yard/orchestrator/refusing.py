"""What the orchestrator refuses, as the API says it: a Status object (API conventions, "Response Status
Kind").
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

Thing = dict[str, Any]  # an object of the API, as JSON has it; never changed once it is kept

# Reasons of the API conventions, by the HTTP status they come with.
CODES = {
    "BadRequest": 400,
    "Unauthorized": 401,
    "Forbidden": 403,
    "NotFound": 404,
    "MethodNotAllowed": 405,
    "NotAcceptable": 406,
    "AlreadyExists": 409,
    "Conflict": 409,
    "Expired": 410,
    "UnsupportedMediaType": 415,
    "Invalid": 422,
}


@dataclass(frozen=True, slots=True)
class Cause:
    """What is wrong with one field. reason: FieldValueInvalid, FieldValueRequired, and so on."""

    field: str
    message: str
    reason: str = "FieldValueInvalid"


@dataclass(eq=False)
class Refused(Exception):
    """A request that is not carried out. reason: one of CODES; group, plural, name: of what it is about."""

    reason: str
    message: str
    group: str = ""
    plural: str = ""
    name: str = ""
    causes: Sequence[Cause] = field(default=())

    @property
    def code(self) -> int:
        return CODES[self.reason]

    def status(self) -> Thing:
        details: Thing = {"name": self.name, "group": self.group, "kind": self.plural}
        if self.causes:
            details["causes"] = [
                {"reason": one.reason, "message": one.message, "field": one.field} for one in self.causes
            ]
        return {
            "kind": "Status",
            "apiVersion": "v1",
            "metadata": {},
            "status": "Failure",
            "message": self.message,
            "reason": self.reason,
            "details": {key: value for key, value in details.items() if value},
            "code": self.code,
        }
