"""The tables. Rules that must hold under concurrency are constraints here."""

from __future__ import annotations

from datetime import datetime
from typing import Any, ClassVar

from sqlalchemy import (
    ARRAY,
    REAL,
    BigInteger,
    CheckConstraint,
    Computed,
    DateTime,
    ForeignKey,
    Identity,
    Index,
    Integer,
    LargeBinary,
    UniqueConstraint,
    func,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB, ExcludeConstraint
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    type_annotation_map: ClassVar[dict[Any, Any]] = {
        int: BigInteger,
        datetime: DateTime(timezone=True),
        dict[str, Any]: JSONB,
        list[Any]: JSONB,
    }


class SiteRow(Base):
    """One row: everything one Fold Barn looks after."""

    __tablename__ = "site"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    revision: Mapped[int] = mapped_column(default=1)
    grace_seconds: Mapped[float]
    operator: Mapped[str]
    # written to its disks, so that no other site takes them
    mark: Mapped[str] = mapped_column(server_default=text("gen_random_uuid()"))
    # [from, to, port, why] of the last test of the port plan
    closed_ports: Mapped[list[Any]] = mapped_column(server_default="[]")
    ports_tested_at: Mapped[datetime | None]
    watched_at: Mapped[datetime | None]  # when a round of the watch was last ended
    claims_revision: Mapped[int] = mapped_column(server_default="0")  # grows with what is known of claims
    # the site's text as last taken, word for word
    description: Mapped[str] = mapped_column(server_default="")
    __table_args__ = (CheckConstraint("id = 1", name="one_site"),)


class RoomRow(Base):
    __tablename__ = "room"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    __table_args__ = (Index("room_name_taken", func.lower(text("name")), unique=True),)


class RackRow(Base):
    __tablename__ = "rack"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    room_id: Mapped[int] = mapped_column(ForeignKey("room.id"))
    __table_args__ = (Index("rack_name_taken", func.lower(text("name")), unique=True),)


class EnclosureRow(Base):
    """A box of disks that several nodes reach."""

    __tablename__ = "enclosure"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    rack_id: Mapped[int] = mapped_column(ForeignKey("rack.id"))
    nodes: Mapped[list[Any]]
    __table_args__ = (Index("enclosure_name_taken", func.lower(text("name")), unique=True),)


class NodeRow(Base):
    """A server and what was last heard of it. `contact`, `reason`, `since`, `given_up` as in core.site.Node.

    agent_url is empty where only files, its BMC or the site's text tell of it; source is which of them did
    last.
    """

    __tablename__ = "node"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    # what its agent calls it; its name here may be another
    agent_name: Mapped[str] = mapped_column(server_default="")
    agent_url: Mapped[str]
    rack_id: Mapped[int] = mapped_column(ForeignKey("rack.id"))
    position: Mapped[int] = mapped_column(default=0)
    contact: Mapped[str] = mapped_column(default="heard")
    reason: Mapped[str] = mapped_column(default="")
    since: Mapped[datetime] = mapped_column(server_default=func.now())
    given_up: Mapped[bool] = mapped_column(default=False)
    heard_at: Mapped[datetime | None]
    # It was not heard when it should have dropped something: what it holds is compared when it is heard
    # again.
    owes: Mapped[bool] = mapped_column(server_default=text("false"))
    inventory_version: Mapped[str] = mapped_column(default="")
    cores: Mapped[int] = mapped_column(default=0)
    memory_bytes: Mapped[int] = mapped_column(default=0)
    ports: Mapped[list[Any]] = mapped_column(default=list)
    # by port, where a person said what it is for
    purposes: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    # hash of the secret its agent first reported with
    agent_key: Mapped[str] = mapped_column(server_default="")
    source: Mapped[str] = mapped_column(server_default="agent")
    bmc_url: Mapped[str] = mapped_column(server_default="")
    clock_offset: Mapped[float | None]  # seconds ahead of ours
    member: Mapped[bool] = mapped_column(server_default=text("false"))
    keeper: Mapped[bool] = mapped_column(server_default=text("false"))
    dedicated: Mapped[bool] = mapped_column(server_default=text("false"))
    # bytes that consumers wrote here, by volume number
    written: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    # by ply, bytes that were written on disks that compress, and those that they take there
    compressed: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    # what it last said of its cluster: name, leader, term
    says: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    # by number of a ply, what it was last told of limits: operations and bytes a second; and how often
    limits: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    limits_told: Mapped[int] = mapped_column(server_default="0")
    # the order by which it learned what it goes by of that, as it says or as it was told last
    terms: Mapped[str] = mapped_column(server_default="")
    # by number of a ply, ranges of its volume's strips of data that it wants room for; and whether it refuses
    # writes for that
    wants: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    # what it was last told of targets: the order, and by name of the target who is let in; and how often
    targets: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    targets_told: Mapped[int] = mapped_column(server_default="0")
    # by number of the ply of all of a volume, the snapshots that it was last told of; and how often
    marks: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    marks_told: Mapped[int] = mapped_column(server_default="0")
    # who is connected, as it said last: target, initiator, address
    sessions: Mapped[list[Any]] = mapped_column(server_default="[]")
    # what it was last told of the file service: the order, and a digest; how often; and what it said last of
    # it: addresses it has, who has mounted what, bytes used
    files: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    files_told: Mapped[int] = mapped_column(server_default="0")
    files_said: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    __table_args__ = (
        Index("node_name_taken", func.lower(text("name")), unique=True),
        CheckConstraint("contact in ('heard', 'silent', 'garbled', 'awaited')", name="node_contact"),
        CheckConstraint("source in ('agent', 'files', 'bmc', 'text')", name="node_source"),
        CheckConstraint("member or not keeper", name="keepers_are_members"),
    )


class PoolRow(Base):
    __tablename__ = "pool"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    strip_bytes: Mapped[int]
    # its usual scheme, with level and per_domain
    k: Mapped[int]
    m: Mapped[int]
    per_domain: Mapped[int] = mapped_column(server_default="1")
    level: Mapped[str]
    headroom: Mapped[str | None]
    fill_line: Mapped[float] = mapped_column(default=0.85)
    forming: Mapped[bool] = mapped_column(default=True)
    closing: Mapped[bool] = mapped_column(server_default=text("false"))  # being deleted: takes nothing new
    # why its disks should be compared with what they should hold
    look_reason: Mapped[str] = mapped_column(default="")
    looks_asked: Mapped[int] = mapped_column(server_default="0")
    change_id: Mapped[int] = mapped_column(ForeignKey("change.id"), unique=True)
    headroom_losses: Mapped[int] = mapped_column(server_default="1")
    allocation_bytes: Mapped[int] = mapped_column(server_default=str(1 << 20))
    overcommit_cap: Mapped[float] = mapped_column(server_default="1")
    encrypted: Mapped[bool] = mapped_column(server_default=text("false"))
    compress_unit: Mapped[int] = mapped_column(server_default="0")  # bytes; 0 for as it is
    rebuild_rate: Mapped[int] = mapped_column(server_default="0")  # bytes per second; 0 for no limit
    level_rate: Mapped[int] = mapped_column(server_default="0")
    priority: Mapped[str] = mapped_column(server_default="consumers")
    # bytes that consumers are expected to write
    daily_writes: Mapped[int] = mapped_column(server_default="0")
    labels: Mapped[list[Any]] = mapped_column(server_default="[]")
    __table_args__ = (
        Index("pool_name_taken", func.lower(text("name")), unique=True),
        CheckConstraint("priority in ('consumers', 'even', 'copying')", name="pool_priority"),
        CheckConstraint(
            "headroom_losses between 1 and 5 and allocation_bytes > 0 and overcommit_cap > 0 and "
            "rebuild_rate >= 0 and level_rate >= 0",
            name="pool_settings",
        ),
    )


class DiskRow(Base):
    __tablename__ = "disk"
    id: Mapped[int] = mapped_column(primary_key=True)
    node_id: Mapped[int] = mapped_column(ForeignKey("node.id"))
    name: Mapped[str]
    bay: Mapped[str]
    kernel_name: Mapped[str]
    paths: Mapped[list[Any]] = mapped_column(default=list)
    serial: Mapped[str]
    wwn: Mapped[str]
    model: Mapped[str]
    media: Mapped[str]
    size_bytes: Mapped[int]
    role: Mapped[str]
    pool_id: Mapped[int | None] = mapped_column(ForeignKey("pool.id"))
    present: Mapped[bool] = mapped_column(default=True)
    missing_since: Mapped[datetime | None]
    given_up: Mapped[bool] = mapped_column(default=False)
    reasons: Mapped[list[Any]] = mapped_column(default=list)  # [code, sentence]
    watch: Mapped[list[Any]] = mapped_column(default=list)
    identity: Mapped[str]  # see core.identity; node and kernel name where it shows none
    box: Mapped[str] = mapped_column(server_default="")  # id of the enclosure it says it stands in
    enclosure_id: Mapped[int | None] = mapped_column(ForeignKey("enclosure.id"))
    missing_paths: Mapped[list[Any]] = mapped_column(server_default="[]")
    lit: Mapped[bool] = mapped_column(server_default=text("false"))
    bus: Mapped[str] = mapped_column(server_default="")
    tier: Mapped[str] = mapped_column(server_default="bulk")
    retiring: Mapped[bool] = mapped_column(server_default=text("false"))  # it is being emptied
    # that may be written in its life; 0 where not known
    rated_bytes: Mapped[int] = mapped_column(server_default="0")
    # why a person chose another role than the rule
    role_reason: Mapped[str] = mapped_column(server_default="")
    stands_in_for: Mapped[int | None]  # the disk whose place a spare has taken
    # as core.machines.health.Health has it, from its node's newest inventory
    health: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    __table_args__ = (
        Index("disk_identity_taken", "identity", unique=True),
        Index("disk_node", "node_id"),
        Index("disk_enclosure", "enclosure_id", postgresql_where=text("enclosure_id is not null")),
        Index("disk_name_taken", func.lower(text("name")), unique=True),
        Index("disk_pool", "pool_id"),
        CheckConstraint(
            "role in ('boot', 'capacity', 'cache', 'spare', 'unclaimed', 'unfit')", name="disk_role"
        ),
        CheckConstraint(
            "(role in ('capacity', 'cache', 'spare')) = (pool_id is not null)", name="capacity_has_a_pool"
        ),
        CheckConstraint("tier in ('bulk', 'fast')", name="disk_tier"),
    )


class ClusterRow(Base):
    """One row once a cluster is being formed. sealed_key: the data key, readable only with the passphrase."""

    __tablename__ = "cluster"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    service_address: Mapped[str]
    witness: Mapped[str] = mapped_column(default="")
    witness_url: Mapped[str] = mapped_column(default="")
    witness_room: Mapped[str] = mapped_column(default="")
    witness_rack: Mapped[str] = mapped_column(default="")
    # why it stands beside members, where it does
    witness_reason: Mapped[str] = mapped_column(server_default="")
    witness_silent: Mapped[str] = mapped_column(default="")  # why the witness is not heard; empty while it is
    sealed_key: Mapped[dict[str, Any]] = mapped_column(default=dict)
    mail: Mapped[dict[str, Any]] = mapped_column(default=dict)
    forming: Mapped[bool] = mapped_column(default=True)
    change_id: Mapped[int] = mapped_column(ForeignKey("change.id"))
    __table_args__ = (CheckConstraint("id = 1", name="one_cluster"),)


class DiskWorkRow(Base):
    """The last counters read from a disk and the rates they give; counters only grow, rates are bytes per
    second.
    """

    __tablename__ = "disk_work"
    disk_id: Mapped[int] = mapped_column(ForeignKey("disk.id"), primary_key=True)
    at: Mapped[datetime]
    read_bytes: Mapped[int]
    written_bytes: Mapped[int]
    read_rate: Mapped[float | None]
    write_rate: Mapped[float | None]


class PolicyRow(Base):
    """A named set of wishes; what it says stands in its versions."""

    __tablename__ = "policy"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    __table_args__ = (Index("policy_name_taken", func.lower(text("name")), unique=True),)


class PolicyVersionRow(Base):
    """What a policy said from one change of it to the next. Volumes keep the version they were made by."""

    __tablename__ = "policy_version"
    id: Mapped[int] = mapped_column(primary_key=True)
    policy_id: Mapped[int] = mapped_column(ForeignKey("policy.id"))
    version: Mapped[int]
    k: Mapped[int]
    m: Mapped[int]
    level: Mapped[str]
    per_domain: Mapped[int] = mapped_column(server_default="1")
    survives: Mapped[int]
    fast: Mapped[bool]
    encrypted: Mapped[bool]
    meant_for: Mapped[str]
    draft: Mapped[bool] = mapped_column(server_default=text("false"))  # no volume may keep it
    landing: Mapped[int] = mapped_column(server_default="0")  # per cent of a volume; 0 for none
    # per cent of a volume that may lie on the fast tier, what is asked for most; 0 for none
    share: Mapped[int] = mapped_column(server_default="0")
    labels: Mapped[list[Any]] = mapped_column(server_default="[]")  # that its pool must have
    operations: Mapped[int] = mapped_column(server_default="0")  # a second, of each volume; 0 for no limit
    throughput: Mapped[int] = mapped_column(server_default="0")  # bytes a second, the same
    cache: Mapped[str] = mapped_column(server_default="any")
    memory: Mapped[int] = mapped_column(server_default="0")  # per cent of each node's, for what it caches
    compressed: Mapped[bool] = mapped_column(server_default=text("false"))
    thin: Mapped[bool] = mapped_column(server_default=text("false"))
    first: Mapped[int] = mapped_column(server_default="0")  # bytes of a volume on the fast tier outright
    # of what lies on the fast tier; 0: as many as survive what the rest does
    share_copies: Mapped[int] = mapped_column(server_default="0")
    # snapshots that are kept of the first of each hour, day and week; and per cent for what they hold
    hourly: Mapped[int] = mapped_column(server_default="0")
    daily: Mapped[int] = mapped_column(server_default="0")
    weekly: Mapped[int] = mapped_column(server_default="0")
    snapshot_room: Mapped[int] = mapped_column(server_default="20")
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    change_id: Mapped[int] = mapped_column(ForeignKey("change.id"), unique=True)
    __table_args__ = (
        Index("one_version_of_a_number", "policy_id", "version", unique=True),
        CheckConstraint("survives between 0 and m", name="policy_survives"),
    )


class VolumeRow(Base):
    __tablename__ = "volume"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    pool_id: Mapped[int] = mapped_column(ForeignKey("pool.id"))
    size_bytes: Mapped[int]
    forming: Mapped[bool] = mapped_column(default=True)
    written: Mapped[int] = mapped_column(server_default="0")  # bytes of its data, as its nodes last told
    waiting: Mapped[int] = mapped_column(server_default="0")  # bytes in its landing, told the same way
    # what its snapshots hold beside it: from which to which of them, and bytes (core.volumes.snapshots.Span)
    spans: Mapped[list[Any]] = mapped_column(server_default="[]")
    snapshots_taken: Mapped[int] = mapped_column(server_default="0")  # in all; the number of the newest
    snapshots_altered: Mapped[int] = mapped_column(server_default="0")  # how often its list of them was
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    change_id: Mapped[int] = mapped_column(ForeignKey("change.id"))
    nth: Mapped[int] = mapped_column(server_default="0")  # of those that its change has made
    policy_version_id: Mapped[int | None] = mapped_column(ForeignKey("policy_version.id"))
    thin: Mapped[bool] = mapped_column(server_default=text("false"))  # where no policy says
    # extents that it wants and finds no room for, and whether its nodes refuse writes for that
    short_extents: Mapped[int] = mapped_column(server_default="0")
    refuses: Mapped[bool] = mapped_column(server_default=text("false"))
    # how fast room was set aside for it (core.volumes.growth), as it was when that last was news
    growth: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    asked: Mapped[float] = mapped_column(server_default="0")  # operations a second, in the same way
    labels: Mapped[list[Any]] = mapped_column(server_default="[]")  # words by which people find it
    # Numbers of the nodes and disks of which alone some may hold it; any of its pool where there are none.
    only_nodes: Mapped[list[Any]] = mapped_column(server_default="[]")
    only_disks: Mapped[list[Any]] = mapped_column(server_default="[]")
    operations: Mapped[int] = mapped_column(server_default="0")  # a second, as a limit of its own; 0 for none
    throughput: Mapped[int] = mapped_column(server_default="0")  # in bytes, in the same way
    serving_nodes: Mapped[int] = mapped_column(server_default="2")  # that are to serve it to hosts
    offline: Mapped[bool] = mapped_column(server_default=text("false"))  # taken from its consumers
    offline_by: Mapped[int | None]  # the change that made it so, or not so, last
    # since when it is in the bin, until when it is kept there, and the change that put it there
    binned_at: Mapped[datetime | None]
    kept_until: Mapped[datetime | None]
    binned_by: Mapped[int | None]
    erasing: Mapped[bool] = mapped_column(server_default=text("false"))  # its strips are being dropped
    parked: Mapped[bool] = mapped_column(server_default=text("false"))  # consumers wait while it is moved
    # the volume whose snapshot (by its number there) it reads what it does not hold itself from; shown: all
    # of it, for good; copying_left: a person called off the writing of what it still reads from there
    origin_id: Mapped[int | None] = mapped_column(ForeignKey("volume.id"), index=True)
    origin_snapshot: Mapped[int | None]
    # the virtual machine that it is part of, as what, and of its disks which
    vm_id: Mapped[int | None] = mapped_column(ForeignKey("vm.id"), index=True)
    vm_part: Mapped[str] = mapped_column(server_default="")
    vm_place: Mapped[int] = mapped_column(server_default="0")
    shown: Mapped[bool] = mapped_column(server_default=text("false"))
    copying_left: Mapped[bool] = mapped_column(server_default=text("false"))
    __table_args__ = (
        UniqueConstraint("change_id", "nth", name="volume_of_change"),
        Index("volume_name_taken", func.lower(text("name")), unique=True),
        CheckConstraint("size_bytes > 0", name="volume_size"),
        CheckConstraint("(binned_at is null) = (kept_until is null)", name="volume_binned"),
        CheckConstraint(
            "(origin_id is null) = (origin_snapshot is null) and (origin_id is not null or not shown)",
            name="volume_origin",
        ),
    )


class PlyRow(Base):
    """A part of a volume with a scheme, a tier and a placement of its own."""

    __tablename__ = "ply"
    id: Mapped[int] = mapped_column(primary_key=True)
    volume_id: Mapped[int] = mapped_column(ForeignKey("volume.id", ondelete="cascade"), index=True)
    purpose: Mapped[str] = mapped_column(server_default="whole")
    k: Mapped[int]
    m: Mapped[int]
    level: Mapped[str]
    per_domain: Mapped[int] = mapped_column(server_default="1")
    tier: Mapped[str] = mapped_column(server_default="bulk")
    extents: Mapped[int]
    forming: Mapped[bool] = mapped_column(server_default=text("false"))  # its strips are being made
    version: Mapped[int] = mapped_column(default=1)  # grows with every change of placement
    # the ply of the same volume that it is written anew from
    source_id: Mapped[int | None] = mapped_column(ForeignKey("ply.id"))
    # of a hot ply: for each extent of that of all of the volume a byte, 1 where it lies here instead
    holds: Mapped[bytes | None] = mapped_column(LargeBinary)
    __table_args__ = (
        CheckConstraint("extents > 0 and k > 0 and m >= 0 and per_domain > 0", name="ply_size"),
        CheckConstraint("tier in ('bulk', 'fast')", name="ply_tier"),
        CheckConstraint("purpose in ('whole', 'anew', 'landing', 'hot', 'past')", name="ply_purpose"),
        CheckConstraint("(purpose = 'hot') = (holds is not null)", name="ply_holds"),
        CheckConstraint("(purpose = 'anew') = (source_id is not null)", name="ply_source"),
        Index("one_past_of_a_volume", "volume_id", unique=True, postgresql_where=text("purpose = 'past'")),
        Index("one_anew_of_a_volume", "volume_id", unique=True, postgresql_where=text("purpose = 'anew'")),
        Index(
            "one_landing_of_a_volume",
            "volume_id",
            unique=True,
            postgresql_where=text("purpose = 'landing'"),
        ),
        Index("one_hot_of_a_volume", "volume_id", unique=True, postgresql_where=text("purpose = 'hot'")),
    )


class HostRow(Base):
    """A machine that uses volumes. contact, reason, since: as of a node; facts: as core.hosts.facts keeps
    them.
    """

    __tablename__ = "host"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    group_name: Mapped[str] = mapped_column(server_default="")
    agent_url: Mapped[str] = mapped_column(server_default="")
    contact: Mapped[str] = mapped_column(server_default="awaited")
    reason: Mapped[str] = mapped_column(server_default="")
    since: Mapped[datetime] = mapped_column(server_default=func.now())
    heard_at: Mapped[datetime | None]
    facts: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    made_by: Mapped[int] = mapped_column(ForeignKey("change.id"), unique=True)
    altered_by: Mapped[int | None]  # the change that altered it last
    __table_args__ = (
        Index("host_name_taken", func.lower(text("name")), unique=True),
        CheckConstraint("contact in ('heard', 'silent', 'garbled', 'awaited')", name="host_contact"),
    )


class VmRow(Base):
    """A virtual machine; its volumes say that they are part of it. disks: what each is called there; host_id:
    where it is switched on, by which change.
    """

    __tablename__ = "vm"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    cpus: Mapped[int]
    memory_bytes: Mapped[int]
    disks: Mapped[list[Any]] = mapped_column(server_default="[]")
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    made_by: Mapped[int] = mapped_column(ForeignKey("change.id"), unique=True)
    host_id: Mapped[int | None] = mapped_column(ForeignKey("host.id"))
    switched_by: Mapped[int | None]
    resumes: Mapped[int | None]  # the place of the memory with which it goes on next
    template: Mapped[bool] = mapped_column(server_default="false")
    __table_args__ = (Index("vm_name_taken", func.lower(text("name")), unique=True),)


class FileServiceRow(Base):
    """That the file service is switched on; one row, or none."""

    __tablename__ = "file_service"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    name_server: Mapped[str]


class FileAddressRow(Base):
    """An address of the file service, of one version or both. home_id: the node that has it while that can;
    resolved: what was found of its name when that was looked for last.
    """

    __tablename__ = "file_address"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    at: Mapped[list[Any]]
    home_id: Mapped[int]
    resolved: Mapped[list[Any]] = mapped_column(server_default="[]")
    looked_at: Mapped[datetime | None]


class ShareRow(Base):
    """A file system on a volume of its own. rules: who, right and root of each; warn: per cent of the quota;
    used, fill: as its node told last; growth: core.shares.filling, as it was when that last was news.
    """

    __tablename__ = "share"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    volume_id: Mapped[int] = mapped_column(ForeignKey("volume.id", ondelete="cascade"), unique=True)
    address_id: Mapped[int] = mapped_column(ForeignKey("file_address.id"))
    quota: Mapped[int]
    warn: Mapped[int]
    protocols: Mapped[list[Any]]
    rules: Mapped[list[Any]] = mapped_column(server_default="[]")
    used: Mapped[int] = mapped_column(server_default="0")
    fill: Mapped[str] = mapped_column(server_default="well")
    fill_since: Mapped[datetime] = mapped_column(server_default=func.now())
    growth: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    made_by: Mapped[int] = mapped_column(ForeignKey("change.id"), unique=True)
    __table_args__ = (Index("share_name_taken", func.lower(text("name")), unique=True),)


class ShareUserRow(Base):
    """Who signs in to a share. proof: by which nodes know the password; sealed: the password, until somebody
    has seen it.
    """

    __tablename__ = "share_user"
    id: Mapped[int] = mapped_column(primary_key=True)
    share_id: Mapped[int] = mapped_column(ForeignKey("share.id", ondelete="cascade"), index=True)
    name: Mapped[str]
    may: Mapped[str]
    proof: Mapped[str]
    sealed: Mapped[str] = mapped_column(server_default="")
    made_by: Mapped[int] = mapped_column(ForeignKey("change.id"))
    __table_args__ = (UniqueConstraint("share_id", "name", name="share_user_taken"),)


class VmHostRow(Base):
    """That a host runs virtual machines. password: sealed; missing: privileges that its account lacks;
    guests: as it told last; contact, reason, since: as of a node.
    """

    __tablename__ = "vm_host"
    id: Mapped[int] = mapped_column(primary_key=True)
    host_id: Mapped[int] = mapped_column(ForeignKey("host.id"), unique=True)
    url: Mapped[str]
    user_name: Mapped[str]
    password: Mapped[str]
    identity: Mapped[str] = mapped_column(unique=True)
    cpus: Mapped[int]
    memory_bytes: Mapped[int]
    missing: Mapped[list[Any]] = mapped_column(server_default="[]")
    contact: Mapped[str] = mapped_column(server_default="awaited")
    reason: Mapped[str] = mapped_column(server_default="")
    since: Mapped[datetime] = mapped_column(server_default=func.now())
    guests: Mapped[list[Any]] = mapped_column(server_default="[]")
    made_by: Mapped[int] = mapped_column(ForeignKey("change.id"))
    altered_by: Mapped[int | None]
    __table_args__ = (
        CheckConstraint("contact in ('heard', 'silent', 'garbled', 'awaited')", name="vm_host_contact"),
    )


class InitiatorRow(Base):
    """A name by which a host connects; no two hosts have the same."""

    __tablename__ = "initiator"
    id: Mapped[int] = mapped_column(primary_key=True)
    host_id: Mapped[int] = mapped_column(ForeignKey("host.id", ondelete="cascade"), index=True)
    transport: Mapped[str]
    name: Mapped[str] = mapped_column(unique=True)
    __table_args__ = (CheckConstraint("transport in ('iscsi', 'nvme')", name="initiator_transport"),)


class TargetRow(Base):
    """By what a volume is reached. gateways: numbers of the nodes that serve it to hosts."""

    __tablename__ = "target"
    id: Mapped[int] = mapped_column(primary_key=True)
    volume_id: Mapped[int] = mapped_column(ForeignKey("volume.id", ondelete="cascade"), unique=True)
    file_system: Mapped[str] = mapped_column(server_default="none")
    gateways: Mapped[list[Any]] = mapped_column(server_default="[]")
    __table_args__ = (
        CheckConstraint("file_system in ('none', 'ext4', 'xfs', 'gfs2')", name="target_file_system"),
    )


class AttachmentRow(Base):
    """A volume made reachable by a host. mount_at: where it is to be mounted; empty for no place."""

    __tablename__ = "attachment"
    id: Mapped[int] = mapped_column(primary_key=True)
    target_id: Mapped[int] = mapped_column(ForeignKey("target.id", ondelete="cascade"))
    host_id: Mapped[int] = mapped_column(ForeignKey("host.id"), index=True)
    transport: Mapped[str]
    read_only: Mapped[bool] = mapped_column(server_default=text("false"))
    mount_at: Mapped[str] = mapped_column(server_default="")
    secret_of: Mapped[int | None] = mapped_column(ForeignKey("orchestrator.id"), index=True)
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    made_by: Mapped[int] = mapped_column(ForeignKey("change.id"), index=True)
    __table_args__ = (
        UniqueConstraint("target_id", "host_id", name="attached_once"),
        CheckConstraint("transport in ('iscsi', 'nvme')", name="attachment_transport"),
    )


class SecretRow(Base):
    """By which an orchestrator's nodes are let in; forgotten as it is revoked. shown_to: who saw it, and
    shown_at: when; nobody has where that is null.
    """

    __tablename__ = "orchestrator_secret"
    id: Mapped[int] = mapped_column(primary_key=True)
    orchestrator_id: Mapped[int] = mapped_column(
        ForeignKey("orchestrator.id", ondelete="cascade"), index=True
    )
    sealed: Mapped[str]
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    shown_at: Mapped[datetime | None]
    shown_to: Mapped[str] = mapped_column(server_default="")

    @property
    def name(self) -> str:
        """By which it is told from every other: no number is given twice."""
        return f"barn-{self.id}"


class OrchestratorRow(Base):
    """A container orchestrator. token: sealed; identity: of what answered when it was connected; altered: how
    often its address or its token were.
    """

    __tablename__ = "orchestrator"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    url: Mapped[str]
    authority: Mapped[str] = mapped_column(server_default="")
    token: Mapped[str]
    identity: Mapped[str] = mapped_column(server_default="")
    answering: Mapped[str] = mapped_column(server_default="not asked yet")
    reason: Mapped[str] = mapped_column(server_default="")
    since: Mapped[datetime] = mapped_column(server_default=func.now())
    version: Mapped[str] = mapped_column(server_default="")
    missing: Mapped[list[Any]] = mapped_column(server_default="[]")
    namespaces: Mapped[list[Any]] = mapped_column(server_default="[]")  # names of those that it has
    others: Mapped[list[Any]] = mapped_column(
        server_default="[]"
    )  # names of classes that are somebody else's
    altered: Mapped[int] = mapped_column(server_default="0")
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    made_by: Mapped[int] = mapped_column(ForeignKey("change.id"), unique=True)
    altered_by: Mapped[int | None]  # the change that altered it last
    __table_args__ = (
        Index("orchestrator_name_taken", func.lower(text("name")), unique=True),
        CheckConstraint(
            "answering in ('not asked yet', 'heard', 'silent', 'refuses', 'another one')",
            name="orchestrator_answering",
        ),
    )


class StorageClassRow(Base):
    """Under what name claims ask for a policy."""

    __tablename__ = "storage_class"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    policy_id: Mapped[int] = mapped_column(ForeignKey("policy.id"), index=True)
    pool_id: Mapped[int | None] = mapped_column(ForeignKey("pool.id"), index=True)
    reclaim: Mapped[str]
    binding: Mapped[str]
    expands: Mapped[bool]
    file_system: Mapped[str]
    mount_options: Mapped[list[Any]] = mapped_column(server_default="[]")
    is_default: Mapped[bool] = mapped_column(server_default=text("false"))
    made_by: Mapped[int] = mapped_column(ForeignKey("change.id"), unique=True)
    altered_by: Mapped[int | None]
    __table_args__ = (
        Index("one_default_class", "is_default", unique=True, postgresql_where=text("is_default")),
        CheckConstraint("reclaim in ('Delete', 'Retain')", name="storage_class_reclaim"),
        CheckConstraint("binding in ('Immediate', 'WaitForFirstConsumer')", name="storage_class_binding"),
    )


class GrantRow(Base):
    """A policy, made available to a namespace. Limits are of all of its claims; null for none. by_class: by
    the name of a class, its limits.
    """

    __tablename__ = "policy_grant"
    id: Mapped[int] = mapped_column(primary_key=True)
    orchestrator_id: Mapped[int] = mapped_column(ForeignKey("orchestrator.id"))
    namespace: Mapped[str]
    policy_id: Mapped[int] = mapped_column(ForeignKey("policy.id"), index=True)
    bytes: Mapped[int | None]
    claims: Mapped[int | None]
    bytes_a_claim: Mapped[int | None]
    by_class: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    made_by: Mapped[int] = mapped_column(ForeignKey("change.id"), unique=True)
    altered_by: Mapped[int | None]
    __table_args__ = (UniqueConstraint("orchestrator_id", "namespace", "policy_id", name="granted_once"),)


class ClaimRow(Base):
    """A claim of an orchestrator, as it asks, and what became of it (core.claims.kept.KeptClaim)."""

    __tablename__ = "claim"
    id: Mapped[int] = mapped_column(primary_key=True)
    orchestrator_id: Mapped[int] = mapped_column(ForeignKey("orchestrator.id"))
    uid: Mapped[str]
    namespace: Mapped[str]
    name: Mapped[str]
    asked_class: Mapped[str | None]
    bytes: Mapped[int]
    modes: Mapped[list[Any]]
    volume_mode: Mapped[str]
    life: Mapped[str] = mapped_column(server_default="waiting")
    since: Mapped[datetime] = mapped_column(server_default=func.now())
    seen_at: Mapped[datetime] = mapped_column(server_default=func.now())
    promised: Mapped[int] = mapped_column(server_default="0")
    reclaim: Mapped[str] = mapped_column(server_default="Delete")
    policy: Mapped[int] = mapped_column(server_default="0")  # by number; that may be gone by now
    class_name: Mapped[str] = mapped_column(server_default="")
    # as its class had them when it got its volume: that may be withdrawn by now
    file_system: Mapped[str] = mapped_column(server_default="xfs")
    mount_options: Mapped[list[Any]] = mapped_column(server_default="[]")
    by_secret: Mapped[bool] = mapped_column(server_default=text("false"))
    # none of a claim has a volume of another's, also where that is in the bin
    volume_id: Mapped[int | None] = mapped_column(ForeignKey("volume.id", ondelete="set null"), unique=True)
    hindrance: Mapped[str | None]
    sentence: Mapped[str] = mapped_column(server_default="")
    cure: Mapped[str] = mapped_column(server_default="")
    used_by: Mapped[str] = mapped_column(server_default="")
    source_kind: Mapped[str] = mapped_column(
        server_default=""
    )  # of what it is to be filled from, if anything
    source_name: Mapped[str] = mapped_column(server_default="")
    # the volume and the snapshot of it that this comes to; both may be gone by now
    origin_volume: Mapped[int | None]
    origin_snapshot: Mapped[int | None]
    near: Mapped[list[Any]] = mapped_column(server_default="[]")
    __table_args__ = (
        UniqueConstraint("orchestrator_id", "uid", name="claim_kept_once"),
        CheckConstraint("bytes > 0 and promised >= 0", name="claim_bytes"),
    )


class SnapshotRow(Base):
    """What a volume held at one moment; taken_at: none while it is being taken. lost: why it is no more.
    asked_uid, asked_path, fills: core.volumes.snapshots.AskedFor, where an orchestrator asked for it.
    """

    __tablename__ = "snapshot"
    id: Mapped[int] = mapped_column(primary_key=True)
    volume_id: Mapped[int] = mapped_column(ForeignKey("volume.id", ondelete="cascade"))
    number: Mapped[int]  # of those of its volume
    name: Mapped[str]
    taken_at: Mapped[datetime | None]
    size_bytes: Mapped[int] = mapped_column(server_default="0")  # of the volume then
    lost: Mapped[str] = mapped_column(server_default="")
    scheduled: Mapped[bool] = mapped_column(server_default=text("false"))  # it goes by itself again
    made_by: Mapped[int] = mapped_column(ForeignKey("change.id"), index=True)
    orchestrator_id: Mapped[int | None] = mapped_column(ForeignKey("orchestrator.id"), index=True)
    asked_uid: Mapped[str | None]
    asked_path: Mapped[str] = mapped_column(server_default="")
    fills: Mapped[bool] = mapped_column(server_default=text("false"))
    __table_args__ = (
        UniqueConstraint("orchestrator_id", "asked_uid", name="snapshot_asked_once"),
        UniqueConstraint("volume_id", "number", name="snapshot_number"),
        Index("snapshot_name_taken", "volume_id", func.lower(text("name")), unique=True),
    )


class HeatRow(Base):
    """How much the extents that hold a volume are asked for (core.volumes.heat): strips of data in each, and
    [extents] little-endian int64 counts and float32 warmth, packed with zlib.
    """

    __tablename__ = "heat"
    volume_id: Mapped[int] = mapped_column(ForeignKey("volume.id", ondelete="cascade"), primary_key=True)
    at: Mapped[datetime]
    data: Mapped[int]
    seconds: Mapped[float]
    counts: Mapped[bytes] = mapped_column(LargeBinary)
    warmth: Mapped[bytes] = mapped_column(LargeBinary)


class PaceRow(Base):
    """What the consumers of a volume got, lately (core.volumes.pace): seconds it was watched, totals by name,
    and [bounds + 1] little-endian float32 operations by the time they took, packed with zlib.
    """

    __tablename__ = "pace"
    volume_id: Mapped[int] = mapped_column(ForeignKey("volume.id", ondelete="cascade"), primary_key=True)
    at: Mapped[datetime]
    seconds: Mapped[float]
    counted: Mapped[dict[str, float]] = mapped_column(JSONB)
    times: Mapped[bytes] = mapped_column(LargeBinary)
    growth: Mapped[dict[str, Any]] = mapped_column(server_default="{}")  # core.volumes.growth, as it is now


class SampleRow(Base):
    """What a thing did in the seconds before (core.watch.samples), null where nobody knows; times: packed.
    Lies in partitions of an hour.
    """

    __tablename__ = "sample"
    what: Mapped[str] = mapped_column(primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    part: Mapped[str] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(primary_key=True)
    read_bytes: Mapped[float | None]
    written_bytes: Mapped[float | None]
    reads: Mapped[float | None]
    writes: Mapped[float | None]
    held_bytes: Mapped[float | None]
    full: Mapped[float | None]
    short: Mapped[float | None]
    celsius: Mapped[float | None]
    worn: Mapped[float | None]
    defects: Mapped[float | None]
    times: Mapped[bytes] = mapped_column(LargeBinary)
    __table_args__ = (Index("sample_at", "at"), {"postgresql_partition_by": "range (at)"})


class CondensedRow:
    """Samples put together (core.watch.samples.Condensed), by when the time that they stand for begins. Each
    list has a number for each measure, NaN where nothing is known; those at the end of which nothing is
    known are left out.
    """

    what: Mapped[str] = mapped_column(primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    part: Mapped[str] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(primary_key=True)
    count: Mapped[list[int]] = mapped_column(ARRAY(Integer))
    mean: Mapped[list[float]] = mapped_column(ARRAY(REAL))
    least: Mapped[list[float]] = mapped_column(ARRAY(REAL))
    most: Mapped[list[float]] = mapped_column(ARRAY(REAL))
    spread: Mapped[bytes] = mapped_column(LargeBinary)
    times: Mapped[bytes] = mapped_column(LargeBinary)


class MinuteRow(CondensedRow, Base):
    """Lies in partitions of a day."""

    __tablename__ = "sample_minute"
    __table_args__ = (Index("sample_minute_at", "at"), {"postgresql_partition_by": "range (at)"})


class HourRow(CondensedRow, Base):
    """Lies in partitions of a week."""

    __tablename__ = "sample_hour"
    __table_args__ = ({"postgresql_partition_by": "range (at)"},)


class CondensingRow(Base):
    """Up to when samples have been condensed to so many seconds each."""

    __tablename__ = "condensing"
    span: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    until: Mapped[datetime]


class OutageRow(Base):
    """That a node was not heard, or a disk not seen, from when until when; until: none while that lasts."""

    __tablename__ = "outage"
    id: Mapped[int] = mapped_column(primary_key=True)
    what: Mapped[str]
    number: Mapped[int]
    since: Mapped[datetime]
    until: Mapped[datetime | None]
    reason: Mapped[str]
    __table_args__ = (
        CheckConstraint("what in ('node', 'disk')", name="outage_what"),
        Index("outage_of", "what", "number", "since"),
        Index("one_outage", "what", "number", unique=True, postgresql_where=text("until is null")),
    )


class RouteRow(Base):
    """To whom alerts are told, and how. target: an address for mail, or the URL of a webhook; least: the
    severity from which on; usual: for rules that name no route. sealed: the webhook's secret.
    """

    __tablename__ = "route"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    kind: Mapped[str]
    target: Mapped[str]
    least: Mapped[str]
    usual: Mapped[bool]
    sealed: Mapped[str] = mapped_column(server_default="")
    __table_args__ = (
        CheckConstraint("kind in ('mail', 'webhook')", name="route_kind"),
        CheckConstraint("least in ('notice', 'urgent')", name="route_least"),
        Index("route_name_taken", func.lower(text("name")), unique=True),
    )


class MailServerRow(Base):
    """Who takes mail, where a person has said so. encrypted: only over a connection that is (STARTTLS);
    trusted: certificates (PEM) by which the server is known, beside those of this machine; account, sealed:
    to sign in with, empty for no need.
    """

    __tablename__ = "mail_server"
    id: Mapped[int] = mapped_column(primary_key=True)
    host: Mapped[str]
    port: Mapped[int]
    sender: Mapped[str]
    encrypted: Mapped[bool]
    trusted: Mapped[str] = mapped_column(server_default="")
    account: Mapped[str] = mapped_column(server_default="")
    sealed: Mapped[str] = mapped_column(server_default="")
    __table_args__ = (CheckConstraint("id = 1", name="one_mail_server"),)


class WatchRuleRow(Base):
    """core.watch.rules.Rule. bounds: {"way", "limit", "clear", "hold"}; chosen: {"only", "pool",
    "namespace"}, each left out where it chooses nothing; quiet: [from, to] minutes since midnight UTC.
    """

    __tablename__ = "watch_rule"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    of: Mapped[str]
    metric: Mapped[str]
    bounds: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))
    chosen: Mapped[dict[str, Any]]
    absent: Mapped[float | None]
    severity: Mapped[str]
    quiet: Mapped[list[Any] | None] = mapped_column(JSONB(none_as_null=True))
    route_id: Mapped[int | None] = mapped_column(ForeignKey("route.id", ondelete="set null"))
    is_on: Mapped[bool]
    __table_args__ = (
        CheckConstraint("severity in ('notice', 'urgent')", name="rule_severity"),
        Index("watch_rule_name_taken", func.lower(text("name")), unique=True),
    )


class IncidentRow(Base):
    """Alerts that have a cause in common (core.watch.causes). severity: the highest of them; told: the one
    that was told of last, None before. seen_by, seen_at: who said that they see to it, and when;
    silent_until: nothing is told of it before.
    """

    __tablename__ = "incident"
    id: Mapped[int] = mapped_column(primary_key=True)
    cause: Mapped[str]
    number: Mapped[int]
    kind: Mapped[str]
    part: Mapped[str]
    headline: Mapped[str]
    severity: Mapped[str]
    told: Mapped[str | None]
    begun: Mapped[datetime]
    ended: Mapped[datetime | None]
    seen_by: Mapped[str | None]
    seen_at: Mapped[datetime | None]
    silent_until: Mapped[datetime | None]
    __table_args__ = (
        Index(
            "one_incident",
            "cause",
            "number",
            "kind",
            "part",
            unique=True,
            postgresql_where=text("ended is null"),
        ),
    )


class AlertRow(Base):
    """How a rule stands or stood with a thing, from the first sample of a breach (since) on: pending until it
    has fired, over once it is ended. absent: it is that nothing is heard of the thing; why: it ended, where
    no sample ended it. One that never fired is deleted when it ends.
    """

    __tablename__ = "alert"
    id: Mapped[int] = mapped_column(primary_key=True)
    rule_id: Mapped[int] = mapped_column(ForeignKey("watch_rule.id", ondelete="cascade"))
    what: Mapped[str]
    number: Mapped[int]
    part: Mapped[str]
    name: Mapped[str]
    absent: Mapped[bool]
    since: Mapped[datetime]
    fired: Mapped[datetime | None]
    ended: Mapped[datetime | None]
    why: Mapped[str] = mapped_column(server_default="")
    worst: Mapped[float | None]
    incident_id: Mapped[int | None] = mapped_column(ForeignKey("incident.id"), index=True)
    __table_args__ = (
        Index(
            "one_alert",
            "rule_id",
            "what",
            "number",
            "part",
            "absent",
            unique=True,
            postgresql_where=text("ended is null"),
        ),
        Index("alert_of", "what", "number", "since"),
    )


class MessageRow(Base):
    """What is or was sent to whom. mark: tells it from all others, however often it is tried. No route is
    told of the same event of an incident twice.
    """

    __tablename__ = "message"
    id: Mapped[int] = mapped_column(primary_key=True)
    mark: Mapped[str] = mapped_column(server_default=text("gen_random_uuid()"))
    incident_id: Mapped[int | None] = mapped_column(ForeignKey("incident.id"))
    route_id: Mapped[int] = mapped_column(ForeignKey("route.id", ondelete="cascade"))
    event: Mapped[str]
    subject: Mapped[str]
    body: Mapped[str]
    state: Mapped[str] = mapped_column(server_default="waiting")
    tries: Mapped[int] = mapped_column(server_default="0")
    problem: Mapped[str] = mapped_column(server_default="")
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    next_at: Mapped[datetime] = mapped_column(server_default=func.now())
    sent_at: Mapped[datetime | None]
    __table_args__ = (
        CheckConstraint("state in ('waiting', 'sending', 'sent', 'given up')", name="message_state"),
        CheckConstraint("event in ('fired', 'worse', 'over', 'test')", name="message_event"),
        Index(
            "told_once",
            "incident_id",
            "route_id",
            "event",
            unique=True,
            postgresql_where=text("incident_id is not null"),
        ),
        Index("message_due", "next_at", postgresql_where=text("state in ('waiting', 'sending')")),
    )


class SettingAsideRow(Base):
    """Extents of a ply that are placed, and not yet open to consumers: they write there once every node has
    set them aside (held), and has heard so.
    """

    __tablename__ = "setting_aside"
    id: Mapped[int] = mapped_column(primary_key=True)
    ply_id: Mapped[int] = mapped_column(ForeignKey("ply.id", ondelete="cascade"), index=True)
    extents: Mapped[list[Any]]
    held: Mapped[bool] = mapped_column(server_default=text("false"))


class PlacementRow(Base):
    """Disk numbers of a run of a ply's extents: little-endian int32, [extents, strips], row by row; 0 is
    nowhere, -1 never written, and below that room is kept (core.site.to_come).
    """

    __tablename__ = "placement"
    ply_id: Mapped[int] = mapped_column(ForeignKey("ply.id", ondelete="cascade"), primary_key=True)
    chunk: Mapped[int] = mapped_column(primary_key=True)
    disks: Mapped[bytes] = mapped_column(LargeBinary)


class ChangeRow(Base):
    """One wish to alter the site. `asked` is what a person asked of it while it runs, apart from what has
    happened.
    """

    __tablename__ = "change"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]
    params: Mapped[dict[str, Any]]
    about: Mapped[str]  # the thing it makes or mends, for people
    # what its wish names: number by name, by kind of thing
    meant: Mapped[dict[str, Any]] = mapped_column(server_default="{}")
    # of its newest runner; older ones write nothing more
    token: Mapped[int] = mapped_column(server_default="0")
    state: Mapped[str]
    asked: Mapped[str | None]
    actor: Mapped[str]
    reason: Mapped[str] = mapped_column(default="")
    revision: Mapped[int]
    # read where it is asked for: it is long, and a list of changes has no use for it
    preview: Mapped[dict[str, Any]] = mapped_column(deferred=True)
    title: Mapped[str] = mapped_column(Computed("preview ->> 'title'", persisted=True))
    problem: Mapped[str] = mapped_column(default="")
    paused_at: Mapped[
        datetime | None
    ]  # since when something keeps it from going on; none where a person paused it
    tries: Mapped[int] = mapped_column(server_default="0")  # how often it was tried again by itself
    again: Mapped[bool] = mapped_column(server_default=text("false"))  # paused, and tried again by itself
    done: Mapped[int] = mapped_column(default=0)  # bytes
    total: Mapped[int] = mapped_column(default=0)  # bytes; 0 where progress is not in bytes
    rate: Mapped[float | None]  # bytes per second, lately
    rate_cap: Mapped[int | None]  # bytes per second that a person allows it, over what its pool allows
    moved: Mapped[int] = mapped_column(server_default="0")  # bytes copied in all
    # that the copying took, by the nodes' own clocks
    work_seconds: Mapped[float] = mapped_column(server_default="0")
    made_at: Mapped[datetime] = mapped_column(server_default=func.now())
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    __table_args__ = (
        CheckConstraint(
            "state in ('waiting', 'running', 'paused', 'done', 'withdrawn')", name="change_state"
        ),
        CheckConstraint("asked in ('pause', 'withdraw')", name="change_asked"),
        Index("change_open", "state", postgresql_where=text("state in ('waiting', 'running', 'paused')")),
    )


class StepRow(Base):
    __tablename__ = "change_step"
    change_id: Mapped[int] = mapped_column(ForeignKey("change.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    title: Mapped[str]
    detail: Mapped[str] = mapped_column(default="")
    about: Mapped[str] = mapped_column(server_default="")  # the one of several things that it is about
    # what it takes to carry it out; none of what a version recorded that did not plan so
    payload: Mapped[dict[str, Any] | None]
    state: Mapped[str] = mapped_column(default="waiting")
    outcome: Mapped[str] = mapped_column(default="")
    attempt: Mapped[int] = mapped_column(default=1)
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    __table_args__ = (
        CheckConstraint("state in ('waiting', 'running', 'done', 'failed')", name="step_state"),
    )


class TouchRow(Base):
    """A thing that a change touches, by number. Two changes cannot hold the same where one of them wants it
    alone.
    """

    __tablename__ = "touch"
    change_id: Mapped[int] = mapped_column(ForeignKey("change.id"), primary_key=True)
    what: Mapped[str] = mapped_column(primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    alone: Mapped[bool]
    held: Mapped[bool] = mapped_column(server_default=text("false"))
    # for a step, not for the whole change
    passing: Mapped[bool] = mapped_column(server_default=text("false"))
    turn: Mapped[int] = mapped_column(Identity())  # who wanted it first has it first
    __table_args__ = (
        ExcludeConstraint(
            ("what", "="),
            ("number", "="),
            # Alone overlaps everything; shared overlaps nothing but what is alone.
            (
                text(
                    "(case when alone then '(,)'::int8range else int8range(change_id, change_id, '[]') end)"
                ),
                "&&",
            ),
            where=text("held"),
            using="gist",
            name="touched_by_one",
        ),
    )


class RecordRow(Base):
    """Something that was altered besides what changes record of themselves, by whom and when."""

    __tablename__ = "record"
    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(server_default=func.now())
    actor: Mapped[str]
    what: Mapped[str]
    change_id: Mapped[int | None] = mapped_column(ForeignKey("change.id"))
    __table_args__ = (Index("record_change", "change_id"),)


class DutyRow(Base):
    """What one of the watch's duties has cost since the work process began, in seconds, and how its last turn
    went.
    """

    __tablename__ = "duty"
    name: Mapped[str] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(server_default=func.now())
    every: Mapped[float]
    turns: Mapped[int]
    seconds: Mapped[float]
    processor_seconds: Mapped[float]
    failures: Mapped[int]
    problem: Mapped[str]


class MoveRow(Base):
    """One strip on its way to a disk. Its room there is taken from `waiting` on; the placement changes when
    it is copied.
    """

    __tablename__ = "move"
    id: Mapped[int] = mapped_column(primary_key=True)
    change_id: Mapped[int] = mapped_column(ForeignKey("change.id"))
    ply_id: Mapped[int] = mapped_column(ForeignKey("ply.id"))
    extent: Mapped[int]
    strip: Mapped[int]
    leaves: Mapped[int]  # disk number, 0 where it lay nowhere
    to_disk: Mapped[int] = mapped_column(ForeignKey("disk.id"))
    part: Mapped[str]  # the step it belongs to: copy or level
    # it lay well, and goes so that another finds a place
    makes_room: Mapped[bool] = mapped_column(default=False)
    order_id: Mapped[str | None]
    maker_id: Mapped[int | None] = mapped_column(ForeignKey("node.id"))  # that carries the order out
    state: Mapped[str] = mapped_column(default="waiting")
    __table_args__ = (
        CheckConstraint(
            "state in ('waiting', 'ordered', 'copied', 'dropped', 'withdrawn')", name="move_state"
        ),
        Index(
            "one_move_per_strip",
            "ply_id",
            "extent",
            "strip",
            unique=True,
            postgresql_where=text("state in ('waiting', 'ordered')"),
        ),
        Index("move_open", "change_id", "state"),
    )
