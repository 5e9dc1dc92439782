"""The store: migrations, constraints, views and placements against the real PostgreSQL."""

from __future__ import annotations

import re

import numpy as np
import pytest
from alembic import command
from conftest import Site
from sqlalchemy import select, update
from sqlalchemy.exc import IntegrityError

from foldbarn.core.errors import NotFound
from foldbarn.store import views
from foldbarn.store.database import announce, engine, transaction
from foldbarn.store.migrate import alembic_config, migrate
from foldbarn.store.placements import set_strips, write_placement
from foldbarn.store.tables import DiskRow, PlacementRow, RoomRow, SiteRow, VolumeRow


def test_the_migrations_make_exactly_the_tables_of_the_code(database: str) -> None:
    config = alembic_config()
    with engine().begin() as connection:
        config.attributes["connection"] = connection
        command.check(config)  # raises where they differ
    migrate()  # and once more does nothing


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
        volume = session.scalars(select(VolumeRow)).one()
        session.execute(PlacementRow.__table__.delete())  # type: ignore[attr-defined]
        volume.copies, volume.extents, volume.version = 2, len(wide), volume.version + 1
        write_placement(session, volume.id, wide)
        announce(session, "site")
        number = volume.id
    assert (views.current_view().volumes[0].placement == wide).all()
    last = views.CHUNK + 9
    here = int(wide[last, 1])
    with transaction() as session:
        set_ = set_strips(session, [(number, last, 1, here, 40), (number, 0, 0, 29, 41)])
        announce(session, "site")
    assert set_ == [(number, last, 1, here, 40)]  # the second does not lie on disk 29
    after = views.current_view().volumes[0].placement
    assert after[last, 1] == 40
    assert (np.argwhere(after != wide) == [[last, 1]]).all()
