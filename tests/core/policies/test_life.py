"""How long fast media last under what consumers write, scheme by scheme: sums by hand."""

from __future__ import annotations

from dataclasses import replace

import pytest
from sites import make_site

from foldbarn.core.policies.bench import lay_side_by_side
from foldbarn.core.policies.performance import Load
from foldbarn.core.pools.protection import Level, Scheme, mirror
from foldbarn.core.site import Role, SiteView, Tier
from foldbarn.core.units import TB

# Of 16,384 bytes, half of them writes: 819.2 MB of consumers in 100 s, 707.8 GB in a day.
LOAD = Load(1000.0, 0.5, 16384)
A_DAY = 500 * 16384 * 86_400


def two_media(role: Role = Role.CAPACITY, tier: Tier = Tier.BULK) -> SiteView:
    """Four nodes of an NVMe of 2 TB that may be written to once a day, and three HDDs."""
    view = make_site([[[300] * 4] for _ in range(4)])
    found = tuple(
        replace(disk, media="nvme", size_bytes=2 * TB, rated_bytes=2 * TB * 365 * 5, role=role, tier=tier)
        if row % 4 == 0
        else replace(disk, media="hdd")
        for row, disk in enumerate(view.disks)
    )
    return replace(view, disks=found)


def years(view: SiteView, scheme: Scheme) -> float:
    [row] = lay_side_by_side(view, view.pools[0], [scheme], LOAD)
    assert row.life is not None
    return row.life.endurance.years


def test_cache_devices_take_every_write_of_disks() -> None:
    view = two_media(role=Role.CACHE)
    rated = 4 * 2 * TB * 365 * 5  # of all four
    assert years(view, mirror(2, Level.NODE)) == pytest.approx(rated / (2 * A_DAY * 365))
    assert years(view, mirror(3, Level.NODE)) == pytest.approx(rated / (3 * A_DAY * 365))
    assert years(view, Scheme(2, 1, Level.NODE)) == pytest.approx(rated / (2 * A_DAY * 365))


def test_what_lands_is_written_to_the_fast_tier_alone() -> None:
    view = two_media(tier=Tier.FAST)
    rated = 4 * 2 * TB * 365 * 5
    [row] = lay_side_by_side(view, view.pools[0], [Scheme(2, 1, Level.NODE)], LOAD)
    assert row.life is not None
    assert row.life.what == "disk of the fast tier"
    assert row.life.endurance.years == pytest.approx(rated / (2 * A_DAY * 365))
    # Copies are written as they come, to the other disks; and nothing at all to pools of one medium.
    [row] = lay_side_by_side(view, view.pools[0], [mirror(2, Level.NODE)], LOAD)
    assert row.life is None
    plain = make_site([[[300] * 4] for _ in range(4)])
    [row] = lay_side_by_side(plain, plain.pools[0], [mirror(2, Level.NODE)], LOAD)
    assert row.life is None


def test_where_nothing_is_written_they_last_for_ever() -> None:
    view = two_media(role=Role.CACHE)
    [row] = lay_side_by_side(view, view.pools[0], [mirror(2, Level.NODE)], Load(1000.0, 1.0, 16384))
    assert row.life is not None
    assert row.life.endurance.years == float("inf")
    assert row.life.endurance.lasts
