"""A pool whose disks compress what they hold: what that takes, who asks for it, and what it comes to."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from conftest import Site
from test_leaving import held, should_hold
from test_policies import plan_of, refusals, save
from walking import look

from foldbarn.api.pools.pictures import pool_page_out
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.compressing import UNITS, Measured, compression_sentence
from foldbarn.core.site import metadata_of, slots_of
from foldbarn.services import site as site_service
from foldbarn.store.views import current_view
from foldbarn.yard import consumers

KIB, GIB = 2**10, 2**30


def told() -> str:
    """What the pool's page says of it."""
    measured = site_service.compressed(current_view().pools[0].number)
    page = pool_page_out(site_service.outlook(), "quayside", [], measured)
    return next(one.value for one in page.settings if one.name == "compress_unit")


@pytest.mark.parametrize("unit", UNITS)
def test_a_disk_gives_a_map_of_its_units(unit: int) -> None:
    """By hand: a hundredth for what is known of strips, and 32 bytes for each unit that might be written."""
    size = 3_840_755_982_336
    units = size // unit if unit else 0
    assert metadata_of(size, unit) == size // 100 + 32 * units
    assert slots_of(size, GIB, unit) == (size - size // 100 - 32 * units) // GIB
    # Of many disks at once it is the same.
    assert metadata_of(np.array([size, 2 * size]), unit).tolist() == [
        metadata_of(size, unit),
        metadata_of(2 * size, unit),
    ]


def test_ledger_and_nodes_know_of_the_map(barn_site: Site) -> None:
    plain = pool_space(*_formed(barn_site, "plain", nodes=("razorbill", "skua"), copies=2))
    assert sum(amount for _, amount in plain.ledger.rows()) == plain.ledger.raw
    barn_site.pool(compress_unit=4 * KIB)
    view = current_view()
    pool = view.pool("quayside")
    assert pool.compress_unit == 4 * KIB
    space = pool_space(view, pool)
    assert sum(amount for _, amount in space.ledger.rows()) == space.ledger.raw
    disks = view.all_of(pool)
    slots = sum((d.size_bytes - d.size_bytes // 100 - d.size_bytes // 4096 * 32) // GIB for d in disks)
    assert space.ledger.metadata == sum(d.size_bytes for d in disks) - slots * GIB
    assert slots < sum((d.size_bytes - d.size_bytes // 100) // GIB for d in disks)
    # Nodes count the same way: every strip that is planned finds its place, and not one more.
    barn_site.do("set-pool", pool="quayside", fill_line=1.0, headroom=None)
    view = current_view()
    most = pool_space(view, view.pool("quayside")).free
    number = barn_site.volume(size=f"{most} GiB")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert held(barn_site) == should_hold()
    assert refusals("create-volume", name="more", pool="quayside", size="1 GiB")


def _formed(site: Site, name: str, nodes: tuple[str, ...], **wish: Any) -> tuple[Any, Any]:
    number = site.do("form-pool", name=name, disks=site.disks(nodes=nodes), **wish)
    assert site.state(number) == "done", site.problem(number)
    return current_view(), current_view().pool(name)


def test_every_disk_that_joins_compresses_or_is_refused(barn_site: Site) -> None:
    machines = barn_site.yard.machines
    barn_site.pool(compress_unit=16 * KIB)
    barn_site.do("grow-pool", pool="quayside", disks=["razorbill-1"])
    serials = {d.serial for d in current_view().all_of(current_view().pool("quayside"))}
    assert machines.units == dict.fromkeys(serials, 16 * KIB)
    assert len(serials) == 33
    barn_site.do("delete-pool", pool="quayside", typed="quayside")
    assert machines.units == {}
    # A node that cannot, or forgets it, forms no such pool.
    machines.units = _Forgets()
    number = barn_site.pool(compress_unit=16 * KIB)
    assert barn_site.state(number) == "paused"
    assert "does not compress what it holds as quayside is to" in barn_site.problem(number)


class _Forgets(dict[str, int]):
    def __setitem__(self, *_: object) -> None:
        pass


def test_units_that_no_disk_has_are_refused(barn_site: Site) -> None:
    wish = {"name": "q", "disks": barn_site.disks(nodes=("fulmar", "petrel", "kittiwake")), "copies": 2}
    [said] = refusals("form-pool", **wish, compress_unit=5000)
    assert said == "Disks do not compress in units of 5,000 bytes."
    assert all(refusals("form-pool", **wish, compress_unit=unit) == [] for unit in UNITS)


def test_who_asks_for_it_gets_it_where_it_is(barn_site: Site) -> None:
    barn_site.pool()
    wish = {"name": "p", "copies": 2, "level": "node", "compressed": True}
    [said] = refusals("save-policy", **wish)
    assert said == "No pool can keep it. Disks of quayside hold what is written as it is."
    number = barn_site.do(
        "form-pool",
        name="tight",
        disks=barn_site.disks(nodes=("razorbill", "skua")),
        copies=2,
        compress_unit=64 * KIB,
    )
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert "Compressed on every disk." in plan_of("save-policy", **wish).summary
    save(barn_site, **wish)
    number = barn_site.do("create-volume", name="v", policy="p", size="10 GiB")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert current_view().pools[current_view().volume("v").pool].name == "tight"
    # What stands elsewhere cannot be brought to keep it there.
    barn_site.volume("w", copies=2)
    [said] = refusals("keep-policy", volumes=["w"], policy="p")
    assert "Disks of quayside hold what is written as it is." in said


def test_what_it_saves_is_what_nodes_measure(barn_site: Site) -> None:
    """And nothing else: by it no volume is larger, and no pool less full."""
    barn_site.pool(compress_unit=4 * KIB)
    view = current_view()
    assert told() == "in units of 4 KiB, whose map takes 0.78% of each disk; nothing is written yet"
    barn_site.volume(size="200 GiB")
    before = pool_space(current_view(), current_view().pools[0]).ledger
    machines = barn_site.yard.machines
    machines.clock += 30 * 86_400.0
    look(barn_site)
    first = current_view().volume("charts").whole.number
    strips = 200 * current_view().volume("charts").whole.scheme.strips
    written = consumers.written_share(first, machines.used_for(first)) * strips * GIB
    found = site_service.compressed(view.pools[0].number)
    assert found.before == pytest.approx(written, rel=1e-6)
    assert found.after == pytest.approx(written * consumers.compressed_part(first, 4 * KIB), rel=1e-6)
    assert 0 < found.after < found.before
    assert told() == compression_sentence(view.pools[0], found)
    after = pool_space(current_view(), current_view().pools[0]).ledger
    assert after.free == before.free
    # A node that has nothing to tell of it any more takes its part of the figure along.
    barn_site.erase("charts")
    look(barn_site)
    assert site_service.compressed(view.pools[0].number) == Measured()
