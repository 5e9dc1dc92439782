"""Keeping watch: asks agents, notices silence and return, and starts what mends. One process at a time does
it.
"""

from __future__ import annotations

import asyncio
import random
import time
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from typing import Any

import psycopg
import structlog

from foldbarn.changes.engine.mailing import send_mail
from foldbarn.changes.kinds.cluster.believers import believers
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import BarnError, NotPossible, Unreachable
from foldbarn.core.machines.hardware import Inventory
from foldbarn.core.machines.reading import (
    read_compressed,
    read_counters,
    read_files,
    read_inventory,
    read_serves,
    read_terms,
    read_wants,
    read_written,
)
from foldbarn.core.moving.levelling import LEVEL_TOLERANCE, imbalance, plan_levelling
from foldbarn.core.moving.rebuild import crowded_strips, plan_rebuild
from foldbarn.core.names import folded
from foldbarn.core.pools.only_on import stray_strips
from foldbarn.core.pools.roles import spare_for
from foldbarn.core.site import NOWHERE, Contact, Pool, Role, SiteView
from foldbarn.core.units import say_count
from foldbarn.core.watch.lamps import UNWATCHED_SECONDS
from foldbarn.core.watch.silence import silence_of
from foldbarn.links.agents import NOTHING_NEW, QUICK_SECONDS, Agent, Garbled, Questions, Report, read_witness
from foldbarn.services.alerts.telling import SEND_SECONDS, sending
from foldbarn.services.bins import empty_bins
from foldbarn.services.changes import carry_out, try_again
from foldbarn.services.copies import let_copies_stand_alone
from foldbarn.services.duties import Duty, Round
from foldbarn.services.giving import RoomGiver
from foldbarn.services.heat import HeatTaker
from foldbarn.services.hosts import HostTaker, move_gateways
from foldbarn.services.intake import node_is_back, read_report
from foldbarn.services.limits import tell_files, tell_limits, tell_marks, tell_targets
from foldbarn.services.samples import Sampler, sampling
from foldbarn.services.schedules import go_by_schedules
from foldbarn.services.shares import find_names, move_homes, sum_used
from foldbarn.services.tiers import move_by_heat
from foldbarn.services.vm_hosts import hear_vm_hosts
from foldbarn.settings import settings
from foldbarn.store import alerts, disks, moves, nodes, outages, pools, records, watching
from foldbarn.store import changes as kept
from foldbarn.store import cluster as store_cluster
from foldbarn.store import site as store_site
from foldbarn.store.database import (
    Session,
    announce,
    is_disconnect,
    tell,
    transaction,
    wait_out,
)
from foldbarn.store.intake import take_inventory
from foldbarn.store.outages import Out
from foldbarn.store.tables import NodeRow
from foldbarn.store.views import current_view

log = structlog.get_logger()
WATCH_LOCK = 0x0A7C4
TICK_SECONDS = 0.25
LATELY_SECONDS = 10.0  # a node that was heard within this long ago is one of those that are heard
ANSWERS_SECONDS = 0.5  # how long a round waits for answers; those that come later are taken by another
WRITTEN_STEP = 0.01  # of a volume; less is not worth a new picture of the site
KEEP_MOVES_SECONDS = 3600.0  # how long moves of an ended change are kept
# A clock that goes otherwise by so many seconds is news: no reading is less sure than that.
CLOCK_STEP = QUICK_SECONDS / 2
COUNT_SECONDS = 2.0  # between two records of what disks have read and written
WHOLE_SECONDS = 30.0  # between two whole reports of a node that has nothing new
SOON_SECONDS = 5.0  # the same, while its clock is not known yet
PICTURE_SHARE = 20  # of the time between two pictures for the sake of clocks alone, one part goes into them
SAMPLE_LOOK_SECONDS = 0.5  # between two looks at whether it is time for samples
JUDGE_SECONDS = 1.0  # between two looks at what time alone brings about

Counters = dict[str, tuple[int, int]]  # bytes read and written so far, by serial number


@dataclass(frozen=True, slots=True)
class Noted:
    """What a report says that is worth a place in the database: the same again, within the steps that count,
    is no news.
    """

    version: str
    clock_offset: float | None
    clock_error: float
    says: dict[str, Any]
    written: dict[str, int] | None
    wants: dict[str, Any]
    terms: str | None
    serves: tuple[str, list[list[str]]] | None
    compressed: dict[str, list[int]]
    files: tuple[str, dict[str, Any]] | None

    def covers(self, other: Noted) -> bool:
        mine = self.version, self.says, self.wants, self.terms, self.serves
        same = mine == (other.version, other.says, other.wants, other.terms, other.serves)
        return (
            same
            and other.keeps_time(self.clock_offset)
            and (other.written is None or not _grown(self.written or {}, other.written))
            and not _grown(_takes(self.compressed), _takes(other.compressed))
            and self.files == other.files
        )

    def keeps_time(self, known: float | None) -> bool:
        """Whether what it says of the clock may be the same as is known: it is no surer than its question
        took, and a thousand clocks that seem to jump are a thousand pictures of the site.
        """
        if self.clock_offset is None:
            return True
        return known is not None and abs(self.clock_offset - known) <= CLOCK_STEP + self.clock_error


@dataclass(slots=True)
class _Pause:
    """When a node is asked next, how many questions in a row it left unanswered, and what its last report was
    known by.
    """

    next_at: float = 0.0
    heard_at: float = 0.0  # when it answered last
    failures: int = 0
    tag: str = ""
    whole_at: float = 0.0  # when it is asked for a whole report again, of its clock too
    # what of its last report is in the database; none where that is to be looked at again
    noted: Noted | None = None

    def tells_time(self) -> bool:
        """Whether its clock is known: an answer may have been too slow to tell it."""
        return self.noted is not None and self.noted.clock_offset is not None


GIVE_SECONDS = 1.0  # between two looks at who wants room


def _giving() -> Round:
    """Of each watch its own: it remembers of which picture of the site nobody wanted any."""
    return Round((Duty("set room aside for what is about to be written", GIVE_SECONDS, RoomGiver().give),))


@dataclass(slots=True)
class Watch:
    """The watch's own memory: only when to ask whom next. Everything found out is in the database."""

    pauses: dict[int, _Pause] = field(default_factory=dict)
    questions: Questions = field(default_factory=Questions)
    revision: int = -1  # of the site, when the agents' addresses were read
    agents: dict[int, str] = field(default_factory=dict)  # addresses, by number of the node
    counters: dict[int, Counters] = field(default_factory=dict)  # newest of each node, not kept yet
    count_at: float = 0.0  # when counters are kept next
    heat: HeatTaker = field(default_factory=HeatTaker)
    heat_at: float = 0.0  # when nodes are asked next what is asked of their extents
    give_at: float = 0.0  # when room is set aside next for what is about to be written
    judge_at: float = 0.0  # when the duties are looked through next
    put_off: set[int] = field(default_factory=set)  # nodes of whose clocks no page has been told yet
    put_off_until: float = 0.0
    round: Round = field(default_factory=lambda: Round(duties_of_the_watch()))
    giving: Round = field(default_factory=_giving)
    sampling: Round = field(default_factory=lambda: sampling(Sampler()))
    sample_at: float = 0.0  # when samples are looked to next
    sending: Round = field(default_factory=sending)
    send_at: float = 0.0  # when it is looked next at what is to be sent
    hosts: HostTaker = field(default_factory=HostTaker)

    async def run(self) -> None:
        """Until cancelled. Another process that holds the watch is waited for."""
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(
                    settings().plain_database_url, autocommit=True
                ) as holder:
                    while not await self._holds(holder):
                        await asyncio.sleep(1.0)
                    self.questions.forget()  # from before the lock was lost
                    self.hosts.forget()
                    await self._keep(holder)
            except (psycopg.Error, OSError) as error:
                log.info("watch lost the database", error=str(error)[:120])
                await asyncio.sleep(0.5)

    async def _keep(self, holder: psycopg.AsyncConnection[Any]) -> None:
        """Keeps watch as long as the holder's connection lives. The duties have their turns beside the
        hearing: while they think of twelve thousand disks, a node that falls silent is noticed all the same.
        """
        thinking = asyncio.create_task(asyncio.sleep(0))
        counting = asyncio.create_task(asyncio.sleep(0))
        giving = asyncio.create_task(asyncio.sleep(0))
        hosts = asyncio.create_task(asyncio.sleep(0))
        sampling = asyncio.create_task(asyncio.sleep(0))
        sending = asyncio.create_task(asyncio.sleep(0))
        try:
            while True:
                # The lock is ours only while its connection lives, and this tells in the same breath.
                found = await holder.execute("select revision from site")
                row = await found.fetchone()
                await self._hear(int(row[0]) if row else 0)
                if thinking.done() and self._due():
                    thinking = asyncio.create_task(self._think())
                if counting.done() and time.monotonic() >= self.heat_at:
                    counting = asyncio.create_task(self._count())
                if giving.done() and time.monotonic() >= self.give_at:
                    giving = asyncio.create_task(self._give())
                if sampling.done() and time.monotonic() >= self.sample_at:
                    sampling = asyncio.create_task(self._sample())
                if sending.done() and time.monotonic() >= self.send_at:
                    sending = asyncio.create_task(self._send())
                if hosts.done():
                    hosts = asyncio.create_task(self._hear_hosts())
                await asyncio.sleep(TICK_SECONDS)
        finally:
            # Whoever keeps watch next is not to find us at it still.
            await asyncio.shield(asyncio.gather(thinking, counting, giving, sampling, sending, hosts))

    async def _holds(self, holder: psycopg.AsyncConnection[Any]) -> bool:
        row = await (await holder.execute("select pg_try_advisory_lock(%s)", (WATCH_LOCK,))).fetchone()
        return bool(row and row[0])

    async def look(self, revision: int) -> None:
        """One round: ask the nodes whose turn it is, then give the duties their turns, at least every second
        and after whatever has changed.
        """
        await self._hear(revision)
        await self._hear_hosts()
        if self._due():
            await self._think()

    async def _hear(self, revision: int) -> None:
        async with _going_on("hearing the nodes"):
            if revision != self.revision:
                self._know(await asyncio.to_thread(_agents))
                self.revision, self.judge_at = revision, 0.0
            self._ask()
            if answers := await self.questions.answers(ANSWERS_SECONDS):
                await asyncio.to_thread(self._take, answers)
            if self.put_off and time.monotonic() >= self.put_off_until:
                await asyncio.to_thread(self._tell_clocks)

    async def _hear_hosts(self) -> None:
        """Beside the nodes: nothing that hosts do or leave undone keeps a node from being heard."""
        async with _going_on("hearing the hosts"):
            if self.hosts.revision != self.revision:
                await asyncio.to_thread(self.hosts.know, self.revision)
            if answers := await self.hosts.hear():
                await asyncio.to_thread(self.hosts.take, answers)

    def _due(self) -> bool:
        return time.monotonic() >= self.judge_at

    async def _think(self) -> None:
        async with _going_on("giving the duties their turns"):
            began = time.monotonic()
            self.judge_at = began + JUDGE_SECONDS
            await asyncio.to_thread(self._judge)
            self.put_off_until = began + PICTURE_SHARE * (time.monotonic() - began)

    async def _count(self) -> None:
        """Beside the duties: a node that is slow to tell holds none of them up."""
        async with _going_on("asking what is asked of extents"):
            self.heat_at = time.monotonic() + settings().heat_seconds
            if not await asyncio.to_thread(self.heat.take):
                self.heat_at = time.monotonic() + JUDGE_SECONDS  # nobody is heard yet

    async def _give(self) -> None:
        """The same: a node that hangs while room is set aside there keeps nobody from being given up."""
        async with _going_on("setting room aside"):
            self.give_at = time.monotonic() + GIVE_SECONDS
            await asyncio.to_thread(self.giving.go, self.revision)

    async def _sample(self) -> None:
        """The same once more."""
        async with _going_on("taking samples"):
            self.sample_at = time.monotonic() + SAMPLE_LOOK_SECONDS
            await asyncio.to_thread(self.sampling.go, self.revision)

    async def _send(self) -> None:
        """The same for what is to be told: servers that hang hold up nothing else."""
        async with _going_on("sending what is to be told"):
            self.send_at = time.monotonic() + SEND_SECONDS
            await asyncio.to_thread(self.sending.go, self.revision)

    def _know(self, agents: Mapping[int, nodes.AgentOf]) -> None:
        """What the site says of its agents by now. A report of theirs is looked at again, all of it, where
        someone has asked for that.
        """
        self.agents = {number: agent.url for number, agent in agents.items()}
        for number, agent in agents.items():
            pause = self.pauses.get(number)
            if pause and pause.noted and (agent.owes or agent.version != pause.noted.version):
                pause.noted, pause.tag = None, ""

    def _tell_clocks(self) -> None:
        """Clocks of a thousand nodes become known one by one: not each is worth a picture of its own."""
        with transaction() as session:
            announce(session, "site")
        self.put_off.clear()

    def _judge(self) -> None:
        if self.round.go(store_site.revision_now()):
            note_watched()

    def _ask(self) -> None:
        """Asks those whose turn it is, unless their last question is still under way."""
        now = time.monotonic()
        asked = self.questions.under_way()
        for number, url in self.agents.items():
            pause = self.pauses.setdefault(number, _Pause())
            if number not in asked and pause.next_at <= now:
                known = pause.tag if pause.whole_at > now else ""
                self.questions.ask(number, url, known, seconds=_patience(), doubtful=pause.failures > 0)

    def _take(self, answers: dict[int, Report | Unreachable]) -> None:
        """What the nodes said, each by itself: one whose report makes no sense is as good as silent, and
        harms no other.
        """
        now = time.monotonic()
        counters: dict[int, Counters] = {}
        heard: list[int] = []
        failed: dict[int, Unreachable] = {}
        for number, answer in answers.items():
            if number not in self.agents:
                continue  # let go of since it was asked
            pause = self.pauses[number]
            try:
                if isinstance(answer, Unreachable):
                    raise answer
                if answer is not NOTHING_NEW:
                    pause.tag = ""  # until all of it has been taken
                    counters[number] = self._note(number, pause, answer.facts)
                    pause.tag = answer.tag
                    pause.whole_at = now + _apart() * (WHOLE_SECONDS if pause.tells_time() else SOON_SECONDS)
                pause.failures, pause.next_at = 0, now + settings().poll_seconds
                heard.append(number)
            except Exception as error:
                if is_disconnect(error):
                    raise
                pause.failures, pause.tag, pause.noted = pause.failures + 1, "", None
                pause.next_at = _asked_again(pause, now)
                failed[number] = _as_unreachable(number, error)
        self.counters |= counters
        if heard:
            with transaction() as session:
                watching.heard(session, heard)
            now = time.monotonic()  # a moment later than what the database says: never silent too early
            for number in heard:
                self.pauses[number].heard_at = now
        ours = bool(failed) and self._hear_few(now)
        for number, why in failed.items():
            pause = self.pauses[number]
            if ours and pause.failures == 1 and not isinstance(why, Garbled):
                pause.next_at = now
            else:
                note_failure(number, why)
        if self.counters and now >= self.count_at:
            note_counters(self.counters)
            self.counters, self.count_at = {}, now + COUNT_SECONDS

    def _hear_few(self, now: float) -> bool:
        """Whether most of the nodes that were heard a moment ago are not heard any more. That is first held
        to be our own trouble: each is asked once more before it counts.
        """
        lately = [p.heard_at for p in self.pauses.values() if now - p.heard_at < LATELY_SECONDS]
        late = settings().poll_seconds + _patience() / 2
        return sum(now - at > late for at in lately) > len(lately) / 2

    def _note(self, number: int, pause: _Pause, report: dict[str, Any]) -> Counters:
        """Only what is news goes to the database. Returns the counters of the node's disks. Raises
        NotPossible, Unreachable.
        """
        fresh = noted_of(report)
        if pause.noted is not None and pause.noted.covers(fresh):
            return read_counters(report)
        counters = note_report(number, report, self.put_off)
        pause.noted = fresh
        return counters


@asynccontextmanager
async def _going_on(doing: str) -> AsyncIterator[None]:
    """Whatever breaks in a round of the watch, the next one comes."""
    try:
        yield
    except Exception as error:
        if not is_disconnect(error):
            log.exception("a round of the watch failed", doing=doing)
            await asyncio.sleep(1.0)
        else:
            await asyncio.to_thread(wait_out, error)


def _apart() -> float:
    """Shortens a pause a little, and each one differently: nodes that joined together are not to give whole
    reports together for ever after, all in one burst.
    """
    return random.uniform(0.8, 1.0)


def _patience() -> float:
    """How long a node may take to say how it is, in seconds: one question that it leaves unanswered is enough
    to tell its silence in time. Counted from when it is asked, for that we ask late is no fault of its own.
    """
    rounds = TICK_SECONDS + ANSWERS_SECONDS / 2
    return min(settings().answer_seconds, settings().silent_seconds - settings().poll_seconds - rounds)


def _silent_after() -> float:
    """Seconds without an answer that make a node silent. Judged to within half a round: a question that ran
    out a moment too early would else cost another one.
    """
    return settings().silent_seconds - settings().poll_seconds / 2


def _asked_again(pause: _Pause, now: float) -> float:
    """When a node that did not answer is asked next: ever more rarely, but just when it counts as silent if
    it does not answer then either.
    """
    longer = now + min(settings().longest_pause_seconds, settings().poll_seconds * 1.5**pause.failures)
    counts_at = pause.heard_at + _silent_after()
    return min(longer, counts_at) if counts_at > now else longer


def _as_unreachable(number: int, error: Exception) -> Unreachable:
    if isinstance(error, Unreachable):
        return error
    if isinstance(error, BarnError):
        return Garbled(error.sentence)
    log.exception("a report could not be taken", node=number)
    return Garbled("Its report has a shape that nobody foresaw.")


def note_watched() -> None:
    """Notes that everything was looked at just now, so that a page can tell when nobody does, and when
    somebody does again.
    """
    with transaction() as session:
        away = store_site.watched_now(session)
        if away > UNWATCHED_SECONDS:
            log.info("watched again", after=away)
            tell(session, "site")


def _agents() -> dict[int, nodes.AgentOf]:
    with transaction() as session:
        return nodes.with_agents(session)


# Hearing. ----------------------------------------------------------------------------------------------


def note_failure(number: int, error: Unreachable) -> None:
    """Records that a node was not heard; silence counts only after it has lasted."""
    with transaction() as session:
        node = watching.node(session, number)
        if node is None:
            return
        contact = Contact.GARBLED if isinstance(error, Garbled) else Contact.SILENT
        since_heard = watching.seconds_since_heard(session, number)
        if contact == Contact.SILENT and since_heard is not None and since_heard < _silent_after():
            return
        if node.contact != contact or node.reason != error.sentence:
            if node.contact == Contact.HEARD:
                node.since = node.heard_at or kept.now(session)
                outages.begin(session, Out.NODE, number, error.sentence, node.since)
            node.contact, node.reason = contact.value, error.sentence
            log.info("node not heard", node=node.name, why=error.sentence)
            announce(session, "site")


def note_report(number: int, report: dict[str, Any], put_off: set[int] | None = None) -> Counters:
    """Records a report that made sense and returns its disks' counters; asks for the inventory when it has
    changed. put_off: takes the nodes (by number) of which only the clock is news, which the caller tells.

    Raises NotPossible, Unreachable.
    """
    version, counters = read_report(report), read_counters(report)
    with transaction() as session:
        node = session.get_one(NodeRow, number)
        if version == node.inventory_version:
            _note_report(session, node, report, None, put_off)
            return counters
        url = node.agent_url
    inventory = read_inventory(Agent(url).inventory())  # which may take a while: nothing is locked meanwhile
    with transaction() as session:
        node = session.get_one(NodeRow, number)
        _note_report(session, node, report, inventory, put_off)
        node.inventory_version = version
    return counters


def _note_report(
    session: Session,
    node: NodeRow,
    report: dict[str, Any],
    inventory: Inventory | None,
    put_off: set[int] | None,
) -> None:
    changed = node.contact != Contact.HEARD or inventory is not None
    if node.contact != Contact.HEARD:
        log.info("node is back", node=node.name)
        outages.end(session, Out.NODE, node.id)
        if node.given_up:
            node.owes = True
        node.contact, node.reason, node.given_up = Contact.HEARD.value, "", False
        if node.limits:  # it may have forgotten them, or not heard that they are lifted
            node.limits = nodes.UNSURE
        if node.marks:
            node.marks = nodes.UNSURE_MARKS
        if node.targets:
            node.targets = nodes.unsure_targets(node.targets.get("order", ""))
        if node.files:
            node.files = nodes.unsure_files(node.files.get("order", ""))
        node.since = kept.now(session)
    if node.owes:
        node_is_back(session, node)
        node.owes = False
    if inventory is not None:
        if folded(inventory.node) != folded(node.agent_name):
            raise NotPossible(f"It says it is {inventory.node}.")
        take_inventory(session, node, inventory)
    noted = noted_of(report)
    _note_written(node, noted)
    if noted.wants != node.wants:
        node.wants = noted.wants
    if noted.terms is not None and noted.terms != node.terms:
        # Something else than the duty's last word altered what it goes by, or it has forgotten.
        node.terms, node.limits = noted.terms, nodes.UNSURE
        changed = True
    if noted.serves is not None:
        order, sessions = noted.serves
        if order != node.targets.get("order", ""):
            node.targets, changed = nodes.unsure_targets(order), True
        if sessions != node.sessions:
            node.sessions, changed = sessions, True
    changed |= _note_files(node, noted)
    if _note_cluster(node, report, noted) or changed:
        announce(session, "site")
    if not noted.keeps_time(node.clock_offset) and noted.clock_offset is not None:
        node.clock_offset = round(noted.clock_offset, 2)
        if put_off is None:
            announce(session, "site")
        else:
            put_off.add(node.id)


def _note_cluster(node: NodeRow, report: dict[str, Any], noted: Noted) -> bool:
    """What a node says of its cluster. True where that is worth a new picture of the site."""
    changed = False
    if isinstance(report.get("cluster"), dict) and noted.says != node.says:
        node.says, changed = noted.says, True
    return changed


def _note_files(node: NodeRow, noted: Noted) -> bool:
    """What a node says of the file service, and by which order. True where that is worth a new picture: more
    bytes used alone are not, a duty sums those up.
    """
    if noted.files is None:
        return False
    (order, said), changed = noted.files, False
    if order != node.files.get("order", ""):
        node.files, changed = nodes.unsure_files(order), True
    if said != node.files_said:
        was = node.files_said or {"used": []}
        changed |= {**was, "used": []} != {**said, "used": []}
        node.files_said = said
    return changed


def _note_written(node: NodeRow, noted: Noted) -> None:
    """Keeps what a node says its consumers have written, by ply, and what that takes on disks that compress,
    where it has changed by a hundredth.
    """
    if noted.written is not None and _grown(node.written, noted.written):
        node.written = noted.written
    if _grown(_takes(node.compressed), _takes(noted.compressed)):
        node.compressed = noted.compressed


def _takes(compressed: dict[str, list[int]]) -> dict[str, int]:
    return {ply: after for ply, (_, after) in compressed.items()}


def _grown(old: dict[str, int], new: dict[str, int]) -> bool:
    return new.keys() != old.keys() or any(
        abs(new[v] - old[v]) > WRITTEN_STEP * max(new[v], old[v]) for v in new
    )


def noted_of(report: dict[str, Any]) -> Noted:
    """Raises NotPossible for a report of another shape."""
    offset, error = report.get("clock_offset"), report.get("clock_error")
    says, written = report.get("cluster"), read_written(report)
    known = ("name", "keeper", "leader", "term", "address")
    return Noted(
        version=read_report(report),
        clock_offset=offset if isinstance(offset, float) else None,
        clock_error=error if isinstance(error, float) else 0.0,
        says={k: says[k] for k in known if k in says} if isinstance(says, dict) else {},
        written=None if written is None else {str(ply): bytes_ for ply, bytes_ in written.items()},
        wants={
            str(ply): {"strips": [list(r) for r in wants.strips], "refuses": wants.refuses}
            for ply, wants in read_wants(report).items()
        },
        terms=read_terms(report),
        serves=read_serves(report),
        compressed={str(ply): list(found) for ply, found in read_compressed(report).items()},
        files=read_files(report),
    )


def note_counters(counters: dict[int, Counters]) -> None:
    """Keeps what the disks of nodes (by number) have read and written, and how fast since they were last
    asked.
    """
    with transaction() as session:
        watching.keep_counters(session, counters)
        tell(session, "work")


# Duties. -----------------------------------------------------------------------------------------------


def duties_of_the_watch() -> tuple[Duty, ...]:
    """In the order in which they have their turns: what is found out first, what follows from it after."""
    now = JUDGE_SECONDS
    return (
        Duty("ask the witness", 2.0, lambda: note_witness()),
        Duty("sum up what consumers have written", 5.0, lambda: sum_written()),
        Duty("hand over disks in enclosures", now, lambda: hand_over_boxes(), on_change=True, judging=True),
        Duty("give up what is away for too long", now, lambda: give_up(), on_change=True, judging=True),
        Duty("send away nodes that were counted out", now, lambda: send_away(), on_change=True, judging=True),
        Duty("try again what was held up", now, lambda: try_again(), on_change=True, judging=True),
        Duty("start what mends", now, lambda: start_mending(), on_change=True, judging=True),
        Duty("call in spares", now, lambda: call_in_spares(), on_change=True, judging=True),
        Duty("empty the bin of what was there long enough", 5.0, lambda: empty_bins()),
        Duty("take snapshots, and let go of them, by schedule", 10.0, lambda: go_by_schedules()),
        Duty("let copies of snapshots stand alone", now, lambda: let_copies_stand_alone(), on_change=True),
        Duty("move extents by heat", settings().heat_seconds, lambda: move_by_heat()),
        Duty("tell nodes their limits", now, lambda: tell_limits(), on_change=True),
        Duty("tell nodes which snapshots there are", now, lambda: tell_marks(), on_change=True),
        Duty("choose anew who serves volumes to hosts", now, lambda: move_gateways(), on_change=True),
        Duty("tell nodes what they serve to hosts", now, lambda: tell_targets(), on_change=True),
        Duty(
            "choose anew where file service addresses are at home", now, lambda: move_homes(), on_change=True
        ),
        Duty("tell nodes of the file service", now, lambda: tell_files(), on_change=True),
        Duty("sum up what shares hold", 2.0, lambda: sum_used()),
        Duty("look for the names of the file service", 5.0, lambda: find_names()),
        Duty("ask VM hosts what they run", 1.0, lambda: hear_vm_hosts()),
        Duty("tell who leads", now, lambda: tell_who_leads(), on_change=True),
        Duty("forget what ended long ago", 300.0, lambda: prune()),
    )


def note_witness() -> None:
    """Asks the cluster's witness, where there is one, and records when it falls silent or is heard again."""
    cluster = current_view().cluster
    if cluster is None or not cluster.witness_url:
        return
    try:
        found = read_witness(cluster.witness_url)
        same = folded(found) == folded(cluster.witness)
        why = "" if same else f"What answers there calls itself {found}."
    except Unreachable as error:
        why = error.sentence
    if why != cluster.witness_silent:
        log.info("witness", name=cluster.witness, heard=not why, why=why)
        with transaction() as session:
            store_cluster.note_witness(session, why)
            announce(session, "site")


def sum_written() -> None:
    """Brings each volume's written bytes up to what all nodes have said of its plies."""
    with transaction() as session:
        if watching.sum_written(session, WRITTEN_STEP):
            announce(session, "site")


def hand_over_boxes() -> None:
    """A disk in an enclosure whose carrying node is not heard is carried by another node that sees it; its
    strips stay where they are.
    """
    if not current_view().enclosures:
        return
    with transaction() as session:
        if moved := watching.hand_over_boxes(session):
            log.info("disks in enclosures handed over", disks=moved)
            announce(session, "site")


def give_up() -> bool:
    """Marks what has been away longer than the grace time: what it held is to be rebuilt elsewhere. Whether
    anything is away.

    Where most nodes fell silent together, that is first held to be our own trouble: none of them is given up
    by itself.
    """
    view = current_view()
    silence = silence_of(view.nodes)
    if not silence.silent and all(d.present or d.given_up for d in view.disks):
        return False
    with transaction() as session:
        if watching.give_up(session, nodes_too=not silence.doubted):
            announce(session, "site")
    return True


def send_away() -> bool:
    """Has nodes leave their cluster that were counted out while they were not heard, and still believe that
    they belong. Whether any is left.
    """
    with transaction() as session:
        found = [(row.name, row.agent_url, change, name) for row, change, name in believers(session)]
    for node, url, change, cluster in found:
        try:
            Agent(url).send({"id": f"away-{change}-{node}", "kind": "leave", "cluster": cluster})
            log.info("sent away", node=node, cluster=cluster)
        except BarnError as error:  # it is asked again at the next look
            log.info("not sent away", node=node, why=error.sentence)
    return bool(found)


def prune() -> None:
    """Forgets the single moves of changes that ended a while ago: what they moved in all stands with the
    change.
    """
    with transaction() as session:
        forgotten = moves.forget_ended(session, KEEP_MOVES_SECONDS)
        records.forget_old(session)
        outages.forget_old(session)
        alerts.forget_old(session)
    if forgotten:
        log.info("moves forgotten", moves=forgotten)


def tell_who_leads() -> None:
    """Mails that another keeper leads, or that none does. What was last told is in the database, so a restart
    tells nothing twice.
    """
    with transaction() as session:
        row = store_cluster.row(session)
        if row is None or row.forming or not row.mail.get("to"):
            return
        mail = dict(row.mail)
    cluster = current_view().cluster
    if cluster is None or mail.get("told") == cluster.leader:
        return
    with transaction() as session:
        store_cluster.set_mail(session, mail | {"told": cluster.leader})
    if "told" not in mail:
        return  # the forming told of its first leader itself
    subject = f"{cluster.leader} leads {cluster.name}" if cluster.leader else f"{cluster.name} has no leader"
    try:
        send_mail(mail["to"], subject, f"It led before: {mail['told'] or 'nobody'}. Term {cluster.term}.\n")
    except Unreachable as error:
        log.info("mail not taken", why=error.sentence)


def call_in_spares() -> None:
    """Has a spare take the role of each pooled disk that is given up, where one of its media class is at hand
    and none stands in for it yet.
    """
    view = current_view()
    away = view.disk_given_up & ~view.disk_ready
    if not away.any():
        return
    with transaction() as session:
        taken = disks.standing_in(session)
        asked = [row.params for row in kept.open_of_kind(session, "change-role")]
    called = {name for params in asked for name in params["disks"]}
    helped = {params.get("stands_in_for") for params in asked}
    for row, disk in enumerate(view.disks):
        if disk.role not in (Role.CAPACITY, Role.CACHE) or not away[row] or disk.retiring:
            continue
        if disk.number in taken or disk.name in helped:
            continue
        spare = spare_for(view, disk, called)
        if spare is not None:
            called.add(spare.name)
            why = f"{disk.name} is given up"
            params = {
                "disks": [spare.name],
                "role": disk.role.value,
                "reason": f"stands in for {disk.name}",
                "stands_in_for": disk.name,
            }
            try:
                carry_out(BY_ITSELF, "change-role", params, reason=f"{why}.")
            except BarnError as error:  # it must not keep the watch from its other duties
                log.info("spare not called in", spare=spare.name, why=error.sentence)


def start_mending() -> None:
    """Starts a rebuild-and-level for each pool that has something to mend and none under way."""
    view = current_view()
    with transaction() as session:
        # Read after the view: what the view shows to have joined has then also told why it is to be looked
        # at.
        looks, busy = pools.looks(session), _busy_pools(session)
    for pool in view.pools:
        if pool.forming or pool.number in busy:
            continue
        if reason := _to_mend(view, pool, looks.get(pool.number, "")):
            carry_out(BY_ITSELF, "rebuild", {"pool": pool.name}, reason=reason)


def _busy_pools(session: Session) -> set[int]:
    """Numbers of pools whose strips some open change moves: a rebuild, or a drain or a catching up that has
    begun and is not paused.
    """
    rebuilt = {n for row in kept.open_of_kind(session, "rebuild") for n in row.meant.get("pool", {}).values()}
    moving = [s for n in ("drain", "catch-up", "bring") for s in kept.steps_under_way(session, n)]
    return rebuilt | {(step.payload or {}).get("pool", 0) for step in moving}


def _to_mend(view: SiteView, pool: Pool, asked: str) -> str:
    """Why a pool's strips are to be looked at; empty where nothing would come of it. asked: why someone asked
    for it, where one did.
    """
    rows = view.in_pool(pool)
    plies = view.plies_of(pool)
    if asked:
        return f"{asked}."
    if (view.disk_given_up[rows] | ~view.disk_ready[rows]).any():
        lost = len(plan_rebuild(view, pool, seed=1))
        return f"{lost:,} strips lie on disks that are given up." if lost else ""
    if crowded := sum(int(crowded_strips(view, p).sum()) for p in plies):
        apart = len(plan_rebuild(view, pool, seed=1))
        return f"{say_count(crowded, 'strip')} share a domain with another of their extent." if apart else ""
    if stray := sum(int(stray_strips(view, p).sum()) for p in plies):
        home = len(plan_rebuild(view, pool, seed=1))
        return f"{say_count(stray, 'strip')} lie elsewhere than on what was chosen for them." if home else ""
    uneven = not view.disk_retiring[rows].any() and imbalance(view, pool) > LEVEL_TOLERANCE
    if uneven and len(plan_levelling(view, pool, seed=1)):
        return "Its disks are unevenly used."
    if nowhere := sum(int((p.placement == NOWHERE).sum()) for p in plies):
        # Of what is lost for good there is nothing to write again.
        again = len(plan_rebuild(view, pool, seed=1))
        return f"{say_count(nowhere, 'strip')} of it lie nowhere." if again else ""
    return ""
