"""Alerts: what watch rules find of samples, who is told of it and how often, against the real database, a
real mail server and the yard.
"""

from __future__ import annotations

import math
import time
from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from conftest import ME, Site

from foldbarn.core.errors import Conflict, NotFound, NotPossible
from foldbarn.core.site import Contact, SiteView
from foldbarn.core.watch.covering import covered
from foldbarn.core.watch.metrics import Metric
from foldbarn.core.watch.rules import Bounds, Chosen, Quiet, Rule, Severity, Way
from foldbarn.core.watch.samples import BUCKETS, MEASURES, TIMES, Measure, Sampled, Samples, Series
from foldbarn.house.postgres import free_port
from foldbarn.services.alerts import telling, writing
from foldbarn.services.alerts.judging import Judge
from foldbarn.services.alerts.telling import send_due
from foldbarn.settings import settings
from foldbarn.store import alerts, samples
from foldbarn.store.database import transaction
from foldbarn.store.tables import AlertRow, IncidentRow, MessageRow, NodeRow, WatchRuleRow
from foldbarn.store.views import current_view
from foldbarn.yard.post import PostBox, open_post

pytestmark = pytest.mark.pooled
EVERY = 10.0
BEGIN = datetime(2026, 3, 1, 10, 0, tzinfo=UTC)
READS = Bounds(Way.ABOVE, limit=100.0, clear=80.0, hold=20.0)


def only(*rules: Rule) -> list[Rule]:
    """A site with these rules, and without those that it came with."""
    with transaction() as session:
        session.query(WatchRuleRow).delete()
    return [writing.save_rule(ME, rule) for rule in rules]


def rule(name: str = "Much is read", **more: object) -> Rule:
    known = {"number": 0, "name": name, "of": Sampled.VOLUME, "metric": Metric.READS, "bounds": READS}
    return Rule(**known | more)  # type: ignore[arg-type]


class Watched:
    """A site of which samples are made up, one round after the other."""

    def __init__(self) -> None:
        self.judge, self.at = Judge(), BEGIN

    def round(self, reads: Mapping[Series, float], view: SiteView | None = None) -> None:
        """A sample of each of these things, and of no other."""
        found = Samples(
            tuple(reads), np.full((len(reads), len(MEASURES)), 0.0), np.zeros((len(reads), BUCKETS))
        )
        found.values[:, MEASURES.index(Measure.READS)] = list(reads.values())
        with transaction() as session:
            self.judge.take(session, view or current_view(), found, self.at, EVERY)
        self.at += timedelta(seconds=EVERY)

    def rounds(self, *values: float, of: Series) -> None:
        for value in values:
            self.round({of: value})


def states(*, absent: bool = False) -> list[str]:
    with transaction() as session:
        rows = session.query(AlertRow).filter_by(absent=absent).order_by(AlertRow.id)
        return ["over" if row.ended else "firing" if row.fired else "pending" for row in rows]


def incidents() -> list[IncidentRow]:
    with transaction() as session:
        return session.query(IncidentRow).order_by(IncidentRow.id).all()


def told() -> list[tuple[str, str]]:
    with transaction() as session:
        return [(row.event, row.state) for row in session.query(MessageRow).order_by(MessageRow.id)]


@pytest.fixture
def volume(barn_site: Site) -> Series:
    barn_site.volume(size="4 GiB")
    return Series(Sampled.VOLUME, current_view().volume("charts").number)


@pytest.fixture
def post(monkeypatch: pytest.MonkeyPatch) -> Iterator[PostBox]:
    box, port = PostBox(), free_port()
    controller = open_post(box, port)
    monkeypatch.setenv("FOLDBARN_MAIL_HOST", f"127.0.0.1:{port}")
    settings.cache_clear()
    yield box
    controller.stop()


def to_tomas(**more: object) -> None:
    wish = {"number": 0, "name": "on call", "kind": "mail", "target": "tomas@skerry.example"}
    writing.save_route(ME, **wish | {"least": Severity.NOTICE, "usual": True} | more)  # type: ignore[arg-type]


def test_a_breach_is_pending_fires_and_is_over_though_whoever_judges_is_killed(volume: Series) -> None:
    only(rule())
    site = Watched()
    site.rounds(90, of=volume)
    assert states() == []
    site.rounds(150, of=volume)
    assert states() == ["pending"]
    site.judge = Judge()  # another process goes on
    site.rounds(180, 120, of=volume)
    assert states() == ["firing"]
    [found] = incidents()
    assert found.headline == "Much is read: charts"
    site.rounds(120, 120, of=volume)
    assert states() == ["firing"]  # one alert of a thing and a rule
    site.judge = Judge()
    site.rounds(81, 80, of=volume)
    assert states() == ["over"]
    with transaction() as session:
        [row] = session.query(AlertRow).all()
        assert (row.since, row.fired) == (BEGIN + timedelta(seconds=10), BEGIN + timedelta(seconds=30))
        assert row.worst == 180
    assert incidents()[0].ended is not None
    # What was not out of bounds for long enough leaves nothing.
    site.rounds(150, 90, of=volume)
    assert states() == ["over"]


def test_of_a_breach_that_fires_mail_is_sent_once_with_its_curve_and_once_that_it_is_over(
    volume: Series, post: PostBox
) -> None:
    only(rule(severity=Severity.URGENT))
    to_tomas()
    site = Watched()
    site.at = datetime.now(UTC) - timedelta(minutes=2)
    for _ in range(6):
        value = np.full((1, len(MEASURES)), 150.0)
        with transaction() as session:
            samples.keep(session, site.at, Samples((volume,), value, np.zeros((1, BUCKETS))))
        site.rounds(150, of=volume)
    send_due()
    send_due()
    [mail] = post.messages
    assert mail["to"] == "tomas@skerry.example"
    assert mail["subject"] == "Urgent: Much is read: charts"
    text = str(mail["text"])
    assert "Volume charts: 150 a second, above 100 a second since" in text
    assert "Carried by pool quayside" in text
    assert str(mail["picture"]).startswith("iVBORw0KGgo")  # a PNG, in base 64
    site.rounds(10, of=volume)
    send_due()
    assert post.messages[-1]["subject"] == "Over: Much is read: charts, after 60 s"
    assert told() == [("fired", "sent"), ("over", "sent")]


def test_a_server_that_refuses_loses_nothing_and_what_is_known_to_be_taken_is_not_sent_again(
    volume: Series, post: PostBox, monkeypatch: pytest.MonkeyPatch
) -> None:
    only(rule())
    to_tomas()
    monkeypatch.setattr(telling, "FIRST_PAUSE", 0.01)
    Watched().rounds(150, 150, 150, of=volume)
    post.how = "refuses"
    send_due()
    with transaction() as session:
        [row] = session.query(MessageRow).all()
        assert (row.state, row.tries) == ("waiting", 1)
        assert "451 4.3.0" in row.problem
        mark = row.mark
    post.how = "well"
    time.sleep(0.05)
    send_due()
    send_due()
    assert [str(m["mark"]).partition("@")[0] for m in post.messages] == [f"<{mark}"]
    # A process that was killed while it sent: nobody knows, and whoever gets it can tell that it is the same.
    with transaction() as session:
        session.query(MessageRow).update({"state": "sending"})
    send_due()
    assert [m["mark"] for m in post.messages] == [post.messages[0]["mark"]] * 2


def test_pauses_between_tries_grow_and_end(volume: Series, post: PostBox) -> None:
    assert [telling.pause_after(n) for n in (0, 1, 2, 10)] == [5, 10, 20, 300]
    only(rule())
    to_tomas()
    Watched().rounds(150, 150, 150, of=volume)
    post.how = "refuses"
    with transaction() as session:
        session.query(MessageRow).update({"made_at": datetime.now(UTC) - timedelta(days=2)})
    send_due()
    assert told() == [("fired", "given up")]


def test_a_node_that_is_lost_is_one_message(barn_site: Site, post: PostBox) -> None:
    barn_site.volume(size="4 GiB")
    heard = Bounds(Way.ABOVE, 1e9, 1e9)
    only(
        rule("A node is not heard", of=Sampled.NODE, bounds=None, absent=30.0, severity=Severity.URGENT),
        rule("Disks", of=Sampled.DISK, metric=Metric.CELSIUS, bounds=heard, absent=30.0),
        rule("Volumes", bounds=heard, absent=30.0),
    )
    to_tomas()
    site, view = Watched(), current_view()
    lost = view.node("petrel")
    row = view.nodes.index(lost)
    gone = {Series(Sampled.NODE, lost.number)} | {
        Series(Sampled.DISK, disk.number) for disk in view.disks if disk.node == row
    }
    volumes = set(covered(view, Sampled.VOLUME, Chosen()))
    everything = {
        one for kind in (Sampled.NODE, Sampled.DISK, Sampled.VOLUME) for one in covered(view, kind, Chosen())
    }
    site.round(dict.fromkeys(everything, 0.0))
    with transaction() as session:
        session.query(NodeRow).filter_by(id=lost.number).update({"contact": Contact.SILENT.value})
    silent = replace(
        view, nodes=tuple(replace(n, contact=Contact.SILENT) if n is lost else n for n in view.nodes)
    )
    for _ in range(3):
        site.round(dict.fromkeys(everything - gone - volumes, 0.0), silent)
    assert states(absent=True) == []
    site.round(dict.fromkeys(everything - gone - volumes, 0.0), silent)
    assert len(states(absent=True)) == len(gone) + len(volumes)
    [found] = incidents()
    assert (found.cause, found.number, found.severity) == ("node", lost.number, "urgent")
    send_due()
    [mail] = post.messages
    assert mail["subject"] == f"Urgent: petrel is not heard, {len(gone) + len(volumes)} alerts"
    # It is heard again, and with it the rest.
    site.round(dict.fromkeys(everything, 0.0))
    send_due()
    assert set(states(absent=True)) == {"over"}
    assert str(post.messages[-1]["subject"]).startswith("Over: petrel is not heard")
    assert len(post.messages) == 2


def test_that_nobody_looked_is_no_fault_of_the_nodes(barn_site: Site) -> None:
    only(rule("A node is not heard", of=Sampled.NODE, bounds=None, absent=30.0))
    site, view = Watched(), current_view()
    nodes = covered(view, Sampled.NODE, Chosen())
    site.round(dict.fromkeys(nodes, 0.0))
    site.at += timedelta(minutes=10)  # the database was away, say
    site.round({})
    site.round({})
    assert states(absent=True) == []
    site.judge = Judge()  # and another process knows of no sample yet
    site.rounds(*[0.0] * 3, of=nodes[0])
    assert states(absent=True) == []
    site.rounds(*[0.0] * 2, of=nodes[0])
    assert len(states(absent=True)) == len(nodes) - 1


def test_nobody_is_told_in_quiet_hours_or_in_silence_and_what_goes_on_is_told_after(
    volume: Series, post: PostBox
) -> None:
    only(rule(quiet=Quiet(9 * 60, 10 * 60 + 1)))
    to_tomas()
    site = Watched()  # begins at ten
    site.rounds(150, 150, 150, of=volume)
    assert states() == ["firing"]
    assert told() == []
    site.rounds(150, 150, 150, 150, of=volume)
    assert told() == [("fired", "waiting")]
    [found] = incidents()
    writing.silence(ME, found.id, 3600)
    with transaction() as session:
        session.query(IncidentRow).update({"silent_until": site.at + timedelta(seconds=25)})
    site.rounds(10, of=volume)
    assert told() == [("fired", "waiting")]
    with pytest.raises(Conflict):
        writing.silence(ME, found.id, 60)  # it is over
    site.rounds(10, 10, 10, of=volume)
    assert told() == [("fired", "waiting"), ("over", "waiting")]


def test_who_sees_to_it_is_said_and_nothing_more_is_told_but_that_it_is_over(volume: Series) -> None:
    more = Bounds(Way.ABOVE, 1000.0, 1000.0)
    only(rule(), rule("Very much is read", bounds=more, severity=Severity.URGENT))
    to_tomas()
    site = Watched()
    site.rounds(150, 150, 150, of=volume)
    [found] = incidents()
    writing.see(ME, found.id)
    with pytest.raises(Conflict, match="Ines Marrow sees to it already"):
        writing.see(ME, found.id)
    site.rounds(2000, of=volume)
    assert len(incidents()) == 1  # of the same thing
    assert told() == [("fired", "waiting")]
    site.rounds(10, of=volume)
    assert told() == [("fired", "waiting"), ("over", "waiting")]
    with pytest.raises(NotFound):
        writing.see(ME, 999)


def test_it_is_told_as_soon_as_somebody_is_to_hear_of_it_and_counts_as_told_once_that_was_taken(
    volume: Series, post: PostBox
) -> None:
    only(rule())
    writing.save_route(ME, 0, "urgent only", "mail", "ama@skerry.example", Severity.URGENT, True)
    site = Watched()
    site.rounds(150, 150, 150, 150, of=volume)
    [found] = incidents()
    assert (found.told, told()) == (None, [])  # nobody hears of a notice
    to_tomas()
    site.rounds(150, of=volume)
    assert told() == [("fired", "waiting")]
    with transaction() as session:
        assert alerts.told_of(session, [found.id]) == set()
    send_due()
    with transaction() as session:
        assert alerts.told_of(session, [found.id]) == {found.id}
    # With its rule goes what it found: nothing is left to tell of.
    with transaction() as session:
        alerts.delete_rule(session, alerts.rules(session)[0].number)
    site.rounds(10, 10, of=volume)
    assert told() == [("fired", "sent")]
    with transaction() as session:
        assert alerts.to_tell(session) == []


def test_a_clock_that_was_set_back_hides_no_silence(barn_site: Site) -> None:
    only(rule("A node is not heard", of=Sampled.NODE, bounds=None, absent=30.0))
    site = Watched()
    nodes = covered(current_view(), Sampled.NODE, Chosen())
    site.round(dict.fromkeys(nodes, 0.0))
    site.at -= timedelta(hours=1)
    for _ in range(5):
        site.round({nodes[0]: 0.0})
    assert len(states(absent=True)) == len(nodes) - 1


def test_what_gets_worse_is_told_once(volume: Series) -> None:
    more = Bounds(Way.ABOVE, 1000.0, 500.0)
    only(rule(), rule("Very much is read", bounds=more, severity=Severity.URGENT))
    to_tomas()
    writing.save_route(ME, 0, "urgent only", "mail", "ama@skerry.example", Severity.URGENT, True)
    site = Watched()
    with transaction() as session:
        for row in alerts.routes(session):
            row.usual = True
    site.rounds(150, 150, 150, 2000, 400, 2000, of=volume)
    assert told() == [("fired", "waiting"), ("worse", "waiting"), ("worse", "waiting")]


def test_ten_thousand_alerts_at_once_are_one_message(volume: Series, post: PostBox) -> None:
    at_once = Bounds(Way.ABOVE, 100.0, 80.0)
    only(rule(bounds=at_once))
    to_tomas()
    view, site = current_view(), Watched()
    one = view.volume("charts")
    many = [replace(one, number=10_000 + n, name=f"v{n}") for n in range(10_000)]
    crowded = replace(view, volumes=(*view.volumes, *many), revision=view.revision + 1)
    site.round({Series(Sampled.VOLUME, v.number): 150.0 for v in many}, crowded)
    assert len(states()) == 10_000
    [found] = incidents()
    assert (found.cause, found.headline) == ("rule", "Much is read: several volumes")
    send_due()
    assert post.messages[0]["subject"] == "Notice: Much is read: several volumes, 10,000 alerts"
    assert "And 9,988 more." in str(post.messages[0]["text"])
    site.round({Series(Sampled.VOLUME, v.number): 10.0 for v in many}, crowded)
    assert set(states()) == {"over"}


def test_the_backlog_has_an_end(volume: Series, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(alerts, "MOST_WAITING", 2)
    only(rule())
    to_tomas()
    with transaction() as session:
        [route] = alerts.routes(session)
        for number in range(4):
            alerts.begin_test(session, route.id, f"Test {number}", "")
        session.query(MessageRow).update({"state": "waiting"})
        assert alerts.give_up_oldest(session) == 2
        rows = session.query(MessageRow).order_by(MessageRow.id)
        assert [row.state for row in rows] == ["given up", "given up", "waiting", "waiting"]


def test_a_rule_that_judges_otherwise_ends_what_was_under_way_and_another_name_does_not(
    volume: Series,
) -> None:
    [made] = only(rule())
    site = Watched()
    site.rounds(150, 150, 150, of=volume)
    writing.save_rule(ME, replace(made, name="Very much is read"))
    assert states() == ["firing"]
    writing.save_rule(ME, replace(made, bounds=replace(READS, limit=140.0, clear=80.0)))
    assert states() == ["over"]
    site.rounds(150, of=volume)
    assert states() == ["over", "pending"]
    writing.save_rule(ME, replace(made, on=False))
    assert states() == ["over"]
    with pytest.raises(Conflict, match="called"):
        only(rule("One"), rule("ONE"))
    with pytest.raises(NotFound):
        writing.save_rule(ME, rule(number=12345))


def test_what_is_deleted_is_watched_no_more(volume: Series, barn_site: Site) -> None:
    only(rule())
    site = Watched()
    site.rounds(150, 150, 150, of=volume)
    barn_site.erase("charts")
    site.round({})
    assert states() == ["over"]
    with transaction() as session:
        assert "no such thing any more" in session.query(AlertRow).one().why
    assert incidents()[0].ended is not None


def test_the_rules_that_a_site_comes_with_are_sound_and_on(barn_site: Site) -> None:
    with transaction() as session:
        found = alerts.rules(session)
    assert {one.of for one in found} == {Sampled.NODE, Sampled.DISK, Sampled.POOL, Sampled.VOLUME}
    for one in found:
        assert one.on
        assert writing.save_rule(ME, one) == one


def test_a_rule_is_tried_on_what_happened_as_it_would_have_judged_it(volume: Series) -> None:
    now = datetime.now(UTC)
    begin = now - timedelta(seconds=EVERY * 30)
    values = [50.0] * 5 + [150.0] * 2 + [50.0] * 5 + [150.0] * 4 + [50.0] * 5
    for number, value in enumerate(values):
        table = np.full((1, len(MEASURES)), value)
        at = begin + timedelta(seconds=EVERY * number)
        with transaction() as session:
            samples.keep(session, at, Samples((volume,), table, np.zeros((1, BUCKETS))))
    view = current_view()
    found = writing.try_rule(view, rule(), TIMES["hour"])
    assert (found.covers, found.told, found.held_back) == (1, 1, 1)
    assert found.others == [(60.0, 1), (150.0, 0)]
    assert found.message is not None
    assert found.message.subject == "Notice: Much is read: charts"
    assert found.found[0].worst == 150
    # And once more, by who judges as samples come.
    only(rule())
    site = Watched()
    site.rounds(*values, of=volume)
    assert len(states()) == found.told
    with pytest.raises(NotPossible):
        writing.try_rule(view, rule(bounds=None), TIMES["hour"])
    silent = writing.try_rule(view, rule(bounds=None, absent=60.0), TIMES["hour"])
    assert silent.told == 1  # since the last of them
    assert math.isnan(silent.found[0].worst)


def test_a_test_of_a_route_is_sent_at_once_and_says_why_it_was_not_taken(
    barn_site: Site, post: PostBox
) -> None:
    to_tomas()
    with transaction() as session:
        [route] = alerts.routes(session)
    assert writing.try_route(ME, route.id) == ""
    assert post.messages[0]["subject"] == "Test: word from Fold Barn arrives"
    post.how = "refuses"
    assert "451 4.3.0" in writing.try_route(ME, route.id)
    assert told() == [("test", "sent"), ("test", "given up")]
    for wrong in ("nobody", "a b@skerry.example", "@skerry.example"):
        with pytest.raises(NotPossible):
            to_tomas(target=wrong)
    for wrong in ("ftp://a", "https://", "http://[1", "http://a b"):
        with pytest.raises(NotPossible):
            to_tomas(kind="webhook", target=wrong)
    with pytest.raises(Conflict):
        to_tomas(name="ON CALL")
    with pytest.raises(NotPossible, match="encrypted connection only"):
        writing.set_mail_server(
            ME,
            host="mail.skerry.example",
            port=25,
            sender="barn@skerry.example",
            encrypted=False,
            trusted="",
            account="barn",
            password="secret",
        )
