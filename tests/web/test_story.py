"""The story as a person lives it: from bare servers to a volume that outlives a server. The tests build on
one another.
"""

from __future__ import annotations

import json
import re
from urllib.parse import quote

import pytest
from conftest import Running, blocker, carry_out, pick
from playwright.sync_api import Page, expect

SETTINGS = {"FOLDBARN_SAMPLE_SECONDS": "1"}
LONG = 240_000  # ms: for what the barn does by itself


@pytest.fixture
def page(tab: Page, running: Running) -> Page:
    tab.goto(running.url)
    expect(
        tab.get_by_role("button", name="Plan a change")
    ).to_be_visible()  # keys pressed before the site is read would be lost
    return tab


def test_bare_machines_are_shown_as_they_reported(page: Page) -> None:
    expect(page.get_by_role("heading", level=1)).to_have_text("9 nodes reported in.")
    expect(page.get_by_text("stall 3, empty")).to_be_visible()
    for name in (
        "fulmar",
        "gannet",
        "petrel",
        "razorbill",
        "kittiwake",
        "dunlin",
        "turnstone",
        "whimbrel",
        "skua",
    ):
        expect(page.locator(f'[data-node="{name}"]')).to_be_visible()
    expect(page.locator('[data-disk="skua-3"]')).to_have_attribute("aria-label", re.compile("skua-3, unfit"))
    expect(page.get_by_role("link", name="dunlin-4 is wearing out")).to_be_visible()


def test_a_volume_wished_for_where_there_is_no_pool_is_told_so(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/volumes?plan=create-volume")
    sheet = tab.get_by_role("dialog")
    expect(sheet).to_contain_text("A volume draws from a pool, and there is none yet.")
    expect(sheet.locator("[data-note=blocker]")).to_have_count(0)
    expect(sheet.get_by_role("button", name="Carry out")).to_be_disabled()


def test_a_pool_is_formed_from_a_preview(page: Page) -> None:
    page.get_by_role("button", name="Plan a change").click()
    page.get_by_role("menuitem", name="Preview a pool").click()
    sheet = page.get_by_role("dialog")
    expect(sheet.get_by_role("button", name="Carry out")).to_be_disabled()
    sheet.get_by_label("Name of the pool").fill("quayside")
    disk = sheet.locator('[data-disk="fulmar-c1"]')
    at_first = disk.bounding_box()
    for node in ("fulmar", "petrel", "kittiwake", "turnstone"):
        sheet.locator(".choose").get_by_role("button", name=node).click()
    expect(sheet.get_by_text("Usable with 2 copies")).to_be_visible()
    # What the preview brings moves no disk from under the pointer that is about to choose it.
    assert disk.bounding_box() == at_first
    expect(sheet.get_by_text("Usable with 3 copies")).to_be_visible()
    expect(sheet.locator('[data-role-of="fulmar-c1"]')).to_contain_text("serves 4 disks")
    for node in ("fulmar", "petrel", "kittiwake", "turnstone"):
        for bay in ("c1", "c2"):
            sheet.locator(f'[data-disk="{node}-{bay}"]').click()
    expect(sheet.get_by_text("32 disks chosen.")).to_be_visible()
    expect(sheet.locator('[data-role-of="fulmar-c1"]')).to_have_count(0)
    # Any figure opens into its sum, also by keyboard.
    figure = sheet.get_by_role("button", name=re.compile("Usable with 3 copies"))
    figure.focus()
    page.keyboard.press(".")
    opened = page.get_by_role("dialog", name="Usable with 3 copies")
    expect(opened.get_by_text("32 disks, raw")).to_be_visible()
    expect(opened.get_by_text("122.88 TB")).to_be_visible()
    page.keyboard.press("Escape")
    carry_out(page)
    for step in ("claim", "prepare", "read-back"):
        expect(page.locator(f'[data-step="{step}"]')).to_have_attribute("data-state", "done")
    page.get_by_role("link", name="Show quayside").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("quayside")


def test_a_name_that_is_taken_is_refused_in_the_sheet(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/?plan=form-pool")
    tab.get_by_label("Name of the pool").fill("QUAYSIDE")
    tab.locator(".choose").get_by_role("button", name="razorbill").click()
    blockers = tab.locator('[data-note="blocker"]')
    expect(blockers.first).to_contain_text(
        "A pool named 'QUAYSIDE' exists already (as 'quayside'; case does not tell names apart)."
    )
    expect(blockers.nth(1)).to_contain_text("3 copies need 3 racks; the chosen disks lie in 1.")
    expect(tab.get_by_role("button", name="Carry out")).to_be_disabled()


def test_a_volume_is_made_and_its_placement_lit(page: Page) -> None:
    page.keyboard.press("5")
    expect(page).to_have_url(re.compile("/volumes$"))
    page.keyboard.press("p")  # previews the offered change
    # Whoever types looks where the cursor is: it comes into the first field once that is seen.
    expect(page.get_by_label("Name of the volume")).to_be_focused()
    page.get_by_label("Name of the volume").fill("ticketing-db")
    page.get_by_label("Size").fill("0 TB")
    expect(blocker(page, "A size must be more than zero")).to_be_visible()
    page.get_by_label("Size").fill("1 TiB")
    expect(page.get_by_text("survives the loss of any two racks")).to_be_visible()
    expect(page.get_by_text("1,024 extents of 1 GiB")).to_be_visible()
    carry_out(page)
    expect(page.locator('[data-step="read-strips"]')).to_have_attribute("data-state", "done")
    page.get_by_role("link", name="Show ticketing-db").click()
    expect(
        page.get_by_text(
            "Whole: three copies, each in another rack; survives the loss of any two racks."
        ).first
    ).to_be_visible()
    expect(page.locator('[data-node="fulmar"] .what')).to_have_text(re.compile(r"\d+\.\d GB of it"))
    expect(page.locator('[data-node="skua"] .what')).to_have_text("holds none of it")
    # An extent is picked by keyboard, and the address names it.
    staff = page.get_by_role("slider", name="Extents of this volume")
    staff.focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowRight")
    expect(page).to_have_url(re.compile("extent=1$"))
    expect(page.locator(".map .tag")).to_have_count(3)
    expect(page.get_by_text(re.compile("picked: extent 1, A on"))).to_be_visible()


def test_a_stale_preview_is_refused_with_a_fresh_one(tab: Page, running: Running) -> None:
    """What others set meanwhile makes it do something else."""
    wish = {"pool": "quayside", "fill_line": 0.8, "copies": 2}
    tab.goto(f"{running.url}/pools/quayside?plan=set-pool&with-params={quote(json.dumps(wish))}")
    button = tab.get_by_role("button", name="Carry out")
    expect(button).to_be_enabled()
    tab.route("**/api/changes/preview", lambda route: route.abort())  # this page hears of nothing more
    running.demo.carry_out("create-volume", {"name": "charts", "pool": "quayside", "size": "300 GiB"})
    running.demo.carry_out("set-pool", {"pool": "quayside", "copies": 2})
    button.click()
    expect(tab.get_by_text("The site has changed since this preview")).to_be_visible()
    tab.unroute("**/api/changes/preview")
    expect(button).to_be_enabled()
    button.click()
    expect(tab).to_have_url(re.compile(r"/changes/\d+$"))
    expect(tab.locator('[data-step="set-pool"]')).to_have_attribute("data-state", "done")


def test_a_node_without_power_is_noticed_and_its_data_rebuilt(page: Page) -> None:
    expect(page.get_by_text("Every extent has all its copies.")).to_be_visible()
    page.get_by_role("button", name="Yard").click()
    expect(page.get_by_text("These levers drive stand-ins")).to_be_visible()
    page.get_by_role("button", name="× 10", exact=True).click()
    page.get_by_label("Grace time in seconds").fill("45")
    page.get_by_role("button", name="Set").click()
    expect(page.get_by_text("45 s of silence before a rebuild.")).to_be_visible()
    page.get_by_role("button", name="Cut the power of petrel").click()
    page.get_by_role("button", name="Close").click()
    expect(page.locator('[data-node="petrel"] [data-lamp="not heard"]').first).to_be_visible(timeout=LONG)
    expect(page.get_by_role("link", name="petrel is not heard")).to_be_visible()
    expect(page.get_by_role("link", name=re.compile("ticketing-db is short of copies"))).to_be_visible()
    expect(
        page.get_by_text(re.compile("petrel is not heard since .* a rebuild starts in about")).first
    ).to_be_visible()
    expect(page.get_by_role("heading", level=1)).to_have_text("Every byte is readable.")
    # After the grace time a rebuild starts by itself, with progress, rate and time left on the tape.
    page.get_by_role("button", name="Yard").click()
    page.get_by_label("Grace time in seconds").fill("1")
    page.get_by_role("button", name="Set").click()
    page.get_by_role("button", name="Close").click()
    run = page.locator(".tape .run").filter(has_text="Rebuild and level quayside")
    expect(run).to_contain_text(re.compile(r"\d%"), timeout=LONG)
    expect(run).to_contain_text(re.compile(r"[MG]B/s"), timeout=LONG)
    expect(run).to_contain_text(re.compile(r"about .* left"), timeout=LONG)
    page.get_by_role("button", name="Yard").click()
    page.get_by_role("button", name="× 600", exact=True).click()
    page.get_by_role("button", name="Close").click()
    expect(page.get_by_text("Every extent has all its copies.")).to_be_visible(timeout=LONG)
    page.get_by_role("link", name="Volumes").click()
    page.get_by_role("link", name="ticketing-db").click()
    expect(page.locator('[data-node="petrel"] .what')).to_have_text("holds none of it")
    expect(page.get_by_text("Whole: three copies").first).to_be_visible()


def test_the_node_returns_and_takes_its_share_again(page: Page) -> None:
    page.keyboard.press("y")
    page.get_by_role("button", name="Give power to petrel").click()
    page.keyboard.press("Escape")
    page.goto(page.url + "volumes/ticketing-db")
    expect(page.locator('[data-node="petrel"] .what')).to_have_text(re.compile("[GT]B of it"), timeout=LONG)
    page.get_by_role("link", name="Changes").click()
    row = page.get_by_role("row").filter(has_text="petrel is back.")
    expect(row).to_contain_text("done", timeout=LONG)
    row.get_by_role("link").click()
    expect(page.locator('[data-step="compare"]')).to_contain_text(
        re.compile(r"[1-9]\d* left-over strips dropped, 0 strips found missing")
    )
    expect(page.locator('[data-step="level"]')).to_contain_text(re.compile(r"[1-9]\d* strips moved"))


def test_what_went_through_a_thing_is_drawn_with_what_was_amiss(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/volumes/ticketing-db")
    sea = tab.get_by_role("slider", name="Bytes over the last hour")
    sums = re.compile(r"B/s written on average, 95 of 100 samples no more than .* Known since \d\d:")
    expect(sea).to_have_attribute("aria-valuetext", sums, timeout=LONG)
    below = tab.locator('.tide path.line[data-up="false"]')  # what is read, below the waterline
    expect(below).to_have_attribute("d", re.compile(r"^M\d.*L"))
    going_on = tab.get_by_role("list", name="What else was going on")
    expect(going_on.get_by_text("petrel was not heard. No answer within")).to_be_visible()
    expect(going_on.get_by_role("link", name="Rebuild and level quayside").first).to_be_visible()
    # A moment is picked by keyboard; what is drawn, and over how long, is in the address.
    sea.focus()
    tab.keyboard.press("Home")
    picked = re.compile(r"^\d\d:\d\d:\d\d: [\d.]+ .?B/s written, [\d.]+ .?B/s read\.$")
    expect(sea).to_have_attribute("aria-valuetext", picked)
    tab.keyboard.press("Escape")
    expect(sea).to_have_attribute("aria-valuetext", sums)
    tab.get_by_role("button", name="Operations").click()
    tab.get_by_role("button", name="day", exact=True).click()
    expect(tab).to_have_url(re.compile(r"drawn=operations&over=day"))
    tab.reload()
    day = tab.get_by_role("slider", name="Operations over the last day")
    expect(day).to_have_attribute("aria-valuetext", re.compile("a second writes on average"), timeout=LONG)
    # Of a port as much as of the node that it belongs to.
    tab.goto(f"{running.url}/machines/fulmar")
    tab.get_by_role("button", name="stor0").click()
    expect(tab.get_by_role("heading", name="How it went on stor0")).to_be_visible()
    port = tab.get_by_role("slider", name="Bytes over the last hour")
    expect(port).to_have_attribute("aria-valuetext", re.compile("B/s received on average"))


def test_a_snapshot_is_taken_and_deleted_from_its_volumes_page(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/volumes/ticketing-db")
    kept = tab.get_by_role("region", name="Snapshots")
    expect(kept.get_by_text("None. One keeps what consumers overwrite")).to_be_visible()
    kept.get_by_role("link", name="Preview taking one").click()
    tab.get_by_label("Name of the snapshot").fill("before the sale")
    expect(blocker(tab, "'before the sale' cannot be a name.")).to_be_visible()
    tab.get_by_label("Name of the snapshot").fill("before-the-sale")
    tab.get_by_label("Room with the first one, %").fill("5")
    expect(tab.get_by_text("Choose disks for room for its snapshots")).to_be_visible()
    carry_out(tab)
    expect(tab.locator('[data-step="take-snapshots"]')).to_have_attribute("data-state", "done")
    tab.goto(f"{running.url}/volumes/ticketing-db")
    row = kept.get_by_role("row").filter(has_text="before-the-sale")
    expect(row).to_contain_text("sound")
    row.get_by_role("button", name="Preview what before-the-sale is for").click()
    tab.get_by_role("menuitem", name="Preview going back to before-the-sale").click()
    expect(blocker(tab, "ticketing-db is in use")).to_be_visible()
    tab.keyboard.press("Escape")
    expect(kept).to_contain_text("of 55.8 GB kept for them")
    kept.get_by_role("link", name="Preview more room").click()
    tab.get_by_label("Room for its snapshots, % of its size").fill("4")
    expect(blocker(tab, "There are 52 extents for snapshots of ticketing-db already")).to_be_visible()
    tab.get_by_label("Room for its snapshots, % of its size").fill("10")
    expect(tab.get_by_text("Choose disks for what is added")).to_be_visible()
    carry_out(tab)
    expect(tab.locator('[data-step="widen-past-aside"]')).to_have_attribute("data-state", "done")
    tab.goto(f"{running.url}/volumes/ticketing-db")
    expect(kept).to_contain_text("of 110.6 GB kept for them")
    row.get_by_role("checkbox", name="Choose before-the-sale").check()
    kept.get_by_role("link", name="Preview deleting 1 snapshot").click()
    tab.get_by_label("Type before-the-sale to confirm").fill("before-the-sale")
    carry_out(tab)
    expect(tab.locator('[data-step="drop-old"]')).to_have_attribute("data-state", "done")
    tab.goto(f"{running.url}/volumes/ticketing-db")
    expect(kept.get_by_text("None. One keeps what consumers overwrite")).to_be_visible()


def test_a_volume_is_kept_on_chosen_nodes_from_its_page(tab: Page, running: Running) -> None:
    running.demo.carry_out(
        "create-volume",
        {"name": "ledgers", "pool": "quayside", "size": "40 GiB", "copies": 3, "level": "rack"},
    )
    tab.goto(f"{running.url}/volumes/ledgers")
    lies = tab.get_by_role("region", name="Where it lies")
    lies.get_by_role("link", name="Preview choosing disks").click()
    expect(tab.get_by_text("Choose the nodes or disks that may hold it")).to_be_visible()
    where = tab.get_by_role("combobox", name="Only on these nodes or disks")
    for typed in ("fulmar", "petrel"):
        where.fill(typed)
        tab.get_by_role("option", name=typed, exact=True).click()
    expect(
        blocker(tab, "3 copies need 3 racks; of what was chosen, 2 in quayside can take it")
    ).to_be_visible()
    where.fill("kittiwake")
    tab.get_by_role("option", name="kittiwake", exact=True).click()
    expect(tab.get_by_text("Keep ledgers on fulmar, kittiwake and petrel")).to_be_visible()
    running.pull(lever="speed", speed=600)
    carry_out(tab)
    expect(tab.locator('[data-step="drop-old"]')).to_have_attribute("data-state", "done")
    running.pull(lever="speed", speed=1)
    tab.goto(f"{running.url}/volumes/ledgers")
    expect(tab.get_by_text("fulmar, kittiwake and petrel", exact=True)).to_be_visible()
    for name in ("fulmar", "kittiwake", "petrel"):
        expect(tab.locator(f'[data-node="{name}"] .what')).to_have_text(re.compile("of it"))
    expect(tab.locator('[data-node="turnstone"] .what')).to_have_text("holds none of it")
    running.erase("ledgers")


def test_a_volume_comes_back_from_a_snapshot_though_its_original_is_deleted(
    tab: Page, running: Running
) -> None:
    wish = {"name": "harbour-map", "pool": "quayside", "size": "8 GiB"}
    running.demo.carry_out("create-volume", wish)
    running.demo.carry_out("take-snapshot", {"volumes": ["harbour-map"], "name": "noon"})
    # Shown beside its original, to be read.
    tab.goto(f"{running.url}/volumes/harbour-map")
    rows = tab.get_by_role("region", name="Snapshots").get_by_role("row")
    noon = rows.filter(has=tab.get_by_role("checkbox", name="Choose noon"))
    noon.get_by_role("button", name="Preview what noon is for").click()
    tab.get_by_role("menuitem", name="Preview showing noon").click()
    expect(tab.get_by_label("Name of the volume that shows it")).to_have_value("harbour-map-at-noon")
    expect(tab.get_by_role("dialog")).to_contain_text("All of it is read from noon")
    carry_out(tab)
    tab.goto(f"{running.url}/volumes/harbour-map-at-noon")
    expect(tab.get_by_role("heading", level=1)).to_contain_text("harbour-map-at-noon")
    expect(tab.get_by_text("Shows noon of harbour-map, to be read only")).to_be_visible()
    expect(tab.get_by_label("Lineage")).to_contain_text("noon of harbour-map")
    tab.goto(f"{running.url}/volumes/harbour-map-at-noon?plan=attach-volume&volume=harbour-map-at-noon")
    only = tab.get_by_role("dialog").get_by_label("only to read")
    expect(only).to_be_checked()
    expect(only).to_be_disabled()
    # The original is deleted, and comes back under another name from what it held at noon.
    running.demo.carry_out("delete-volume", {"volumes": ["harbour-map"], "typed": "harbour-map"})
    tab.goto(f"{running.url}/volumes/harbour-map")
    reader = rows.filter(has_text="harbour-map-at-noon")
    expect(reader).to_contain_text("shows it, to be read only")
    noon.get_by_role("button", name="Preview what noon is for").click()
    tab.get_by_role("menuitem", name="Preview a volume from noon").click()
    sheet = tab.get_by_role("dialog")
    sheet.get_by_label("Name of the new volume").fill("harbour-map")
    expect(blocker(sheet, "A volume in the bin is called harbour-map")).to_be_visible()
    sheet.get_by_label("Name of the new volume").fill("harbour-map-2")
    expect(sheet).to_contain_text("It can be read and written as soon as it is made.")
    carry_out(tab)
    tab.goto(f"{running.url}/volumes/harbour-map-2")
    expect(tab.locator(".headline")).to_contain_text("Whole: ", timeout=LONG)  # by itself
    expect(tab.get_by_label("Lineage")).not_to_contain_text("noon of harbour-map")
    # While the other is shown nothing it reads from is let go of.
    bins = f"{running.url}/pools/quayside?plan=empty-bin&pool=quayside&volumes=harbour-map"
    tab.goto(bins)
    tab.get_by_label("Type harbour-map to confirm").fill("harbour-map")
    expect(blocker(tab, "harbour-map-at-noon reads from what is to go.")).to_be_visible()
    tab.goto(f"{running.url}/volumes/harbour-map-at-noon?plan=delete-volume&volume=harbour-map-at-noon")
    expect(tab.get_by_role("dialog")).to_contain_text("nothing goes into the bin")
    tab.get_by_label("Type harbour-map-at-noon to confirm").fill("harbour-map-at-noon")
    carry_out(tab)
    expect(tab.locator('[data-step="forget-shown"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.goto(bins)
    tab.get_by_label("Type harbour-map to confirm").fill("harbour-map")
    carry_out(tab)
    gone = tab.locator('[data-step="forget-volume:harbour-map"]')
    expect(gone).to_have_attribute("data-state", "done", timeout=LONG)
    tab.goto(f"{running.url}/volumes/harbour-map-2")
    expect(tab.locator(".headline")).to_contain_text("Whole: ")
    running.erase("harbour-map-2")


def test_everything_works_by_keyboard_on_the_map(page: Page) -> None:
    page.locator('[data-disk="fulmar-boot"]').focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowDown")
    expect(page.locator('[data-disk="gannet-c1"]')).to_be_focused()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(r"/disks/gannet-c1$"))
    page.keyboard.press("/")
    page.keyboard.type("ticket")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/volumes/ticketing-db"))
    page.keyboard.press("]")
    page.keyboard.press("?")
    expect(page.get_by_role("heading", name="Keys")).to_be_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("Alt+n")
    expect(page.locator("html")).to_have_attribute("data-theme", "night")


def test_a_change_made_elsewhere_shows_without_a_refresh(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/volumes")
    expect(tab.get_by_role("row")).to_have_count(3)
    running.demo.carry_out(
        "create-volume",
        {
            "name": "berth-planner-with-a-name-of-the-longest-kind-that-is-still-ok",
            "pool": "quayside",
            "size": "5 GiB",
        },
    )
    expect(tab.get_by_role("row")).to_have_count(4)
    widths = tab.evaluate("[document.documentElement.scrollWidth, innerWidth]")
    assert widths[0] <= widths[1]  # the longest name breaks no layout


def test_nothing_typed_or_pressed_is_lost_while_the_site_changes(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/?plan=form-pool")
    field = tab.get_by_label("Name of the pool")
    field.focus()
    name = "a-name-of-many-letters-typed-while-news-come-in"
    for number, letter in enumerate(name):
        if number % 4 == 0:  # what anybody else does is news for every open page
            running.api.put("/grace", json={"grace_seconds": 10 + number}).raise_for_status()
        tab.keyboard.type(letter)
    expect(field).to_have_value(name)
    chooser = tab.locator(".choose")
    for number in range(5):  # chosen, let go, chosen, let go, chosen
        running.api.put("/grace", json={"grace_seconds": 70 + number}).raise_for_status()
        chooser.get_by_role("button", name="skua").click()
        chosen = "0 disks chosen." if number % 2 else re.compile(r"^\s*[1-9]\d* disks chosen\.")
        expect(chooser).to_contain_text(chosen)
    expect(field).to_have_value(name)
    running.api.put("/grace", json={"grace_seconds": 4}).raise_for_status()


def test_what_does_not_exist_is_said(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/volumes/nothing")
    expect(tab.get_by_role("alert")).to_contain_text("There is no volume named 'nothing'.")
    tab.goto(f"{running.url}/no/such/page")
    expect(tab.get_by_role("heading", level=1)).to_have_text("There is nothing at this address.")


def test_a_barn_that_stops_answering_is_said_and_found_again(page: Page) -> None:
    page.route("**/api/barn", lambda route: route.abort())
    page.reload()
    expect(page.get_by_role("alert")).to_contain_text("Fold Barn does not answer.", timeout=LONG)
    page.unroute("**/api/barn")
    page.reload()
    expect(page.get_by_role("heading", level=1)).to_have_text("Every byte is readable.")


@pytest.mark.parametrize("theme", ["day", "night"])
def test_text_has_enough_contrast_in_both_themes(page: Page, theme: str) -> None:
    """WCAG 2.2, 1.4.3: 4.5 to 1 for text. Ratio from relative luminance as defined there."""
    if theme == "night":
        page.keyboard.press("Alt+n")
    tokens = page.evaluate(
        """() => Object.fromEntries(
            ['paper','sheet','well','ink','soft','faint','act','barn','on-barn','hay','on-hay','slate',
             'on-slate','moss','on-moss']
            .map(name => [
                name, getComputedStyle(document.documentElement).getPropertyValue('--' + name).trim()
            ])
        )"""
    )

    def luminance(colour: str) -> float:
        if len(colour) == 4:
            colour = "#" + "".join(c * 2 for c in colour[1:])
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    def ratio(a: str, b: str) -> float:
        light, dark = sorted((luminance(tokens[a]), luminance(tokens[b])), reverse=True)
        return (light + 0.05) / (dark + 0.05)

    pairs = [(t, g) for t in ("ink", "soft", "act") for g in ("paper", "sheet", "well")] + [
        ("faint", "paper"),
        ("faint", "sheet"),
    ]
    pairs += [("on-barn", "barn"), ("on-hay", "hay"), ("on-slate", "slate"), ("on-moss", "moss")]
    assert {pair: round(ratio(*pair), 2) for pair in pairs if ratio(*pair) < 4.5} == {}


def test_a_pool_grows_from_its_page_and_a_volume_is_deleted_after_typing_its_name(
    tab: Page, running: Running
) -> None:
    tab.goto(f"{running.url}/pools/quayside")
    tab.get_by_role("link", name="Preview adding disks").click()
    sheet = tab.get_by_role("dialog")
    expect(sheet.get_by_role("button", name="Carry out")).to_be_disabled()
    sheet.locator(".choose").get_by_role("button", name="skua").click()
    for bay in ("c1", "c2"):
        sheet.locator(f'[data-disk="skua-{bay}"]').click()
    expect(sheet.get_by_text("7 disks chosen.")).to_be_visible()
    expect(sheet.get_by_role("table", name="Capacity at every step")).to_be_visible()
    carry_out(tab)
    expect(tab.locator('[data-step="join"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.goto(f"{running.url}/volumes/charts")
    tab.get_by_role("link", name="Preview deleting it").click()
    tab.get_by_label("Type charts to confirm").fill("charts")
    carry_out(tab)
    expect(tab.locator('[data-step="tell-serving"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.get_by_role("link", name="Show charts").click()
    binned = tab.get_by_role("region", name="In the bin")
    row = binned.get_by_role("row").filter(has_text="charts")
    expect(row).to_contain_text("whole")
    expect(tab.get_by_role("row").filter(has_text="charts")).to_have_count(1)
    # Its way back stands with the change, and it comes back as it was.
    row.get_by_role("link", name="charts").click()
    expect(tab.get_by_text("In the bin for 7 days more")).to_be_visible()
    tab.get_by_role("link", name="Preview bringing it back").click()
    carry_out(tab)
    expect(tab.locator('[data-step="tell-serving"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.get_by_role("link", name="Show charts").click()
    expect(tab.locator(".headline")).to_contain_text("Whole")
    # Taken offline and deleted once more, for good.
    tab.get_by_role("button", name="Plan a change").click()
    tab.get_by_role("menuitem", name="Preview taking charts offline").click()
    carry_out(tab)
    expect(tab.locator('[data-step="tell-serving"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.get_by_role("link", name="Show charts").click()
    expect(tab.locator(".headline")).to_contain_text("Offline: its nodes serve none of it.")
    tab.get_by_role("link", name="Preview deleting it").click()
    expect(tab.get_by_role("dialog")).to_contain_text("none, it is offline")
    tab.get_by_label("Type charts to confirm").fill("charts")
    tab.get_by_label("Days in the bin").fill("30")
    expect(tab.get_by_role("dialog")).to_contain_text("It can be brought back for 30 days.")
    carry_out(tab)
    expect(tab.locator('[data-step="tell-serving"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.get_by_role("link", name="Show charts").click()
    running.pull(lever="speed", speed=600)  # the bin waits for what moves to the new disks
    tab.get_by_role("link", name="Preview emptying the bin of it").click()
    tab.get_by_label("Type charts to confirm").fill("charts")
    carry_out(tab)
    expect(tab.locator('[data-step="forget-volume:charts"]')).to_have_attribute(
        "data-state", "done", timeout=LONG
    )
    tab.goto(f"{running.url}/volumes")
    expect(tab.get_by_role("cell", name="charts", exact=True)).to_have_count(0)
    expect(tab.get_by_role("region", name="In the bin")).to_have_count(0)


def test_several_volumes_are_made_from_a_pattern_or_a_table(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/volumes?plan=create-volume")
    sheet = tab.get_by_role("dialog")
    sheet.get_by_label("Name of the volume").fill("web-{1..2}")
    sheet.get_by_label("Size, such as 1 TiB, or all that fits").fill("10 GiB")
    expect(sheet).to_contain_text("2 volumes, 21.5 GB in quayside.")
    expect(sheet.get_by_role("row").filter(has_text="web-2")).to_contain_text("10.7 GB")
    sheet.get_by_label("several, from a table").check()
    table = sheet.get_by_label("A name and a size in each line")
    table.fill("name\tsize\nweb-{1..2}\t10 GiB\nscans\t20 Gb")
    expect(blocker(sheet, "Line 3: ")).to_be_visible()
    table.fill("name\tsize\nweb-{1..2}\t10 GiB\nscans\t20 GB")
    carry_out(tab)
    expect(tab.locator('[data-step="read-all:web-1, web-2 and scans"]')).to_have_attribute(
        "data-state", "done", timeout=LONG
    )
    tab.get_by_role("link", name="Show several volumes").click()
    for name in ("web-1", "web-2", "scans"):
        expect(tab.get_by_role("row").filter(has=tab.get_by_text(name, exact=True))).to_contain_text("whole")


def test_the_list_answers_what_is_asked_and_acts_on_what_is_chosen(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/volumes")
    rows = tab.locator("[data-volume]")
    expect(rows).to_have_count(5)
    tab.get_by_label("Words of the name or a label").fill("we")
    expect(rows).to_have_count(2)
    expect(tab).to_have_url(re.compile("words=we"))
    expect(tab.get_by_text("2 of 5 volumes")).to_be_visible()
    # Chosen in a row by the keyboard and with the shift key, and acted on in one change.
    tab.get_by_label("Choose web-1").focus()
    tab.keyboard.press("Space")
    tab.get_by_label("Choose web-2").click(modifiers=["Shift"])
    chosen = tab.get_by_role("group", name="What is chosen")
    expect(chosen).to_contain_text("2 volumes chosen.")
    chosen.get_by_role("link", name="Preview taking them offline").click()
    expect(tab.get_by_role("dialog")).to_contain_text("Consumers of web-2")
    carry_out(tab)
    expect(tab.locator('[data-step="tell-serving"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.get_by_role("link", name="Show 2 volumes").click()
    offline = tab.locator('[data-question="offline"]')
    expect(offline).to_contain_text("2")
    offline.click()
    expect(rows).to_have_count(2)
    expect(offline).to_have_attribute("aria-pressed", "true")
    expect(rows.first).to_contain_text("Offline: its nodes serve none of it.")
    with tab.expect_download() as kept:
        tab.get_by_role("link", name="CSV").click()
    lines = kept.value.path().read_text().splitlines()
    assert [line.partition(",")[0] for line in lines] == ["name", "web-1", "web-2"]
    tab.get_by_label("Choose all on this page").click()
    chosen.get_by_role("link", name="Preview bringing them online").click()
    carry_out(tab)
    expect(tab.locator('[data-step="tell-serving"]')).to_have_attribute("data-state", "done", timeout=LONG)
    # By another column, turned around; of what lies on a node, from the node's page.
    tab.goto(f"{running.url}/volumes")
    size = tab.get_by_role("columnheader", name="Size, TB")
    size.get_by_role("button").click()
    expect(size).to_have_attribute("aria-sort", "ascending")
    size.get_by_role("button").click()
    expect(size).to_have_attribute("aria-sort", "descending")
    expect(rows.first).to_have_attribute("data-volume", "ticketing-db")
    tab.goto(f"{running.url}/machines/razorbill")
    chain = tab.get_by_role("navigation", name="Lineage")
    expect(chain.get_by_role("link", name=re.compile("^Volume"))).to_contain_text("none")
    tab.goto(f"{running.url}/machines/petrel")
    expect(chain.get_by_role("link", name=re.compile("^Pool"))).to_contain_text("quayside")
    chain.get_by_role("link", name=re.compile("^Volume")).click()
    expect(tab).to_have_url(re.compile("/volumes"))
    tab.get_by_role("button", name="Only of node petrel; press for all").click()
    expect(rows).to_have_count(5)
    tab.get_by_label("Words of the name or a label").fill("auk")
    expect(tab.get_by_text("Of 5 volumes none is what you ask for.")).to_be_visible()
    tab.get_by_role("button", name="Show all").click()
    expect(rows).to_have_count(5)


def test_a_volume_is_attached_to_three_hosts_and_the_third_is_helped(tab: Page, running: Running) -> None:
    hosts = {host["name"]: host for host in running.api.get("/yard").json()["hosts"]}
    for name in ("ferry-desk-1", "ferry-desk-2"):
        wish = {key: hosts[name][key] for key in ("name", "initiators", "agent_url")}
        running.demo.carry_out("save-host", {**wish, "group": "ferry-desks"})
    third = hosts["ferry-desk-3"]
    tab.goto(f"{running.url}/hosts")
    tab.get_by_role("link", name="Register a host").click()
    sheet = tab.get_by_role("dialog")
    sheet.get_by_label("Name of the host").fill("ferry-desk-3")
    sheet.get_by_label("Names it connects by, one in each line").fill(third["initiators"][0] + "_")
    expect(blocker(sheet, "is not iqn., a year and month")).to_be_visible()
    sheet.get_by_label("Names it connects by, one in each line").fill("\n".join(third["initiators"]))
    sheet.get_by_label("Group, if any").fill("ferry-desks")
    sheet.get_by_label("Where its agent answers, if it has one").fill(third["agent_url"])
    carry_out(tab)
    expect(tab.locator('[data-step="write-host"]')).to_have_attribute("data-state", "done", timeout=LONG)
    # Attached to the group, as a file system that its hosts share.
    tab.goto(f"{running.url}/volumes/scans")
    tab.get_by_role("button", name="Plan a change").click()
    tab.get_by_role("menuitem", name="Preview attaching scans").click()
    sheet = tab.get_by_role("dialog")
    sheet.get_by_role("button", name="ferry-desks", exact=True).click()
    expect(blocker(sheet, "3 hosts would write to one xfs, which destroys it.")).to_be_visible()
    pick(sheet, "File system on it", "gfs2")
    expect(sheet).to_contain_text("read-write by iSCSI, as gfs2, mounted at /srv/scans")
    carry_out(tab)
    expect(tab.locator('[data-step="tell-targets"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.get_by_role("link", name="Show scans").click()
    expect(tab).to_have_url(re.compile(r"/volumes/scans/hosts$"))
    # On two of them someone does what is missing; on the third nobody has set up discovery.
    running.demo.set_up(["scans"], {"ferry-desk-3": "discovered"})
    lane = tab.locator('[data-lane="ferry-desk-3"]')
    gate = lane.locator('[data-gate="discovered"]')
    for name in ("ferry-desk-1", "ferry-desk-2"):
        expect(tab.locator(f'[data-lane="{name}"]')).to_contain_text("mounted at /srv/scans", timeout=LONG)
    expect(gate).to_have_attribute("data-passage", "open")
    expect(lane).to_contain_text("Discovery is not set up there: ferry-desk-3 has no record of it at ")
    expect(tab.get_by_label("Lineage")).to_contain_text("3 hosts, 1 not connected")
    # What the page says is typed into the host's own shell, and found out without a refresh.
    commands = lane.locator("code").all_inner_texts()
    assert len(commands) == 4
    tab.get_by_role("button", name="Yard").click()
    yard = tab.get_by_label("Yard", exact=True)
    yard.get_by_role("button", name="ferry-desk-3", exact=True).click()
    for command in commands:
        yard.get_by_label("A command for ferry-desk-3").fill(command)
        yard.get_by_role("button", name="Run").click()
        expect(yard.get_by_role("status")).to_contain_text(",1 iqn.2024-08.internal.foldbarn")
    yard.get_by_label("A command for ferry-desk-3").fill("iscsiadm -m nonsense")
    yard.get_by_role("button", name="Run").click()
    expect(yard.get_by_role("alert")).to_contain_text("iscsiadm: -m discovery, node or session")
    yard.get_by_role("button", name="Close").click()
    expect(gate).to_have_attribute("data-passage", "passed", timeout=LONG)
    running.demo.set_up(["scans"], {})
    expect(lane).to_contain_text("mounted at /srv/scans", timeout=LONG)
    expect(lane).to_contain_text("4 of 4 paths")
    # Mounted, it is not deleted; a host that loses its power is shown without a refresh.
    tab.goto(f"{running.url}/volumes/scans?plan=delete-volume&volume=scans")
    tab.get_by_label("Type scans to confirm").fill("scans")
    expect(
        blocker(tab.get_by_role("dialog"), "ferry-desk-1 has scans mounted at /srv/scans.")
    ).to_be_visible()
    tab.goto(f"{running.url}/hosts")
    running.pull(lever="cut power", what="ferry-desk-2")
    row = tab.get_by_role("row").filter(has=tab.get_by_role("link", name="ferry-desk-2"))
    expect(row).to_contain_text("ferry-desk-2 is not heard", timeout=LONG)
    running.pull(lever="give power", what="ferry-desk-2")
    expect(row).to_contain_text("4 of 4", timeout=LONG)
    expect(row).to_contain_text("It reaches all that it is to.", timeout=LONG)


DESCRIPTOR = """<?xml version="1.0"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
  xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
  <References><File ovf:href="system.img" ovf:id="file1"/></References>
  <DiskSection><Info>disks</Info>
    <Disk ovf:capacity="12" ovf:capacityAllocationUnits="byte * 2^30" ovf:diskId="d1" ovf:fileRef="file1"/>
    <Disk ovf:capacity="5368709120" ovf:diskId="d2"/>
  </DiskSection>
  <VirtualSystem ovf:id="roster"><Info>one</Info><Name>crew-roster</Name>
    <VirtualHardwareSection><Info>its hardware</Info>
      <Item><rasd:ResourceType>3</rasd:ResourceType><rasd:VirtualQuantity>4</rasd:VirtualQuantity></Item>
      <Item><rasd:AllocationUnits>byte * 2^30</rasd:AllocationUnits>
        <rasd:ResourceType>4</rasd:ResourceType><rasd:VirtualQuantity>16</rasd:VirtualQuantity></Item>
      <Item><rasd:ElementName>system</rasd:ElementName><rasd:HostResource>ovf:/disk/d1</rasd:HostResource>
        <rasd:ResourceType>17</rasd:ResourceType></Item>
      <Item><rasd:ElementName>records</rasd:ElementName><rasd:HostResource>ovf:/disk/d2</rasd:HostResource>
        <rasd:ResourceType>17</rasd:ResourceType></Item>
    </VirtualHardwareSection>
  </VirtualSystem>
</Envelope>"""


def test_a_vm_is_made_as_its_descriptor_says_and_never_deleted_in_part(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/vms")
    tab.get_by_role("link", name="Make a VM").click()
    sheet = tab.get_by_role("dialog")
    file = sheet.get_by_label("Load a descriptor", exact=True)
    bomb = b'<!DOCTYPE a [<!ENTITY b "b">]><a>&b;</a>'
    file.set_input_files({"name": "bomb.ovf", "mimeType": "text/xml", "buffer": bomb})
    expect(sheet).to_contain_text("It has a document type of its own, and a descriptor has none.")
    file.set_input_files({"name": "roster.ovf", "mimeType": "text/xml", "buffer": DESCRIPTOR.encode()})
    expect(sheet.get_by_label("Name of the VM")).to_have_value("crew-roster")
    expect(sheet.get_by_label("Processors")).to_have_value("4")
    expect(sheet.get_by_label("Memory, such as 8 GiB")).to_have_value("16 GiB")
    expect(sheet.get_by_label("Size of disk 2")).to_have_value("5 GiB")
    expect(sheet).to_contain_text("They begin empty: what is in system.img")
    expect(sheet).to_contain_text("3 volumes, 19.3 GB in quayside.")
    sheet.get_by_role("button", name="Add a disk").click()
    sheet.get_by_label("Size of disk 3").fill("2 Gb")
    expect(blocker(sheet, "Disk 3: 'Gb' counts bits")).to_be_visible()
    sheet.get_by_role("button", name="Leave disk 3 out").click()
    carry_out(tab)
    expect(tab.locator('[data-step="open-vm"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.get_by_role("link", name="Show crew-roster").click()
    expect(tab.get_by_text("All its 3 volumes are as they should be.")).to_be_visible()
    volumes = tab.get_by_role("region", name="Its volumes")
    expect(volumes.get_by_role("row").filter(has_text="records")).to_contain_text("crew-roster-disk-2")
    # All its volumes at one moment.
    tab.get_by_role("link", name="Preview a snapshot of all").click()
    sheet.get_by_label("Name of the snapshot").fill("before-the-season")
    expect(sheet).to_contain_text("crew-roster-configuration")
    carry_out(tab)
    tab.goto(f"{running.url}/vms/crew-roster")
    taken = tab.get_by_role("region", name="Snapshots of all its volumes")
    expect(taken).to_contain_text("before-the-season", timeout=LONG)
    # And all go back to it, once nobody uses them.
    tab.get_by_role("link", name="Preview taking it offline").click()
    carry_out(tab)
    expect(tab.locator('[data-step="tell-serving"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.goto(f"{running.url}/vms/crew-roster")
    taken.get_by_role("link", name="Preview going back to it").click()
    sheet.get_by_label("Name of the present, kept first").fill("as-it-was")
    carry_out(tab)
    last = tab.locator('[data-step="bring-back:crew-roster-disk-2"]')
    expect(last).to_have_attribute("data-state", "done", timeout=LONG)
    tab.goto(f"{running.url}/vms/crew-roster")
    expect(taken.get_by_role("row")).to_have_count(3)
    tab.get_by_role("link", name="Preview bringing it online").click()
    carry_out(tab)
    expect(tab.locator('[data-step="tell-serving"]')).to_have_attribute("data-state", "done", timeout=LONG)
    # None of its volumes goes by itself; all of them go, and come back, together.
    tab.goto(f"{running.url}/volumes?plan=delete-volume&volume=crew-roster-disk-1")
    sheet.get_by_label("Type crew-roster-disk-1 to confirm").fill("crew-roster-disk-1")
    expect(blocker(sheet, "is disk 1 of the VM crew-roster.")).to_be_visible()
    tab.goto(f"{running.url}/volumes/crew-roster-disk-1")
    tab.get_by_role("link", name="Preview deleting its VM").click()
    sheet.get_by_label("Type crew-roster to confirm").fill("crew-roster")
    carry_out(tab)
    expect(tab.locator('[data-step="tell-serving"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.goto(f"{running.url}/vms/crew-roster")
    expect(tab.get_by_text("It is in the bin, and can be brought back.")).to_be_visible()
    tab.get_by_role("link", name="Preview bringing it back").click()
    carry_out(tab)
    tab.get_by_role("link", name="Show crew-roster").click()
    expect(tab.get_by_text("All its 3 volumes are as they should be.")).to_be_visible(timeout=LONG)


def test_a_vm_is_switched_on_at_a_vm_host_and_off_again(tab: Page, running: Running) -> None:
    carry_out_ = running.demo.carry_out
    yard = {host["name"]: host for host in running.api.get("/yard").json()["hosts"]}
    for name in ("bridge-1", "bridge-2"):
        carry_out_("save-host", {key: yard[name][key] for key in ("name", "initiators", "agent_url")})
    # As its descriptor says, but for its name and its memory.
    tab.goto(f"{running.url}/vms?plan=make-vm")
    sheet = tab.get_by_role("dialog")
    file = sheet.get_by_label("Load a descriptor", exact=True)
    file.set_input_files({"name": "roster.ovf", "mimeType": "text/xml", "buffer": DESCRIPTOR.encode()})
    expect(sheet.get_by_label("Name of the VM")).to_have_value("crew-roster")
    sheet.get_by_label("Name of the VM").fill("night-desk")
    sheet.get_by_label("Memory, such as 8 GiB").fill("1 GiB")
    carry_out(tab)
    expect(tab.locator('[data-step="open-vm"]')).to_have_attribute("data-state", "done", timeout=LONG)
    # No host runs virtual machines yet: it is said, and what helps.
    tab.goto(f"{running.url}/vms/night-desk")
    tab.get_by_role("link", name="Preview switching it on").click()
    expect(blocker(sheet, "No host runs virtual machines yet.")).to_be_visible()
    for name, account in (("bridge-1", "onlooker"), ("bridge-2", "fold-barn")):
        tab.goto(f"{running.url}/hosts/{name}")
        tab.get_by_role("link", name="Connect it as a VM host").click()
        sheet.get_by_label("Address of its Redfish service").fill(yard[name]["service_url"])
        sheet.get_by_label("Account").fill(account)
        sheet.get_by_label("Its password").fill("tide-table")
        carry_out(tab)
        asked = tab.locator('[data-step="ask-vm-host"]')
        expect(asked).to_have_attribute("data-state", "done", timeout=LONG)
    # The one whose account may only look is offered with the reason why it is none.
    tab.goto(f"{running.url}/vms/night-desk")
    tab.get_by_role("link", name="Preview switching it on").click()
    expect(sheet.get_by_role("row").filter(has_text="bridge-1")).to_contain_text("lacks ConfigureComponents")
    expect(sheet).to_contain_text("Switch night-desk on at bridge-2")
    carry_out(tab)
    expect(tab.locator('[data-step="switch-on"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.get_by_role("link", name="Show night-desk").click()
    expect(tab.get_by_text("It is on at bridge-2.")).to_be_visible()
    volumes = tab.get_by_role("region", name="Its volumes")
    expect(volumes.get_by_role("row").filter(has_text="swap")).to_contain_text("night-desk-swap")
    # With its memory: it stands still for that, and goes on.
    tab.get_by_role("link", name="Preview one with memory").click()
    sheet.get_by_label("Name of the snapshot").fill("awake")
    expect(sheet).to_contain_text("night-desk stands still for a while.")
    carry_out(tab)
    expect(tab.locator('[data-step="go-on"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.goto(f"{running.url}/vms/night-desk")
    taken = tab.get_by_role("region", name="Snapshots of all its volumes")
    expect(taken.get_by_role("row").filter(has_text="awake")).to_contain_text("night-desk-memory-1")
    taken.get_by_role("link", name="Preview going back to it").click()
    expect(sheet.get_by_label("with its memory: it goes on from there")).to_be_checked()
    expect(blocker(sheet, "night-desk is on at bridge-2")).to_be_visible()
    tab.goto(f"{running.url}/vms")
    hosts = tab.get_by_role("region", name="VM hosts")
    expect(hosts.get_by_role("row").filter(has_text="bridge-2")).to_contain_text("night-desk")
    # Its host is lost: it is said, and it is on elsewhere once nodes let that in no more.
    running.pull(lever="cut power", what="bridge-2")
    tab.goto(f"{running.url}/vms/night-desk")
    words = "It was switched on at bridge-2, which is not heard."
    expect(tab.get_by_text(words)).to_be_visible(timeout=4 * LONG)
    tab.get_by_role("link", name="Preview switching it off").click()
    expect(blocker(sheet, "bridge-2 is not heard.")).to_be_visible()
    pick(sheet, "How", "bridge-2 is gone")
    sheet.get_by_label("Type night-desk to confirm").fill("night-desk")
    carry_out(tab)
    expect(tab.locator('[data-step="forget-volume"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.get_by_role("link", name="Show night-desk").click()
    expect(tab.get_by_text("It is off.")).to_be_visible()
    expect(volumes.get_by_text("night-desk-swap")).to_have_count(0)
    running.pull(lever="give power", what="bridge-2")


def test_a_share_is_served_filled_and_raised(tab: Page, running: Running) -> None:
    carry_out_ = running.demo.carry_out
    yard = running.api.get("/yard").json()
    slipway = next(host for host in yard["hosts"] if host["name"] == "slipway")
    if not any(host["name"] == "slipway" for host in running.api.get("/hosts").json()["hosts"]):
        carry_out_("save-host", {key: slipway[key] for key in ("name", "initiators", "agent_url")})
    sheet = tab.get_by_role("dialog")
    # Nobody serves files yet: it takes a cluster.
    tab.goto(f"{running.url}/shares")
    expect(tab.get_by_text("A cluster serves it, and no node belongs to one yet.")).to_be_visible()
    members = ["fulmar", "petrel", "kittiwake", "turnstone"]
    wish = {"name": "quay", "members": members, "keepers": members[:3], "service_address": "10.10.0.5/24"}
    carry_out_("form-cluster", wish)
    tab.get_by_role("link", name="Switch it on").click()
    sheet.get_by_label("Addresses, one for each node").fill("10.30.0.21-10.30.0.24")
    sheet.get_by_label("Their names, in this order").fill("files-{1..4}.skerry.example")
    sheet.get_by_label("Name server that is asked").fill(yard["name_server"])
    expect(sheet.get_by_role("row").filter(has_text="10.30.0.21")).to_contain_text("files-1.skerry.example")
    carry_out(tab)
    looked = tab.locator('[data-step="look-for-names"]')
    expect(looked).to_have_attribute("data-state", "done", timeout=LONG)
    expect(looked).to_contain_text("10.30.0.23 does not stand for any name.")
    # What is missing is said with the record that puts it right, and is found out by itself once it is there.
    tab.goto(f"{running.url}/shares")
    service = tab.get_by_role("region", name="The file service")
    record = "23.0.30.10.in-addr.arpa. IN PTR files-3.skerry.example."
    expect(service.get_by_text(record)).to_be_visible()
    tab.get_by_role("link", name="Make a share", exact=True).click()
    sheet.get_by_label("Name of the share").fill("logbooks")
    sheet.get_by_label("Quota, such as 500 GiB").fill("40 GiB")
    sheet.get_by_label("Whom rule 1 covers").fill("10.30.0.0/16")
    sheet.get_by_role("button", name="Add a rule").click()
    sheet.get_by_label("Whom rule 2 covers").fill("10.30.9.5")
    pick(sheet, "What rule 2 lets them do", "read and write")
    sheet.get_by_role("button", name="Add a rule").click()
    sheet.get_by_label("Whom rule 3 covers").fill("10.30.9.5-10.30.9.5")
    expect(sheet).to_contain_text("Rule 3 can never apply: rule 2 decides for each of its addresses.")
    sheet.get_by_role("button", name="Leave rule 3 out").click()
    sheet.get_by_label("Try an address").fill("10.30.9.5")
    sheet.get_by_role("button", name="Try", exact=True).click()
    expect(sheet.get_by_text("from 10.30.9.5: read and write, by rule 2")).to_be_visible()
    carry_out(tab)
    expect(tab.locator('[data-step="tell-files"]')).to_have_attribute("data-state", "done", timeout=LONG)
    # On a client it is mounted by what its page says.
    tab.goto(f"{running.url}/shares/logbooks")
    how = tab.get_by_role("region", name="How it is mounted")
    command = "mount -t nfs -o vers=4.1 files-1.skerry.example:/logbooks /mnt/logbooks"
    expect(how.get_by_text(command)).to_be_visible()
    running.pull(lever="run", what="slipway", text=command)
    running.pull(lever="run", what="slipway", text="fallocate -l 36GiB /mnt/logbooks/2026")
    mounted = tab.get_by_role("region", name="How full it is")
    row = mounted.get_by_role("row").filter(has_text="slipway")
    expect(row).to_contain_text("/mnt/logbooks", timeout=LONG)
    full = tab.get_by_text("past its warn level of 80 %").first
    expect(full).to_be_visible(timeout=LONG)
    answer = running.api.post(
        "/yard", json={"lever": "run", "what": "slipway", "text": "fallocate -l 9GiB /mnt/logbooks/2027"}
    )
    assert "Disk quota exceeded" in answer.json()["detail"]
    refused = tab.get_by_text("writes that need more room are refused.").first
    expect(refused).to_be_visible(timeout=LONG)
    tab.goto(running.url)
    expect(tab.get_by_role("link", name="logbooks is full")).to_be_visible()
    # Raised, it is well again at once.
    tab.goto(f"{running.url}/shares/logbooks")
    tab.get_by_role("link", name="Preview altering it").click()
    sheet.get_by_label("Another quota").fill("80 GiB")
    expect(sheet).to_contain_text("40 GiB of 80 GiB used.")
    carry_out(tab)
    expect(tab.locator('[data-step="write-share"]')).to_have_attribute("data-state", "done", timeout=LONG)
    tab.goto(f"{running.url}/shares/logbooks")
    expect(tab.get_by_text("40 GiB of 80 GiB used.").first).to_be_visible()
    running.pull(lever="run", what="slipway", text="fallocate -l 9GiB /mnt/logbooks/2027")
    # It is not taken from who has it mounted.
    tab.get_by_role("link", name="Preview deleting it").click()
    sheet.get_by_label("Type logbooks to confirm").fill("logbooks")
    expect(blocker(sheet, "slipway at /mnt/logbooks has logbooks mounted.")).to_be_visible()
    running.pull(lever="record", text=record)
    running.pull(lever="run", what="slipway", text="umount /mnt/logbooks")
