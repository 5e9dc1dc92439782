"""What all routes have alike."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path as PathParameter

from foldbarn.core.actors import Actor
from foldbarn.store.changes import operator
from foldbarn.store.database import transaction

# Every refusal is a problem of RFC 9457; see api/errors.py.
PROBLEM = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}


PROBLEMS = {
    status: {"description": description, "content": PROBLEM}
    for status, description in {
        400: "The request could not be read.",
        403: "Not allowed.",
        404: "There is no such thing.",
        405: "Not a method of this address.",
        409: "The site has moved on.",
        413: "Too large.",
        415: "Not JSON.",
        422: "Not possible.",
        502: "An outside system does not answer.",
        503: "The database does not answer.",
    }.items()
}


Number = Annotated[int, PathParameter(ge=0, le=2**63 - 1)]  # what the database's bigint holds


def person() -> Actor:
    """Who is asking: Fold Barn has one user, whose name the site knows."""
    with transaction() as session:
        return operator(session)
