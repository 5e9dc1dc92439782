"""The store: migrations, constraints, views and placements against the real PostgreSQL."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import psycopg
import pytest
from alembic import command
from conftest import ME, Site
from sqlalchemy import select, text, update
from sqlalchemy.exc import IntegrityError, OperationalError

from foldbarn.changes.engine.runner import run_change
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import NotFound
from foldbarn.services import changes
from foldbarn.settings import settings
from foldbarn.store import database as store_database
from foldbarn.store import views
from foldbarn.store.database import announce, engine, glance, transaction
from foldbarn.store.migrate import alembic_config, migrate
from foldbarn.store.placements import set_strips, write_placement
from foldbarn.store.tables import (
    ChangeRow,
    DiskRow,
    NodeRow,
    PlacementRow,
    PlyRow,
    RackRow,
    RoomRow,
    SiteRow,
    TouchRow,
)


def test_the_migrations_make_exactly_the_tables_of_the_code(database: str) -> None:
    config = alembic_config()
    with engine().begin() as connection:
        config.attributes["connection"] = connection
        command.check(config)  # raises where they differ
    migrate()  # and once more does nothing


@pytest.mark.parametrize("unused", [0.0, 3600.0])
def test_a_connection_that_was_closed_meanwhile_is_not_used(
    database: str, monkeypatch: pytest.MonkeyPatch, unused: float
) -> None:
    """Where it has not been used for a while; one that was just used is trusted."""
    monkeypatch.setattr(store_database, "UNUSED_SECONDS", unused)
    with transaction() as session:
        mine = session.scalar(text("select pg_backend_pid()"))
    with psycopg.connect(settings().plain_database_url, autocommit=True) as other:
        other.execute("select pg_terminate_backend(%s)", [mine])

    def again() -> int:
        with transaction() as session:
            return int(session.scalar(text("select pg_backend_pid()")) or 0)

    if unused:
        with pytest.raises(OperationalError):
            again()
    assert again() != mine


def test_names_are_taken_whatever_their_case(database: str) -> None:
    with transaction() as session:
        session.add(RoomRow(name="North Quay"))
    with pytest.raises(IntegrityError), transaction() as session:
        session.add(RoomRow(name="NORTH quay"))


def test_a_disk_with_a_role_in_a_pool_has_a_pool(barn_site: Site) -> None:
    with pytest.raises(IntegrityError), transaction() as session:
        session.execute(update(DiskRow).where(DiskRow.name == "fulmar-1").values(role="capacity"))


def test_the_view_holds_what_the_agents_reported(barn_site: Site) -> None:
    view = views.current_view()
    assert [r.name for r in view.rooms] == ["North Quay", "South Quay"]
    assert [r.name for r in view.racks] == ["NQ-1", "NQ-2", "SQ-1", "SQ-2"]
    assert [n.name for n in view.nodes] == [
        "fulmar",
        "gannet",
        "petrel",
        "razorbill",
        "kittiwake",
        "dunlin",
        "turnstone",
        "whimbrel",
        "skua",
    ]
    assert len(view.disks) == 93
    assert view.disk("whimbrel-6").size_bytes == 8 * 10**12
    # How many depends on how long the yard has run.
    (said,) = view.disk("dunlin-4").watch
    assert re.fullmatch("[0-9]+ sectors reallocated", said)
    assert view.disk("skua-3").role == "unfit"
    assert view.node("kittiwake").reason == "Storage port stor1 is down; 1 of 2 carry its traffic."
    assert view.node("kittiwake").port_bytes_per_second == view.node("fulmar").port_bytes_per_second // 2
    with pytest.raises(NotFound):
        view.disk("puffin-1")


def test_the_view_is_kept_until_the_revision_grows(barn_site: Site) -> None:
    first = views.current_view()
    assert views.current_view() is first
    with transaction() as session:
        session.execute(update(DiskRow).where(DiskRow.name == "fulmar-1").values(watch=["a scratch"]))
        announce(session, "site")
    second = views.current_view()
    assert (second.revision, second.disk("fulmar-1").watch) == (first.revision + 1, ("a scratch",))


def test_whether_the_site_is_as_it_was_is_told_though_that_connection_was_ended(barn_site: Site) -> None:
    before = views.current_view()
    assert glance().revision() == before.revision
    with psycopg.connect(settings().plain_database_url, autocommit=True) as other:
        [mine] = other.execute("select pid from pg_stat_activity where query = 'select revision from site'")
        other.execute("select pg_terminate_backend(%s)", mine)
    with transaction() as session:
        announce(session, "site")
    assert views.current_view().revision == before.revision + 1  # in the usual way
    assert glance().revision() == before.revision + 1  # and by a new connection


def test_nothing_of_a_failed_transaction_is_seen(barn_site: Site) -> None:
    before = views.current_view().revision

    def half() -> None:
        with transaction() as session:
            session.execute(update(SiteRow).values(name="half done"))
            announce(session, "site")
            raise RuntimeError("broken off")

    with pytest.raises(RuntimeError):
        half()
    assert (views.current_view().name, views.current_view().revision) == ("Test site", before)


@pytest.mark.pooled
def test_a_placement_is_kept_across_chunks_and_moves_only_what_lies_where_expected(barn_site: Site) -> None:
    barn_site.volume(size="10 GiB")
    wide = np.arange(2 * (views.CHUNK + 10), dtype=np.int32).reshape(-1, 2) % 30 + 1
    with transaction() as session:
        ply = session.scalars(select(PlyRow)).one()
        session.execute(PlacementRow.__table__.delete())  # type: ignore[attr-defined]
        ply.k, ply.m, ply.extents, ply.version = 1, 1, len(wide), ply.version + 1
        write_placement(session, ply.id, wide)
        announce(session, "site")
        number = ply.id
    assert (views.current_view().plies[0].placement == wide).all()
    last = views.CHUNK + 9
    here = int(wide[last, 1])
    with transaction() as session:
        set_ = set_strips(session, [(number, last, 1, here, 40), (number, 0, 0, 29, 41)])
        announce(session, "site")
    assert set_ == [(number, last, 1, here, 40)]  # the second does not lie on disk 29
    after = views.current_view().plies[0].placement
    assert after[last, 1] == 40
    assert (np.argwhere(after != wide) == [[last, 1]]).all()


@pytest.mark.pooled
def test_a_site_of_the_version_before_is_taken_over_with_its_open_changes(barn_site: Site) -> None:
    """Its database has the tables of then: what an open change touches and means is found out anew."""
    volume = changes.carry_out(ME, "create-volume", {"name": "v", "pool": "QUAYSIDE", "size": "3 GiB"})
    own = changes.carry_out(BY_ITSELF, "rebuild", {"pool": "quayside"})
    with transaction() as session:
        row = session.get_one(ChangeRow, own)
        row.state, row.paused_at = "paused", datetime.now(UTC) - timedelta(hours=1)
    with engine().begin() as connection:
        config = alembic_config()
        config.attributes["connection"] = connection
        command.downgrade(config, "0005")
        connection.execute(text("update change set touches = 'strips of quayside'"))
    migrate()
    run_change(volume)
    assert barn_site.state(volume) == "done"
    changes.try_again()  # as the version before would have
    run_change(own)
    assert barn_site.state(own) == "done"
    with transaction() as session:
        pool = views.current_view().pools[0].number
        assert session.get_one(ChangeRow, own).meant == {"pool": {"quayside": pool}}
        told = session.execute(select(TouchRow.change_id, TouchRow.what, TouchRow.number, TouchRow.held))
        assert {tuple(one) for one in told} == {
            (volume, "pool", pool, False),
            (own, "pool", pool, False),
            (own, "rebuild", pool, False),
        }


def test_a_disk_is_read_again_only_when_its_row_is_another(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    read: list[str] = []
    original = views._read_disk

    def counted(row: DiskRow, version: str) -> Any:
        read.append(row.name)
        return original(row, version)

    monkeypatch.setattr(views, "_read_disk", counted)
    before = views.current_view()
    read.clear()
    with transaction() as session:
        session.execute(update(DiskRow).where(DiskRow.name == "petrel-3").values(lit=True))
        assert views.load_view(session).disk("petrel-3").lit  # also before it is committed
        session.execute(update(DiskRow).where(DiskRow.name == "petrel-3").values(model="other"))
        assert views.load_view(session).disk("petrel-3").model == "other"
        announce(session, "site")
    view = views.current_view()
    assert (view.disk("petrel-3").lit, view.disk("petrel-3").model) == (True, "other")
    assert [d for d in view.disks if d.name != "petrel-3"] == [
        d for d in before.disks if d.name != "petrel-3"
    ]
    assert set(read) == {"petrel-3"}
    with transaction() as session:
        session.execute(update(DiskRow).where(DiskRow.name == "petrel-3").values(lit=False))
        views.load_view(session)
        session.rollback()
    assert views.current_view().disk("petrel-3").lit  # what was rolled back was never so
    with transaction() as session:
        node = session.scalars(select(NodeRow).where(NodeRow.name == "skua")).one()
        rack = session.scalars(select(RackRow.id).where(RackRow.name == "NQ-1")).one()
        node.rack_id, node.position = rack, 9
        announce(session, "site")
    moved = views.current_view()
    assert all(moved.nodes[d.node].name == d.name.partition("-")[0] for d in moved.disks if d.enclosure < 0)
