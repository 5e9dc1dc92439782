"""From an empty site to a cluster that has lost its leading keeper, as a person does it. The tests build on
one another.
"""

from __future__ import annotations

import json
import re

import httpx
import pytest
from conftest import Running, blocker, carry_out
from playwright.sync_api import Page, expect

NOBODY_REPORTS = True
LONG = 240_000  # ms: for what the barn does by itself
NODES = ("fulmar", "gannet", "petrel", "razorbill", "kittiwake", "dunlin", "turnstone", "whimbrel", "skua")


@pytest.fixture
def page(tab: Page, running: Running) -> Page:
    tab.goto(running.url)
    expect(tab.get_by_role("list", name="Stages of the work")).to_be_visible()
    return tab


def announce(running: Running, *nodes: str) -> None:
    """What the agent of each node does when it starts."""
    yard = running.api.get("/yard").json()["witness_url"].partition("/witness")[0]
    for node in nodes:
        running.api.post(
            "/agents", json={"agent_url": f"{yard}/agents/{node}", "key": (node * 16)[:64]}
        ).raise_for_status()


def lsblk(serial: str) -> bytes:
    device = {
        "name": "sda",
        "type": "disk",
        "size": 4 * 10**12,
        "rota": True,
        "serial": serial,
        "wwn": None,
        "model": "m",
        "mountpoints": [None],
    }
    return json.dumps({"blockdevices": [device]}).encode()


def test_an_empty_site_has_one_clear_way_to_begin(page: Page) -> None:
    expect(page.get_by_role("heading", level=1)).to_have_text("No node has reported in yet.")
    stages = page.get_by_role("list", name="Stages of the work").get_by_role("listitem")
    expect(stages).to_have_count(5)
    expect(page.locator('[aria-current="step"]')).to_contain_text("1 Gather")
    page.get_by_role("link", name="Take in machines").click()
    expect(page).to_have_url(re.compile("/intake$"))
    expect(page.get_by_text("Nothing has come in yet.")).to_be_visible()


def test_files_are_taken_or_refused_each_with_its_sentence(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/intake")
    tab.get_by_label("Inventory files").set_input_files(
        [
            {"name": "auk.lsblk.json", "mimeType": "application/json", "buffer": lsblk("A1")},
            {"name": "tern.lsblk.json", "mimeType": "application/json", "buffer": lsblk("T1")[:-5]},
            {"name": "noddy.lsblk.json", "mimeType": "application/json", "buffer": b'{"hits": 3}'},
        ]
    )
    expect(tab.get_by_text("1 taken, 2 refused.")).to_be_visible()
    rows = tab.locator("[data-result]")
    expect(rows.nth(0)).to_contain_text("noddy.lsblk.json")
    expect(rows.nth(0)).to_contain_text("It is JSON, but of another tool: it has hits at its top.")
    expect(rows.nth(1)).to_contain_text("It ends in the middle")
    expect(rows.nth(2)).to_contain_text("1 disk of auk.")


def test_a_bmc_is_read_and_its_node_awaited(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/intake")
    tab.get_by_label("Address of the BMC").fill(running.api.get("/yard").json()["bmc_urls"]["skua"])
    tab.get_by_label("Name at the BMC").fill("yard")
    tab.get_by_label("Password at the BMC").fill("wrong")
    tab.get_by_role("button", name="Read", exact=True).click()
    expect(tab.get_by_text("The BMC does not accept this name and password.")).to_be_visible()
    tab.get_by_label("Password at the BMC").fill("yard")
    tab.get_by_role("button", name="Read", exact=True).click()
    expect(tab.get_by_text("skua: 11 drives, new here and awaited.")).to_be_visible()
    tab.goto(f"{running.url}/machines?show=nodes")
    expect(tab.locator('[data-row="skua"]')).to_contain_text(
        "Known from its BMC; its agent has not reported yet."
    )


def test_agents_report_and_the_machines_are_listed_filtered_and_sorted(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/machines")
    announce(running, *NODES)
    expect(tab.get_by_text("10 nodes, 94 disks")).to_be_visible()  # without a reload
    tab.get_by_label("Show only rows with").fill("skua unfit")
    expect(tab.locator("tr[data-row]")).to_have_count(1)
    expect(tab.locator('[data-row="skua-3"]')).to_contain_text(
        "unfit: it carries a file-system signature (ext4)"
    )
    expect(tab).to_have_url(re.compile(r"with=skua(\+|%20)unfit"))
    tab.get_by_label("Show only rows with").fill("hdd")
    size = tab.get_by_role("columnheader", name="Size, TB")
    size.press("Enter")
    expect(size).to_have_attribute("aria-sort", "ascending")
    expect(tab.locator("tr[data-row]").first).to_have_attribute("data-row", "auk-sda")  # 4 TB, the smallest
    size.click()
    expect(tab.locator("tr[data-row]").first).to_contain_text("12.00")
    tab.get_by_role("button", name="Columns").click()
    tab.get_by_label("Serial number").check()
    expect(tab.get_by_role("columnheader", name="Serial number")).to_be_visible()
    tab.keyboard.press("Escape")
    second = tab.locator("tr[data-row]").nth(1).get_attribute("data-row")
    table = tab.get_by_role("group", name="Disks", exact=True)
    table.focus()
    tab.keyboard.press("End")
    last = tab.locator("tr[data-row].at")
    expect(last).to_be_in_viewport()
    tab.keyboard.press("Home")
    tab.keyboard.press("ArrowDown")
    tab.keyboard.press("Enter")
    expect(tab).to_have_url(re.compile(f"/disks/{second}"))


def test_a_disk_shows_its_paths_and_another_is_cleared_after_typing_its_name(
    tab: Page, running: Running
) -> None:
    tab.goto(f"{running.url}/disks/skua-5")
    expect(tab.get_by_text("(2 paths, one disk)")).to_be_visible()
    tab.goto(f"{running.url}/disks/skua-3")
    tab.get_by_role("button", name="Preview clearing it").click()
    expect(tab.get_by_role("dialog").get_by_text("a file-system signature (ext4)")).to_be_visible()
    expect(tab.get_by_role("button", name="Carry out")).to_be_disabled()
    tab.get_by_label("Type skua-3 to confirm").fill("skua-4")
    expect(blocker(tab, "Type skua-3 to confirm")).to_be_visible()
    tab.get_by_label("Type skua-3 to confirm").fill("skua-3")
    carry_out(tab)
    expect(tab.locator('[data-step="read-cleared"]')).to_have_attribute("data-state", "done")
    tab.get_by_role("link", name="Show skua-3").click()
    expect(tab.get_by_text("Fit, and in no pool.")).to_be_visible(timeout=LONG)
    tab.get_by_role("button", name="Turn its light on").click()
    expect(tab.get_by_role("button", name="Turn its light off")).to_be_visible()


def test_nodes_are_arranged_by_keyboard_and_drag_and_it_is_taken_back(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/arrange")
    stall = tab.locator('[data-stall="skua"]')
    expect(tab.locator('[data-rack="unplaced"]')).to_contain_text("auk")
    stall.focus()
    tab.keyboard.press("Shift+ArrowLeft")
    expect(tab.locator('[data-rack="SQ-1"] [data-stall="skua"]')).to_be_focused()
    expect(tab.get_by_text("skua from South Quay, SQ-2 to South Quay, SQ-1")).to_be_visible()
    tab.locator('[data-stall="auk"]').drag_to(tab.locator('[data-rack="NQ-1"]'))
    expect(tab.get_by_text("auk from Unplaced, unplaced to North Quay, NQ-1")).to_be_visible()
    expect(tab.locator('[data-level="room"]')).to_contain_text("3 2")  # three rooms before, two after
    tab.get_by_role("button", name="Take back").click()
    expect(tab.get_by_text("auk from Unplaced")).to_have_count(0)
    tab.locator('[data-stall="auk"]').drag_to(tab.locator('[data-rack="NQ-1"]'))
    tab.locator('[data-rack="unplaced"]').get_by_role("button", name="Remove").click()
    carry_out(tab)
    expect(tab.locator('[data-step="put-in-place"]')).to_have_attribute("data-state", "done")
    expect(tab.get_by_text("2 nodes moved.")).to_be_visible()
    tab.get_by_role("link", name="Preview taking it back").click()
    sheet = tab.get_by_role("dialog")
    expect(sheet.get_by_role("cell", name="South Quay, SQ-2")).to_be_visible()
    tab.keyboard.press("Escape")


def test_a_text_shows_the_line_of_its_error_and_what_differs(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/text")
    editor = tab.get_by_label("The site as text")
    expect(editor).to_contain_text("site: Skerry Ferries")
    expect(tab.get_by_text("Text and machines agree.")).to_be_visible()
    editor.click()
    tab.keyboard.press("Control+Home")
    tab.keyboard.press("End")
    tab.keyboard.type("\nrums: []")
    expect(blocker(tab, "Line 2: There is no key 'rums' here.")).to_be_visible()
    expect(tab.get_by_role("button", name="Carry out")).to_be_disabled()


def test_a_shut_port_is_found_and_the_cluster_formed_with_live_steps(page: Page, running: Running) -> None:
    running.pull(lever="shut port", what="dunlin", port=7503)
    page.goto(f"{running.url}/cluster")
    page.get_by_role("button", name="Test it through the agents").click()
    expect(page.locator("[data-shut]")).to_contain_text("dunlin on 7503: refused.", timeout=LONG)
    page.get_by_label("Name of the cluster").fill("quay")
    page.get_by_label("Service address").fill("10.10.0.5/24")
    for node in ("fulmar", "gannet"):
        page.get_by_label(f"{node} has a vote").check()
    expect(
        page.locator('[data-check="fail"]').filter(
            has_text="Two keepers alone decide nothing once one is lost."
        )
    ).to_be_visible()
    page.get_by_label("gannet has a vote").uncheck()
    page.get_by_label("turnstone has a vote").check()
    page.get_by_label("Address of the witness").fill(running.api.get("/yard").json()["witness_url"])
    page.get_by_role("button", name="Ask it").click()
    expect(page.get_by_text("lamp-room answers.")).to_be_visible()
    expect(page.locator('[data-check="fail"]')).to_have_count(1)
    expect(page.locator('[data-check="fail"]')).to_contain_text("cannot reach dunlin on 7503: refused.")
    expect(page.get_by_role("button", name="Carry out")).to_be_disabled()
    running.pull(lever="open port", what="dunlin", port=7503)
    page.get_by_role("button", name="Test it through the agents").click()
    expect(page.locator('[data-check="fail"]')).to_have_count(0, timeout=LONG)
    expect(page.get_by_role("row").filter(has_text="room North Quay")).to_contain_text("decides")
    page.get_by_label("Encrypt data at rest").check()
    page.get_by_label("Passphrase that seals the key").fill("three herons on a mast")
    page.get_by_label("Passphrase once more").fill("three herons on a mas")
    expect(page.get_by_text("The two passphrases differ.")).to_be_visible()
    page.get_by_label("Passphrase once more").fill("three herons on a mast")
    carry_out(page)
    for step in ("ask-witness", "ready:skua", "join-cluster:skua", "elect", "hand-over", "open-cluster"):
        expect(page.locator(f'[data-step="{step}"]').last).to_have_attribute(
            "data-state", "done", timeout=LONG
        )
    expect(page.get_by_text("All 2 keepers name turnstone.")).to_be_visible()
    page.get_by_role("link", name="Show quay").click()
    expect(page.get_by_text("leads (term 3) and answers at 10.10.0.5.")).to_be_visible()
    page.get_by_label("Passphrase").fill("three herons")
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_text("This passphrase does not open the cluster's key.")).to_be_visible()
    page.get_by_label("Passphrase").fill("three herons on a mast")
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_text("It opens the key.")).to_be_visible()


def test_the_leading_keeper_loses_its_power_and_another_leads(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/cluster")
    expect(tab.get_by_role("link", name="fulmar", exact=True)).to_be_visible()
    expect(tab.get_by_text("Every node reaches every disk.")).to_be_visible()
    running.pull(lever="cut power", what="fulmar")
    expect(tab.get_by_text("turnstone leads (term 4)")).to_be_visible(timeout=LONG)
    expect(tab.get_by_text("Fulmar is not heard.")).to_be_visible(timeout=LONG)
    running.pull(lever="give power", what="fulmar")
    expect(tab.get_by_text("Every node reaches every disk.")).to_be_visible(timeout=LONG)


def test_a_member_is_let_go_from_its_page_and_added_again(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/machines/skua")
    tab.get_by_role("button", name="Preview letting it go").click()
    carry_out(tab)
    expect(tab.locator('[data-step="close-member"]')).to_have_attribute("data-state", "done")
    tab.get_by_role("link", name="Show skua").click()
    tab.get_by_role("button", name="Preview adding it to quay").click()
    carry_out(tab)
    expect(tab.locator('[data-step="open-member"]')).to_have_attribute("data-state", "done")


def test_what_is_not_there_is_said(tab: Page, running: Running) -> None:
    tab.goto(f"{running.url}/machines/puffin")
    expect(tab.get_by_text("No node named puffin is known.")).to_be_visible()
    tab.goto(f"{running.url}/disks/puffin-1")
    expect(tab.get_by_text("No disk named puffin-1 is known.")).to_be_visible()
    assert (
        httpx.post(f"{running.url}/api/witness", json={"url": running.url}, trust_env=False).status_code
        == 502
    )
