"""Asking a service that speaks Redfish (DMTF DSP0266; schemas of DSP8010), bounded in time and in number."""

from __future__ import annotations

import time
from http import HTTPStatus
from typing import Any
from urllib.parse import urljoin

from foldbarn.core.errors import NotAllowed, NotFound, NotPossible, Unreachable
from foldbarn.core.machines.network import check_address
from foldbarn.links.outbound import Answer, Bounds, ask
from foldbarn.settings import settings

WHOLE_SECONDS = 60.0  # for everything that is asked of one service
MOST_RESOURCES, RESOURCE_BYTES = 4_000, 4_000_000
MOST_MEMBERS = 512  # of one collection; more is no server but a mistake
LONGEST_MESSAGE = 300  # characters of what it says of itself


class Redfish:
    """One service. who: what it is, for people, such as "BMC"; about: the field that its address is typed
    into; stranger: its address was typed just now. Every call raises Unreachable when it does not answer,
    NotAllowed for a wrong password, NotPossible for another shape.
    """

    def __init__(
        self, url: str, user: str, password: str, *, who: str, about: str, stranger: bool = False
    ) -> None:
        self.url = check_address(url, f"The {who}'s address", about=about)
        self.who, self.about = who, about
        self._auth, self._stranger = (user, password), stranger
        self._until = time.monotonic() + WHOLE_SECONDS
        self._asked = 0

    def root(self) -> dict[str, Any]:
        return self.get("/redfish/v1/")

    def get(self, path: str) -> dict[str, Any]:
        """A resource. Links are paths of the same service (DSP0266, 8.2); where it stands below a path, its
        own links already say so.
        """
        answer = self._ask("GET", path)
        if answer.is_error:
            raise self._strange(f"it has nothing at {path}")
        return self._body(answer, path)

    def members(
        self, thing: dict[str, Any], collection: str, *, expand: bool = False
    ) -> list[dict[str, Any]]:
        """All members of a collection that a resource links to; none where it has no such. expand: in one
        answer, where the service can (DSP0266, 7.3, "$expand").
        """
        link = thing.get(collection)
        if not isinstance(link, dict) or "@odata.id" not in link:
            return []
        found = self.get(f"{link['@odata.id']}{'?$expand=.' if expand else ''}").get("Members")
        self.links(found)
        whole = [one for one in found or [] if isinstance(one, dict)]
        return [
            one if len(one) > 1 else self.get(str(one["@odata.id"])) for one in whole if "@odata.id" in one
        ]

    def links(self, members: Any) -> list[str]:
        if not isinstance(members, list):
            return []
        if len(members) > MOST_MEMBERS:
            raise NotPossible(
                f"The {self.who} lists {len(members):,} members of one collection; {MOST_MEMBERS} are the "
                "most that are read.",
                about=self.about,
            )
        return [str(m["@odata.id"]) for m in members if isinstance(m, dict) and "@odata.id" in m]

    def do(self, method: str, path: str, body: dict[str, Any] | None = None) -> None:
        """Has it make, alter or delete a resource, or carry out an action. Raises also NotFound where there
        is no such resource, and NotPossible, with what it says, where it refuses.
        """
        answer = self._ask(method, path, body)
        if answer.status == HTTPStatus.NOT_FOUND:
            raise NotFound(f"The {self.who} has nothing at {path}.", about=self.about)
        if answer.status == HTTPStatus.FORBIDDEN:
            raise NotPossible(f"The {self.who} does not let this account do that.")
        if answer.is_error:
            said = _message(answer)
            raise NotPossible(f"The {self.who} refuses: {said}" if said else f"The {self.who} refuses.")

    def _ask(self, method: str, path: str, body: dict[str, Any] | None = None) -> Answer:
        base = self.url if path == "/redfish/v1/" else urljoin(self.url, "/").rstrip("/")
        if not path.startswith("/"):
            words = f"The {self.who} links to another machine, which is not followed."
            raise NotPossible(words, about=self.about)
        self._asked += 1
        left = self._until - time.monotonic()
        if left <= 0 or self._asked > MOST_RESOURCES:
            words = (
                f"The {self.who} takes longer than {WHOLE_SECONDS:g} s, or lists more than "
                f"{MOST_RESOURCES:,} things."
            )
            raise Unreachable(words, about=self.about)
        bounds = Bounds(min(left, settings().answer_seconds * 2), RESOURCE_BYTES, stranger=self._stranger)
        try:
            answer = ask(method, base + path, bounds, auth=self._auth, body=body)
        except Unreachable as error:
            raise Unreachable(
                f"The {self.who} cannot be read. {error.sentence}",
                about=self.about,
                next_step="Look at the address, and whether its certificate is trusted.",
            ) from error
        forbidden = answer.status == HTTPStatus.FORBIDDEN and method == "GET"
        if forbidden or answer.status == HTTPStatus.UNAUTHORIZED:
            raise NotAllowed(f"The {self.who} does not accept this name and password.", about="password")
        return answer

    def _body(self, answer: Answer, path: str) -> dict[str, Any]:
        try:
            body = answer.json()
        except ValueError as error:
            raise NotPossible(
                f"What answers there does not speak Redfish: {path}.", about=self.about
            ) from error
        if not isinstance(body, dict):
            raise self._strange(f"it has nothing at {path}")
        return body

    def _strange(self, why: str) -> NotPossible:
        return NotPossible(f"What answers there does not speak Redfish: {why}.", about=self.about)


def _message(answer: Answer) -> str:
    """What a service says of its refusal (DSP0266, "Error responses")."""
    try:
        error = answer.json()["error"]
        told = [str(one["Message"]) for one in error.get("@Message.ExtendedInfo", ()) if "Message" in one]
        return (told[0] if told else str(error["message"]))[:LONGEST_MESSAGE]
    except (ValueError, KeyError, TypeError, AttributeError):
        return ""
