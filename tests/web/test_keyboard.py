"""By keyboard alone, from an empty site to a volume: nothing here touches the mouse."""

from __future__ import annotations

import re

from conftest import Running, carry_out
from playwright.sync_api import Page, expect
from test_ground_story import NODES, announce

NOBODY_REPORTS = True
LONG = 240_000  # ms: for what the barn does by itself
MOST_TABS = 90  # from anything on a page to anything else on it


def focused(page: Page) -> str:
    """The name of what has the focus, as a screen reader would begin to say it."""
    return page.evaluate(
        """() => {
          const at = document.activeElement;
          const by = (at.getAttribute("aria-labelledby") ?? "").split(" ");
          const told = by.map((id) => document.getElementById(id)?.textContent ?? "").join(" ").trim();
          return told || at.getAttribute("aria-label") || at.textContent.trim();
        }"""
    )


def tab_to(page: Page, name: str) -> None:
    for _ in range(MOST_TABS):
        if focused(page) == name:
            return
        page.keyboard.press("Tab")
    raise AssertionError(f"{name} is not reached by Tab; the focus is on {focused(page)}")


def write(page: Page, name: str, text: str) -> None:
    tab_to(page, name)
    page.keyboard.press("Control+a")
    page.keyboard.type(text)


def press(page: Page, name: str) -> None:
    """A button that cannot be pressed yet is waited for, as a person does."""
    expect(page.get_by_role("button", name=name).last).to_be_enabled()
    tab_to(page, name)
    page.keyboard.press("Enter")


def carried_out(page: Page) -> None:
    carry_out(page, lambda: press(page, "Carry out"))
    expect(page.locator(".headline p")).to_contain_text(re.compile(r"Change \d+, done"), timeout=LONG)


def test_from_an_empty_site_to_a_volume(tab: Page, running: Running) -> None:
    tab.goto(running.url)
    heading = tab.get_by_role("heading", level=1)
    expect(heading).to_have_text("No node has reported in yet.")
    announce(running, *NODES)  # the servers are started; the rest is a person at the keys
    expect(heading).to_contain_text("9 nodes reported in.", timeout=LONG)

    tab.keyboard.press("3")
    expect(heading).to_have_text("Form the cluster")
    press(tab, "Take the proposal")
    write(tab, "Name of the cluster", "quay")
    carried_out(tab)

    tab.keyboard.press("4")
    expect(tab.get_by_text("Preview a pool")).to_be_visible()
    tab.keyboard.press("p")
    expect(tab.get_by_label("Name of the pool")).to_be_focused()
    tab.keyboard.type("quayside")
    press(tab, "All fit SSD")
    carried_out(tab)

    tab.keyboard.press("5")
    expect(tab.get_by_text("Preview a volume")).to_be_visible()
    tab.keyboard.press("p")
    expect(tab.get_by_label("Name of the volume")).to_be_focused()
    tab.keyboard.type("charts")
    write(tab, "Size, such as 1 TiB, or all that fits", "200 GiB")
    tab_to(tab, "Copies")  # a list is opened, walked and closed by keys
    tab.keyboard.press("Enter")
    tab.keyboard.press("ArrowUp")
    tab.keyboard.press("Enter")
    expect(tab.get_by_text("Two copies").first).to_be_visible()
    carried_out(tab)

    tab.keyboard.press("5")
    tab_to(tab, "charts")
    tab.keyboard.press("Enter")
    expect(heading).to_contain_text("charts")
    expect(tab.get_by_text("Whole: two copies")).to_be_visible()
