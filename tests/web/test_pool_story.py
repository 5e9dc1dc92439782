"""Pools as a person works with them: roles, growth, emptying, replacing, settings, slowing, deleting; and
machines on paper. Each test builds on the last.
"""

from __future__ import annotations

import csv
import re
from pathlib import Path

import pytest
from conftest import Running
from playwright.sync_api import Locator, Page, expect

LONG = 60_000  # ms: for what the barn does by itself
NODES = ("fulmar", "petrel", "kittiwake", "turnstone")


@pytest.fixture
def page(tab: Page, running: Running) -> Page:
    tab.goto(running.url)
    expect(tab.get_by_role("button", name="Plan a change")).to_be_visible()
    return tab


def done(page: Page, step: str) -> None:
    expect(page.locator(f'[data-step="{step}"]')).to_have_attribute("data-state", "done", timeout=LONG)


def carry_out(page: Page) -> None:
    page.get_by_role("dialog").get_by_role("button", name="Carry out").click()
    expect(page).to_have_url(re.compile(r"/changes/\d+"), timeout=LONG)


def sheet_of(page: Page) -> Locator:
    return page.get_by_role("dialog").first


def test_roles_follow_the_rule_and_another_one_wants_a_reason(page: Page, running: Running) -> None:
    page.goto(f"{running.url}/pools?plan=form-pool")
    sheet = sheet_of(page)
    sheet.get_by_label("Name of the pool").fill("skerries")
    for node in NODES:
        sheet.locator(".choose").get_by_role("button", name=node).click()
    row = sheet.locator('[data-role-of="fulmar-c1"]')
    expect(row).to_contain_text("NVMe is the fastest class here.")
    expect(row).to_contain_text("serves 4 disks")
    expect(sheet.locator('[data-role-of="fulmar-1"]')).to_contain_text("served by fulmar-c1")
    sheet.get_by_label("Role of fulmar-c2").select_option("spare")
    expect(sheet.locator('[data-note="blocker"]')).to_contain_text(
        "fulmar-c2 is cache by rule; making it spare wants a reason."
    )
    sheet.get_by_label("Reason for other roles").fill("kept for a worn device")
    expect(sheet.locator('[data-note="blocker"]')).to_have_count(0)
    expect(
        sheet.get_by_text(
            re.compile(r"7 cache devices of 1\.92 TB take .* drive writes a day each, of 3\.0 allowed")
        )
    ).to_be_visible()
    carry_out(page)
    done(page, "bind")
    page.get_by_role("link", name="Show skerries").click()
    page.get_by_role("navigation", name="Of this pool").get_by_role("link", name="Roles and cache").click()
    expect(page.locator('[data-role-of="fulmar-c2"]')).to_contain_text(
        "By choice: kept for a worn device. By rule it is cache."
    )
    expect(page.get_by_role("table", name="If a cache device fails").get_by_role("row")).to_have_count(1 + 7)
    page.get_by_role("link", name="What it could hold").click()
    expect(page.get_by_role("row").filter(has_text="3, usual")).to_contain_text("rack")
    expect(page.get_by_role("row").filter(has_text="It needs 3 rooms; there are 2.")).to_be_visible()


def test_it_grows_and_what_moved_is_compared_with_what_was_foreseen(page: Page, running: Running) -> None:
    running.pull(lever="speed", speed=600)
    running.demo.carry_out("create-volume", {"name": "charts", "pool": "skerries", "size": "600 GiB"})
    page.goto(f"{running.url}/pools/skerries")
    page.get_by_role("link", name="Preview adding disks").click()
    sheet_of(page).locator(".choose").get_by_role("button", name="razorbill").click()
    steps = page.get_by_role("table", name="Capacity at every step")
    expect(steps.get_by_role("row")).to_have_count(3)
    expect(page.get_by_role("table", name="What moves between domains")).to_contain_text("to NQ-2")
    expect(page.get_by_text("Above its disks' shares")).to_be_visible()
    carry_out(page)
    done(page, "claim")
    page.get_by_role("link", name="Changes", exact=True).click()
    row = page.get_by_role("row").filter(has_text="disks joined it").first
    expect(row).to_contain_text("done", timeout=LONG)
    row.get_by_role("link").first.click()
    happened = page.get_by_role("table", name="Foreseen and happened")
    expect(happened).to_contain_text("Moved")
    expect(happened.get_by_role("row").filter(has_text="by the nodes' clocks")).to_contain_text(
        re.compile(r"at least .*(s|min)")
    )


def test_a_disk_is_retired_from_its_page_and_then_replaces_another(page: Page, running: Running) -> None:
    page.goto(f"{running.url}/disks/petrel-3")
    page.get_by_role("link", name="Preview retiring it").click()
    expect(page.get_by_text("each new copy is whole before the old one is dropped")).to_be_visible()
    carry_out(page)
    done(page, "drain:skerries")
    done(page, "part")
    page.goto(f"{running.url}/disks/petrel-3")
    expect(page.get_by_text("Fit, and in no pool.")).to_be_visible()
    page.goto(f"{running.url}/disks/petrel-5")
    page.get_by_role("link", name="Preview replacing it").click()
    expect(sheet_of(page).get_by_text("Choose the disk that takes its place.").first).to_be_visible()
    page.get_by_label("Replace by").select_option("petrel-3")
    carry_out(page)
    done(page, "swap")
    done(page, "part")
    expect(page.get_by_text(re.compile("petrel-5 is out of use|1 disk is out of use"))).to_be_visible()
    page.goto(f"{running.url}/disks/petrel-3")
    expect(page.get_by_text("In use by pool skerries as capacity")).to_be_visible()


def test_what_would_break_a_promise_is_refused_by_name(page: Page, running: Running) -> None:
    page.goto(f"{running.url}/pools/skerries?plan=retire&rack=NQ-1")
    sheet_of(page).get_by_role("button", name="SQ-1", exact=True).click()
    expect(page.locator('[data-note="blocker"]').first).to_contain_text(
        "charts keeps 3 copies in as many racks; only 2 racks would be left."
    )
    expect(page.get_by_role("button", name="Carry out")).to_be_disabled()


def test_settings_are_changed_and_a_change_under_way_is_slowed_and_withdrawn(
    page: Page, running: Running
) -> None:
    page.goto(f"{running.url}/pools/skerries?show=settings")
    page.get_by_role("link", name="Preview other settings").click()
    page.get_by_label("Losses to heal from").select_option("2")
    page.get_by_label("Levelling rate").fill("200")
    page.get_by_label("Levelling rate").blur()
    expect(sheet_of(page).get_by_role("row").filter(has_text="Levelling at most")).to_contain_text("200 MB/s")
    carry_out(page)
    done(page, "set")
    page.goto(f"{running.url}/pools/skerries?show=settings")
    expect(page.get_by_text("any two nodes", exact=True)).to_be_visible()
    running.pull(lever="speed", speed=2)
    page.goto(f"{running.url}/machines/turnstone")
    page.get_by_role("link", name="Preview retiring its disks").click()
    carry_out(page)
    expect(page.locator('[data-step="drain:skerries"]')).to_have_attribute(
        "data-state", "running", timeout=LONG
    )
    page.get_by_label("Most megabytes per second").fill("30")
    page.get_by_label("Most megabytes per second").press("Enter")
    page.reload()
    expect(page.get_by_label("Most megabytes per second")).to_have_value("30")
    page.get_by_role("link", name="Pools", exact=True).click()
    page.get_by_role("link", name="skerries", exact=True).click()
    expect(
        page.locator("main").get_by_role("link", name="Retire turnstone")
    ).to_be_visible()  # the pool's page tells of it
    page.locator("main").get_by_role("link", name="Retire turnstone").click()
    page.get_by_role("button", name="Withdraw").click()
    expect(page.get_by_role("heading", level=1).locator("..")).to_contain_text("withdrawn", timeout=LONG)
    running.pull(lever="speed", speed=5000)


def test_a_pool_is_emptied_and_deleted_by_typing_its_name(page: Page, running: Running) -> None:
    running.demo.carry_out("delete-volume", {"volume": "charts", "typed": "charts"})
    page.goto(f"{running.url}/pools/skerries")
    page.get_by_role("link", name="Preview deleting it").click()
    page.get_by_label("Type skerries to confirm").fill("skerries")
    carry_out(page)
    done(page, "forget")
    page.get_by_role("link", name="Show skerries").click()
    expect(page.get_by_text("No pool yet.")).to_be_visible()


def test_the_sizing_bench_compares_plans_and_the_address_carries_them(
    page: Page, running: Running, tmp_path: Path
) -> None:
    page.goto(f"{running.url}/sizing")
    expect(page.locator('[data-variant="0"]').get_by_text("1.", exact=False).first).to_be_visible()
    machines = page.get_by_label("Machines of Plan A")
    machines.fill("rack A\na: 8 x 4 TB SSD\nrack B\nb: eight disks")
    expect(page.get_by_role("alert")).to_contain_text("Line 4: 'eight disks' is neither disks")
    machines.fill(
        "rack A\na: 8 x 4 TB SSD\nrack B\nb: 8 x 4 TB SSD\nrack C\nc: 8 x 4 TB SSD\nrack D\nd: 8 x 4 TB SSD"
    )
    expect(page.locator('[data-variant="0"]')).to_contain_text("31.68 TB")
    page.get_by_role("button", name="Add a variant").click()
    page.get_by_label("Copies in Plan B").select_option("2")
    expect(page.locator('[data-variant="1"]')).to_contain_text("47.52 TB")
    expect(page.locator('[data-variant="1"]')).to_contain_text("the most")
    expect(page.locator('[data-variant="1"]')).to_contain_text(re.compile(r"Loss a year1 in [\d,]+"))
    expect(page).to_have_url(re.compile("plans="))
    page.reload()
    expect(page.locator('[data-variant="1"]')).to_contain_text("47.52 TB")  # the address alone brings it back
    with page.expect_download() as caught:
        page.get_by_role("button", name="Save the comparison as CSV").click()
    caught.value.save_as(tmp_path / "sizing.csv")
    table = list(csv.reader((tmp_path / "sizing.csv").open(encoding="utf-8")))
    assert table[0] == ["", "Plan A", "Plan B"]
    with page.expect_download() as caught:
        page.locator('[data-variant="0"]').get_by_role("button", name="Save as text").click()
    caught.value.save_as(tmp_path / "site.yaml")
    assert "name: a" in (tmp_path / "site.yaml").read_text()
    page.locator('[data-variant="0"]').get_by_role("button", name="From this site").click()
    expect(machines).to_have_value(re.compile("room North Quay"))
