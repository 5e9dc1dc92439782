"""Webhooks: signed as RFC 9421 has it, so that who is told can know by whom, and that it was told once."""

from __future__ import annotations

import base64
import hashlib
import json
import re
from collections.abc import Iterator
from typing import Any

import pytest
from conftest import serve
from fastapi import FastAPI, Request, Response

from foldbarn.core.errors import Unreachable
from foldbarn.house.postgres import free_port
from foldbarn.links.webhooks import post, signature_base, signature_parameters, signed

SECRET = "between the two of us"


def test_the_signature_is_that_of_the_standards_own_example() -> None:
    """RFC 9421, appendix B.2.5, "Signing a Request Using hmac-sha256", with the shared secret of B.1.5."""
    secret = base64.b64decode(
        "uzvJfB4u3N0Jy4T7NZ75MDVcr8zSTInedJtkgcu46YW4XByzNJjxBdtjUkdJPBtbmHhIDi6pcl8jsasjlTMtDQ=="
    )
    values = [
        ("date", "Tue, 20 Apr 2021 02:07:55 GMT"),
        ("@authority", "example.com"),
        ("content-type", "application/json"),
    ]
    parameters = signature_parameters([name for name, _ in values], 1618884473, "test-shared-secret")
    theirs = parameters.replace(';alg="hmac-sha256"', "")  # which the example leaves out
    assert signed(signature_base(values, theirs), secret) == "pxcQw6G3AjtMBQjwo8XzkZf/bws5LelbaMk5rGIGtE8="


class Hook:
    """A program that is told, and looks whether it is by whom it thinks."""

    def __init__(self) -> None:
        self.told: list[dict[str, Any]] = []
        self.status = 204

    async def take(self, request: Request) -> Response:
        body = await request.body()
        digest = base64.b64encode(hashlib.sha256(body).digest()).decode()
        assert request.headers["content-digest"] == f"sha-256=:{digest}:"
        given = re.fullmatch(r"barn=(.*)", request.headers["signature-input"])
        assert given
        names = re.findall(r'"([^"]+)"', given[1].partition(")")[0])
        assert {"@method", "@target-uri", "content-digest", "idempotency-key"} <= set(names)
        own = {"@method": request.method, "@target-uri": str(request.url)}
        lines = [f'"{name}": {own.get(name) or request.headers[name]}' for name in names]
        base = "\n".join([*lines, f'"@signature-params": {given[1]}'])
        assert request.headers["signature"] == f"barn=:{signed(base, SECRET.encode())}:"
        if self.status < 300:
            self.told.append(json.loads(body) | {"mark": request.headers["idempotency-key"]})
        return Response(status_code=self.status)


@pytest.fixture
def hook() -> Iterator[tuple[Hook, str]]:
    hook, app, port = Hook(), FastAPI(), free_port()
    app.post("/word")(hook.take)
    served = serve(app, port)
    yield hook, f"http://127.0.0.1:{port}/word"
    served.stop()


def test_whoever_has_the_secret_can_tell_by_whom_it_is_told(hook: tuple[Hook, str]) -> None:
    told, url = hook
    post(url, {"event": "fired"}, "mark-1", SECRET)
    assert told.told == [{"event": "fired", "mark": '"mark-1"'}]
    with pytest.raises(Unreachable):
        post(url, {"event": "fired"}, "mark-2", "of somebody else")
    told.status = 503
    with pytest.raises(Unreachable, match="answered 503"):
        post(url, {"event": "over"}, "mark-3", SECRET)
    with pytest.raises(Unreachable, match="ConnectError"):
        post(f"http://127.0.0.1:{free_port()}/", {}, "mark-4", SECRET)
    assert len(told.told) == 1
