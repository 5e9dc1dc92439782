"""Secrets by which an orchestrator's nodes are let in: made, shown once, used, replaced, revoked."""

from __future__ import annotations

import base64
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
from claiming import KINDS as THERE
from claiming import NODES, Desk, connect, desk_of, hand_over, offer, shared_tender, standing, until
from conftest import ME, Site
from sqlalchemy import inspect, text
from test_changes import find_again, lose
from walking import attach, lane, look, register, type_there, walk

from foldbarn.api.consumers.pictures import claim_page, consumers_out
from foldbarn.changes.engine.kind import KINDS
from foldbarn.changes.engine.plan import Plan
from foldbarn.core.claims.objects import object_name
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.claims.rights import ACCOUNT
from foldbarn.core.claims.secrets import PASSWORD, SECRET, USER, connected_by
from foldbarn.core.errors import BarnError, Conflict, NotFound
from foldbarn.core.hosts.lanes import Gate
from foldbarn.links import orchestrators as link
from foldbarn.sealed import unseal
from foldbarn.services import secrets
from foldbarn.services.limits import tell_targets
from foldbarn.services.site import outlook
from foldbarn.store import changes as kept
from foldbarn.store import records
from foldbarn.store.database import engine, transaction
from foldbarn.store.views import current_view
from foldbarn.yard import shell
from foldbarn.yard.orchestrator.hands import Hands

pytestmark = pytest.mark.pooled
LEDGER = "ticketing-seat-ledger"


def good() -> list[str]:
    return [one.name for one in current_view().orchestrator("tender").secrets]


def plan_of(kind: str, **wish: Any) -> Plan:
    return KINDS[kind].plan(current_view(), KINDS[kind].params.model_validate(wish))


def everything_kept() -> str:
    """All that stands in the database, as text."""
    with engine().connect() as connection:
        tables = inspect(connection).get_table_names()
        found = [connection.execute(text(f'select one::text from "{t}" one')).scalars().all() for t in tables]
    return "\n".join(line for lines in found for line in lines)


# Made, and shown once. -------------------------------------------------------------------------------------


def test_one_is_made_with_its_orchestrator_and_shown_once(barn_site: Site) -> None:
    assert barn_site.state(connect(barn_site, shared_tender())) == "done"
    [name] = good()
    [told] = consumers_out(outlook()).orchestrators[0].secrets
    assert (told.name, told.shown_at, told.shown_to, told.hosts) == (name, None, "", [])
    said = consumers_out(outlook()).orchestrators[0].secrets_said
    assert said == "By one of these its nodes prove that they may reach the volumes of its claims."

    def seen(_: int) -> str:
        try:
            return secrets.show(ME, "tender", name).secret
        except Conflict as error:
            return error.sentence

    with ThreadPoolExecutor(max_workers=5) as crew:
        answers = list(crew.map(seen, range(5)))
    shown = [one for one in answers if "It is shown once" not in one]
    assert len(shown) == 1
    assert all(one.startswith(f"{ME} saw {name} on ") for one in answers if one not in shown)
    # RFC 7143, section 9.2.1: at least 96 random bits; 16 bytes are what every party must be able to take.
    assert len(base64.urlsafe_b64decode(shown[0])) * 8 >= 96
    assert len(shown[0].encode()) <= 16
    [told] = consumers_out(outlook()).orchestrators[0].secrets
    assert (told.shown_to, told.shown_at is None) == (ME, False)
    with transaction() as session:
        assert records.recent(session, 1)[0].what == f"The secret {name} of tender was shown."
    assert shown[0] not in everything_kept()
    with pytest.raises(NotFound, match="tender has no secret barn-0"):
        secrets.show(ME, "tender", "barn-0")


def test_no_two_are_alike_and_there_are_no_more_than_one_and_its_successor(barn_site: Site) -> None:
    connect(barn_site, shared_tender())
    [first] = good()
    assert plan_of("make-secret", orchestrator="tender").warnings == []
    assert barn_site.state(barn_site.do("make-secret", orchestrator="tender")) == "done"
    [_, second] = good()
    assert len({unseal(one.sealed) for one in current_view().orchestrator("tender").secrets}) == 2
    [refusal] = plan_of("make-secret", orchestrator="tender").blockers
    assert refusal.sentence == f"It has {first} and {second} already."
    assert consumers_out(outlook()).orchestrators[0].against_another == refusal.sentence
    barn_site.do("revoke-secret", orchestrator="tender", secret=first)
    assert good() == [second]
    assert plan_of("make-secret", orchestrator="tender").blockers == []
    [gone] = plan_of("revoke-secret", orchestrator="tender", secret=first).blockers
    assert gone.sentence == f"tender has no secret {first}."
    host_rows = plan_of("revoke-secret", orchestrator="tender", secret=second).effects[0].rows
    assert [row.label for row in host_rows] == [second]  # nobody is connected
    [last] = plan_of("revoke-secret", orchestrator="tender", secret=second).warnings
    assert last.sentence == "No node of tender is let in then to volumes that ask for a secret."


# Used, replaced, revoked. ----------------------------------------------------------------------------------


@pytest.fixture
def desk(barn_site: Site, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Desk]:
    """With a claim that is bound, and the orchestrator's nodes as hosts; things are done on these."""
    barn_site.yard.machines.consumers = 0.0
    with standing(tmp_path / "tender") as tender, desk_of(barn_site, tender, monkeypatch) as found:
        assert tender.stand_in.server is not None
        tender.stand_in.server.api.hands = Hands(barn_site.yard.machines).use
        tender.namespace("ticketing")
        register(barn_site, *NODES)
        offer(barn_site)
        found.look()
        tender.claim("ticketing", "seat-ledger")
        found.settle("ticketing/seat-ledger", Life.BOUND)
        yield found


def goes_on(desk: Desk) -> None:
    """What goes on by itself: nodes are heard and told, and claims are seen to."""
    desk.look(2)
    look(desk.site)


def phase(desk: Desk, pod: str) -> str:
    there = desk.tender.find(link.PODS, "ticketing", pod)
    return str(there["status"]["phase"]) if there is not None else ""


def connected() -> dict[str, list[str]]:
    """Names of the hosts that are connected by each secret that is good."""
    found = current_view().orchestrator("tender").secrets
    return {one.name: [host.name for host in connected_by(current_view(), one)] for one in found}


def running(desk: Desk, pod: str = "keeper") -> str:
    """The node on which a pod has come to run."""
    desk.tender.pod("ticketing", pod, "seat-ledger")
    until(lambda: goes_on(desk) or phase(desk, pod) == "Running", f"{pod} to run")
    there = desk.tender.find(link.PODS, "ticketing", pod)
    assert there is not None
    return str(there["spec"]["nodeName"])


def test_a_pod_waits_for_the_secret_and_reaches_its_volume_by_it(desk: Desk) -> None:
    [name] = good()
    there = desk.tender.admin.ask("GET", THERE["Secret"].path(ACCOUNT, SECRET))
    data = {key: base64.b64decode(value).decode() for key, value in there["data"].items()}
    clear = unseal(current_view().orchestrator("tender").secrets[0].sealed)
    assert (data[USER], data[PASSWORD]) == (name, clear)
    volumes, _ = desk.tender.admin.all(link.VOLUMES)
    assert volumes[0]["spec"]["csi"]["nodeStageSecretRef"] == {"name": SECRET, "namespace": ACCOUNT}

    desk.tender.delete(THERE["Secret"], ACCOUNT, SECRET)
    desk.tender.pod("ticketing", "keeper", "seat-ledger")

    def missed() -> bool:
        goes_on(desk)
        told = [one["message"] for one in desk.tender.admin.all(link.EVENTS, "ticketing")[0]]
        return any(f'secret "{SECRET}" not found' in one for one in told)

    until(missed, "what is missing to be said")
    assert phase(desk, "keeper") == "Pending"
    assert connected() == {name: []}
    there["metadata"].pop("resourceVersion")
    desk.tender.make(THERE["Secret"], there, ACCOUNT)
    until(lambda: goes_on(desk) or phase(desk, "keeper") == "Running", "the pod to run")
    pod = desk.tender.find(link.PODS, "ticketing", "keeper")
    assert pod is not None
    node = pod["spec"]["nodeName"]
    until(lambda: goes_on(desk) or connected() == {name: [node]}, "the connection to be told of")
    assert consumers_out(outlook()).orchestrators[0].secrets[0].hosts == [node]
    # Nodes know it in the clear, and nothing that is kept here does.
    serving = desk.site.yard.machines.serving.values()
    asked = [said["secrets"] for one in serving for said in one["targets"].values()]
    assert asked
    assert all(one == {desk.site.yard.machines.hosts[node].names["iscsi"]: {name: clear}} for one in asked)
    assert clear not in everything_kept()
    assert (
        "nodeStageSecretRef" in claim_page(outlook(), desk.kept("ticketing/seat-ledger").number, []).manifest
    )


def test_one_takes_the_place_of_the_other_while_everything_goes_on(desk: Desk) -> None:
    node, [old] = running(desk), good()
    until(lambda: goes_on(desk) or connected() == {old: [node]}, "the connection to be told of")
    assert desk.site.state(desk.site.do("make-secret", orchestrator="tender")) == "done"
    [_, new] = good()
    goes_on(desk)
    assert connected() == {old: [node], new: []}  # nobody is let go
    plan = plan_of("revoke-secret", orchestrator="tender", secret=old)
    assert [one.sentence for one in plan.blockers] == [f"Type {old} to confirm."]
    assert [one.code for one in plan.warnings] == ["unseen-secret"]
    hand_over(desk.tender)
    plan = plan_of("revoke-secret", orchestrator="tender", secret=old, typed=old)
    assert (plan.blockers, plan.warnings) == ([], [])
    machines = desk.site.yard.machines
    target = lane(node, LEDGER).name
    until(lambda: goes_on(desk) or machines.hosts[node].proofs[target][0] == new, "the node to have it")
    revoked = desk.site.do("revoke-secret", orchestrator="tender", secret=old, typed=old)
    assert desk.site.state(revoked) == "done"
    until(lambda: goes_on(desk) or connected() == {new: [node]}, "it to be connected by the other")
    assert lane(node, LEDGER).live == lane(node, LEDGER).width
    assert phase(desk, "keeper") == "Running"


def test_who_is_connected_by_a_revoked_one_is_let_go_and_comes_back_by_another(desk: Desk) -> None:
    node, [old] = running(desk), good()
    until(lambda: goes_on(desk) or connected() == {old: [node]}, "the connection to be told of")
    plan = plan_of("revoke-secret", orchestrator="tender", secret=old, typed=old)
    assert [one.code for one in plan.warnings] == ["last-secret"]
    desk.site.do("revoke-secret", orchestrator="tender", secret=old, typed=old)
    until(lambda: goes_on(desk) or lane(node, LEDGER).live == 0, "it to be let go")
    said = consumers_out(outlook()).orchestrators[0].secrets_said
    assert said == "None is good: no node is let in to 1 volume of its claims."
    assert plan_of("make-secret", orchestrator="tender").warnings == []
    # What it is given now asks for none, and stays so.
    desk.tender.claim("ticketing", "plain")
    desk.settle("ticketing/plain", Life.BOUND)
    [note] = plan_of("make-secret", orchestrator="tender").warnings
    assert note.sentence == "1 volume that it was given before is reached by name alone. That stays so."
    step = lane(node, LEDGER).missing
    assert step is not None
    assert (step.gate, step.commands) == (Gate.CONNECTED, ())
    assert step.reason.endswith("tender has no secret that is good, so nobody is let in.")
    # Revoked twice is revoked.
    assert desk.site.state(desk.site.do("make-secret", orchestrator="tender")) == "done"
    hand_over(desk.tender)
    until(lambda: goes_on(desk) or connected() == {good()[0]: [node]}, "it to be let in again")
    assert lane(node, LEDGER).live > 0
    said = consumers_out(outlook()).orchestrators[0].secrets_said
    assert said.endswith("1 volume that it was given before is reached by name alone.")
    plain = desk.tender.find(link.VOLUMES, "", object_name(desk.kept("ticketing/plain").claim.uid))
    assert plain is not None
    assert "nodeStageSecretRef" not in plain["spec"]["csi"]


def test_a_node_that_was_silent_hears_what_was_revoked_as_soon_as_it_is_heard(desk: Desk) -> None:
    node, [old] = running(desk), good()
    until(lambda: goes_on(desk) or connected() == {old: [node]}, "the connection to be told of")
    serves = current_view().target_of(current_view().volume(LEDGER).number)
    assert serves is not None
    gateway = current_view().node_numbered(serves.gateways[0])
    machines = desk.site.yard.machines
    lose(desk.site, gateway.name, given_up=False)
    number = desk.site.do("revoke-secret", orchestrator="tender", secret=old, typed=old)
    assert desk.site.state(number) == "done"
    with transaction() as session:
        _, steps = kept.one(session, number)
    assert f"{gateway.name} will be told when heard again." in steps[-1].outcome
    good_there = next(iter(machines.serving[gateway.name]["targets"].values()))["secrets"]
    assert all(old in one for one in good_there.values())
    find_again(desk.site, gateway.name)
    until(lambda: goes_on(desk) or not tell_targets(), "it to be told")
    good_there = next(iter(machines.serving[gateway.name]["targets"].values()))["secrets"]
    assert all(one == {} for one in good_there.values())


# By hand. --------------------------------------------------------------------------------------------------


def test_somebody_attaches_by_a_secret_and_does_what_is_said_to_be_missing(barn_site: Site) -> None:
    barn_site.volume()
    connect(barn_site, shared_tender())
    [name] = good()
    register(barn_site, "slipway")
    attach(barn_site, "charts", "slipway", secret_of="tender", file_system="xfs")
    look(barn_site)
    machines, target = barn_site.yard.machines, lane("slipway").name
    type_there(barn_site, "slipway", "systemctl enable --now iscsid")
    at = lane("slipway").paths[0].portal
    type_there(barn_site, "slipway", f"iscsiadm -m discovery -t sendtargets -p {at}")
    with pytest.raises(shell.Failed, match="authorization failure"):
        type_there(barn_site, "slipway", f"iscsiadm -m node -T {target} -p {at} --login")
    look(barn_site)
    step = lane("slipway").missing
    assert step is not None
    assert f"by a secret of tender, such as {name}" in step.reason
    assert not any(unseal(current_view().orchestrators[0].secrets[0].sealed) in one for one in step.commands)
    assert Gate.CONNECTED in walk(barn_site, "slipway")
    assert connected() == {name: ["slipway"]}
    assert set(machines.hosts["slipway"].proved.values()) == {name}
    # Its own name would not do, nor would NVMe, by which nothing of the kind is asked.
    plan = plan_of("attach-volume", volume="charts", hosts=["slipway"], secret_of="nobody")
    assert "nobody" in plan.blockers[0].sentence
    # Nobody would know any more by what the host proves itself.
    refusal = plan_of("disconnect-orchestrator", orchestrator="tender", typed="tender").blockers
    assert [one.sentence for one in refusal] == ["charts is attached to its nodes by its secret."]


def test_a_key_that_is_lost_lets_nobody_in(barn_site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    barn_site.volume()
    connect(barn_site, shared_tender())
    register(barn_site, "slipway")
    monkeypatch.setattr("foldbarn.sealed._key", lambda: b"\0" * 32)
    attach(barn_site, "charts", "slipway", secret_of="tender")
    serving = [one["targets"] for one in barn_site.yard.machines.serving.values() if one["targets"]]
    assert serving
    for targets in serving:
        assert [list(said["secrets"].values()) for said in targets.values()] == [[{}]]
    with pytest.raises(BarnError, match="sealed by another key"):
        secrets.show(ME, "tender", good()[0])
    [told] = consumers_out(outlook()).orchestrators[0].secrets
    assert told.shown_at is None  # nobody has seen it
