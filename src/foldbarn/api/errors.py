"""Errors as RFC 9457 problem details: the whole mapping on one screen."""

from __future__ import annotations

from collections.abc import Mapping

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from starlette.exceptions import HTTPException

from foldbarn.api.changes.models import Problem
from foldbarn.core.errors import BarnError, Conflict, NotAllowed, NotFound, NotPossible, Unreachable
from foldbarn.services.changes import Outdated
from foldbarn.store.database import DataError, IntegrityError, OperationalError, is_full

STATUS: dict[type[BarnError], tuple[int, str]] = {
    NotPossible: (422, "Not possible"),
    NotFound: (404, "Not found"),
    Conflict: (409, "The site has moved on"),
    NotAllowed: (403, "Not allowed"),
    Unreachable: (502, "Out of reach"),
}


def answer(problem: Problem, headers: Mapping[str, str] | None = None) -> JSONResponse:
    """A problem as it leaves. What was sent may be quoted in it, so whatever cannot be written is
    replaced.
    """
    said = problem.model_copy(update={"detail": _writable(problem.detail), "about": _writable(problem.about)})
    return JSONResponse(
        said.model_dump(mode="json", exclude_none=True),
        problem.status,
        headers=dict(headers or {}),
        media_type="application/problem+json",
    )


def _writable(text: str | None) -> str | None:
    """Without halves of surrogate pairs, which no encoding has."""
    return None if text is None else text.encode("utf-8", "replace").decode("utf-8")


def install(app: FastAPI) -> None:
    """Every refusal leaves as a problem with a sentence."""

    @app.exception_handler(BarnError)
    async def refused(_: Request, error: BarnError) -> JSONResponse:
        status, title = next(STATUS[c] for c in type(error).__mro__ if c in STATUS)
        fresh = error.fresh if isinstance(error, Outdated) else None
        return answer(
            Problem(
                title=title,
                status=status,
                detail=error.sentence,
                about=error.about,
                next_step=error.next_step,
                preview=fresh,
            )
        )

    @app.exception_handler(RequestValidationError)
    async def misshapen(_: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        field = ".".join(str(part) for part in first["loc"][1:]) or "body"
        return answer(
            Problem(
                title="Not possible",
                status=422,
                detail=f"'{field}' is not usable: {first['msg'].lower()}.",
                about=field,
            )
        )

    @app.exception_handler(HTTPException)
    async def plain(_: Request, error: HTTPException) -> JSONResponse:
        title = {404: "Not found", 405: "Not a method of this address"}.get(
            error.status_code, "Not understood"
        )
        problem = Problem(title=title, status=error.status_code, detail=f"{error.detail}.")
        return answer(problem, error.headers)  # with 405, Allow names the methods

    @app.exception_handler(IntegrityError)
    async def overtaken(_: Request, error: IntegrityError) -> JSONResponse:
        return answer(
            Problem(
                title="The site has moved on",
                status=409,
                detail="Someone else changed the same thing at the same moment.",
                next_step="Look again, then try again.",
            )
        )

    @app.exception_handler(DataError)
    async def cannot_be_kept(_: Request, error: DataError) -> JSONResponse:
        return answer(
            Problem(
                title="Not possible",
                status=422,
                detail="A value holds something that cannot be stored, such as a zero character.",
            )
        )

    @app.exception_handler(OperationalError)
    async def database_away(_: Request, error: OperationalError) -> JSONResponse:
        what, step = "The database does not answer.", "It is waited for; try again in a moment."
        if is_full(error):
            what = "There is no room left on the disk where Fold Barn keeps its own data."
            step = "Make room there; what was under way goes on by itself."
        return answer(Problem(title="Out of reach", status=503, detail=what, next_step=step))
