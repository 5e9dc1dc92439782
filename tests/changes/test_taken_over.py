"""A state folder of an older version, as that version left it with changes open, is taken over.

The states were made by the version that they are named after: its database as text (pg_dump) and the file of
its stand-ins, packed (xz).
"""

from __future__ import annotations

import lzma
import os
import re
import time
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest
from alembic import command
from conftest import ME, Site, Stage, _forget_connections
from test_changes import held, should_hold

from foldbarn.api.changes.pictures import change_page
from foldbarn.changes.engine.effects import Moved, OnDisks, Sums
from foldbarn.changes.engine.preview import Preview
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.touching import touched
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.house.postgres import Postgres
from foldbarn.services import changes
from foldbarn.store import changes as kept
from foldbarn.store import touching
from foldbarn.store.database import engine, transaction
from foldbarn.store.migrate import alembic_config, migrate
from foldbarn.store.tables import ChangeRow
from foldbarn.store.views import current_view

STATES = Path(__file__).parent / "states"
# The changes that were open in the state of version 0006.
RETIRING, HALF, LATE, MENDING, FORMING, RENAMING = 8, 9, 10, 11, 12, 13


@pytest.fixture
def old_site(postgres: Postgres, workplace: Path, stage: Stage) -> Iterator[Site]:
    name = f"old{time.monotonic_ns()}"
    admin = postgres.url("postgres").replace("+psycopg", "")
    script = lzma.decompress((STATES / "0006.sql.xz").read_bytes()).decode()
    script = re.sub(r"^\\.*$", "", script, flags=re.MULTILINE)  # what only psql understands
    script = re.sub(r"http://127\.0\.0\.1:\d+/agents", f"{stage.served.url}/agents", script)
    with psycopg.connect(admin, autocommit=True) as connection:
        connection.execute(f"create database {name}")
    url = postgres.url(name)
    with psycopg.connect(url.replace("+psycopg", ""), autocommit=True) as connection:
        connection.execute(script.encode())
    machines = workplace / f"{name}.machines"
    machines.write_bytes(lzma.decompress((STATES / "0006.machines.xz").read_bytes()))
    os.environ["FOLDBARN_DATABASE_URL"] = url
    _forget_connections()
    migrate()
    with stage.yard(machines) as yard:
        yield Site(yard)
    _forget_connections()
    with psycopg.connect(admin, autocommit=True) as connection:
        connection.execute(f"drop database {name} with (force)")


def previews() -> dict[int, Preview]:
    """Of every change, as its page shows it."""
    with transaction() as session:
        found = changes.recent(session)
        view = current_view()
        pages = [
            change_page(row, steps, other, [], touched(view, touching.of_change(session, row.id)))
            for row, steps, other in found
        ]
        return {page.number: page.preview for page in pages}


def test_what_is_open_goes_on_and_what_has_ended_can_be_read(old_site: Site) -> None:
    old = previews()
    [told] = old[RETIRING].every(Moved)
    assert told.bytes == old[RETIRING].moves_bytes == sum(flow.bytes for flow in told.flows) > 0
    assert sum(old[RETIRING].every(OnDisks)[0].leaving.values()) == told.bytes
    assert next(row.label for row in old[1].every(Sums)[0].rows) == "Raw"
    assert {number for number in old if old_site.state(number) in ("waiting", "paused")} == {
        RETIRING,
        HALF,
        LATE,
        MENDING,
        FORMING,
        RENAMING,
    }
    for number in (LATE, MENDING, FORMING, RENAMING):
        run_change(number)
    changes.ask(ME, RETIRING, "resume")
    run_change(RETIRING)
    changes.ask(ME, HALF, "withdraw")
    run_change(HALF)
    ended = {number: (old_site.state(number), old_site.problem(number)) for number in old}
    assert ended.pop(HALF) == ("withdrawn", "")
    assert set(ended.values()) == {("done", "")}
    view = current_view()
    assert [v.name for v in view.volumes] == ["charts", "late", "tides"]
    assert [p.name for p in view.pools] == ["quayside", "skerries"]
    assert view.disk("petrel-3").pool == -1
    assert view.disk("puffin-1").pool == 1  # claimed under its old name, or after it
    assert all(fate_of(view, v).state == DataState.WHOLE for v in view.volumes)
    assert held(old_site) == should_hold()


def test_a_change_half_done_by_an_older_version_that_cannot_be_planned_any_more_has_a_way_on(
    old_site: Site,
) -> None:
    with transaction() as session:  # its disk is gone, so that there is nothing to plan
        session.get_one(ChangeRow, RETIRING).meant = {"disk": {"petrel-3": 999_999}}
        session.get_one(ChangeRow, RETIRING).params = {"what": "disk", "names": ["unheard-of"]}
    changes.ask(ME, RETIRING, "resume")
    run_change(RETIRING)
    assert old_site.state(RETIRING) == "paused"
    assert "planned by another version" in old_site.problem(RETIRING)
    changes.ask(ME, RETIRING, "withdraw")
    run_change(RETIRING)
    assert old_site.state(RETIRING) == "withdrawn"
    assert "what that did is left as it is" in old_site.problem(RETIRING)


def test_a_deletion_of_before_there_was_a_bin_ends_where_it_dropped_and_is_let_go_where_it_did_not(
    old_site: Site,
) -> None:
    """Of 0025: its steps drop the strips at once."""
    numbers = {v.name: v.number for v in current_view().volumes if v.name in ("charts", "tides")}
    begun, waiting = (
        changes.carry_out(ME, "delete-volume", {"volume": name, "typed": name}) for name in sorted(numbers)
    )
    with transaction() as session:
        for change, volume in ((begun, numbers["charts"]), (waiting, numbers["tides"])):
            _, steps = kept.one(session, change)
            for step, name in zip(steps, ("drop-strips", "forget-volume"), strict=True):
                step.name, step.payload = name, {"volume": volume}
            steps[0].state = "running" if change == begun else "waiting"
        session.get_one(ChangeRow, begun).state = "running"
    with engine().begin() as connection:
        config = alembic_config()
        config.attributes["connection"] = connection
        command.downgrade(config, "0025")
    _forget_connections()
    migrate()
    assert {v.name: v.binned is not None for v in current_view().volumes if v.name in numbers} == {
        "charts": True,
        "tides": False,
    }
    run_change(begun)
    run_change(waiting)
    assert old_site.state(begun) == "done"
    assert (old_site.state(waiting), old_site.problem(waiting)) == ("withdrawn", "tides is not in the bin.")
    assert {v.name for v in current_view().volumes} & numbers.keys() == {"tides"}
