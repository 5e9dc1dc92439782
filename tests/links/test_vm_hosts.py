"""The client of VM hosts, against services that are not as they should be. Shapes: DMTF DSP0266 (Redfish
specification) and DSP8010 (its schemas).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import pytest
from conftest import serve
from fastapi import FastAPI, Request
from fastapi.responses import HTMLResponse, JSONResponse, Response

from foldbarn.core.errors import BarnError, NotAllowed, NotFound, NotPossible, Unreachable
from foldbarn.core.units import GIB
from foldbarn.house.postgres import free_port
from foldbarn.links.redfish import MOST_MEMBERS
from foldbarn.links.vm_hosts import VmHostService
from foldbarn.settings import settings

UUID = "6f3e1c1a-0d6e-5c0e-9d5e-0123456789ab"
ROOT = {
    "UUID": "AAAAAAAA-0000-4000-8000-000000000000",
    "Systems": {"@odata.id": "/redfish/v1/Systems"},
    "AccountService": {"@odata.id": "/redfish/v1/AccountService"},
}
OWN = {
    "@odata.id": "/redfish/v1/Systems/host",
    "Name": "bridge",
    "HostingRoles": ["VirtualMachineServer"],
    "ProcessorSummary": {"LogicalProcessorCount": 8},
    "MemorySummary": {"TotalSystemMemoryGiB": 32},
}
ONE = {
    "@odata.id": f"/redfish/v1/Systems/{UUID}",
    "Name": "crew-roster",
    "UUID": UUID.upper(),
    "SystemType": "Virtual",
    "PowerState": "Off",
    "MemorySummary": {"TotalSystemMemoryGiB": 2.5},
    "Actions": {"#ComputerSystem.Reset": {"target": f"/redfish/v1/Systems/{UUID}/Reset"}},
}
Answers = dict[str, Any]


@pytest.fixture
def at(monkeypatch: pytest.MonkeyPatch) -> Iterator[Callable[[Answers], VmHostService]]:
    """A service that answers so, by method and path; what it was sent is put down under "sent"."""
    monkeypatch.setattr(settings(), "answer_seconds", 60.0)  # a busy machine is no silence
    started = []

    def start(answers: Answers) -> VmHostService:
        app = FastAPI(openapi_url=None)

        @app.api_route("/{path:path}", methods=["GET", "POST", "DELETE"])
        async def answer(path: str, request: Request) -> Response:
            if request.method != "GET":
                answers.setdefault("sent", []).append((request.method, path, await request.body()))
            found = answers.get(f"{request.method} /{path}", answers.get(f"/{path}"))
            if isinstance(found, Response):
                return found
            if found is None:
                return JSONResponse({}, 404)
            return JSONResponse(found)

        started.append(serve(app, free_port()))
        return VmHostService(started[-1].url, "barn", "secret")

    yield start
    for one in started:
        one.stop()


def systems(*members: Any) -> Answers:
    return {"/redfish/v1/": ROOT, "/redfish/v1/Systems": {"Members": list(members)}}


def test_members_are_read_at_once_or_one_by_one_as_a_service_can(
    at: Callable[[Answers], VmHostService],
) -> None:
    for members in ([OWN, ONE], [{"@odata.id": OWN["@odata.id"]}, {"@odata.id": ONE["@odata.id"]}]):
        answers = systems(*members) | {str(OWN["@odata.id"]): OWN, str(ONE["@odata.id"]): ONE}
        found = at(answers).runs()
        assert (found.identity, found.cpus, found.memory_bytes) == (ROOT["UUID"].lower(), 8, 32 * GIB)  # type: ignore[attr-defined]
        [guest] = found.guests
        assert (guest.uuid, guest.on, guest.memory_bytes) == (UUID, False, 5 * GIB // 2)


@pytest.mark.parametrize(
    ("answers", "kind", "says"),
    [
        ({"/redfish/v1/": HTMLResponse("<h1>it works!</h1>")}, NotPossible, "does not speak Redfish"),
        ({"/redfish/v1/": ["a"]}, NotPossible, "does not speak Redfish"),
        ({"/redfish/v1/": JSONResponse({}, 401)}, NotAllowed, "does not accept this name and password"),
        (systems(ONE), NotPossible, "runs no virtual machines"),
        ({"/redfish/v1/": {**ROOT, "Systems": {}}}, NotPossible, "runs no virtual machines"),
        (
            {"/redfish/v1/": {**ROOT, "Systems": {"@odata.id": "https://elsewhere/"}}},
            NotPossible,
            "links to another machine",
        ),
        (systems({**OWN, "MemorySummary": {"TotalSystemMemoryGiB": -1}}), NotPossible, "-1 GiB of memory"),
        (systems({**OWN, "MemorySummary": {"TotalSystemMemoryGiB": 1e300}}), NotPossible, "GiB of memory"),
        (systems({**OWN, "MemorySummary": None}), NotPossible, "not as Redfish describes it"),
        (systems({**OWN, "ProcessorSummary": {}}), NotPossible, "LogicalProcessorCount"),
        (systems(OWN, {**ONE, "UUID": None}), NotPossible, "badly formed hexadecimal UUID string"),
        (systems(OWN, *([ONE] * MOST_MEMBERS)), NotPossible, "512 are the most"),
        ({"/redfish/v1/": JSONResponse({"x": "x" * 5_000_000})}, Unreachable, "longer than"),
    ],
)
def test_what_is_no_service_of_a_vm_host_is_said(
    at: Callable[[Answers], VmHostService], answers: Answers, kind: type[BarnError], says: str
) -> None:
    with pytest.raises(kind) as refused:
        at(dict(answers)).runs()
    assert says in refused.value.sentence


def test_what_the_account_may_do_is_read_from_its_role(at: Callable[[Answers], VmHostService]) -> None:
    account = {"@odata.id": "/a/1", "UserName": "barn", "Links": {"Role": {"@odata.id": "/r"}}}
    answers: Answers = {
        "/redfish/v1/": ROOT,
        "/redfish/v1/AccountService": {"Accounts": {"@odata.id": "/a"}},
        "/a": {"Members": [{"@odata.id": "/a/1"}]},
        "/a/1": account,
        "/r": {"AssignedPrivileges": ["Login"]},
    }
    service = at(answers)
    assert service.missing() == ("ConfigureComponents",)
    answers["/r"] = {"AssignedPrivileges": ["Login", "ConfigureComponents", "ConfigureUsers"]}
    assert service.missing() == ()
    answers["/a/1"] = {**account, "UserName": "another"}
    with pytest.raises(NotPossible, match="does not say what the account may do"):
        service.missing()


def test_one_that_is_known_and_off_is_made_anew_and_one_that_is_on_is_left(
    at: Callable[[Answers], VmHostService],
) -> None:
    answers = systems(OWN, ONE) | {
        f"DELETE {ONE['@odata.id']}": Response(status_code=204),
        "POST /redfish/v1/Systems": JSONResponse({}, 201),
    }
    at(answers).define(UUID, "crew-roster", 2, GIB, [])
    assert [method for method, _, _ in answers["sent"]] == ["DELETE", "POST"]
    answers = systems(OWN, {**ONE, "PowerState": "On"})
    at(answers).define(UUID, "crew-roster", 2, GIB, [])
    assert "sent" not in answers


def test_a_refusal_is_told_in_the_words_of_the_service(at: Callable[[Answers], VmHostService]) -> None:
    told = {
        "error": {"code": "x", "message": "general", "@Message.ExtendedInfo": [{"Message": "No memory."}]}
    }
    reset = f"POST /redfish/v1/Systems/{UUID}/Reset"
    service = at(systems(OWN, ONE) | {reset: JSONResponse(told, 409)})
    with pytest.raises(NotPossible) as refused:
        service.switch(UUID, "On")
    assert refused.value.sentence == "The VM host refuses: No memory."
    service = at(systems(OWN, ONE) | {reset: HTMLResponse("no", 500)})
    with pytest.raises(NotPossible) as refused:
        service.switch(UUID, "On")
    assert refused.value.sentence == "The VM host refuses."
    service = at(systems(OWN, ONE) | {reset: JSONResponse({}, 403)})
    with pytest.raises(NotPossible) as refused:
        service.switch(UUID, "On")
    assert refused.value.sentence == "The VM host does not let this account do that."
    service = at(systems(OWN))
    assert service.is_on(UUID) is None
    service.forget(UUID)  # which it does not know: nothing to be done
    with pytest.raises(NotFound):
        service.switch(UUID, "On")
