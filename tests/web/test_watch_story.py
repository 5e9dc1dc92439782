"""The watch as people use it: a disk that fails is opened, a rule is written on a curve, the load goes up,
the rule fires and mail comes with its picture, somebody sees to it, and it is over.
"""

from __future__ import annotations

import re

import pytest
from conftest import Running, pick
from playwright.sync_api import Page, expect

SETTINGS = {"FOLDBARN_SAMPLE_SECONDS": "1"}  # what takes ten samples is not to take minutes


@pytest.fixture(scope="module")
def used(running: Running) -> Running:
    """A pool with a volume that consumers use, while the stand-ins' time goes as ours does."""
    disks = [
        d["name"]
        for d in running.api.get("/machines").json()["disks"]
        if d["role"] == "unclaimed"
        and d["media"] == "ssd"
        and d["node"] in ("fulmar", "petrel", "kittiwake", "turnstone")
    ]
    running.demo.carry_out("form-pool", {"name": "quayside", "disks": disks})
    running.demo.carry_out("create-volume", {"name": "charts", "pool": "quayside", "size": "100 GiB"})
    running.pull(lever="speed", speed=1.0)
    running.pull(lever="consumers", times=0.0)
    return running


def test_who_is_told_is_said_first_and_a_test_arrives(used: Running, tab: Page) -> None:
    tab.goto(f"{used.url}/watch")
    tab.get_by_role("link", name="Say who is told").click()
    tab.get_by_label("Name of the route").fill("on call")
    tab.get_by_label("To", exact=True).fill("tomas.reed@skerry.example")
    tab.get_by_role("button", name="Make it").click()
    tab.get_by_role("button", name="Send a test to on call").click()
    expect(tab.get_by_role("status")).to_have_text("The test was taken.")
    mails = used.api.get("/yard").json()["mails"]
    assert "Test: word from Fold Barn arrives" in [m["subject"] for m in mails]
    used.pull(lever="mail server", how="refuses")
    tab.get_by_role("button", name="Send a test to on call").click()
    expect(tab.get_by_role("status")).to_contain_text("451 4.3.0")
    used.pull(lever="mail server", how="well")


def test_a_disk_that_fails_says_why_and_is_watched_from_the_start(used: Running, tab: Page) -> None:
    tab.goto(f"{used.url}/watch")
    tab.get_by_role("link", name="A disk loses sectors: dunlin-4").click()
    expect(tab.get_by_role("heading", name="A disk loses sectors: dunlin-4")).to_be_visible()
    expect(tab.get_by_role("cell", name=re.compile("sectors, above 100 sectors since"))).to_be_visible()
    tab.get_by_role("link", name="dunlin-4", exact=True).click()
    expect(tab.get_by_text(re.compile("sectors reallocated")).first).to_be_visible()


def test_a_rule_is_written_on_its_curve_fires_is_seen_to_and_is_over(used: Running, tab: Page) -> None:
    tab.goto(f"{used.url}/watch/rules")
    tab.get_by_role("link", name="Write a rule").click()
    tab.get_by_label("Name of the rule").fill("Charts is busy")
    pick(tab, "Which of them", "those named")
    tab.get_by_label("Names, with commas between").fill("charts")
    pick(tab, "What of it", "the number of reads")
    tab.get_by_label("Limit", exact=True).first.fill("1")
    tab.get_by_label("Level at which it is over").fill("0")
    tab.get_by_label("Seconds that it must hold").fill("3")
    pick(tab, "How much it matters", "urgent")
    expect(tab.get_by_text("It would have told of nothing")).to_be_visible()
    # The limit is a slider as well, for who has no pointer.
    handle = tab.get_by_role("slider", name="Limit")
    expect(handle).to_have_attribute("aria-valuetext", "1 a second")
    tab.get_by_role("button", name="Keep it").click()
    expect(tab).to_have_url(f"{used.url}/watch/rules")
    row = tab.get_by_role("row", name=re.compile("Charts is busy"))
    expect(row).to_contain_text("quiet")
    used.pull(lever="consumers", times=10.0)
    expect(row).to_contain_text(re.compile("yet to hold|out of bounds"))
    expect(row).to_contain_text("1 out of bounds")
    # What is tried says what came: the rule on its own curve.
    row.get_by_role("link", name="Charts is busy").click()
    expect(tab.get_by_text("It would have told 1 time")).to_be_visible()
    expect(tab.get_by_label("The message")).to_contain_text("Urgent: Charts is busy: charts")
    tab.goto(f"{used.url}/watch")
    tab.get_by_role("link", name="Charts is busy: charts").click()
    expect(tab.get_by_role("cell", name=re.compile("a second, above 1 a second since"))).to_be_visible()
    expect(tab.get_by_role("cell", name="sent")).to_be_visible()
    tab.get_by_role("button", name="I see to it").click()
    expect(tab.get_by_text("Ines Marrow sees to it")).to_be_visible()
    # The mail has the figures as text, and the curve as a picture that browsers show.
    tab.get_by_role("button", name="Yard").click()
    drawer = tab.get_by_role("region", name="Yard")
    drawer.get_by_role("button", name="Urgent: Charts is busy: charts").click()
    expect(drawer.get_by_text("Volume charts:")).to_be_visible()
    picture = drawer.get_by_alt_text("The curve that came with: Urgent: Charts is busy: charts")
    assert picture.evaluate("image => image.decode().then(() => image.naturalWidth)") == 900
    tab.keyboard.press("Escape")
    used.pull(lever="consumers", times=0.0)
    expect(tab.get_by_text(re.compile("^Was over"))).to_be_visible()
    expect(tab.get_by_role("button", name=re.compile("^Over: Charts is busy: charts, after"))).to_be_visible()
    tab.goto(f"{used.url}/volumes/charts")
    expect(tab.get_by_role("link", name="Charts is busy: it fired.")).to_be_visible()
