"""What stands before every route: whose page asks, what shape a body has, what a browser is told, and
files.
"""

from __future__ import annotations

import json
import re
import socket
import time
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from threading import Barrier

import httpx
import pytest
from conftest import Site, serve
from fastapi import FastAPI
from hypothesis import given
from hypothesis import strategies as st
from starlette.responses import StreamingResponse

from foldbarn.api.guard import DEEPEST, LONGEST_NUMBER, MOST_VALUES, _misshapen
from foldbarn.core.errors import NotPossible
from foldbarn.core.machines.network import check_address
from foldbarn.house.postgres import free_port
from foldbarn.links import outbound
from foldbarn.settings import settings
from foldbarn.store.views import current_view

JSON = {"content-type": "application/json"}


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({"sec-fetch-site": "cross-site"}, 403),
        ({"sec-fetch-site": "same-site"}, 403),
        ({"origin": "http://elsewhere.example"}, 403),
        ({"origin": "null"}, 403),
        ({"content-type": "text/plain"}, 415),
        ({"content-type": "application/x-www-form-urlencoded"}, 415),
        ({"sec-fetch-site": "same-origin"}, 204),
        ({}, 204),
    ],
)
def test_only_our_own_pages_and_programs_alter_anything(
    api: httpx.Client, headers: dict, status: int
) -> None:
    """Fetch metadata (W3C, Sec-Fetch-Site) and Origin (RFC 6454): a form on another page needs no permission
    to be sent.
    """
    found = api.put("/api/grace", content='{"grace_seconds": 77}', headers=JSON | headers)
    assert found.status_code == status
    own = {"origin": str(api.base_url).rstrip("/")}
    assert api.put("/api/grace", content='{"grace_seconds": 77}', headers=JSON | own).status_code == 204


def test_asking_others_is_answered_to_our_own_pages_only(api: httpx.Client, barn_site: Site) -> None:
    url = f"{barn_site.yard.url}/witness/lamp-room"
    assert api.post("/api/witness", json={"url": url}).json() == {"name": "lamp-room"}
    assert (
        api.post("/api/witness", json={"url": url}, headers={"sec-fetch-site": "cross-site"}).status_code
        == 403
    )
    assert api.get("/api/witness", params={"url": url}).status_code in (404, 405)


def test_browsers_are_told_what_pages_may_do(api: httpx.Client) -> None:
    for path in ("/api/barn", "/", "/api/nothing"):
        headers = api.get(path).headers
        assert "script-src 'self';" in headers["content-security-policy"]
        assert "frame-ancestors 'none'" in headers["content-security-policy"]
        assert headers["x-content-type-options"] == "nosniff"
        assert headers["referrer-policy"] == "no-referrer"
        assert "camera=()" in headers["permissions-policy"]


@pytest.mark.parametrize("host", ["barn.example", "testserver", "127.0.0.1.example", "[::1", ""])
def test_only_names_of_this_machine_are_answered(api: httpx.Client, host: str) -> None:
    assert api.get("/api/ready", headers={"host": host}).status_code == 400


@pytest.mark.parametrize(
    "path", ["/%00", "/" + "a" * 300, "/..%2f..%2fetc%2fpasswd", "/%ff", "/a/" + "b/" * 900]
)
def test_any_path_is_a_page_and_no_error(api: httpx.Client, path: str) -> None:
    answer = api.get(path)
    assert answer.status_code in (200, 404)
    assert "root:" not in answer.text


def test_a_page_names_what_it_is_made_of_and_each_file_comes_packed(api: httpx.Client) -> None:
    told = api.get("/volumes/ticketing-db").headers["link"]
    files = re.findall(r"</(assets/[^>]+)>; rel=(?:modulepreload|preload; as=style)", told)
    assert len(files) == told.count("<")
    assert any(file.startswith("assets/VolumeView") for file in files)
    assert "link" not in api.get("/").headers  # what the first page is made of stands in it
    weights = []
    for file in files:
        packed, plain = api.get(f"/{file}"), api.get(f"/{file}", headers={"Accept-Encoding": "identity"})
        assert packed.headers["content-encoding"] == "gzip"
        assert "content-encoding" not in plain.headers
        assert "immutable" in packed.headers["cache-control"]
        assert packed.text == plain.text  # the one unpacked
        smallest = coded(api, file, "gzip, br")
        assert smallest[0] == "br"
        weights.append((smallest[1], coded(api, file, "gzip")[1], len(plain.content)))
        assert coded(api, file, "br;q=0, gzip;q=0.5")[0] == "gzip"  # it says that it wants none of that
        for one in (packed, smallest[2]):
            assert one.headers["content-type"] == plain.headers["content-type"]
            assert one.headers["vary"] == "Accept-Encoding"
    smallest_of_all, packed_all, whole = map(sum, zip(*weights, strict=True))
    assert smallest_of_all < packed_all < whole
    for nothing in ("/assets/none.js", "/assets/%2e%2e%2findex.html", "/assets/%00"):
        assert api.get(nothing).status_code == 404


def coded(api: httpx.Client, file: str, accepted: str) -> tuple[str, int, httpx.Response]:
    """How a file comes to one who accepts this, and how many bytes it is on the wire."""
    with api.stream("GET", f"/{file}", headers={"Accept-Encoding": accepted}) as answer:
        sent = sum(len(part) for part in answer.iter_raw())
    return answer.headers.get("content-encoding", ""), sent, answer


def test_dot_files_are_not_served(api: httpx.Client) -> None:
    for path in ("/.barn-stamp", "/assets/../.barn-stamp", "/.git/config"):
        assert api.get(path).status_code == 404


@pytest.mark.parametrize(
    ("body", "status", "words"),
    [
        ("[" * 6000, 422, "nests deeper than 64 levels"),
        ("[" + "{}," * 300_000 + "{}]", 413, "more than 200,000 values"),
        ('{"grace_seconds": ' + "9" * 4300 + "}", 422, "a number of 400 digits or more"),
        ('{"grace_seconds": 1e400}', 422, "is not usable"),
        ('{"grace_seconds": NaN}', 422, "is not usable"),
        ("{", 422, "is not usable"),
        ("\udcff".encode("utf-8", "surrogatepass").decode("latin-1"), 422, "is not usable"),
    ],
)
def test_a_body_is_bounded_by_shape_before_anything_is_built(
    api: httpx.Client, body: str, status: int, words: str
) -> None:
    answer = api.put("/api/grace", content=body, headers=JSON)
    assert answer.status_code == status
    assert words in answer.json()["detail"]


def test_a_wish_is_smaller_than_inventory_files_may_be(api: httpx.Client) -> None:
    big = json.dumps({"kind": "describe", "params": {"text": "x" * 11_000_000}})
    assert api.post("/api/changes/preview", content=big, headers=JSON).status_code == 413
    files = json.dumps({"files": [{"name": "a.json", "text": "x" * 11_000_000}]})
    answer = api.post("/api/intake/files", content=files, headers=JSON)
    assert (answer.status_code, answer.json()[0]["result"]) == (200, "refused")


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(),
        lambda x: st.lists(x) | st.dictionaries(st.text(), x),
    )
)
def test_what_is_within_bounds_passes_whatever_its_texts_hold(value: object) -> None:
    """Brackets, quotes and digits inside texts are no structure."""
    assert _misshapen(json.dumps(value).encode()) is None


def test_the_bounds_are_where_they_are_said_to_be() -> None:
    assert _misshapen(b"[" * DEEPEST + b"]" * DEEPEST) is None
    assert _misshapen(b"[" * (DEEPEST + 1)) is not None
    assert _misshapen(b"[" + b"1," * (MOST_VALUES - 1) + b"1]") is None
    assert _misshapen(b"[" + b"1," * MOST_VALUES + b"1]") is not None
    assert _misshapen(b"9" * (LONGEST_NUMBER - 1)) is None
    assert _misshapen(json.dumps("9" * 5000).encode()) is None  # a text


# Addresses. ------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "address",
    [
        "http://10.0.0.5:7400",
        "https://[fd00::5]:443/bmc/a",
        "http://node-7.example.",
        "https://a_b/redfish",
        "http://x:1/a%20b",
    ],
)
def test_addresses_that_can_be_asked(address: str) -> None:
    assert check_address(f" {address}/ ", "It", about="url") == address


@pytest.mark.parametrize(
    "address",
    [
        "",
        "x",
        "ftp://a",
        "http://",
        "http://a:99999",
        "http://a:0",
        "http://a b",
        "http://u:p@a",
        "http://u@a",
        "http://a?x=1",
        "http://a#x",
        "http://\N{SNOWMAN}",
        "http://[::1",
        "http://-a",
        "http://a..b",
        f"http://{'a' * 64}",
        "http://" + "a." * 140,
        "http://a/\nb",
        "http://a%00b",
    ],
)
def test_addresses_that_are_none(address: str) -> None:
    with pytest.raises(NotPossible) as refused:
        check_address(address, "Its address", about="url")
    assert refused.value.about == "url"


# Outbound. -------------------------------------------------------------------------------------------


def dripping(head: bytes) -> tuple[str, socket.socket]:
    """A server that accepts, sends this, and then a byte a second, without end."""
    import threading

    listener = socket.create_server(("127.0.0.1", 0))

    def drip(connection: socket.socket) -> None:
        try:
            connection.sendall(head)
            while True:
                connection.sendall(b"x")
                time.sleep(0.2)
        except OSError:
            connection.close()

    def accept() -> None:
        while True:
            try:
                connection, _ = listener.accept()
            except OSError:
                return
            threading.Thread(target=drip, args=(connection,), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    return f"http://127.0.0.1:{listener.getsockname()[1]}", listener


@pytest.mark.parametrize(
    "head",
    [b"HTTP/1.1 200 ", b"HTTP/1.1 200 OK\r\nX-A: ", b"HTTP/1.1 200 OK\r\nContent-Length: 99999\r\n\r\n"],
)
def test_an_answer_that_drips_is_cut_off_wherever_it_stands(head: bytes) -> None:
    url, listener = dripping(head)
    with listener, pytest.raises(outbound.Unreachable, match=r"No answer within 0\.5 s"):
        outbound.ask("GET", url, outbound.Bounds(0.5, 1000))


def test_who_waits_for_a_turn_behind_one_that_hangs_has_all_its_time_when_it_comes(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """A hundred nodes without power once took every place, and nodes that answer were shown as silent."""
    monkeypatch.setattr(outbound, "_made", lru_cache(outbound._made.__wrapped__))
    monkeypatch.setattr(outbound, "MOST_AT_ONCE", 1)
    hanging, listener = dripping(b"HTTP/1.1 200 ")
    served = serve(FastAPI(), free_port())
    with listener, ThreadPoolExecutor(max_workers=2) as crew:
        hung = crew.submit(outbound.ask, "GET", hanging, outbound.Bounds(2.0, 1000))
        while not (gate := outbound._outbound()[1].gate).locked():
            time.sleep(0.01)
        assert crew.submit(outbound.ask, "GET", served.url, outbound.Bounds(1.9, 1000)).result().status == 404
        assert isinstance(hung.exception(), outbound.Unreachable)
    assert not gate.locked()
    served.stop()


def test_what_does_not_speak_http_is_said_at_once() -> None:
    url, listener = dripping(b"SSH-2.0-other\r\n")
    with listener, pytest.raises(outbound.Unreachable, match="does not speak HTTP"):
        outbound.ask("GET", url, outbound.Bounds(10.0, 1000))


def test_an_answer_without_end_is_read_to_its_bound_and_no_further() -> None:
    app = FastAPI()
    sent = 0

    @app.get("/v1/report")
    def report() -> StreamingResponse:
        def parts() -> object:
            nonlocal sent
            while sent < 10**10:
                sent += 65_536
                yield b"x" * 65_536

        return StreamingResponse(parts(), media_type="application/json")  # type: ignore[arg-type]

    served = serve(app, free_port())
    with pytest.raises(outbound.Unreachable, match="longer than 1,000,000 bytes"):
        outbound.ask("GET", f"{served.url}/v1/report", outbound.Bounds(30.0, 1_000_000))
    assert sent < 50_000_000  # what stood in buffers, not all of it
    served.stop()


@pytest.fixture
def as_patient_as_ever(barn_site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    """For what hangs, no longer than anybody would wait for it."""
    monkeypatch.setattr(settings(), "answer_seconds", 2.0)


@pytest.mark.usefixtures("as_patient_as_ever")
def test_dripping_witnesses_do_not_keep_the_barn_from_its_page(api: httpx.Client) -> None:
    """Forty-five at once took every thread of the server; now few are asked at a time, and the rest are told
    so.
    """
    url, listener = dripping(b"HTTP/1.1 200 OK\r\nX-A: ")
    with listener, ThreadPoolExecutor(max_workers=46) as crew:
        asked = [
            crew.submit(
                lambda: httpx.post(
                    f"{api.base_url}/api/witness", json={"url": url}, timeout=30, trust_env=False
                )
            )
            for _ in range(45)
        ]
        barn = crew.submit(lambda: api.get("/api/barn").status_code)
        answers = [a.result() for a in asked]
    assert barn.result() == 200
    assert {a.status_code for a in answers} == {502}
    told = [a.json()["detail"] for a in answers]
    assert "Too many questions to new addresses are under way." in told
    assert "No answer within 2 s." in told


# Agents. ---------------------------------------------------------------------------------------------


def test_an_agent_proves_who_it_is(api: httpx.Client, barn_site: Site) -> None:
    """A silent node's name is given to no stranger; its own agent may come back from another address."""
    from foldbarn.store.database import transaction
    from foldbarn.store.tables import NodeRow

    own, strange = {"key": "a" * 64}, {"key": "b" * 64}
    here = barn_site.yard.agent("petrel")
    assert api.post("/api/agents", json={"agent_url": here, **own}).json() == {"node": "petrel"}
    elsewhere = here.replace("127.0.0.1", "localhost")
    with transaction() as session:
        node = session.query(NodeRow).filter_by(name="petrel").one()
        node.contact, node.heard_at = "silent", None
        number = node.id
    refused = api.post("/api/agents", json={"agent_url": elsewhere, **strange})
    assert refused.status_code == 403
    assert "petrel" not in refused.text
    assert api.post("/api/agents", json={"agent_url": elsewhere, **own}).status_code == 200
    with transaction() as session:
        node = session.get_one(NodeRow, number)
        assert node.agent_url == elsewhere
        assert "a" * 64 not in node.agent_key  # only its hash is kept
    assert current_view().node("petrel").agent_url == elsewhere


def test_whoever_asks_first_all_ask_through_one_client(monkeypatch: pytest.MonkeyPatch) -> None:
    """A client that one thread made on a loop and another uses on its own breaks off."""
    monkeypatch.setattr(outbound, "_made", lru_cache(outbound._made.__wrapped__))
    together = Barrier(8)

    def first() -> object:
        together.wait()
        return outbound._outbound()

    with ThreadPoolExecutor(max_workers=8) as crew:
        found = [asked.result() for asked in [crew.submit(first) for _ in range(8)]]
    assert len({id(one) for pair in found for one in pair}) == 2
