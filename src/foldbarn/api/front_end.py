"""The built front end: its one page for every address its router knows, and the files that it is made of."""

from __future__ import annotations

import gzip
import json
import mimetypes
import re
from functools import lru_cache
from pathlib import Path

from fastapi import FastAPI, Header
from fastapi.responses import FileResponse, Response

from foldbarn.core.errors import NotFound

# Files below assets carry their content's hash in their name.
FOR_EVER = {"Cache-Control": "public, max-age=31536000, immutable", "Vary": "Accept-Encoding"}
CODINGS = frozenset({"br", "gzip"})  # that there are here
PACKED = frozenset({".js", ".css", ".svg", ".json"})  # what gets smaller


def serve_front_end(app: FastAPI, folder: Path) -> None:
    """Nothing where it has not been built."""
    if not (folder / "index.html").is_file():
        return
    early = _early(folder)

    # Not in a thread of its own: what was asked for before comes from memory, and a page is made of many.
    @app.get("/assets/{name}", include_in_schema=False)
    async def asset(name: str, accept_encoding: str = Header(default="")) -> Response:
        if (wanted := _file_at(folder / "assets", name)) is None:
            raise NotFound("There is no such file.")
        coding, body = _coded(wanted, CODINGS & _accepted(accept_encoding))
        headers = {**FOR_EVER, "Content-Encoding": coding} if coding else FOR_EVER
        return Response(body, media_type=mimetypes.guess_type(name)[0], headers=headers)

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> FileResponse:
        """A file of the front end, or its one page for every address the router knows."""
        if any(part.startswith(".") for part in path.split("/")):
            raise NotFound("There is no such file.")
        if path and (wanted := _file_at(folder, path)):
            return FileResponse(wanted)
        headers = {"Cache-Control": "no-cache"}
        if files := next((files for address, files in early if address.fullmatch(f"/{path}")), []):
            headers["Link"] = ", ".join(_asked_early(file) for file in files)
        return FileResponse(folder / "index.html", headers=headers)


def _accepted(said: str) -> set[str]:
    """The codings that a browser accepts (RFC 9110): one that weighs nothing is forbidden."""
    found = set()
    for one in said.lower().split(","):
        name, _, weight = one.partition(";")
        if not re.fullmatch(r"\s*q\s*=\s*0(\.0*)?\s*", weight):
            found.add(name.strip())
    return found


def _early(folder: Path) -> list[tuple[re.Pattern[str], list[str]]]:
    """The files that the page at each address is made of beyond the first ones, as the build wrote them
    down.
    """
    told = folder / "early.json"
    if not told.is_file():
        return []
    return [(re.compile(one["address"]), one["files"]) for one in json.loads(told.read_text())]


def _asked_early(file: str) -> str:
    """A link that has the browser ask for a file before a script does (RFC 8288)."""
    how = "preload; as=style" if file.endswith(".css") else "modulepreload"
    return f"</{file}>; rel={how}; crossorigin"


@lru_cache(maxsize=1024)
def _coded(file: Path, accepted: frozenset[str]) -> tuple[str, bytes]:
    """A file as small as a browser accepts it, and how it is coded: found out once and not for everyone who
    asks.
    """
    smallest = file.with_name(f"{file.name}.br")
    if "br" in accepted and smallest.is_file():
        return "br", smallest.read_bytes()
    if "gzip" in accepted and file.suffix in PACKED:
        return "gzip", gzip.compress(file.read_bytes(), mtime=0)
    return "", file.read_bytes()


def _file_at(folder: Path, path: str) -> Path | None:
    """A file of the folder; None where there is none, or the path is none that a file could have."""
    try:
        wanted = (folder / path).resolve()
        return wanted if wanted.is_file() and wanted.is_relative_to(folder.resolve()) else None
    except (OSError, ValueError):
        return None
