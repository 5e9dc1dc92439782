"""Whether the names of the file service are known as they should be: each name stands for its addresses
(RFC 1035, 3.4.1; RFC 3596), and each address for its name (3.5).
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Sequence
from dataclasses import dataclass

from foldbarn.core.errors import NotPossible
from foldbarn.core.names import expand
from foldbarn.core.shares.share import FileAddress, FileService, Heard, Looked, Resolved
from foldbarn.core.units import say_count, say_list

_LABEL = re.compile(r"[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?", re.ASCII)
LONGEST = 253  # characters of a name, as it is written (RFC 1035, 2.3.4: 255 octets on the wire)


def check_host_name(name: str, about: str = "names") -> str:
    """A name of the domain system, in small letters and without the last dot. Raises NotPossible."""
    found = name.strip().lower().removesuffix(".")
    if not found or len(found) > LONGEST:
        words = f"A name has 1 to {LONGEST} characters, not {len(found)}."
        raise NotPossible(words, about=about)
    for label in found.split("."):
        if not _LABEL.fullmatch(label):
            step = "Parts of a name have letters, digits and hyphens within, and dots between them."
            raise NotPossible(f"'{name.strip()[:80]}' cannot be a name.", about=about, next_step=step)
    if found.split(".")[-1].isdecimal():
        raise NotPossible(f"'{found}' would be read as an address.", about=about)
    return found


def names_for(text: str, count: int) -> list[str]:
    """Names of so many addresses, by a pattern such as files-{1..4}.example or one after the other. Raises
    NotPossible.
    """
    words = text.replace(",", " ").split()
    if not words:
        step = f"Such as files-{{1..{count}}}.example."
        raise NotPossible("Clients find the file service by names.", about="names", next_step=step)
    found = [check_host_name(name) for word in words for name in expand(word)]
    if len(set(found)) < len(found):
        raise NotPossible("A name stands there twice.", about="names")
    if len(found) != count:
        words_ = f"{say_count(len(found), 'name')} for {say_count(count, 'address', 'addresses')}."
        raise NotPossible(words_, about="names", next_step="Give each address one name.")
    return found


@dataclass(frozen=True, slots=True)
class NameFault:
    """What a name server does not say as it should. record: the line of a zone (RFC 1035, 5.1) that would
    put it right; empty where none would.
    """

    sentence: str
    record: str = ""


def faults_of(one: FileAddress) -> list[NameFault]:
    """Of an address; empty while nothing of it has been looked for."""
    found: list[NameFault] = []
    for resolved in one.resolved:
        found += _forward(one, resolved)
        found += _backward(one, resolved)
    return found


def _forward(one: FileAddress, resolved: Resolved) -> list[NameFault]:
    looked, kind = resolved.forward, "AAAA" if ":" in resolved.at else "A"
    record = f"{one.name}. IN {kind} {resolved.at}"
    if looked.heard is Heard.NOTHING:
        return [NameFault(f"{one.name} has no address of kind {kind}.", record)]
    if looked.heard is not Heard.FOUND:
        return [NameFault(f"{one.name} could not be looked for: {looked.why}.")]
    values = [_same(value) for value in looked.values]
    others = [value for value in values if value != _same(resolved.at)]
    if _same(resolved.at) not in values:
        return [NameFault(f"{one.name} stands for {say_list(others)}, and not for {resolved.at}.", record)]
    if others:
        words = f"{one.name} stands for {say_list(others)} besides {resolved.at}: clients may go there."
        return [NameFault(words)]
    return []


def _backward(one: FileAddress, resolved: Resolved) -> list[NameFault]:
    looked = resolved.backward
    record = f"{ipaddress.ip_address(resolved.at).reverse_pointer}. IN PTR {one.name}."
    if looked.heard is Heard.NOTHING:
        return [NameFault(f"{resolved.at} does not stand for any name.", record)]
    if looked.heard is not Heard.FOUND:
        return [NameFault(f"{resolved.at} could not be looked for: {looked.why}.")]
    names = [value.lower().removesuffix(".") for value in looked.values]
    if one.name not in names:
        return [NameFault(f"{resolved.at} stands for {say_list(names)}, and not for {one.name}.", record)]
    return []


def _same(address: str) -> str:
    """An address as it is written best: the same may be written in many ways."""
    try:
        return str(ipaddress.ip_address(address))
    except ValueError:
        return address


def resolves(looked: Looked) -> bool:
    return looked.heard is Heard.FOUND


def unnamed(service: FileService) -> list[tuple[FileAddress, NameFault]]:
    """What is missing of all of its names."""
    return [(one, fault) for one in service.addresses for fault in faults_of(one)]


def said_faults(faults: Sequence[NameFault]) -> str:
    return " ".join(fault.sentence for fault in faults)


DNS_PORT = 53  # RFC 1035, 4.2


def check_server(text: str) -> tuple[str, int]:
    """Address and port of a name server, as typed: 10.10.0.2, 10.10.0.2:5353 or [fd00::2]:5353. It is known
    by its address: who would tell what its name is? Raises NotPossible.
    """
    said = text.strip()
    address, port = said, str(DNS_PORT)
    if said.startswith("["):
        address, _, rest = said[1:].partition("]")
        port = rest.removeprefix(":") or port
    elif said.count(":") == 1:
        address, _, port = said.partition(":")
    try:
        found = ipaddress.ip_address(address)
        number = int(port) if port.isascii() and port.isdecimal() else 0
    except ValueError:
        found, number = None, 0
    if found is None or not 0 < number < 65_536:
        step = "Write 10.10.0.2, 10.10.0.2:5353 or [fd00::2]:5353."
        words = f"'{said[:80]}' is no address of a name server."
        raise NotPossible(words, about="name_server", next_step=step)
    return str(found), number


def said_server(address: str, port: int) -> str:
    """As it is written down."""
    return f"[{address}]:{port}" if ":" in address else f"{address}:{port}"
