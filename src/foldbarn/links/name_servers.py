"""Asking a name server (RFC 1035) what a name stands for, and which names an address has."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import dns.exception
import dns.message
import dns.name
import dns.query
import dns.rcode
import dns.rdatatype
import dns.reversename

from foldbarn.core.shares.naming import check_server
from foldbarn.core.shares.share import FileService, Heard, Looked, Resolved

PATIENCE_SECONDS = 5.0  # for one answer, as clients commonly have (resolv.conf(5))
AT_ONCE = 8  # questions to a name server
MOST_VALUES = 32  # of one answer; more is none of ours


def look_for(server: tuple[str, int], name: str, at: str) -> Resolved:
    """What a name stands for, of the version that its address has, and what the address stands for."""
    kind = dns.rdatatype.AAAA if ":" in at else dns.rdatatype.A
    forward = _ask(server, dns.name.from_text(name), kind)
    return Resolved(at, forward, _ask(server, dns.reversename.from_address(at), dns.rdatatype.PTR))


def look_for_all(service: FileService) -> dict[int, list[Resolved]]:
    """All names of a service, forward and backward, by number of the address. Raises NotPossible."""
    server = check_server(service.name_server)
    wanted = [(one.number, one.name, at) for one in service.addresses for at in one.at]
    found: dict[int, list[Resolved]] = {}
    with ThreadPoolExecutor(max_workers=AT_ONCE) as crew:
        looked = crew.map(lambda one: look_for(server, one[1], one[2]), wanted)
        for (number, *_), resolved in zip(wanted, looked, strict=True):
            found.setdefault(number, []).append(resolved)
    return found


def _ask(server: tuple[str, int], name: dns.name.Name, kind: dns.rdatatype.RdataType) -> Looked:
    where, port = server
    try:
        question = dns.message.make_query(name, kind)
        answer, _ = dns.query.udp_with_fallback(question, where, timeout=PATIENCE_SECONDS, port=port)
    except dns.exception.Timeout:
        return Looked(Heard.SILENT, why=f"{where} does not answer")
    except OSError as error:
        return Looked(Heard.SILENT, why=f"{where} cannot be reached: {type(error).__name__}")
    except dns.exception.DNSException as error:
        return Looked(Heard.GARBLED, why=f"what {where} answers is no answer: {type(error).__name__}")
    code = answer.rcode()
    if code == dns.rcode.NXDOMAIN:
        return Looked(Heard.NOTHING)
    if code != dns.rcode.NOERROR:
        return Looked(Heard.REFUSED, why=f"{where} answers {dns.rcode.to_text(code)}")
    return _values(answer, where)


def _values(answer: dns.message.Message, where: str) -> Looked:
    if not isinstance(answer, dns.message.QueryMessage):
        return Looked(Heard.GARBLED, why=f"what {where} answers is no answer")
    try:
        found = answer.resolve_chaining().answer  # by way of other names, where it has such
    except dns.exception.DNSException as error:
        return Looked(Heard.GARBLED, why=f"what {where} answers leads nowhere: {type(error).__name__}")
    values = sorted(record.to_text() for record in found) if found is not None else []
    if not values:
        return Looked(Heard.NOTHING)
    return Looked(Heard.FOUND, tuple(values[:MOST_VALUES]))
