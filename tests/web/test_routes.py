"""Every route of the filled demo, in both themes and two widths: nothing on the console, no problem told
where there is none, nothing wider than the page, and no fault that axe-core finds.

axe-core is Deque's open-source checker of the W3C's Web Content Accessibility Guidelines 2.2.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import pytest
from conftest import Running
from playwright.sync_api import Browser, Page, expect

from foldbarn.settings import PROJECT

AXE = PROJECT / "web" / "node_modules" / "axe-core" / "axe.min.js"
ROUTES = (
    "/",
    "/machines",
    "/machines?show=nodes",
    "/machines/fulmar",
    "/disks/fulmar-1",
    "/disks/dunlin-4",
    "/intake",
    "/arrange",
    "/text",
    "/cluster",
    "/pools",
    "/pools/quayside",
    "/pools/deepwater",
    "/sizing",
    "/policies",
    "/policies/seldom-read",
    "/policies/land-and-settle",
    "/policies?plan=save-policy",
    "/policies?plan=save-policy&policy=seldom-read",
    "/volumes/charts?plan=keep-policy&volumes=charts",
    "/volumes/charts?plan=grow-volume&volume=charts",
    "/volumes/charts?plan=rename-volume&volume=charts",
    "/volumes/charts?plan=take-snapshot&volume=charts",
    "/volumes/charts?plan=delete-snapshot&volume=charts&snapshots=autumn-edition",
    "/volumes/charts?plan=copy-snapshot&volume=charts&snapshot=autumn-edition",
    "/volumes/charts?plan=show-snapshot&volume=charts&snapshot=autumn-edition",
    "/volumes/charts?plan=grow-room&volume=charts",
    "/volumes/charts?plan=keep-on&volume=charts",
    "/volumes/berth-logs?plan=move-volume&volume=berth-logs",
    "/volumes/charts?plan=rename-snapshot&volume=charts&snapshot=autumn-edition",
    "/volumes/timetable-before",
    "/policies/seldom-read?plan=keep-policy&volumes=charts&policy=seldom-read",
    "/policies/scratch?plan=keep-policy&policy=scratch",
    "/volumes",
    "/volumes/charts",
    "/volumes/deck-cameras",
    "/volumes/desks/hosts",
    "/volumes/desks/hosts?plan=attach-volume&volume=desks",
    "/volumes/desks/hosts?plan=detach-volume&volume=desks",
    "/hosts",
    "/hosts?plan=save-host",
    "/hosts?plan=attach-volume",
    "/vms",
    "/vms?plan=make-vm",
    "/vms/crew-roster",
    "/vms/berth-planner?plan=delete-vm&vm=berth-planner",
    "/vms/berth-planner?plan=power-on&vm=berth-planner",
    "/vms/crew-roster?plan=power-off&vm=crew-roster",
    "/vms/berth-planner?plan=move-vm&vm=berth-planner",
    "/shares",
    "/shares?plan=make-share",
    "/shares?plan=serve-files",
    "/shares/charts",
    "/shares/safety-videos",
    "/shares/charts?plan=alter-share&share=charts",
    "/shares/safety-videos?plan=let-user-in&share=safety-videos",
    "/shares/charts?plan=delete-share&share=charts",
    "/volumes/charts-files",
    "/hosts/bridge-1",
    "/hosts/slipway?plan=connect-vm-host&host=slipway",
    "/volumes/crew-roster-disk-2",
    "/hosts/chart-plotter",
    "/hosts/slipway",
    "/hosts/slipway?plan=save-host&host=slipway",
    "/consumers",
    "/consumers/namespaces",
    "/consumers/namespaces?plan=grant-policy&orchestrator=tender&namespace=cargo-desk&policy=steady-three",
    "/consumers/namespaces?plan=withdraw-grant&orchestrator=tender&namespace=ticketing&policy=steady-three",
    "/consumers/namespaces/tender/cargo-desk",
    "/consumers/classes",
    "/consumers/classes?plan=publish-class&class=kept-three",
    "/consumers/classes?plan=withdraw-class&class=steady-three",
    "/consumers/aside",
    "/consumers/orchestrators",
    "/consumers/orchestrators?plan=connect-orchestrator&orchestrator=tender",
    "/consumers/orchestrators?plan=disconnect-orchestrator&orchestrator=tender",
    "/consumers/orchestrators?plan=make-secret&orchestrator=tender",
    "/consumers/orchestrators?plan=revoke-secret&orchestrator=tender&secret=barn-1",
    "/claims/1",
    "/claims/3",
    "/claims/3?plan=bind-again&claim=3",
    "/volumes/ticketing-seat-ledger",
    "/watch",
    "/watch/rules",
    "/watch/rules/new",
    "/watch/rules/3",
    "/watch/routes",
    "/changes",
    "/changes/1",
    "/changes/4",
    "/nowhere",
    "/?plan=form-pool",
    "/?plan=create-volume",
    "/?plan=rebuild&pool=quayside",
    "/pools/quayside?plan=set-pool&pool=quayside",
)
# What can be pressed or typed in and stands beyond the edge, and not in something that is scrolled.
CLIPPED = """
    [...document.querySelectorAll('a, button, input, select, textarea, h1, h2')]
    .filter(e => e.checkVisibility() && e.getBoundingClientRect().right > innerWidth + 1)
    .filter(e => {
        for (let up = e.parentElement; up; up = up.parentElement)
            if (['auto', 'scroll'].includes(getComputedStyle(up).overflowX)) return false
        return true
    })
    .map(e => e.outerHTML.slice(0, 90))
"""
GO_ON = "to => document.querySelector('#app').__vue_app__.config.globalProperties.$router.push(to)"
# Colours that are on their way are none yet.
SETTLED = """
    Promise.all(
        document.getAnimations().filter(a => a instanceof CSSTransition).map(a => a.finished.catch(() => {}))
    ).then(() => {})
"""
DAY, NIGHT = {"width": 1280, "height": 800}, {"width": 900, "height": 800}  # no width has its own colours


@pytest.fixture(scope="module")
def filled(running: Running) -> Running:
    running.demo.fill()
    running.pull(lever="consumers", times=0)  # on a slow machine they would overwrite what snapshots hold
    running.pull(lever="speed", speed=1.0)  # nothing is waited for any more
    return running


@dataclass
class Told:
    """What a page told on its console, and what it could not get."""

    words: list[str] = field(default_factory=list)

    def follow(self, page: Page) -> None:
        page.on("console", lambda m: self.words.append(m.text) if m.type in ("error", "warning") else None)
        page.on("pageerror", lambda error: self.words.append(str(error)))


@pytest.fixture
def view(browser: Browser) -> Iterator[tuple[Page, Told]]:
    """A page by day, and what it tells."""
    context = browser.new_context(viewport=DAY)  # type: ignore[arg-type]
    page, told = context.new_page(), Told()
    told.follow(page)
    yield page, told
    context.close()


def faults_of(page: Page) -> list[str]:
    """What is wrong with the page as it stands."""
    found = [f"a problem is told: {p.inner_text()[:80]}" for p in page.locator(".problem").all()]
    found += [f"a blocker at rest: {b.inner_text()[:80]}" for b in page.locator("[data-note=blocker]").all()]
    wide = page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
    if wide > 0:
        found.append(f"wider than the page by {wide} px")
    found += [f"clipped: {what}" for what in page.evaluate(CLIPPED)]
    if not page.evaluate("'axe' in window"):
        page.evaluate(AXE.read_text())
    # What is wrong by day is wrong by night too, but for the colours.
    night = page.evaluate("document.documentElement.dataset.theme") == "night"
    rules = "runOnly: ['color-contrast']" if night else "resultTypes: ['violations']"
    # What lies under a sheet is looked at on its own route.
    over = page.get_by_role("dialog").count() > 0
    part = "document.querySelector('[role=dialog]')" if over else "document"
    faults = page.evaluate(f"axe.run({part}, {{{rules}}})")["violations"]
    for fault in faults:
        for node in fault["nodes"][:3]:
            found.append(f"{fault['id']}: {node['html'][:110]} ({fault['help']})")
    return found


def test_no_route_has_a_fault(filled: Running, view: tuple[Page, Told]) -> None:
    """Half of them are opened by their address, as from a link; to the others one goes on from the page
    before. Each is looked at by day, and then narrower and by night.
    """
    page, told = view
    found = []
    for number, route in enumerate(ROUTES):
        if number % 2:
            page.evaluate(GO_ON, route)
        else:
            page.goto(filled.url + route)
        expect(page.locator("main")).to_be_visible()
        expect(page.get_by_text("Reading ")).to_have_count(0)
        expect(page.locator("h1, .sheet h2").first).to_be_visible()
        faults = faults_of(page)
        _turn(page, to="night")
        faults += [f"by night: {fault}" for fault in faults_of(page)]
        _turn(page, to="day")
        found += [f"{route}: {fault}" for fault in faults]
        found += [f"{route}: the console says {words[:160]}" for words in told.words]
        told.words.clear()
    assert not found, "\n".join(found)


def _turn(page: Page, *, to: str) -> None:
    page.set_viewport_size(NIGHT if to == "night" else DAY)  # type: ignore[arg-type]
    page.keyboard.press("Alt+KeyN")
    expect(page.locator("html")).to_have_attribute("data-theme", to)
    page.evaluate(SETTLED)
