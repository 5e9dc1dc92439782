"""Samples in the database: taken from the yard's nodes, condensed, dropped, and drawn with what went on."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from conftest import ME, Site, at_hour
from sqlalchemy import func, select, update

from foldbarn.core.errors import NotFound, Unreachable
from foldbarn.core.volumes.pace import COUNTED
from foldbarn.core.watch.samples import (
    BUCKETS,
    HOUR,
    MEASURES,
    MINUTE,
    TIMES,
    Measure,
    Sampled,
    Samples,
    Series,
    packed,
    percentile,
    unpacked,
)
from foldbarn.services import changes, watching
from foldbarn.services.samples import Sampler, condense, drawn
from foldbarn.store import outages, samples
from foldbarn.store.database import transaction
from foldbarn.store.tables import HourRow, MinuteRow, NodeRow, OutageRow, SampleRow
from foldbarn.store.views import current_view
from foldbarn.yard import fluid

BEGIN = datetime(2026, 3, 1, 10, 0, tzinfo=UTC)
ONE, TWO = Series(Sampled.VOLUME, 7), Series(Sampled.PORT, 3, "eno1")


def keep(at: datetime, *values: float, series: tuple[Series, ...] = (ONE, TWO)) -> None:
    """The same of each series in all measures; and so many operations in a bucket, of the first."""
    table = np.array([[value] * len(MEASURES) for value in values])
    times = np.zeros((len(values), BUCKETS))
    times[0, 5] = values[0]
    with transaction() as session:
        samples.keep(session, at, Samples(series[: len(values)], table, times))


def condense_all(span: int, at: datetime) -> int:
    stretches = 0
    with transaction() as session:
        while samples.condense(session, span, at) >= 0:
            stretches += 1
    return stretches


def test_minutes_and_hours_say_what_their_samples_said(database: str) -> None:
    for number in range(720):  # two hours, a sample every ten seconds; of the port every other one is missing
        keep(BEGIN + timedelta(seconds=10 * number), float(number), float("nan") if number % 2 else 5.0)
    end = BEGIN + timedelta(hours=2, minutes=5)
    assert condense_all(MINUTE, end) == 120
    assert condense_all(HOUR, end) == 2
    assert condense_all(MINUTE, end) == condense_all(HOUR, end) == 0  # nothing is put together twice
    with transaction() as session:
        at, minutes = samples.of_series(session, ONE, MINUTE, BEGIN)
        assert at.tolist() == [BEGIN.timestamp() + 60 * n for n in range(120)]
        assert minutes.mean[:3, 0].tolist() == [2.5, 8.5, 14.5]
        assert (minutes.least[1, 0], minutes.most[1, 0]) == (6, 11)
        assert unpacked(minutes.times[1], BUCKETS)[5] == sum(range(6, 12))
        _, hours = samples.of_series(session, ONE, HOUR, BEGIN)
        assert (hours.count[0, 0], hours.mean[0, 0], hours.mean[1, 0]) == (360, 179.5, 539.5)
        found = percentile(hours.spread[1], Measure.READS, 0.95)
        assert found == pytest.approx(np.percentile(np.arange(360, 720), 95, method="inverted_cdf"), rel=0.02)
        _, port = samples.of_series(session, TWO, HOUR, BEGIN)
        assert (port.count[0, 0], port.mean[0, 0]) == (180, 5)


def test_a_stretch_waits_until_it_is_over_and_a_pause_is_caught_up(database: str) -> None:
    for minute in range(3):
        keep(BEGIN + timedelta(minutes=minute, seconds=5), 1.0)
    assert condense_all(MINUTE, BEGIN + timedelta(seconds=70)) == 0  # what belongs to it may yet be written
    assert condense_all(MINUTE, BEGIN + timedelta(seconds=85)) == 1
    assert condense_all(MINUTE, BEGIN + timedelta(minutes=10)) == 2
    # Nobody took any for a day: what lies between has no rows, and is not looked through minute by minute.
    later = BEGIN + timedelta(days=1)
    keep(later + timedelta(seconds=5), 9.0)
    assert condense_all(MINUTE, later + timedelta(seconds=85)) == 1
    with transaction() as session:
        at, rows = samples.of_series(session, ONE, MINUTE, BEGIN)
    assert at.tolist() == [BEGIN.timestamp() + n for n in (0, 60, 120, 86_400)]
    assert rows.mean[:, 0].tolist() == [1, 1, 1, 9]


def test_partitions_are_made_as_they_are_wanted_and_dropped_when_they_are_old(database: str) -> None:
    for hours in (0, 1, 2):
        keep(BEGIN + timedelta(hours=hours, minutes=59), 1.0)
    condense_all(MINUTE, BEGIN + timedelta(hours=4))
    with transaction() as session:
        gone = samples.drop_old(session, BEGIN + timedelta(hours=3, minutes=10))
    # Of the second hour, what is younger than an hour and a quarter lies there yet.
    assert gone == ["sample_from_20260301_10"]
    with transaction() as session:
        assert session.scalar(select(func.count()).select_from(SampleRow)) == 2
        assert session.scalar(select(func.count()).select_from(MinuteRow)) == 3
        assert samples.drop_old(session, BEGIN + timedelta(days=3)) == [
            "sample_from_20260301_11",
            "sample_from_20260301_12",
            "sample_minute_from_20260301_00",
        ]
    keep(BEGIN, 1.0)  # a partition that was dropped can be made again
    with transaction() as session:
        assert session.scalar(select(func.count()).select_from(HourRow)) == 0


@pytest.mark.pooled
def test_what_the_yard_does_is_sampled_as_its_own_counts_say(barn_site: Site) -> None:
    """Against what the stand-ins count, summed up by hand."""
    barn_site.volume()
    machines = barn_site.yard.machines
    at_hour(machines, 8)
    fluid.advance(machines, 60.0)
    sampler = Sampler()
    sampler.take()  # nobody was asked before
    with transaction() as session:
        assert session.scalar(select(func.count()).select_from(SampleRow)) == 0
    before = {name: dict(work) for name, work in machines.work.items()}
    was = {s: (int(c.read_bytes), int(c.written_bytes)) for s, c in machines.counters.items()}
    before = {n: {p: np.floor(w) for p, w in of.items()} for n, of in before.items()}
    for _ in range(30):
        fluid.advance(machines, 1.0)
    sampler.take()
    view = current_view()
    volume, pool, disk = view.volume("charts"), view.pools[0], view.disk("petrel-1")
    reads = COUNTED.index("reads")
    done = sum(
        np.floor(work[reads]) - before.get(name, {}).get(ply, np.zeros(reads + 1))[reads]
        for name, of in machines.work.items()
        for ply, work in of.items()
        if ply in [p.number for p in volume.plies]
    )
    found = drawn(view, Sampled.VOLUME, "charts", "", TIMES["hour"])
    assert len(found.rows) == 1
    assert found.until - found.since == pytest.approx(600)  # no more is known yet
    columns = {measure: column for column, measure in enumerate(MEASURES)}
    assert done > 0
    assert found.rows.mean[0, columns[Measure.READS]] == pytest.approx(done / 30)
    assert unpacked(found.rows.times[0], BUCKETS).sum() > 0
    of_pool = drawn(view, Sampled.POOL, pool.name, "", TIMES["hour"])
    assert of_pool.rows.mean[0, columns[Measure.READS]] == pytest.approx(done / 30)
    counters = machines.counters[disk.serial]
    of_disk = drawn(view, Sampled.DISK, disk.name, "", TIMES["hour"])
    grown = (int(counters.read_bytes) - was[disk.serial][0]) / 30
    assert of_disk.rows.mean[0, 0] == pytest.approx(grown)
    # Its ports sent what consumers read of its disks.
    node = view.nodes[disk.node]
    storage = [p.name for p in node.ports if p.purpose == "storage" and p.up]
    sent = [drawn(view, Sampled.PORT, node.name, p, TIMES["hour"]).rows.mean[0, 0] for p in storage]
    of_node = drawn(view, Sampled.NODE, node.name, "", TIMES["hour"])
    assert sum(sent) > 0
    assert sum(sent) == pytest.approx(of_node.rows.mean[0, 0], rel=0.02)


@pytest.mark.pooled
def test_a_node_that_does_not_tell_leaves_a_gap_and_is_marked(barn_site: Site) -> None:
    barn_site.volume()
    machines = barn_site.yard.machines
    at_hour(machines, 8)
    fluid.advance(machines, 60.0)
    sampler = Sampler()
    sampler.take()
    with transaction() as session:
        number = session.scalars(select(NodeRow.id).where(NodeRow.name == "petrel")).one()
        session.execute(update(NodeRow).where(NodeRow.id == number).values(heard_at=None))
    fluid.advance(machines, 10.0)
    watching.note_failure(number, Unreachable("No answer."))
    watching.note_failure(number, Unreachable("No answer within 2 s."))  # the same outage, told once more
    sampler.take()
    view = current_view()
    out = drawn(view, Sampled.VOLUME, "charts", "", TIMES["hour"])
    # petrel had worked for it, and nobody knows what it did since; but that it is short is known.
    known = dict(zip(MEASURES, out.rows.count[0].tolist(), strict=True))
    assert known[Measure.READS] == known[Measure.WRITTEN_BYTES] == 0
    assert out.rows.mean[0, MEASURES.index(Measure.SHORT)] > 0
    assert [(o.reason, o.until) for o in out.outages] == [("No answer.", None)]
    fluid.advance(machines, 10.0)
    sampler.take()
    rows = drawn(view, Sampled.VOLUME, "charts", "", TIMES["hour"]).rows
    assert rows.count[:, MEASURES.index(Measure.READS)].tolist() == [0, 1]  # the others know by now
    watching.note_report(number, watching.Agent(barn_site.yard.agent("petrel")).report())
    for of, name in ((Sampled.VOLUME, "charts"), (Sampled.NODE, "petrel"), (Sampled.DISK, "petrel-1")):
        (over,) = drawn(current_view(), of, name, "", TIMES["hour"]).outages
        assert over.until is not None
    assert drawn(current_view(), Sampled.NODE, "fulmar", "", TIMES["hour"]).outages == []
    with transaction() as session:
        session.execute(update(OutageRow).values(until=func.now() - timedelta(days=40)))
        outages.forget_old(session)
        assert session.scalar(select(func.count()).select_from(OutageRow)) == 0


@pytest.mark.pooled
def test_changes_that_touched_a_thing_are_drawn_with_it(barn_site: Site) -> None:
    barn_site.volume()
    number = barn_site.do("offline-volume", volumes=["charts"], offline=True)
    waits = changes.carry_out(ME, "rename-volume", {"volume": "charts", "name": "maps"})  # not begun
    found = drawn(current_view(), Sampled.VOLUME, "charts", "", TIMES["hour"]).changes
    assert [row.id for row in found] == [number]
    assert number != waits
    found = drawn(current_view(), Sampled.DISK, "petrel-1", "", TIMES["hour"]).changes
    assert [row.kind for row in found] == ["form-pool"]


@pytest.mark.pooled
def test_what_there_is_not_is_said(barn_site: Site) -> None:
    view = current_view()
    with pytest.raises(NotFound, match="There is no volume named 'nothing'"):
        drawn(view, Sampled.VOLUME, "nothing", "", TIMES["hour"])
    with pytest.raises(NotFound, match="petrel has no port named 'eno9'"):
        drawn(view, Sampled.PORT, "petrel", "eno9", TIMES["hour"])
    with pytest.raises(NotFound, match="A node has no parts"):
        drawn(view, Sampled.NODE, "petrel", "eno1", TIMES["hour"])
    condense()  # with nothing to condense
    assert len(drawn(view, Sampled.NODE, "petrel", "", replace(TIMES["day"])).rows) == 0
    assert packed(np.zeros((1, BUCKETS))) == [b""]
