"""Hearing hosts, and seeing to it that volumes are served to them by nodes that can."""

from __future__ import annotations

import time
from dataclasses import dataclass, field

import structlog

from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import BarnError, NotPossible, Unreachable
from foldbarn.core.hosts.facts import PROTOCOL, read_report, to_keep
from foldbarn.core.hosts.gateways import chosen_anew
from foldbarn.core.site import Contact
from foldbarn.core.units import say_list
from foldbarn.links.agents import NOTHING_NEW, Garbled, Questions, Report
from foldbarn.store import hosts, records
from foldbarn.store.database import announce, transaction
from foldbarn.store.views import current_view, load_view

log = structlog.get_logger()
ASK_SECONDS = 2.0  # between two questions to a host
SOON_SECONDS = 0.5  # the same, of one that has just told something new: more may follow
WHOLE_SECONDS = 60.0  # between two whole reports of one that has nothing new
ANSWERS_SECONDS = 0.3  # how long a round waits for answers
LONGEST_PAUSE = 30.0  # between two questions to a host that does not answer
TRIES = 2  # questions in a row that a host must leave unanswered to count as silent


@dataclass(slots=True)
class _Asked:
    """What is known of a host's agent: its address, when it is asked next, how often in a row it did not
    answer, the tag of its last report and when that is asked for whole again.
    """

    url: str
    next_at: float = 0.0
    failures: int = 0
    tag: str = ""
    whole_at: float = 0.0
    heard: bool = False


@dataclass(slots=True)
class HostTaker:
    """Asks hosts how they are. Its own memory is only when to ask whom next."""

    questions: Questions = field(default_factory=lambda: Questions(PROTOCOL))
    asked: dict[int, _Asked] = field(default_factory=dict)
    revision: int = -1

    def know(self, revision: int) -> None:
        """Which hosts have an agent, read anew where the site has changed."""
        if revision == self.revision:
            return
        with transaction() as session:
            found = hosts.with_agents(session)
        for number, agent in found.items():
            mine = self.asked.get(number)
            # What is written down may be of after we heard it: another process's word, or a new address.
            otherwise = mine is not None and mine.heard and agent.contact != Contact.HEARD
            if mine is None or mine.url != agent.url or otherwise:
                self.asked[number] = _Asked(agent.url)
        for gone in self.asked.keys() - found.keys():
            del self.asked[gone]
        self.revision = revision

    def forget(self) -> None:
        """Begins anew: what was heard is from before somebody else may have listened."""
        self.questions.forget()
        self.asked.clear()
        self.revision = -1

    async def hear(self) -> dict[int, tuple[str, Report | Unreachable]]:
        """Asks those whose turn it is. Returns what has been answered, and from which address."""
        now, busy = time.monotonic(), self.questions.under_way()
        for number, one in self.asked.items():
            if number not in busy and one.next_at <= now:
                one.next_at = now + ASK_SECONDS
                known = one.tag if one.whole_at > now else ""
                self.questions.ask(number, one.url, known, doubtful=one.failures > 0)
        answers = await self.questions.answers(ANSWERS_SECONDS)
        return {n: (self.asked[n].url, answer) for n, answer in answers.items() if n in self.asked}

    def take(self, answers: dict[int, tuple[str, Report | Unreachable]]) -> None:
        """What hosts said, each by itself: one whose report makes no sense harms no other."""
        news = False
        for number, (url, answer) in answers.items():
            one = self.asked.get(number)
            if one is None or one.url != url:
                continue
            try:
                if isinstance(answer, Unreachable):
                    raise answer
                told = self._note(number, one, answer)
                one.failures, news = 0, news or told
                if told:
                    one.next_at = time.monotonic() + SOON_SECONDS
            except BarnError as error:
                one.failures, one.tag = one.failures + 1, ""
                one.next_at = time.monotonic() + min(LONGEST_PAUSE, ASK_SECONDS * 1.5**one.failures)
                garbled = isinstance(error, Garbled | NotPossible)
                if garbled or one.failures >= TRIES:
                    one.heard = False
                    contact = Contact.GARBLED if garbled else Contact.SILENT
                    with transaction() as session:
                        news |= hosts.note_silent(session, number, url, contact, error.sentence)
        if news:
            with transaction() as session:
                announce(session, "site")

    def _note(self, number: int, one: _Asked, answer: Report) -> bool:
        """True where what a host said is news. Raises NotPossible for a report of another shape."""
        if answer is NOTHING_NEW and one.heard:
            return False
        facts = None
        with transaction() as session:
            known = hosts.told(session, number)
            if known is None:
                return False
            contact, before = known
            if answer is not NOTHING_NEW:
                told = to_keep(read_report(answer.facts))
                facts = told if told != before else None
            hosts.note_heard(session, number, one.url, facts)
        if answer is not NOTHING_NEW:
            one.tag, one.whole_at = answer.tag, time.monotonic() + WHOLE_SECONDS
        one.heard = True
        return facts is not None or contact != Contact.HEARD


def move_gateways() -> None:
    """Other nodes serve volumes to hosts, where those that did cannot any more, or were too few."""
    if not current_view().targets or not chosen_anew(current_view()):
        return
    with transaction() as session:
        view = load_view(session)
        wanted = chosen_anew(view)
        hosts.set_gateways(session, wanted)
        for volume, nodes in wanted.items():
            serve = say_list([view.node_numbered(number).name for number in nodes])
            doing = "serve" if len(nodes) > 1 else "serves"
            name = view.volume_numbered(volume).name
            records.note(session, BY_ITSELF, f"{serve} {doing} {name} to hosts.")
        if wanted:
            announce(session, "site")
