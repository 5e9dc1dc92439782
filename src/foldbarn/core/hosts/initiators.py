"""Names by which hosts and volumes are known to one another: iSCSI names (RFC 7143, section 4.2.7, with RFC
3721, RFC 3722 and RFC 3980) and NVMe qualified names (NVM Express Base Specification, "NVMe Qualified
Names").
"""

from __future__ import annotations

import re
import uuid
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache

from foldbarn.core.errors import NotPossible


class Transport(StrEnum):
    """How a host reaches a volume."""

    ISCSI = "iscsi"
    NVME = "nvme"  # over TCP

    @property
    def port(self) -> int:
        """The TCP port of a portal (IANA: iscsi-target, nvme)."""
        return 3260 if self is Transport.ISCSI else 4420

    @property
    def said(self) -> str:
        return "iSCSI" if self is Transport.ISCSI else "NVMe"


@dataclass(frozen=True, slots=True, order=True)
class Initiator:
    """A name that a host goes by, as it is compared: an iSCSI name in small letters."""

    transport: Transport
    name: str


LONGEST = 223  # bytes, of either kind of name
MOST = 16  # names of one host
_DATED = r"\d{4}-(?:0[1-9]|1[0-2])"
_DOMAIN = r"[a-z0-9](?:[a-z0-9-]*[a-z0-9])?(?:\.[a-z0-9](?:[a-z0-9-]*[a-z0-9])?)*"
# What RFC 3722 leaves of ASCII: small letters, digits, hyphen, dot and colon.
_IQN = re.compile(rf"iqn\.{_DATED}\.{_DOMAIN}(?::[a-z0-9.:-]+)?")
_EUI = re.compile(r"eui\.[0-9a-f]{16}")
_NAA = re.compile(r"naa\.(?:[0-9a-f]{16}|[0-9a-f]{32})")
_NQN = re.compile(rf"nqn\.{_DATED}\.{_DOMAIN}:[!-~]+")
_BY_UUID = "nqn.2014-08.org.nvmexpress:uuid:"
_UUID = re.compile(r"[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}")


def read_initiator(text: str) -> Initiator:
    """The initiator of that name. Raises NotPossible for what is neither an iSCSI name in one of its three
    forms nor an NVMe qualified name.
    """
    name = text.strip()
    size = len(name.encode())
    if size > LONGEST:
        raise _refused(name, f"has {size} bytes; {LONGEST} are the most")
    start = name[:4].lower()
    if start == "nqn.":
        return Initiator(Transport.NVME, _qualified(name))
    if start not in ("iqn.", "eui.", "naa."):
        raise _refused(name, "is no name of an initiator")
    low = name.lower()  # RFC 3722: case does not tell iSCSI names apart
    if start == "iqn." and not _IQN.fullmatch(low):
        why = (
            "is not iqn., a year and month, and a domain backwards, with letters, digits, - . and : after it"
        )
        raise _refused(name, why)
    if start == "eui." and not _EUI.fullmatch(low):
        raise _refused(name, "is not eui. and 16 hexadecimal digits")
    if start == "naa." and not _NAA.fullmatch(low):
        raise _refused(name, "is not naa. and 16 or 32 hexadecimal digits")
    return Initiator(Transport.ISCSI, low)


def _qualified(name: str) -> str:
    """An NVMe qualified name; those of the form with a UUID in small letters, all others as they are."""
    if name.lower().startswith(_BY_UUID):
        low = name.lower()
        if not _UUID.fullmatch(low.removeprefix(_BY_UUID)):
            raise _refused(name, "does not end in a UUID")
        return low
    if not _NQN.fullmatch(name):
        why = "is not nqn., a year and month, a domain backwards, a colon, and more after it"
        raise _refused(name, why)
    return name


def _refused(name: str, why: str) -> NotPossible:
    shown = name if len(name) <= 60 else f"{name[:59]}…"
    return NotPossible(
        f"'{shown}' {why}.",
        about="initiators",
        next_step="Copy it from /etc/iscsi/initiatorname.iscsi or /etc/nvme/hostnqn on the host.",
    )


def read_initiators(texts: Iterable[str]) -> tuple[Initiator, ...]:
    """Names of one host, each once and in order. Raises NotPossible: what is no such name, more than 16."""
    found = sorted({read_initiator(text) for text in texts if text.strip()})
    if len(found) > MOST:
        raise NotPossible(f"{len(found)} names are too many; {MOST} are the most.", about="initiators")
    return tuple(found)


# "internal" is kept for private use (ICANN, July 2024); what follows tells this site from every other.
_AUTHORITY = "2024-08.internal.foldbarn"


def target_name(transport: Transport, mark: str, volume: int) -> str:
    """The name under which a volume (by number) is offered: it stays as long as the volume, whatever that is
    called. mark: what distinguishes this site.
    """
    return f"{target_stem(transport, mark)}{volume}"


def target_stem(transport: Transport, mark: str) -> str:
    """What the names of all volumes of a site begin with."""
    kind = "iqn" if transport is Transport.ISCSI else "nqn"
    return f"{kind}.{_AUTHORITY}.s{_digits(mark, 'site')[:8]}:volume-"


def wwid(transport: Transport, mark: str, volume: int) -> str:
    """What a host's kernel knows the disk of a volume by, as lsblk prints it (WWN): for iSCSI a name that is
    assigned locally (NAA type 3, SPC-4), for NVMe the namespace's UUID.
    """
    if transport is Transport.ISCSI:
        return f"0x3{_digits(mark, f'volume-{volume}')[:15]}"
    return f"uuid.{uuid.UUID(_digits(mark, f'volume-{volume}'))}"


@lru_cache(maxsize=65_536)
def _digits(mark: str, what: str) -> str:
    """Hexadecimal digits of a UUID made of names (RFC 9562, version 5)."""
    return uuid.uuid5(uuid.NAMESPACE_URL, f"foldbarn:{mark}:{what}").hex
