"""The story of a claim, as the engineer and the application team live it: from an orchestrator that nobody
has connected to a volume that outlives its pods and its claim. The tests build on one another.
"""

from __future__ import annotations

import re

import pytest
import yaml
from conftest import Running, blocker, carry_out, pick
from playwright.sync_api import Locator, Page, expect

from foldbarn.house.demo import TIDES, claim_text, pod_text, set_text, snapshot_text

LONG = 240_000  # ms: for what the barn does by itself


@pytest.fixture(scope="module")
def site(running: Running) -> Running:
    """With a pool, a policy, and the orchestrator's nodes as hosts."""
    demo = running.demo
    demo.wait(lambda: demo.barn()["counts"]["nodes"] >= 9, "all nodes to report in")
    nodes = ("fulmar", "petrel", "kittiwake", "turnstone")
    disks = [f"{node}-{bay}" for node in nodes for bay in range(1, 9)]
    demo.carry_out("form-pool", {"name": "quayside", "disks": disks})
    demo.carry_out("save-policy", {"name": "steady-three", "copies": 3, "level": "rack"})
    for host in running.api.get("/yard").json()["hosts"]:
        if host["name"].startswith("tender-"):
            wish = {key: host[key] for key in ("name", "initiators", "agent_url")}
            demo.carry_out("save-host", {**wish, "group": "tenders"})
    return running


def done(page: Page, step: str) -> None:
    expect(page.locator(f'[data-step="{step}"]')).to_have_attribute("data-state", "done", timeout=LONG)


def row_of(page: Page, name: str) -> Locator:
    return page.get_by_role("row").filter(has=page.get_by_role("link", name=name, exact=True))


def open_claim(page: Page, site: Running, path: str) -> None:
    namespace, name = path.split("/")
    page.goto(f"{site.url}/claims/{site.demo.claim(namespace, name)['number']}")
    expect(page.get_by_role("heading", level=1)).to_contain_text(path)


def test_an_orchestrator_is_connected_by_an_account_that_may_do_the_least(tab: Page, site: Running) -> None:
    tab.goto(f"{site.url}/consumers")
    tab.get_by_role("link", name="Connect one").click()
    with tab.expect_download() as kept:
        tab.get_by_role("link", name="the manifests of the account").click()
    # Who runs the orchestrator applies them there.
    tab.get_by_role("button", name="Yard").click()
    yard = tab.get_by_label("Yard", exact=True)
    yard.get_by_label("Manifests to apply in tender").fill("kind: Nothing")
    yard.get_by_role("button", name="Apply").click()
    expect(yard).to_contain_text("Each document has a kind that is known here")
    yard.get_by_label("Manifests to apply in tender").fill(kept.value.path().read_text())
    yard.get_by_role("button", name="Apply").click()
    expect(yard.get_by_role("status")).to_contain_text("ServiceAccount fold-barn created")
    yard.get_by_role("button", name="Close").click()
    site.demo.wait(lambda: bool(site.demo._orchestrator()["token"]), "the account's token")
    there = site.demo._orchestrator()
    tab.get_by_role("link", name="Connect an orchestrator").click()
    sheet = tab.get_by_role("dialog")
    sheet.get_by_label("Name of the orchestrator").fill("tender")
    sheet.get_by_label("Address of its API").fill("http://127.0.0.1:1")
    sheet.get_by_label("Token of its account").fill(there["token"])
    expect(blocker(sheet, "is no address of an orchestrator")).to_be_visible()
    sheet.get_by_label("Address of its API").fill(there["url"])
    sheet.get_by_label("Certificate that its own goes back to").fill("no certificate")
    expect(blocker(sheet, "This is no certificate in PEM form.")).to_be_visible()
    sheet.get_by_label("Certificate that its own goes back to").fill(there["authority"])
    carry_out(tab)
    done(tab, "ask-orchestrator")
    assert there["token"] not in tab.content()
    tab.get_by_role("link", name="Show tender").click()
    expect(tab.get_by_label("tender", exact=True)).to_contain_text("gives every right that it takes")


def test_its_secret_is_shown_once_and_handed_over(tab: Page, site: Running) -> None:
    tab.goto(f"{site.url}/consumers/orchestrators")
    mine = tab.get_by_label("tender", exact=True)
    expect(mine).to_contain_text("nobody yet")
    mine.get_by_role("button", name="Show it, once").click()
    shown = tab.get_by_role("dialog")
    manifest = shown.get_by_label("As a manifest").input_value()
    with tab.expect_download() as kept:
        shown.get_by_role("button", name="Keep it as a file").click()
    assert kept.value.path().read_text() == manifest
    clear = yaml.safe_load(manifest)["stringData"]["node.session.auth.password"]
    expect(shown).to_contain_text(clear)
    shown.get_by_role("button", name="Close, and show it to nobody again").click()
    expect(shown).to_have_count(0)
    expect(mine).to_contain_text("Ines Marrow,")
    expect(mine.get_by_role("button", name="Show it, once")).to_have_count(0)
    assert clear not in tab.content()
    site.demo.apply(manifest)
    # One is made beside it, and revoked again.
    mine.get_by_role("link", name="Make another").click()
    expect(tab.get_by_role("dialog")).to_contain_text("Nobody is let go: what was good stays good.")
    carry_out(tab)
    done(tab, "tell-secrets")
    tab.goto(f"{site.url}/consumers/orchestrators")
    expect(mine.get_by_role("button", name="Show it, once")).to_have_count(1)
    expect(mine.get_by_role("link", name="Make another")).to_have_count(0)
    expect(mine).to_contain_text("It has barn-1 and barn-2 already.")
    mine.get_by_role("link", name="Preview revoking barn-2").click()
    carry_out(tab)
    done(tab, "forget-secret")


def test_a_policy_is_published_and_granted_and_a_claim_gets_its_volume(tab: Page, site: Running) -> None:
    site.demo.apply("{apiVersion: v1, kind: Namespace, metadata: {name: ticketing}}")
    site.demo.apply(claim_text("ticketing", "seat-ledger", "steady", "20Gi"))
    tab.goto(f"{site.url}/consumers")
    row = row_of(tab, "seat-ledger")
    expect(row).to_contain_text("There is no class steady.", timeout=LONG)
    # The claim's own page leads to what helps.
    row.get_by_role("link", name="seat-ledger", exact=True).click()
    tab.get_by_role("link", name="Publish a class steady").click()
    sheet = tab.get_by_role("dialog")
    expect(sheet.get_by_label("Name of the class")).to_have_value("steady")
    pick(sheet, "Policy", "steady-three")
    expect(sheet).to_contain_text("its policy was granted to no namespace")
    carry_out(tab)
    done(tab, "write-class")
    open_claim(tab, site, "ticketing/seat-ledger")
    expect(tab.get_by_role("main")).to_contain_text("was not granted to ticketing", timeout=LONG)
    tab.get_by_role("link", name="Grant it").click()
    sheet = tab.get_by_role("dialog")
    sheet.get_by_label("In all, such as 2 TiB").fill("10 GiB")
    expect(sheet).to_contain_text("this would be 10 GiB too much")
    sheet.get_by_label("In all, such as 2 TiB").fill("60 GiB")
    expect(sheet).to_contain_text("gets its volume")
    carry_out(tab)
    done(tab, "write-grant")
    # What the preview said comes about by itself, and the page shows it without a refresh.
    open_claim(tab, site, "ticketing/seat-ledger")
    expect(tab.get_by_role("main")).to_contain_text("It is bound", timeout=LONG)
    chain = tab.get_by_label("Lineage")
    expect(chain).to_contain_text("ticketing-seat-ledger")
    expect(chain).to_contain_text("quayside")
    chain.get_by_role("link", name=re.compile("ticketing-seat-ledger")).click()
    expect(tab.get_by_label("Lineage")).to_contain_text("ticketing/seat-ledger")


def test_a_pod_uses_it_and_the_volume_follows_to_another_node(tab: Page, site: Running) -> None:
    site.demo.apply(pod_text("ticketing", "keeper", "seat-ledger"))
    open_claim(tab, site, "ticketing/seat-ledger")
    attached = tab.get_by_role("row").filter(has_text="Attached to")
    expect(attached.get_by_role("link", name=re.compile("tender-"))).to_be_visible(timeout=LONG)
    first = attached.get_by_role("link").inner_text()
    tab.goto(f"{site.url}/hosts/{first}")
    expect(tab.get_by_label("What it reaches")).to_contain_text("4 of 4 paths", timeout=LONG)
    site.demo.apply(
        f"{{apiVersion: v1, kind: Node, metadata: {{name: {first}}}, spec: {{unschedulable: true}}}}"
    )
    site.demo.pull("remove", "Pod ticketing/keeper")
    site.demo.apply(pod_text("ticketing", "keeper-again", "seat-ledger"))
    open_claim(tab, site, "ticketing/seat-ledger")
    expect(attached.get_by_role("link", name=re.compile("tender-"))).not_to_have_text(first, timeout=LONG)
    expect(attached.get_by_role("link", name=re.compile("tender-"))).to_be_visible(timeout=LONG)
    expect(tab.get_by_label("Lineage")).to_contain_text("keeper-again", timeout=LONG)


def test_it_grows_while_it_is_used_as_far_as_it_was_granted(tab: Page, site: Running) -> None:
    open_claim(tab, site, "ticketing/seat-ledger")
    site.demo.apply(claim_text("ticketing", "seat-ledger", "steady", "50Gi"))
    expect(tab.get_by_label("Lineage")).to_contain_text("50 GiB", timeout=LONG)
    site.demo.apply(claim_text("ticketing", "seat-ledger", "steady", "90Gi"))
    expect(tab.get_by_role("main")).to_contain_text("this would be 30 GiB too much", timeout=LONG)
    expect(tab.get_by_role("link", name="Grant more")).to_be_visible()


def test_the_team_sees_its_namespace_and_never_a_disk(tab: Page, site: Running) -> None:
    tab.goto(f"{site.url}/consumers/namespaces")
    tab.get_by_role("link", name="ticketing", exact=True).click()
    page = tab.get_by_role("main")
    expect(page.get_by_label("What it may have")).to_contain_text("Three copies, each in another rack")
    expect(page.get_by_label("What it may have")).to_contain_text("50 GiB of 60 GiB")
    expect(page.get_by_label("A manifest to begin with")).to_contain_text("storageClassName: steady")
    page.get_by_role("button", name="A set of pods").click()
    expect(page.get_by_label("A manifest to begin with")).to_contain_text("kind: StatefulSet")
    for name in ("fulmar-1", "petrel", "turnstone"):
        expect(page).not_to_contain_text(name)
    with tab.expect_download() as kept:
        page.get_by_role("link", name="Keep it as manifests").click()
    kinds = [one["kind"] for one in yaml.safe_load_all(kept.value.path().read_text())]
    assert {"ResourceQuota", "StorageClass", "PersistentVolumeClaim", "PersistentVolume"} == set(kinds)


def test_manifests_are_judged_before_anybody_applies_them(tab: Page, site: Running) -> None:
    tab.goto(f"{site.url}/consumers/orchestrators")
    trial = tab.get_by_label("What manifests would get")
    fits = claim_text("ticketing", "small", "steady", "4Gi")
    large = set_text("ticketing", TIDES[1], 3, "steady", "5Gi")
    trial.get_by_label("Manifests, several documents in one").fill(f"{fits}---{large}")
    trial.get_by_role("button", name="Judge them").click()
    small = trial.get_by_role("row").filter(has_text="ticketing/small")
    expect(small.last).to_contain_text("A volume in quayside, as steady-three says.")
    last = trial.get_by_role("row").filter(has_text="data-tides-1")
    expect(last).to_contain_text("this would be 4 GiB too much")
    # A class that is described is one press from being published.
    described = "{kind: StorageClass, metadata: {name: twin}, provisioner: fold-barn.internal, "
    described += "parameters: {policy: steady-three}}"
    trial.get_by_label("Manifests, several documents in one").fill(described)
    trial.get_by_role("button", name="Judge them").click()
    trial.get_by_role("link", name="Preview publishing twin").click()
    expect(tab.get_by_role("dialog")).to_contain_text("It appears in tender, for ticketing.")
    tab.get_by_role("dialog").get_by_text("Close", exact=True).click()
    trial.get_by_label("Manifests, several documents in one").fill("a: [b")
    trial.get_by_role("button", name="Judge them").click()
    expect(trial).to_contain_text("This is no YAML.")


def test_what_is_retained_outlives_its_claim_and_is_bound_again(tab: Page, site: Running) -> None:
    site.demo.carry_out("publish-class", {"name": "kept", "policy": "steady-three", "reclaim": "Retain"})
    site.demo.apply(claim_text("ticketing", "year", "kept", "8Gi"))
    site.demo.wait_for_claim("ticketing", "year", "bound")
    site.demo.pull("remove", "PersistentVolumeClaim ticketing/year")
    tab.goto(f"{site.url}/consumers/aside")
    row = row_of(tab, "year")
    expect(row).to_contain_text("ticketing-year", timeout=LONG)
    row.get_by_role("link", name="Take a snapshot").click()
    carry_out(tab)
    expect(tab.locator("[data-step]").last).to_have_attribute("data-state", "done", timeout=LONG)
    site.demo.apply(claim_text("ticketing", "year-again", "nowhere", "6Gi"))
    site.demo.wait_for_claim("ticketing", "year-again", "waiting")
    tab.goto(f"{site.url}/consumers/aside")
    row_of(tab, "year").get_by_role("link", name="Give it to a claim").click()
    sheet = tab.get_by_role("dialog")
    pick(sheet, "Claim that is to have it", "ticketing/year-again")
    expect(blocker(sheet, "There is no class nowhere.")).to_be_visible()
    # Such a claim cannot have it; one of a class that waits for its first pod can.
    late = {"name": "late", "policy": "steady-three", "binding": "WaitForFirstConsumer"}
    site.demo.carry_out("publish-class", late)
    site.demo.apply(claim_text("ticketing", "year-late", "late", "6Gi"))
    site.demo.wait_for_claim("ticketing", "year-late", "waiting")
    tab.goto(f"{site.url}/consumers/aside")
    row_of(tab, "year").get_by_role("link", name="Give it to a claim").click()
    pick(sheet, "Claim that is to have it", "ticketing/year-late")
    expect(sheet).to_contain_text("bound to ticketing-year")
    carry_out(tab)
    done(tab, "hand-volume-on")
    open_claim(tab, site, "ticketing/year-late")
    expect(tab.get_by_role("main")).to_contain_text("It is bound", timeout=LONG)
    expect(tab.get_by_label("Lineage")).to_contain_text("ticketing-year")


def test_a_snapshot_is_asked_for_there_and_a_claim_filled_from_it(tab: Page, site: Running) -> None:
    wish = {"orchestrator": "tender", "namespace": "ticketing", "policy": "steady-three"}
    site.demo.carry_out("grant-policy", {**wish, "size": "400 GiB"})
    ninety = 90 * 2**30
    site.demo.wait(
        lambda: site.demo.claim("ticketing", "seat-ledger")["volume_bytes"] >= ninety, "it to grow"
    )
    # What the team begins with stands on its page.
    tab.goto(f"{site.url}/consumers/namespaces/tender/ticketing")
    begin = tab.get_by_label("A manifest to begin with")
    tab.get_by_role("button", name="A snapshot", exact=True).click()
    expect(begin).to_contain_text("persistentVolumeClaimName: my-data")
    tab.get_by_role("button", name="A claim from it", exact=True).click()
    expect(begin).to_contain_text("kind: VolumeSnapshot")
    open_claim(tab, site, "ticketing/seat-ledger")
    site.demo.apply(snapshot_text("ticketing", "friday", "seat-ledger"))
    taken = tab.get_by_role("row").filter(has_text="ticketing/friday")
    expect(taken).to_contain_text("friday", timeout=LONG)
    expect(taken).not_to_contain_text("being taken", timeout=LONG)
    site.demo.apply(claim_text("ticketing", "too-small", "steady", "50Gi", filled_from="friday"))
    site.demo.apply(claim_text("ticketing", "rehearsal", "steady", "90Gi", filled_from="friday"))
    site.demo.wait_for_claim("ticketing", "rehearsal", "bound")
    open_claim(tab, site, "ticketing/too-small")
    expect(tab.get_by_role("main")).to_contain_text("It asks for 50 GiB, and is to be filled from 90 GiB.")
    open_claim(tab, site, "ticketing/rehearsal")
    filled = tab.get_by_role("row").filter(has_text="Filled from")
    expect(filled).to_contain_text("the snapshot friday, here friday of ticketing-seat-ledger")
    filled.get_by_role("link", name="ticketing-seat-ledger").click()
    expect(tab.get_by_role("main")).to_contain_text("asked for as ticketing/friday in tender")
