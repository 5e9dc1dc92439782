"""Names of the file service, and what clients type to mount a share."""

from __future__ import annotations

import pytest

from foldbarn.core.errors import NotPossible
from foldbarn.core.shares.mounting import how_to_mount, is_mount_of, read_source
from foldbarn.core.shares.naming import check_host_name, faults_of, names_for
from foldbarn.core.shares.rules import Right
from foldbarn.core.shares.share import (
    FileAddress,
    Heard,
    Looked,
    Protocol,
    Resolved,
    Share,
    ShareUser,
)

NAME, AT = "files-1.skerry.example", "10.30.0.21"
FOUND = Looked(Heard.FOUND, (AT,))
NAMED = Looked(Heard.FOUND, (f"{NAME}.",))


def address(forward: Looked, backward: Looked, at: str = AT) -> FileAddress:
    return FileAddress(1, NAME, (at,), home=1, resolved=(Resolved(at, forward, backward),))


def test_a_name_that_is_known_as_it_should_be() -> None:
    assert not faults_of(address(FOUND, NAMED))
    assert not faults_of(address(FOUND, Looked(Heard.FOUND, ("FILES-1.Skerry.Example.", "other.example."))))
    assert not faults_of(FileAddress(1, NAME, (AT,), home=1))  # not looked for yet


@pytest.mark.parametrize(
    ("forward", "backward", "says", "record"),
    [
        (
            FOUND,
            Looked(Heard.NOTHING),
            "10.30.0.21 does not stand for any name.",
            "21.0.30.10.in-addr.arpa. IN PTR files-1.skerry.example.",
        ),
        (
            FOUND,
            Looked(Heard.FOUND, ("old.example.",)),
            "10.30.0.21 stands for old.example, and not for files-1.skerry.example.",
            "21.0.30.10.in-addr.arpa. IN PTR files-1.skerry.example.",
        ),
        (
            Looked(Heard.NOTHING),
            NAMED,
            "files-1.skerry.example has no address of kind A.",
            "files-1.skerry.example. IN A 10.30.0.21",
        ),
        (
            Looked(Heard.FOUND, ("10.30.0.99",)),
            NAMED,
            "files-1.skerry.example stands for 10.30.0.99, and not for 10.30.0.21.",
            "files-1.skerry.example. IN A 10.30.0.21",
        ),
        (
            Looked(Heard.FOUND, (AT, "10.30.0.99")),
            NAMED,
            "files-1.skerry.example stands for 10.30.0.99 besides 10.30.0.21: clients may go there.",
            "",
        ),
        (
            Looked(Heard.SILENT, why="it does not answer"),
            NAMED,
            "files-1.skerry.example could not be looked for: it does not answer.",
            "",
        ),
    ],
)
def test_what_is_missing_is_said_with_the_record_that_would_put_it_right(
    forward: Looked, backward: Looked, says: str, record: str
) -> None:
    assert [(one.sentence, one.record) for one in faults_of(address(forward, backward))] == [(says, record)]


def test_of_version_6_the_same_address_may_be_written_in_many_ways() -> None:
    found = Looked(Heard.FOUND, ("fd00:30:0:0:0:0:0:21",))
    assert not faults_of(address(found, NAMED, at="fd00:30::21"))
    (fault,) = faults_of(address(Looked(Heard.NOTHING), NAMED, at="fd00:30::21"))
    assert fault.record == "files-1.skerry.example. IN AAAA fd00:30::21"
    (fault,) = faults_of(address(found, Looked(Heard.NOTHING), at="fd00:30::21"))
    assert fault.record.startswith("1.2.0.0.")  # RFC 3596, 2.5: by its digits, the last one first
    assert ".ip6.arpa. IN PTR files-1.skerry.example." in fault.record


def test_names_go_by_a_pattern_or_one_by_one() -> None:
    wanted = [f"files-{n}.skerry.example" for n in (1, 2)]
    assert names_for("files-{1..2}.Skerry.example.", 2) == wanted
    assert names_for("files-1.skerry.example, files-2.skerry.example", 2) == wanted
    for text, says in (
        ("", "by names"),
        ("files-{1..3}.example", "3 names for 2 addresses."),
        ("a.example a.example", "twice"),
        ("files_1.example b.example", "cannot be a name"),
        ("-a.example b.example", "cannot be a name"),
        ("10.30.0.21 b.example", "would be read as an address"),
        (f"{'a' * 64}.example b.example", "cannot be a name"),
        (".".join(["abcdefghi"] * 26) + " b.example", "1 to 253 characters"),
    ):
        with pytest.raises(NotPossible) as found:
            names_for(text, 2)
        assert says in found.value.sentence
    assert check_host_name("A.Example.") == "a.example"


SHARE = Share(
    number=1,
    name="charts",
    volume=1,
    address=1,
    quota=10**12,
    protocols=tuple(Protocol),
    users=(ShareUser(1, "ines", Right.WRITE, ""),),
)
BOTH = FileAddress(1, NAME, (AT, "fd00:30::21"), home=1)


def test_what_is_typed_is_what_the_manuals_of_the_tools_ask_for() -> None:
    """mount.nfs(8): server:path, an address of version 6 in square brackets, vers=3 and vers=4.1;
    mount.cifs(8): //server/share, username=, ip=, credentials=. From memory.
    """
    found = {(one.protocol, one.by): one for one in how_to_mount(SHARE, BOTH, "/srv/charts")}
    assert len(found) == 9
    assert found[Protocol.NFS3, NAME].commands == (
        "mkdir -p /srv/charts",
        f"mount -t nfs -o vers=3 {NAME}:/charts /srv/charts",
    )
    assert found[Protocol.NFS41, "fd00:30::21"].commands[1] == (
        "mount -t nfs -o vers=4.1 [fd00:30::21]:/charts /srv/charts"
    )
    assert found[Protocol.NFS41, NAME].table == (f"{NAME}:/charts /srv/charts nfs vers=4.1,_netdev 0 0")
    assert found[Protocol.SMB, "fd00:30::21"].commands[1] == (
        f"mount -t cifs -o vers=3.1.1,username=ines,ip=fd00:30::21 //{NAME}/charts /srv/charts"
    )
    assert found[Protocol.SMB, NAME].table == (
        f"//{NAME}/charts /srv/charts cifs vers=3.1.1,credentials=/etc/cifs-credentials,_netdev 0 0"
    )


def test_what_is_mounted_is_known_again() -> None:
    for one in how_to_mount(SHARE, BOTH):
        source = one.table.split(" ")[0]
        assert is_mount_of(source, SHARE, (BOTH,))
        assert not is_mount_of(source.replace("charts", "chart"), SHARE, (BOTH,))
    assert not is_mount_of("files-9.skerry.example:/charts", SHARE, (BOTH,))
    assert read_source("/dev/sdb") == ("", "")
    assert read_source("UUID=1-2") == ("", "")
