"""Keeping watch: asks agents, notices silence and return, and starts what mends. One process at a time does it."""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import psycopg
import structlog
from sqlalchemy import extract, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from foldbarn.changes.cluster import believers
from foldbarn.core.counters import rate
from foldbarn.core.errors import BarnError, NotPossible, Unreachable
from foldbarn.core.hardware import Inventory
from foldbarn.core.lamps import UNWATCHED_SECONDS
from foldbarn.core.levelling import LEVEL_TOLERANCE, imbalance, plan_levelling
from foldbarn.core.reading import read_counters, read_inventory, read_written
from foldbarn.core.rebuild import crowded_strips, plan_rebuild
from foldbarn.core.roles import spare_for
from foldbarn.core.site import Contact, Role
from foldbarn.core.units import say_count
from foldbarn.links.agents import Agent, Garbled, ask_reports, read_witness
from foldbarn.links.mail import send_mail
from foldbarn.services.changes import BY_ITSELF, carry_out, try_again
from foldbarn.services.intake import node_is_back, read_report
from foldbarn.settings import settings
from foldbarn.store import changes as kept
from foldbarn.store import moves
from foldbarn.store.database import announce, is_disconnect, tell, transaction, wait_for_database
from foldbarn.store.intake import take_inventory
from foldbarn.store.tables import (
    ChangeRow,
    ClusterRow,
    DiskRow,
    DiskWorkRow,
    NodeRow,
    PoolRow,
    SiteRow,
    VolumeRow,
)
from foldbarn.store.views import current_view

log = structlog.get_logger()
WATCH_LOCK = 0x0A7C4
TICK_SECONDS = 0.25
WRITTEN_SECONDS = 5.0  # between two sums of what consumers have written
WRITTEN_STEP = 0.01  # of a volume; less is not worth a new picture of the site
PRUNE_SECONDS, KEEP_MOVES_SECONDS = (
    300.0,
    3600.0,
)  # between two prunings; how long moves of an ended change are kept
JUDGE_SECONDS = 1.0  # between two looks at what time alone brings about
WITNESS_SECONDS = 2.0  # between two questions to the witness
CLOCK_STEP = 0.1  # seconds; smaller drifts are within what the question itself takes


Counters = dict[str, tuple[int, int]]  # bytes read and written so far, by serial number


@dataclass(slots=True)
class _Pause:
    """When a node is asked next, and how many questions in a row it left unanswered."""

    next_at: float = 0.0
    failures: int = 0


@dataclass(slots=True)
class Watch:
    """The watch's own memory: only when to ask whom next. Everything found out is in the database."""

    pauses: dict[int, _Pause] = field(default_factory=dict)
    witness_at: float = 0.0  # when the witness is asked next
    written_at: float = 0.0  # when what consumers have written is summed up next
    prune_at: float = 0.0  # when the moves of ended changes are forgotten next
    judge_at: float = 0.0  # when it judges next, though nothing has changed: time passes, too
    # What the last judgement was made from; the same again is not judged twice.
    judged: tuple[object, ...] = ()
    revision: int = -1  # of the site, when the agents' addresses were read
    agents: dict[int, str] = field(default_factory=dict)  # addresses, by number of the node

    async def run(self) -> None:
        """Until cancelled. Another process that holds the watch is waited for."""
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(
                    settings().plain_database_url, autocommit=True
                ) as holder:
                    while not await self._holds(holder):
                        await asyncio.sleep(1.0)
                    while True:
                        await holder.execute("select 1")  # the lock is ours only while its connection lives
                        await self.look()
                        await asyncio.sleep(TICK_SECONDS)
            except (psycopg.Error, OSError) as error:
                log.info("watch lost the database", error=str(error)[:120])
                await asyncio.sleep(0.5)

    async def _holds(self, holder: psycopg.AsyncConnection[Any]) -> bool:
        row = await (await holder.execute("select pg_try_advisory_lock(%s)", (WATCH_LOCK,))).fetchone()
        return bool(row and row[0])

    async def look(self) -> None:
        """One round: ask the nodes whose turn it is, then judge, at least every second and after whatever has changed."""
        try:
            revision = await asyncio.to_thread(_revision)
            if revision != self.revision:
                self.agents, self.revision = await asyncio.to_thread(_agents), revision
                self.judge_at = 0.0
            answers = await ask_reports(self._due())
            if time.monotonic() >= self.witness_at:
                await asyncio.to_thread(note_witness)
                self.witness_at = time.monotonic() + WITNESS_SECONDS
            if answers:
                await asyncio.to_thread(self._take, answers)
            if time.monotonic() >= self.written_at:
                await asyncio.to_thread(sum_written)
                self.written_at = time.monotonic() + WRITTEN_SECONDS
            if time.monotonic() >= self.prune_at:
                await asyncio.to_thread(prune)
                self.prune_at = time.monotonic() + PRUNE_SECONDS
            if time.monotonic() >= self.judge_at:
                self.judge_at = time.monotonic() + JUDGE_SECONDS
                await asyncio.to_thread(self._judge)
                await asyncio.to_thread(self._tell)
                await asyncio.to_thread(note_watched)
        except Exception as error:
            if not is_disconnect(error):
                log.exception("a round of the watch failed")
                await asyncio.sleep(1.0)
            else:
                await asyncio.to_thread(wait_for_database)

    def _judge(self) -> None:
        hand_over_boxes()
        give_up()
        send_away()
        try_again()
        with transaction() as session:
            looks = _looks(session)
            busy = _busy_pools(session)
            open_count = session.scalar(
                select(func.count(ChangeRow.id)).where(ChangeRow.kind == "change-role", OPEN)
            )
            facts = (
                session.scalar(select(SiteRow.revision)),
                tuple(looks.items()),
                frozenset(busy),
                open_count,
            )
        if facts != self.judged:
            start_mending(busy)
            call_in_spares()
            self.judged = facts

    def _tell(self) -> None:
        """Mails that another keeper leads, or that none does. What was last told is in the database, so a restart tells nothing twice."""
        with transaction() as session:
            row = session.get(ClusterRow, 1)
            if row is None or row.forming or not row.mail.get("to"):
                return
            mail = dict(row.mail)
        cluster = current_view().cluster
        if cluster is None or mail.get("told") == cluster.leader:
            return
        with transaction() as session:
            session.get_one(ClusterRow, 1).mail = mail | {"told": cluster.leader}
        if "told" not in mail:
            return  # the forming told of its first leader itself
        subject = (
            f"{cluster.leader} leads {cluster.name}" if cluster.leader else f"{cluster.name} has no leader"
        )
        try:
            send_mail(
                mail["to"], subject, f"It led before: {mail['told'] or 'nobody'}. Term {cluster.term}.\n"
            )
        except Unreachable as error:
            log.info("mail not taken", why=error.sentence)

    def _due(self) -> dict[int, str]:
        now = time.monotonic()
        return {
            n: url for n, url in self.agents.items() if self.pauses.setdefault(n, _Pause()).next_at <= now
        }

    def _take(self, answers: dict[int, dict[str, Any] | Unreachable]) -> None:
        now = time.monotonic()
        heard: dict[int, Counters] = {}
        for number, answer in answers.items():
            pause = self.pauses[number]
            if isinstance(answer, Unreachable):
                pause.failures += 1
                pause.next_at = now + min(
                    settings().longest_pause_seconds, settings().poll_seconds * 1.5**pause.failures
                )
                note_failure(number, answer)
            else:
                pause.failures, pause.next_at = 0, now + settings().poll_seconds
                try:
                    heard[number] = note_report(number, answer)
                except BarnError as error:
                    note_failure(number, Garbled(error.sentence))
        if heard:
            note_counters(heard)
            with transaction() as session:
                session.execute(update(NodeRow).where(NodeRow.id.in_(heard)).values(heard_at=func.now()))
                tell(session, "work")


def note_watched() -> None:
    """Notes that everything was looked at just now, so that a page can tell when nobody does, and when somebody does again."""
    with transaction() as session:
        away = session.scalar(select(extract("epoch", func.now() - SiteRow.watched_at)))
        session.execute(update(SiteRow).values(watched_at=func.now()))
        if away is not None and away > UNWATCHED_SECONDS:
            log.info("watched again", after=float(away))
            tell(session, "site")


def _revision() -> int:
    with transaction() as session:
        return session.scalars(select(SiteRow.revision)).one()


def _agents() -> dict[int, str]:
    """Address of each node's agent, by the node's number."""
    with transaction() as session:
        known = session.execute(select(NodeRow.id, NodeRow.agent_url).where(NodeRow.agent_url != ""))
        return {number: url for number, url in known}


OPEN = ChangeRow.state.in_(("waiting", "running", "paused"))


def _busy_pools(session: Session) -> set[str]:
    """Names of pools whose strips some open change moves: a rebuild, or a drain that has begun and is not paused."""
    busy = {row.about for row in kept.open_of_kind(session, "rebuild")}
    return busy | {name.partition(":")[2] for name in kept.running_steps(session, "drain:")}


def note_failure(number: int, error: Unreachable) -> None:
    """Records that a node was not heard; silence counts only after it has lasted."""
    with transaction() as session:
        node = session.get_one(NodeRow, number)
        contact = Contact.GARBLED if isinstance(error, Garbled) else Contact.SILENT
        since_heard = (
            (datetime.now(UTC) - node.heard_at).total_seconds()
            if node.heard_at
            else settings().silent_seconds
        )
        # Judged to within half a round: a question that ran out a moment too early would else cost another one.
        if (
            contact == Contact.SILENT
            and since_heard < settings().silent_seconds - settings().poll_seconds / 2
        ):
            return
        if node.contact != contact or node.reason != error.sentence:
            if node.contact == Contact.HEARD:
                node.since = node.heard_at or datetime.now(UTC)
            node.contact, node.reason = contact.value, error.sentence
            log.info("node not heard", node=node.name, why=error.sentence)
            announce(session, "site")


def note_report(number: int, report: dict[str, Any]) -> Counters:
    """Records a report that made sense and returns its disks' counters; asks for the inventory when it has changed.

    Raises NotPossible, Unreachable.
    """
    version, counters = read_report(report), read_counters(report)
    with transaction() as session:
        node = session.get_one(NodeRow, number)
        if version == node.inventory_version:
            _note_report(session, node, report, None)
            return counters
        url = node.agent_url
    inventory = read_inventory(Agent(url).inventory())  # which may take a while: nothing is locked meanwhile
    with transaction() as session:
        node = session.get_one(NodeRow, number)
        _note_report(session, node, report, inventory)
        node.inventory_version = version
    return counters


def _note_report(
    session: Session, node: NodeRow, report: dict[str, Any], inventory: Inventory | None
) -> None:
    changed = node.contact != Contact.HEARD or inventory is not None
    if node.contact != Contact.HEARD:
        log.info("node is back", node=node.name)
        if node.given_up or node.owes:
            node_is_back(session, node)
        node.contact, node.reason, node.given_up, node.owes = Contact.HEARD.value, "", False, False
        node.since = datetime.now(UTC)
    if inventory is not None:
        if inventory.node.casefold() != node.agent_name.casefold():
            raise NotPossible(f"It says it is {inventory.node}.")
        take_inventory(session, node, inventory)
    _note_written(node, report)
    if _note_bearings(node, report) or changed:
        announce(session, "site")


def note_witness() -> None:
    """Asks the cluster's witness, where there is one, and records when it falls silent or is heard again."""
    with transaction() as session:
        row = session.get(ClusterRow, 1)
        if row is None or not row.witness_url:
            return
        url, name, before = row.witness_url, row.witness, row.witness_silent
    try:
        found = read_witness(url)
        why = "" if found.casefold() == name.casefold() else f"What answers there calls itself {found}."
    except Unreachable as error:
        why = error.sentence
    if why != before:
        log.info("witness", name=name, heard=not why, why=why)
        with transaction() as session:
            session.execute(update(ClusterRow).values(witness_silent=why))
            announce(session, "site")


def _note_bearings(node: NodeRow, report: dict[str, Any]) -> bool:
    """What a node says of its clock and its cluster. True where that is worth a new picture of the site."""
    changed = False
    offset = report.get("clock_offset")
    if isinstance(offset, float) and (
        node.clock_offset is None or abs(offset - node.clock_offset) > CLOCK_STEP
    ):
        node.clock_offset, changed = round(offset, 2), True
    says = report.get("cluster")
    if isinstance(says, dict):
        says = {k: says[k] for k in ("name", "keeper", "leader", "term", "address") if k in says}
        if says != node.says:
            node.says, changed = says, True
    return changed


def _note_written(node: NodeRow, report: dict[str, Any]) -> None:
    """Keeps what a node says its consumers have written, by volume, where it has changed by a hundredth."""
    found = read_written(report)
    if found is None:
        return
    new, old = {str(volume): written for volume, written in found.items()}, node.written
    if new.keys() != old.keys() or any(
        abs(new[v] - old[v]) > WRITTEN_STEP * max(new[v], old[v]) for v in new
    ):
        node.written = new


def sum_written() -> None:
    """Brings each volume's written bytes up to what all nodes have said, copies counted once."""
    with transaction() as session:
        totals: Counter[int] = Counter()
        for (found,) in session.execute(select(NodeRow.written).where(NodeRow.written != {})):
            totals.update({int(v): b for v, b in found.items()})
        changed = False
        for volume in session.scalars(select(VolumeRow)):
            written = min(totals[volume.id] // volume.copies, volume.size_bytes)
            if abs(written - volume.written) > WRITTEN_STEP * volume.size_bytes:
                volume.written, changed = written, True
        if changed:
            announce(session, "site")


def note_counters(counters: dict[int, Counters]) -> None:
    """Keeps what the disks of nodes (by number) have read and written, and how fast since they were last asked.

    Most disks of a large site do nothing most of the time: those are only marked as asked.
    """
    with transaction() as session:
        now = datetime.now(UTC)
        known = session.execute(
            select(
                DiskRow.id,
                DiskRow.node_id,
                DiskRow.serial,
                DiskWorkRow.at,
                DiskWorkRow.read_bytes,
                DiskWorkRow.written_bytes,
                DiskWorkRow.read_rate,
                DiskWorkRow.write_rate,
            )
            .outerjoin(DiskWorkRow, DiskWorkRow.disk_id == DiskRow.id)
            .where(DiskRow.node_id.in_(counters))
        )
        rows, idle = [], []
        for disk, node, serial, at, read_before, written_before, *rates in known:
            if serial not in counters[node]:
                continue
            read, written = counters[node][serial]
            if (read_before, written_before, *rates) == (read, written, 0.0, 0.0):
                idle.append(disk)
                continue
            seconds = (now - at).total_seconds() if at else 0.0
            rows.append(
                {
                    "disk_id": disk,
                    "at": now,
                    "read_bytes": read,
                    "written_bytes": written,
                    "read_rate": rate(read_before, read, seconds) if at else None,
                    "write_rate": rate(written_before, written, seconds) if at else None,
                }
            )
        if idle:
            session.execute(update(DiskWorkRow).where(DiskWorkRow.disk_id.in_(idle)).values(at=now))
        if rows:
            session.execute(_KEEP_WORK, rows)


_WORK = insert(DiskWorkRow)
_KEEP_WORK = _WORK.on_conflict_do_update(
    index_elements=["disk_id"],
    set_={c: _WORK.excluded[c] for c in ("at", "read_bytes", "written_bytes", "read_rate", "write_rate")},
)


def hand_over_boxes() -> None:
    """A disk in an enclosure whose carrying node is not heard is carried by another node that sees it; its strips stay where they are."""
    with transaction() as session:
        silent = select(NodeRow.id).where(NodeRow.contact.in_(("silent", "garbled")))
        rows = list(
            session.scalars(
                select(DiskRow).where(DiskRow.enclosure_id.is_not(None), DiskRow.node_id.in_(silent))
            )
        )
        if not rows:
            return
        heard = {n.name: n.id for n in session.scalars(select(NodeRow).where(NodeRow.contact == "heard"))}
        moved = 0
        for row in rows:
            carrier = next(
                (heard[name] for name in (p.partition(":")[0] for p in row.paths) if name in heard), None
            )
            if carrier is not None:
                row.node_id, moved = carrier, moved + 1
        if moved:
            log.info("disks in enclosures handed over", disks=moved)
            announce(session, "site")


def give_up() -> None:
    """Marks what has been away longer than the grace time: what it held is to be rebuilt elsewhere."""
    with transaction() as session:
        grace = session.scalars(select(SiteRow.grace_seconds)).one()
        cutoff = func.now() - func.make_interval(0, 0, 0, 0, 0, 0, grace)
        nodes = session.execute(
            update(NodeRow)
            .where(
                NodeRow.contact.in_(("silent", "garbled")),
                NodeRow.given_up.is_(False),
                NodeRow.since < cutoff,
            )
            .values(given_up=True)
        )
        disks = session.execute(
            update(DiskRow)
            .where(DiskRow.present.is_(False), DiskRow.given_up.is_(False), DiskRow.missing_since < cutoff)
            .values(given_up=True)
        )
        if nodes.rowcount or disks.rowcount:  # type: ignore[attr-defined]
            announce(session, "site")


def send_away() -> None:
    """Has nodes leave their cluster that were counted out while they were not heard, and still believe that they belong."""
    with transaction() as session:
        found = [(row.name, row.agent_url, change, name) for row, change, name in believers(session)]
    for node, url, change, cluster in found:
        try:
            Agent(url).send({"id": f"away-{change}-{node}", "kind": "leave", "cluster": cluster})
            log.info("sent away", node=node, cluster=cluster)
        except BarnError as error:  # it is asked again at the next look
            log.info("not sent away", node=node, why=error.sentence)


def prune() -> None:
    """Forgets the single moves of changes that ended a while ago: what they moved in all stands with the change."""
    with transaction() as session:
        forgotten = moves.forget_ended(session, KEEP_MOVES_SECONDS)
    if forgotten:
        log.info("moves forgotten", moves=forgotten)


def call_in_spares() -> None:
    """Has a spare take the role of each pooled disk that is given up, where one of its media class is at hand and none stands in for it yet."""
    view = current_view()
    with transaction() as session:
        taken = set(session.scalars(select(DiskRow.stands_in_for).where(DiskRow.stands_in_for.is_not(None))))
        asked = session.scalars(select(ChangeRow.params).where(ChangeRow.kind == "change-role", OPEN)).all()
    called = {name for params in asked for name in params["disks"]}
    helped = {params.get("stands_in_for") for params in asked}
    for row, disk in enumerate(view.disks):
        if (
            disk.role not in (Role.CAPACITY, Role.CACHE)
            or not view.disk_given_up[row]
            or view.disk_ready[row]
            or disk.retiring
        ):
            continue
        if disk.number in taken or disk.name in helped:
            continue
        spare = spare_for(view, disk, called)
        if spare is not None:
            called.add(spare.name)
            why = f"{disk.name} has been away for longer than the grace time"
            params = {
                "disks": [spare.name],
                "role": disk.role.value,
                "reason": f"stands in for {disk.name}",
                "stands_in_for": disk.name,
            }
            try:
                carry_out("change-role", params, None, actor=BY_ITSELF, reason=f"{why}.")
            except BarnError as error:  # it must not keep the watch from its other duties
                log.info("spare not called in", spare=spare.name, why=error.sentence)


def _looks(session: Session) -> dict[str, str]:
    """Why each pool is to be looked at, by its name; empty where nobody asked."""
    return {name: why for name, why in session.execute(select(PoolRow.name, PoolRow.look_reason))}


def start_mending(busy: set[str]) -> None:
    """Starts a rebuild-and-level for each pool that has something to mend and none under way."""
    view = current_view()
    with transaction() as session:
        # Read after the view: what the view shows to have joined has then also told why it is to be looked at.
        looks = _looks(session)
    for pool in view.pools:
        if pool.forming or pool.name in busy:
            continue
        reason = ""
        rows = view.in_pool(pool)
        if looks.get(pool.name):
            reason = f"{looks[pool.name]}."
        elif (view.disk_given_up[rows] | ~view.disk_ready[rows]).any():
            lost = len(plan_rebuild(view, pool, seed=1))
            reason = (
                f"{lost:,} strips lie on disks that have been away for longer than the grace time."
                if lost
                else ""
            )
        elif crowded := sum(int(crowded_strips(view, v).sum()) for v in view.volumes_of(pool)):
            apart = len(plan_rebuild(view, pool, seed=1))
            reason = (
                f"{say_count(crowded, 'strip')} share a domain with another of their extent." if apart else ""
            )
        elif (
            not view.disk_retiring[rows].any()
            and imbalance(view, pool) > LEVEL_TOLERANCE
            and len(plan_levelling(view, pool, seed=1))
        ):
            reason = "Its disks are unevenly used."
        elif any((v.placement == 0).any() for v in view.volumes_of(pool)):
            reason = "Some of its strips lie nowhere."
        if reason:
            carry_out("rebuild", {"pool": pool.name}, None, actor=BY_ITSELF, reason=reason)
