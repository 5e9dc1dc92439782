"""Descriptors of virtual machines, against what DMTF says of them.

DSP0243 (Open Virtualization Format 1.1.0 and 2.1.1): the envelope, the DiskSection and the virtual hardware.
DSP0004 (CIM Infrastructure, annex C.1): programmatic units. The example follows the shape of those in
DSP0243; its values are invented.
"""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.errors import NotPossible
from foldbarn.core.units import GIB, LARGEST_BYTES, MIB
from foldbarn.core.vms.ovf import DEEPEST, MOST_CHARACTERS, MOST_ELEMENTS, DescribedDisk, read_descriptor

ENVELOPE = """<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/{version}"
  xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/{version}"
  xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
  <References><File ovf:href="system.img" ovf:id="file1" ovf:size="180114671"/></References>
  <DiskSection>
    <Info>The disks</Info>
    <Disk ovf:capacity="{capacity}" {units} ovf:diskId="disk1" ovf:fileRef="file1" ovf:format="raw"/>
    <Disk ovf:capacity="68719476736" ovf:diskId="disk2" ovf:format="raw"/>
  </DiskSection>
  <VirtualSystem ovf:id="roster">
    <Info>A VM</Info>
    <Name>crew-roster</Name>
    <VirtualHardwareSection>
      <Info>Its hardware</Info>
      <Item>
        <rasd:AllocationUnits>hertz * 10^6</rasd:AllocationUnits>
        <rasd:ElementName>4 processors</rasd:ElementName>
        <rasd:InstanceID>1</rasd:InstanceID>
        <rasd:ResourceType>3</rasd:ResourceType>
        <rasd:VirtualQuantity>4</rasd:VirtualQuantity>
      </Item>
      <Item>
        {memory_units}
        <rasd:ElementName>memory</rasd:ElementName>
        <rasd:InstanceID>2</rasd:InstanceID>
        <rasd:ResourceType>4</rasd:ResourceType>
        <rasd:VirtualQuantity>{memory}</rasd:VirtualQuantity>
      </Item>
      <Item>
        <rasd:ElementName>controller</rasd:ElementName>
        <rasd:InstanceID>3</rasd:InstanceID>
        <rasd:ResourceType>6</rasd:ResourceType>
      </Item>
      {drives}
    </VirtualHardwareSection>
  </VirtualSystem>
</Envelope>
"""
DRIVE = """<{item}>
        <rasd:AddressOnParent>{nth}</rasd:AddressOnParent>
        <rasd:ElementName>{name}</rasd:ElementName>
        <rasd:HostResource>{host}</rasd:HostResource>
        <rasd:InstanceID>1{nth}</rasd:InstanceID>
        <rasd:Parent>3</rasd:Parent>
        <rasd:ResourceType>{kind}</rasd:ResourceType>
      </{item}>"""
MEGABYTES = "<rasd:AllocationUnits>byte * 2^20</rasd:AllocationUnits>"


def drive(nth: int, host: str, *, name: str = "", item: str = "Item", kind: str = "17") -> str:
    return DRIVE.format(nth=nth, host=host, name=name or f"drive {nth}", item=item, kind=kind)


DRIVES = drive(0, "ovf:/disk/disk1") + drive(1, "ovf:/disk/disk2")


def written(
    *,
    capacity: str = "40",
    units: str = 'ovf:capacityAllocationUnits="byte * 2^30"',
    memory: str = "8192",
    memory_units: str = MEGABYTES,
    drives: str = DRIVES,
    version: int = 1,
) -> str:
    return ENVELOPE.format(
        capacity=capacity,
        units=units,
        memory=memory,
        memory_units=memory_units,
        drives=drives,
        version=version,
    )


def refused(text: str) -> str:
    with pytest.raises(NotPossible) as caught:
        read_descriptor(text)
    assert caught.value.about == "descriptor"
    return caught.value.sentence


def test_processors_memory_and_disks_are_read_with_their_units() -> None:
    found = read_descriptor(written())
    assert (found.name, found.cpus, found.memory_bytes) == ("crew-roster", 4, 8 * GIB)
    assert found.disks == (
        DescribedDisk("drive 0", 40 * GIB, "system.img"),
        DescribedDisk("drive 1", 64 * GIB),  # "byte" where no unit is said (DSP0243, 9.1)
    )


def test_the_second_version_has_items_of_its_own_for_storage() -> None:
    item = "StorageItem"
    drives = drive(0, "ovf:/disk/disk1", item=item, kind="31")
    assert [d.bytes for d in read_descriptor(written(version=2, drives=drives)).disks] == [40 * GIB]


def test_disks_are_those_that_the_hardware_has_in_its_order() -> None:
    drives = drive(0, "/disk/disk2") + drive(1, "ovf:/disk/disk1")
    assert [d.bytes for d in read_descriptor(written(drives=drives)).disks] == [64 * GIB, 40 * GIB]
    assert not read_descriptor(written(drives="")).disks


@pytest.mark.parametrize(
    ("said", "size"),
    [
        ("byte", 1),
        ("byte * 2^10", 2**10),
        ("byte*2^40", 2**40),
        ("byte * 10^9", 10**9),
        ("byte * 512", 512),
        ("MegaBytes", MIB),
    ],
)
def test_programmatic_units(said: str, size: int) -> None:
    units = f'ovf:capacityAllocationUnits="{said}"'
    assert read_descriptor(written(units=units)).disks[0].bytes == 40 * size


def test_memory_without_a_unit_is_in_mebibytes() -> None:  # common practice
    assert read_descriptor(written(memory_units="")).memory_bytes == 8192 * MIB


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "It is not XML"),
        ("<a", "It is not XML: line 1"),
        ("<Envelope/>", "no envelope of the Open Virtualization Format"),
        ('<x xmlns="http://schemas.dmtf.org/ovf/envelope/1"/>', "no envelope"),
        (
            '<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"/>',
            "It describes no virtual machine.",
        ),
        (
            '<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"><VirtualSystem/><VirtualSystem/></Envelope>',
            "It describes 2 of them.",
        ),
        (written(capacity="${disk.size}"), "'${disk.size}', which is no number"),
        (written(capacity="-5"), "'-5', which is no number"),
        (written(capacity="0"), "which no disk has"),
        (written(capacity="9" * 19), "which no disk has"),
        (written(capacity="9" * 4000), "which is no number"),
        (written(units='ovf:capacityAllocationUnits="bit * 2^30"'), "'bit * 2^30' is no unit of bytes"),
        (written(units='ovf:capacityAllocationUnits="byte * 9^999"'), "is beyond any size"),
        (written(memory="a lot"), "'a lot' times"),
        (written(memory="9" * 18), "more than any has"),
        (written(drives=drive(0, "ovf:/disk/disk9")), "drive 0 is on ovf:/disk/disk9"),
        (written(drives=drive(0, "ovf:/file/file1")), "which the descriptor does not have"),
        (written(drives=drive(0, "ovf:/disk/disk1") * 65), "64 are the most"),
        ("x" * (MOST_CHARACTERS + 1), "1,000,000 are the most"),
        ("<a>" * (DEEPEST + 1), "more parts within one another"),
        (f"<a>{'<b/>' * MOST_ELEMENTS}</a>", "more parts within one another"),
    ],
)
def test_what_is_none_is_refused_with_what_is_wrong(text: str, says: str) -> None:
    assert says in refused(text)


@pytest.mark.parametrize(
    "bomb",
    [
        '<!DOCTYPE a [<!ENTITY b "cc"><!ENTITY c "&b;&b;">]><a>&c;</a>',
        '<!DOCTYPE a SYSTEM "file:///etc/passwd"><a/>',
        '<!DOCTYPE a [<!ENTITY b SYSTEM "http://127.0.0.1/">]><a>&b;</a>',
        "<!DOCTYPE Envelope><Envelope/>",
    ],
)
def test_nothing_in_it_stands_for_anything_else(bomb: str) -> None:
    assert "a document type of its own" in refused(bomb)
    assert "a document type of its own" in refused(f'<?xml version="1.0"?>{bomb}')


@given(st.text(max_size=200))
def test_any_other_text_is_refused(text: str) -> None:
    assert refused(text)


@given(st.integers(min_value=1, max_value=LARGEST_BYTES), st.sampled_from(["byte", "byte * 2^0", ""]))
def test_every_capacity_comes_back_to_the_byte(capacity: int, unit: str) -> None:
    units = f'ovf:capacityAllocationUnits="{unit}"' if unit else ""
    assert read_descriptor(written(capacity=str(capacity), units=units)).disks[0].bytes == capacity
