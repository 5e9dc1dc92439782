"""The stand-in name server, asked by another house's library (dnslib), which knows nothing of it; and what we
make of its answers.
"""

from __future__ import annotations

import asyncio
import socket
import threading
from collections.abc import Iterator

import dnslib
import pytest
from conftest import free_port

from foldbarn.core.shares.share import Heard, Looked
from foldbarn.links import name_servers
from foldbarn.links.name_servers import look_for
from foldbarn.yard.names import NameServer, open_names

NAME, AT, SIX = "files-1.skerry.example", "10.30.0.21", "fd00:30::21"


class Answering:
    """A name server at a port, in a thread of its own."""

    def __init__(self) -> None:
        self.server, self.port = NameServer(), free_port()
        self.loop = asyncio.new_event_loop()
        self.thread = threading.Thread(target=self.loop.run_forever, daemon=True)
        self.thread.start()
        opening = open_names(self.server, self.port)
        self.opened = asyncio.run_coroutine_threadsafe(opening, self.loop).result(30)

    def stop(self) -> None:
        asyncio.run_coroutine_threadsafe(self.opened.stop(), self.loop).result(30)
        self.loop.call_soon_threadsafe(self.loop.stop)
        self.thread.join(30)

    def ask(self, name: str, kind: str, *, tcp: bool = False) -> dnslib.DNSRecord:
        question = dnslib.DNSRecord.question(name, kind)
        return dnslib.DNSRecord.parse(question.send("127.0.0.1", self.port, tcp=tcp, timeout=30))


@pytest.fixture
def names(monkeypatch: pytest.MonkeyPatch) -> Iterator[Answering]:
    monkeypatch.setattr(name_servers, "PATIENCE_SECONDS", 60.0)
    answering = Answering()
    yield answering
    answering.stop()


def values(answer: dnslib.DNSRecord) -> list[str]:
    return [str(record.rdata) for record in answer.rr]


@pytest.mark.parametrize("tcp", [False, True])
def test_a_library_of_another_house_reads_its_answers(names: Answering, tcp: bool) -> None:
    assert values(names.ask(NAME, "A", tcp=tcp)) == [AT]
    assert values(names.ask(NAME.upper(), "AAAA", tcp=tcp)) == ["fd00:30::21"]
    # RFC 1035, 3.5, and RFC 3596, 2.5: as the other library turns addresses into names.
    back = dnslib.DNSLabel("21.0.30.10.in-addr.arpa")
    assert values(names.ask(str(back), "PTR", tcp=tcp)) == [f"{NAME}."]
    six = f"1.2.{'0.' * 22}0.3.0.0.0.0.d.f.ip6.arpa"
    assert values(names.ask(six, "PTR", tcp=tcp)) == [f"{NAME}."]
    nowhere = names.ask("nobody.skerry.example", "A", tcp=tcp)
    assert (nowhere.header.rcode, values(nowhere)) == (dnslib.RCODE.NXDOMAIN, [])
    other = names.ask(NAME, "MX", tcp=tcp)  # a name that has no such record
    assert (other.header.rcode, values(other)) == (dnslib.RCODE.NOERROR, [])


def test_one_name_for_another_is_followed(names: Answering) -> None:
    names.server.add(f"charts.skerry.example. IN CNAME {NAME}.")
    found = names.ask("charts.skerry.example", "A")
    assert [dnslib.QTYPE[record.rtype] for record in found.rr] == ["CNAME", "A"]
    assert values(found)[-1] == AT
    looked = look_for(("127.0.0.1", names.port), "charts.skerry.example", AT)
    assert looked.forward == Looked(Heard.FOUND, (AT,))


def test_an_answer_that_does_not_fit_is_asked_for_again_over_tcp(names: Answering) -> None:
    for number in range(1, 101):
        names.server.add(f"many.skerry.example. IN A 10.31.0.{number}")
    assert names.ask("many.skerry.example", "A").header.tc  # RFC 1035, 4.2.1
    assert len(values(names.ask("many.skerry.example", "A", tcp=True))) == 100
    found = look_for(("127.0.0.1", names.port), "many.skerry.example", AT).forward
    assert (found.heard, len(found.values)) == (Heard.FOUND, name_servers.MOST_VALUES)


def test_what_is_heard_of_one_that_is_as_it_should_be(names: Answering) -> None:
    at = ("127.0.0.1", names.port)
    found = look_for(at, NAME, AT)
    assert (found.forward.values, found.backward.values) == ((AT,), (f"{NAME}.",))
    six = look_for(at, NAME, SIX)
    assert (six.forward.values, six.backward.values) == ((SIX,), (f"{NAME}.",))
    assert look_for(at, "files-3.skerry.example", "10.30.0.23").backward == Looked(Heard.NOTHING)
    assert look_for(at, "nobody.skerry.example", AT).forward == Looked(Heard.NOTHING)


@pytest.mark.parametrize(
    ("how", "heard", "says"),
    [
        ("silent", Heard.SILENT, "127.0.0.1 does not answer"),
        ("refuses", Heard.REFUSED, "127.0.0.1 answers REFUSED"),
        ("garbled", Heard.GARBLED, "is no answer"),
    ],
)
def test_what_is_heard_of_one_that_is_not(
    names: Answering, monkeypatch: pytest.MonkeyPatch, how: str, heard: Heard, says: str
) -> None:
    # Who answers has all the time that a busy machine takes; who does not is not waited for.
    monkeypatch.setattr(name_servers, "PATIENCE_SECONDS", 0.2 if how == "silent" else 60.0)
    names.server.how = how
    found = look_for(("127.0.0.1", names.port), NAME, AT)
    assert (found.forward.heard, found.backward.heard) == (heard, heard)
    assert says in found.forward.why


def test_one_that_lies_is_not_believed_to_say_nothing(names: Answering) -> None:
    names.server.how = "lies"
    found = look_for(("127.0.0.1", names.port), NAME, AT)
    assert found.forward.values == ("192.0.2.99",)
    assert found.backward.values == ("elsewhere.example.",)


def test_an_answer_to_another_question_is_none(names: Answering, monkeypatch: pytest.MonkeyPatch) -> None:
    """Who answers with another number than it was asked by is waited for no longer than anybody."""
    monkeypatch.setattr(name_servers, "PATIENCE_SECONDS", 0.5)
    port = free_port()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as liar:
        liar.bind(("127.0.0.1", port))

        def lie() -> None:
            for _ in range(2):
                asked, who = liar.recvfrom(2048)
                right = names.server.answer(asked)
                assert right is not None
                liar.sendto(bytes([right[0] ^ 1]) + right[1:], who)

        thread = threading.Thread(target=lie, daemon=True)
        thread.start()
        found = look_for(("127.0.0.1", port), NAME, AT)
    assert {found.forward.heard, found.backward.heard} <= {Heard.SILENT, Heard.GARBLED}


def test_what_is_no_record_is_refused() -> None:
    server = NameServer()
    for line in ("", "files IN A", "files IN A 10.30.0.999", "files IN WHAT 1", "files CH A 10.30.0.1"):
        with pytest.raises(ValueError, match=r".*"):
            server.add(line)
    before = list(server.zone)
    server.add(before[0])
    assert server.zone == before
    server.remove(before[0])
    assert server.zone == before[1:]
