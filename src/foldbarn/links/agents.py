"""Talking to agents (docs/agent-protocol.md).

Unreachable            core's: the agent is silent or slow; may be tried again
└── Garbled            it answers, but not in the protocol; may be tried again
NotPossible            core's: the agent refused an order; trying again will not help
"""

from __future__ import annotations

import asyncio
import time
from dataclasses import dataclass
from typing import Any

import httpx

from foldbarn.core.errors import NotPossible, Unreachable
from foldbarn.core.reading import PROTOCOL, WITNESS_PROTOCOL
from foldbarn.settings import settings

QUICK_SECONDS = 0.3  # an answer within this tells the clock to 0.15 s
MOST_TEXT = 200  # characters of an agent's answer that may reach a person


class Garbled(Unreachable):
    """The agent answers, but not in the agent protocol."""


@dataclass(frozen=True, slots=True)
class OrderProgress:
    """How far an order is: running, done, failed or cancelled; indexes of finished strips; bytes."""

    state: str
    problem: str
    finished: tuple[int, ...]
    bytes_done: int


class Agent:
    """One node's agent. Every call raises Unreachable when it does not answer in time."""

    def __init__(self, url: str, client: httpx.Client) -> None:
        self.url = url.rstrip("/")
        self._client = client

    def inventory(self) -> dict[str, Any]:
        return _body(self._ask("GET", "/v1/inventory"))

    def report(self) -> dict[str, Any]:
        """What it reports every second."""
        asked = time.time()
        return _with_offset(_body(self._ask("GET", "/v1/report")), asked)

    def uptime(self) -> float:
        """Seconds that its own clock has run."""
        found = _body(self._ask("GET", "/v1/report")).get("uptime")
        if not isinstance(found, int | float) or isinstance(found, bool):
            raise Garbled(f"{self.url} does not say how long it has been running.")
        return float(found)

    def strips(self, serial: str) -> set[tuple[int, int, int]]:
        """(volume, extent, strip) of everything a disk holds."""
        found = _body(self._ask("GET", f"/v1/strips/{serial}"))
        try:
            return {(int(v), int(e), int(s)) for v, e, s in found["strips"]}
        except (KeyError, TypeError, ValueError) as error:
            raise Garbled(f"{self.url} lists its strips in another shape.") from error

    def probe(self, targets: list[tuple[str, int]]) -> list[tuple[bool, str]]:
        """Has the node try to open a connection to each address and port; whether it could, and why not."""
        found = _body(self._ask("POST", "/v1/probe", {"targets": [{"address": a, "port": p} for a, p in targets]}))
        try:
            results = [(bool(r["open"]), str(r["why"])[:MOST_TEXT]) for r in found["results"]]
        except (KeyError, TypeError) as error:
            raise Garbled(f"{self.url} answers a probe in another shape.") from error
        if len(results) != len(targets):
            raise Garbled(f"{self.url} answers {len(results)} of {len(targets)} probes.")
        return results

    def send(self, order: dict[str, Any]) -> OrderProgress:
        """Gives an order; the same id again is the same order. Raises NotPossible when the agent refuses it."""
        return _progress(_body(self._ask("POST", "/v1/orders", order)))

    def order(self, order_id: str) -> OrderProgress | None:
        """How far an order is; None when the agent does not know it."""
        answer = self._ask("GET", f"/v1/orders/{order_id}")
        return None if answer.status_code == 404 else _progress(_body(answer))

    def cancel(self, order_id: str) -> None:
        """Stops an order; nothing happens where the agent does not know it."""
        self._ask("DELETE", f"/v1/orders/{order_id}")

    def _ask(self, method: str, path: str, body: Any = None) -> httpx.Response:
        try:
            return self._client.request(method, self.url + path, json=body)
        except httpx.HTTPError as error:
            raise _unreachable(self.url, error) from error


def read_witness(url: str) -> str:
    """The name of the witness that answers there. Raises Unreachable, Garbled where something else answers."""
    with open_client() as client:
        try:
            body = _body(client.get(url.rstrip("/") + "/v1/report"))
        except httpx.HTTPError as error:
            raise _unreachable(url, error) from error
        except NotPossible as error:
            raise Garbled(f"What answers at {url} is no witness.", about=url) from error
    if body.get("protocol") != WITNESS_PROTOCOL or not isinstance(body.get("name"), str):
        raise Garbled(f"What answers at {url} is no witness.", about=url)
    return str(body["name"])


def open_client() -> httpx.Client:
    """A client for agents; close it when done. Agents are on the storage network: no proxy is asked."""
    return httpx.Client(timeout=settings().answer_seconds, trust_env=False)


def _unreachable(url: str, error: httpx.HTTPError) -> Unreachable:
    if isinstance(error, httpx.TimeoutException):
        return Unreachable(f"No answer within {settings().answer_seconds:g} s.", about=url)
    if isinstance(error, httpx.ConnectError):
        return Unreachable("Nothing listens at its address.", about=url)
    return Unreachable("The connection broke off.", about=url)


def _body(answer: httpx.Response) -> dict[str, Any]:
    """The JSON object of an answer. Raises NotPossible for a refusal (4xx), Garbled for anything else unexpected."""
    try:
        body = answer.json()
    except ValueError as error:
        raise Garbled(f"The answer is not JSON but {answer.headers.get('content-type', 'of no stated kind')}.") from error
    if not isinstance(body, dict):
        raise Garbled("The answer is JSON, but not an object.")
    if 400 <= answer.status_code < 500:
        raise NotPossible(f"The agent refused: {str(body.get('detail', 'without a reason'))[:MOST_TEXT]}.")
    if answer.is_error:
        raise Garbled(f"The agent answers with error {answer.status_code}.")
    return body


def _progress(body: dict[str, Any]) -> OrderProgress:
    try:
        return OrderProgress(str(body["state"]), str(body["problem"])[:MOST_TEXT], tuple(body["finished"]), int(body["bytes_done"]))
    except (KeyError, TypeError, ValueError) as error:
        raise Garbled("The order's progress has another shape.") from error


def _with_offset(body: dict[str, Any], asked: float) -> dict[str, Any]:
    """A report with how many seconds its node's clock is ahead: against the middle of question and answer, as in RFC 5905.

    Half of the time between them is how wrong that may be, so a slow answer says nothing of the clock.
    """
    now = time.time()
    if isinstance(body.get("clock"), int | float) and now - asked <= QUICK_SECONDS:
        body["clock_offset"] = float(body["clock"]) - (asked + now) / 2
    return body


async def ask_reports(urls: dict[int, str]) -> dict[int, dict[str, Any] | Unreachable]:
    """Asks many agents for their report at once; by key, the report or why there is none."""
    async with httpx.AsyncClient(timeout=settings().answer_seconds, trust_env=False) as client:

        async def ask(url: str) -> dict[str, Any] | Unreachable:
            try:
                asked = time.time()
                body = _with_offset(_body(await client.get(url.rstrip("/") + "/v1/report")), asked)
                return body if body.get("protocol") == PROTOCOL else Garbled("It does not speak the agent protocol.")
            except httpx.HTTPError as error:
                return _unreachable(url, error)
            except NotPossible as error:
                return Garbled(error.sentence)
            except Unreachable as error:
                return error

        answers = await asyncio.gather(*(ask(url) for url in urls.values()))
    return dict(zip(urls, answers, strict=True))
