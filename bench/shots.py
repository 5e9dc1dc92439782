"""./barn shots: one current picture of each main view, from a demo of its own, into docs/screenshots/."""

from __future__ import annotations

import re
import shutil
from contextlib import closing
from functools import partial

from playwright.sync_api import Browser, Page, sync_playwright

from foldbarn.house.barn import Barn
from foldbarn.house.demo import NODES, Demo
from foldbarn.house.postgres import free_port
from foldbarn.settings import PROJECT

SHOTS = PROJECT / "docs" / "screenshots"
STATE = PROJECT / ".barn" / "shots"
TOLD: list[str] = []  # errors on the console of any page
RISEN = 256  # extents on the fast tier before a picture is taken of that
SETTLE = 900  # ms for a page to have everything


class Faulty(Exception):
    """A page shows what no picture should."""


def told_of_snapshots(engineer: Demo) -> bool:
    past = engineer.client.get("/volumes/charts").raise_for_status().json()["past"]
    return bool(past["held"])


def opened(browser: Browser) -> Page:
    """A page that remembers what its console says."""
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.on("console", lambda m: TOLD.append(m.text) if m.type == "error" else None)
    page.on("pageerror", lambda error: TOLD.append(str(error)))
    return page


def shoot(page: Page, name: str) -> None:
    """Raises Faulty where the page tells a problem, has a blocker at rest, or an error on its console."""
    faults = [*TOLD, *(p.inner_text() for p in page.locator(".problem, [data-note=blocker]").all())]
    if faults:
        raise Faulty(f"{name}: {faults[0]}")
    page.screenshot(path=SHOTS / name)


def take(page: Page, url: str, name: str) -> None:
    page.goto(url)
    # A busy machine may take its time: no picture of a page that is still being read.
    page.locator(".page .headline").first.wait_for(timeout=30_000)
    page.locator(".top .who").filter(has_text=re.compile(r"\S")).wait_for(timeout=30_000)
    page.wait_for_timeout(SETTLE)
    shoot(page, f"{name}.png")


def preview(page: Page, base: str) -> None:
    page.goto(f"{base}/pools/quayside?plan=retire&node=petrel")
    page.get_by_role("table", name="Capacity at every step").wait_for()
    page.locator(".plan .body").evaluate("body => body.scrollTo(0, 470)")
    page.wait_for_timeout(SETTLE)
    shoot(page, "preview-retirement.png")


def sizing(page: Page, base: str) -> None:
    """The site as it is beside three larger nodes, two copies."""
    page.goto(f"{base}/sizing")
    page.get_by_role("button", name="From this site").click()
    page.get_by_role("button", name="Add a variant").click()
    page.get_by_label("Machines of Plan B").fill(
        "".join(f"rack {r}\n  heron-{r}: 24 x 7.68 TB SSD, 4 x 1.92 TB NVMe, 2 x 100 Gb/s\n" for r in "ABCD")
    )
    page.get_by_label("Name of variant 1").fill("As it is")
    page.get_by_label("Name of variant 2").fill("Four large nodes")
    page.wait_for_timeout(3 * SETTLE)
    shoot(page, "sizing.png")


def tiers(page: Page, base: str, engineer: Demo) -> None:
    """A volume of which the hottest has risen by itself, and what a larger share would bring."""
    # Half a day passes in a minute: with more room no snapshot gives way, not even if it is one of rushes.
    engineer.carry_out("grow-room", {"volume": "timetable", "room": 100})
    engineer.client.post("/yard", json={"lever": "speed", "speed": 600}).raise_for_status()

    def risen() -> bool:
        volume = engineer.client.get("/volumes/cargo-desk").raise_for_status().json()
        return volume["hot"]["extents"] >= RISEN and volume["anew"] is None

    engineer.wait(risen, "the hottest extents to rise", seconds=600.0)
    engineer.client.post("/yard", json={"lever": "speed", "speed": 1}).raise_for_status()
    page.goto(f"{base}/volumes/cargo-desk")
    curve = page.get_by_role("slider", name="The hottest part of it")
    for _ in range(3):
        curve.press("ArrowRight")
    page.get_by_role("columnheader", name="extents there").wait_for()
    page.mouse.wheel(0, 2000)
    page.wait_for_timeout(SETTLE)
    shoot(page, "tiers.png")


def a_rule(page: Page, base: str) -> None:
    """A watch rule on what the rushes of half a day came to."""
    page.goto(f"{base}/watch/rules/new")
    page.get_by_label("Name of the rule").fill("Ticketing answers late")
    page.get_by_label("Limit", exact=True).first.fill("60")
    page.get_by_label("Seconds that it must hold").fill("20")
    page.get_by_label("Level at which it is over").fill("50")
    page.wait_for_timeout(3 * SETTLE)
    shoot(page, "rule.png")


def a_lost_node(page: Page, base: str, engineer: Demo) -> None:
    engineer.client.put("/grace", json={"grace_seconds": 4}).raise_for_status()
    engineer.client.post("/yard", json={"lever": "speed", "speed": 10}).raise_for_status()
    engineer.client.post("/yard", json={"lever": "cut power", "what": "petrel"}).raise_for_status()
    page.goto(base)
    page.locator(".tape .left").wait_for(timeout=60_000)
    shoot(page, "barn-rebuilding.png")
    newest = engineer.client.get("/changes").json()[0]["number"]
    take(page, f"{base}/changes/{newest}", "change")


def main() -> None:
    shutil.rmtree(STATE, ignore_errors=True)
    SHOTS.mkdir(parents=True, exist_ok=True)
    barn = Barn(STATE, free_port(), quick=True)
    try:
        barn.start()
        with closing(Demo(barn.url)) as engineer, sync_playwright() as tool:
            browser = tool.chromium.launch(
                executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu"]
            )
            page = opened(browser)
            engineer.wait(lambda: engineer.barn()["counts"]["nodes"] >= NODES, "all nodes to report in")
            engineer.fill()
            engineer.wait(partial(told_of_snapshots, engineer), "nodes to tell what snapshots hold")
            for path, name in (
                ("/", "barn"),
                ("/machines", "machines"),
                ("/arrange", "arrange"),
                ("/cluster", "cluster"),
                ("/vms/crew-roster", "vm"),
                ("/shares/charts", "share"),
                ("/volumes", "volumes"),
                ("/pools/quayside", "pool"),
                ("/hosts", "hosts"),
                ("/consumers", "claims"),
                ("/claims/1", "claim"),
                ("/policies?pool=quayside&level=node", "policies"),
                ("/volumes/charts?extent=1204", "volume"),
            ):
                take(page, barn.url + path, name)
            preview(page, barn.url)
            sizing(page, barn.url)
            tiers(page, barn.url, engineer)
            a_rule(page, barn.url)
            a_lost_node(page, barn.url, engineer)
            browser.close()
    finally:
        barn.stop()
        shutil.rmtree(STATE, ignore_errors=True)


if __name__ == "__main__":
    main()
