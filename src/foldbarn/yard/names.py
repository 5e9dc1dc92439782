"""The stand-in name server (RFC 1035, over UDP and TCP): knows a few names, and can be made to say nothing,
to refuse, to lie, or to talk nonsense.
"""

from __future__ import annotations

import asyncio
import contextlib
import struct
from dataclasses import dataclass, field
from typing import Any, cast

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.rrset

SECONDS_KEPT = 60  # that who asks may keep an answer
HOPS = 8  # from one name to another, at the most
LIES = {"A": "192.0.2.99", "AAAA": "2001:db8::99", "PTR": "elsewhere.example."}  # RFC 5737 and 3849


def skerry_names() -> list[str]:
    """Records as a zone file has them (RFC 1035, 5.1). The third address does not stand for its name."""
    found = []
    for number in range(1, 5):
        name = f"files-{number}.skerry.example."
        found.append(f"{name} IN A 10.30.0.{20 + number}")
        found.append(f"{name} IN AAAA fd00:30::{20 + number}")
        back = dns.name.from_text(f"{20 + number}.0.30.10.in-addr.arpa.")
        if number != 3:
            found.append(f"{back} IN PTR {name}")
        nibbles = ".".join(reversed(f"fd000030{'0' * 22}{20 + number}"))
        found.append(f"{nibbles}.ip6.arpa. IN PTR {name}")
    return found


@dataclass(slots=True)
class NameServer:
    """how: well, silent, refuses, lies or garbled. zone: its records."""

    how: str = "well"
    zone: list[str] = field(default_factory=skerry_names)

    def add(self, line: str) -> None:
        """Raises ValueError for what is no record."""
        _read(line)
        if line not in self.zone:
            self.zone.append(line)

    def remove(self, line: str) -> None:
        self.zone = [one for one in self.zone if one != line]

    def values(self, name: str, kind: str) -> list[str]:
        """What it would answer, by way of other names where it has such; empty for nothing."""
        wanted = dns.name.from_text(name)
        for _ in range(HOPS):
            mine = [(rest, value) for owner, rest, value in map(_read, self.zone) if owner == wanted]
            if found := [value for rest, value in mine if rest == kind]:
                return [LIES[kind]] if self.how == "lies" and kind in LIES else found
            others = [value for rest, value in mine if rest == "CNAME"]
            if not others:
                return []
            wanted = dns.name.from_text(others[0])
        return []

    def answer(self, question: bytes, *, most: int = 65_535) -> bytes | None:
        """None where it says nothing. most: bytes that an answer may have; one that has more is cut off."""
        if self.how == "silent":
            return None
        if self.how == "garbled":
            return question[:2] + b"it works!"
        try:
            asked = dns.message.from_wire(question)
            made = dns.message.make_response(asked, recursion_available=True)
        except dns.exception.DNSException:
            return None
        if self.how == "refuses":
            made.set_rcode(dns.rcode.REFUSED)
        elif len(asked.question) != 1:
            made.set_rcode(dns.rcode.FORMERR)
        else:
            self._fill(made, asked.question[0])
        try:
            return made.to_wire(max_size=most)
        except dns.exception.TooBig:
            made.answer, made.flags = [], made.flags | dns.flags.TC
            return made.to_wire()

    def _fill(self, made: dns.message.Message, asked: dns.rrset.RRset) -> None:
        known, kind = [_read(line) for line in self.zone], dns.rdatatype.to_text(asked.rdtype)
        made.flags |= dns.flags.AA
        owner = asked.name
        for _ in range(HOPS):
            mine = [(rest, value) for name, rest, value in known if name == owner]
            found = [value for rest, value in mine if rest == kind]
            if not mine:
                if not made.answer:
                    made.set_rcode(dns.rcode.NXDOMAIN)
                return
            if found:
                said = [LIES[kind]] if self.how == "lies" and kind in LIES else found
                made.answer.append(dns.rrset.from_text(owner, SECONDS_KEPT, "IN", kind, *said))
                return
            others = [value for rest, value in mine if rest == "CNAME"]
            if not others:
                return
            made.answer.append(dns.rrset.from_text(owner, SECONDS_KEPT, "IN", "CNAME", others[0]))
            owner = dns.name.from_text(others[0])


def _read(line: str) -> tuple[dns.name.Name, str, str]:
    """Owner, kind and value of a record. Raises ValueError."""
    parts = line.split()
    if len(parts) != 4 or parts[1].upper() != "IN":
        raise ValueError("a record has a name, IN, a kind and a value")
    try:
        kind = parts[2].upper()
        dns.rrset.from_text(parts[0], SECONDS_KEPT, "IN", kind, parts[3])
        return dns.name.from_text(parts[0]), kind, parts[3]
    except (dns.exception.DNSException, ValueError) as error:
        raise ValueError(f"{line[:80]}: {type(error).__name__}") from error


class _Datagrams(asyncio.DatagramProtocol):
    def __init__(self, server: NameServer) -> None:
        self.server = server
        self.transport: asyncio.DatagramTransport | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self.transport = cast("asyncio.DatagramTransport", transport)

    def datagram_received(self, data: bytes, addr: Any) -> None:
        most = 512  # RFC 1035, 4.2.1, where who asks does not say that it takes more (RFC 6891)
        with contextlib.suppress(dns.exception.DNSException):
            most = max(most, dns.message.from_wire(data).payload)
        answer = self.server.answer(data, most=most)
        if answer is not None and self.transport is not None:
            self.transport.sendto(answer, addr)


@dataclass(slots=True)
class Opened:
    """A name server that answers at a port."""

    datagrams: asyncio.DatagramTransport
    streams: asyncio.Server
    talks: set[asyncio.Task[None]]

    async def stop(self) -> None:
        self.datagrams.close()
        self.streams.close()
        for task in self.talks:
            task.cancel()
        await asyncio.gather(*self.talks, return_exceptions=True)


async def open_names(server: NameServer, port: int) -> Opened:
    """Answers on loopback until its stop()."""
    talks: set[asyncio.Task[None]] = set()

    async def talk(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        mine = asyncio.current_task()
        assert mine is not None
        talks.add(mine)
        try:
            while True:
                (length,) = struct.unpack("!H", await reader.readexactly(2))  # RFC 1035, 4.2.2
                answer = server.answer(await reader.readexactly(length))
                if answer is None:
                    return
                writer.write(struct.pack("!H", len(answer)) + answer)
                await writer.drain()
        except (asyncio.IncompleteReadError, OSError):
            pass
        finally:
            talks.discard(mine)
            writer.close()

    streams = await asyncio.start_server(talk, "127.0.0.1", port)
    datagrams, _ = await asyncio.get_running_loop().create_datagram_endpoint(
        lambda: _Datagrams(server), ("127.0.0.1", port)
    )
    return Opened(datagrams, streams, talks)
