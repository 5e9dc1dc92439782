"""Names of initiators and targets against the standards that define them."""

from __future__ import annotations

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.errors import NotPossible
from foldbarn.core.hosts.initiators import (
    LONGEST,
    Initiator,
    Transport,
    read_initiator,
    read_initiators,
    target_name,
    wwid,
)

# Examples of RFC 7143, section 4.2.7 (and, the same, RFC 3721, section 1.1, and RFC 3980 for naa.), as
# remembered.
ISCSI = [
    "iqn.2001-04.com.example:storage:diskarrays-sn-a8675309",
    "iqn.2001-04.com.example",
    "iqn.2001-04.com.example:storage.tape1.sys1.xyz",
    "iqn.2001-04.com.example:storage.disk2.sys1.xyz",
    "eui.02004567A425678D",
    "naa.52004567BA64678D",
    "naa.62004567BA64678D0123456789ABCDEF",
]
# Examples of the NVM Express Base Specification, "NVMe Qualified Names", as remembered.
NVME = [
    "nqn.2014-08.com.example:nvme:nvm-subsystem-sn-d78432",
    "nqn.2014-08.com.example:nvme.host.sys.xyz",
    "nqn.2014-08.org.nvmexpress:uuid:f81d4fae-7dec-11d0-a765-00a0c91e6bf6",
]


@pytest.mark.parametrize("name", ISCSI)
def test_iscsi_names_of_the_standard_are_names_whatever_their_case(name: str) -> None:
    assert read_initiator(name) == Initiator(Transport.ISCSI, name.lower())
    assert read_initiator(f"  {name.upper()}\n") == read_initiator(name)  # RFC 3722 folds case


@pytest.mark.parametrize("name", NVME)
def test_qualified_names_of_the_standard_are_names(name: str) -> None:
    assert read_initiator(name) == Initiator(Transport.NVME, name)


@pytest.mark.parametrize(
    ("name", "says"),
    [
        ("", "is no name of an initiator"),
        ("slipway", "is no name of an initiator"),
        ("iqn.2001-13.com.example", "a year and month"),  # there is no such month
        ("iqn.01-04.com.example", "a year and month"),
        ("iqn.2001-04.com.example:", "a year and month"),  # RFC 7143: what follows a colon is not empty
        ("iqn.2001-04.com..example:a", "a domain backwards"),
        ("iqn.2001-04.com.example:disk_1", "letters, digits"),  # RFC 3722 leaves out the underscore
        ("iqn.2001-04.com.example:disk 1", "letters, digits"),
        ("eui.02004567A425678", "16 hexadecimal digits"),
        ("eui.02004567A425678DD", "16 hexadecimal digits"),
        ("naa.52004567BA64678G", "16 or 32 hexadecimal digits"),
        ("naa.52004567BA64678D01234567", "16 or 32 hexadecimal digits"),
        ("nqn.2014-08.com.example", "a colon"),
        ("nqn.2014-08.org.nvmexpress:uuid:f81d4fae", "does not end in a UUID"),
        ("iqn.2001-04.com.example:" + "a" * 200, "224 bytes; 223 are the most"),
        ("nqn.2014-08.com.example:" + "a" * 200, "224 bytes; 223 are the most"),
    ],
)
def test_what_is_no_such_name_is_refused_with_the_reason(name: str, says: str) -> None:
    with pytest.raises(NotPossible, match=re.escape(says)):
        read_initiator(name)


def test_names_of_one_host_are_each_there_once_and_not_too_many() -> None:
    assert read_initiators(["IQN.2001-04.com.example", "", "iqn.2001-04.com.example"]) == (
        Initiator(Transport.ISCSI, "iqn.2001-04.com.example"),
    )
    with pytest.raises(NotPossible, match="17 names are too many"):
        read_initiators([f"iqn.2001-04.com.example:{n}" for n in range(17)])


@given(mark=st.uuids().map(str), volume=st.integers(min_value=1, max_value=2**40))
def test_the_names_we_give_are_names_and_tell_sites_and_volumes_apart(mark: str, volume: int) -> None:
    for transport in Transport:
        name = target_name(transport, mark, volume)
        assert read_initiator(name) == Initiator(transport, name)
        assert len(name) <= LONGEST
        assert name != target_name(transport, mark, volume + 1)
        assert wwid(transport, mark, volume) != wwid(transport, mark, volume + 1)
        assert wwid(transport, mark, volume) != wwid(transport, mark + "x", volume)
    # SPC-4, "NAA designators": type 3 is assigned locally, and has 60 bits more.
    assert re.fullmatch("0x3[0-9a-f]{15}", wwid(Transport.ISCSI, mark, volume))
    assert re.fullmatch(r"uuid\.[0-9a-f-]{36}", wwid(Transport.NVME, mark, volume))
