"""Claims of a stand-in orchestrator become volumes of a site whose nodes are the yard's, and outlive what
used them.
"""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
import yaml
from claiming import GIB, NODES, Desk, connect, desk_of, offer, standing, steward_for, until
from conftest import ME, Site
from sqlalchemy import select
from walking import register

from foldbarn.api.consumers.models import ManifestsIn
from foldbarn.api.consumers.pictures import (
    classes_written,
    consumers_out,
    manifests_out,
    namespace_written,
)
from foldbarn.changes.engine.kind import KINDS
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.claims.admission import Admission, Verdict, had_in
from foldbarn.core.claims.claims import Claim
from foldbarn.core.claims.classes import Reclaim
from foldbarn.core.claims.grants import Limits
from foldbarn.core.claims.kept import Answering, Hindrance, Orchestrator
from foldbarn.core.claims.objects import object_name, says_the_same
from foldbarn.core.claims.places import as_label
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.claims.rights import ACCOUNT, RIGHTS, Right, one_by_one, together
from foldbarn.core.errors import NotFound, Unreachable
from foldbarn.core.hosts.attachments import FileSystem
from foldbarn.links import orchestrators as link
from foldbarn.links.orchestrators import Key, Resource
from foldbarn.sealed import seal
from foldbarn.services import changes
from foldbarn.services.consumers import following, stewarding
from foldbarn.services.consumers.looking_after import follow
from foldbarn.services.site import outlook
from foldbarn.store import orchestrators
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import ChangeRow, OrchestratorRow
from foldbarn.store.views import current_view

GRANT = {"orchestrator": "tender", "namespace": "ticketing", "policy": "steady-three"}
pytestmark = pytest.mark.pooled


@pytest.fixture
def desk(barn_site: Site, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Desk]:
    barn_site.yard.machines.consumers = 0.0
    with standing(tmp_path / "tender") as tender, desk_of(barn_site, tender, monkeypatch) as found:
        tender.namespace("ticketing")
        yield found


def plan_of(kind: str, **wish: Any) -> Any:
    return KINDS[kind].plan(current_view(), KINDS[kind].params.model_validate(wish))


def test_a_claim_that_fits_becomes_a_volume_and_is_bound_both_ways(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    until(lambda: desk.tender.find(link.CLASSES, "", "steady"), "the class")
    made = desk.tender.claim("ticketing", "seat-ledger")
    kept = desk.settle("ticketing/seat-ledger", Life.BOUND)
    assert desk.tender.phase("ticketing", "seat-ledger") == "Bound"
    volume = current_view().volume("ticketing-seat-ledger")
    assert (kept.volume, kept.promised, volume.size_bytes) == (volume.number, 5 * GIB, 5 * GIB)
    there = desk.tender.find(link.VOLUMES, "", object_name(made["metadata"]["uid"]))
    assert there is not None
    assert there["spec"]["csi"]["volumeHandle"] == f"{current_view().mark}/{volume.number}"
    assert there["spec"]["claimRef"]["uid"] == made["metadata"]["uid"]
    assert there["spec"]["capacity"] == {"storage": str(5 * GIB)}
    assert len(desk.begun) == 1


def test_one_that_does_not_says_why_there_and_here_and_is_tried_again(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    desk.tender.claim("ticketing", "seat-ledger", storage_class="stedy")
    desk.look()
    kept = desk.kept("ticketing/seat-ledger")
    assert (kept.life, kept.hindrance) == (Life.WAITING, Hindrance.UNKNOWN_CLASS)
    assert kept.cure == "Did you mean steady?"
    told = desk.tender.events("ticketing", "seat-ledger")
    assert [(e["reason"], e["message"]) for e in told] == [
        ("ClassUnknown", "There is no class stedy. Did you mean steady?")
    ]
    desk.site.do("publish-class", name="stedy", policy="steady-three")
    desk.settle("ticketing/seat-ledger", Life.BOUND)


def test_one_that_asks_for_no_class_of_ours_is_not_judged_anew_at_each_news(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    """There may be tens of thousands; what they wait for is that something else is offered."""
    offer(desk.site)
    desk.look()
    desk.tender.claim("ticketing", "odd", storage_class="stedy")
    desk.tender.claim("ticketing", "large", size="900Ti")
    desk.look()
    hindrances = {kept.claim.name: kept.hindrance for kept in current_view().claims}
    assert hindrances == {"odd": Hindrance.UNKNOWN_CLASS, "large": Hindrance.NO_POOL}
    judged: list[str] = []
    judge = Admission.judge

    def noted(self: Admission, claim: Claim, **more: Any) -> Verdict:
        judged.append(claim.name)
        return judge(self, claim, **more)

    monkeypatch.setattr(Admission, "judge", noted)
    desk.site.volume()
    desk.look()
    assert set(judged) == {"large"}  # for that one there may be room by now
    judged.clear()
    with transaction() as session:
        number = current_view().orchestrators[0].number
        assert orchestrators.note_answering(session, number, Answering.SILENT, "It is slow.")
        announce(session, "site")
    desk.look()
    assert "odd" not in judged  # nothing else is offered for that
    judged.clear()
    desk.site.do("publish-class", name="other", policy="steady-three")
    desk.look()
    assert set(judged) == {"large", "odd"}


def test_nobody_waits_until_thousands_are_told_that_there_is_no_such_class(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(stewarding, "MOST_TOLD", 3)
    offer(desk.site)
    desk.look()
    judged, judge = Counter[str](), Admission.judge

    def counted(self: Admission, claim: Claim, **more: Any) -> Verdict:
        judged[claim.name] += 1
        return judge(self, claim, **more)

    monkeypatch.setattr(Admission, "judge", counted)
    for number in range(8):
        desk.tender.claim("ticketing", f"odd-{number}", storage_class="stedy")
    desk.tender.claim("ticketing", "seat-ledger")
    touched = {resource: mirror._look() for resource, mirror in desk.mirrors.items()}
    assert desk.steward.look(touched)
    nothing: dict[Resource, set[Key]] = {resource: set() for resource in desk.mirrors}
    assert desk.steward.look(nothing)  # there are more to be told

    def told() -> int:
        return sum(kept.hindrance is Hindrance.UNKNOWN_CLASS for kept in current_view().claims)

    assert told() < 8
    assert current_view().volumes  # which was made meanwhile
    # One that goes before it is told is told of no more; all others are.
    last = [kept.claim.name for kept in current_view().claims if kept.hindrance is None and not kept.volume][
        -1
    ]
    desk.tender.delete(link.CLAIMS, "ticketing", last)
    desk.settle("ticketing/seat-ledger", Life.BOUND)
    until(lambda: desk.look(2) or told() == 7, "all to be told")
    events = desk.tender.admin.all(link.EVENTS, "ticketing")[0]
    of = [one["involvedObject"]["name"] for one in events if one["reason"] == "ClassUnknown"]
    assert len(of) == len(set(of)) == 7
    assert last not in of
    assert not desk.steward.later
    # Once as it came and once as it had been written down, and not with each of those that are told before.
    assert max(judged[f"odd-{number}"] for number in range(8)) <= 2


def test_what_could_not_be_told_is_told_as_soon_as_it_can(
    desk: Desk, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It is written down before it is told: neither an orchestrator that is slow nor an end of Fold Barn in
    between leaves a claim without a word.
    """
    offer(desk.site)
    desk.look()
    really = link.Orchestrator.ask

    def refused(self: link.Orchestrator, method: str, path: str, *args: Any, **more: Any) -> Any:
        if method == "POST" and path.endswith("/events"):
            raise Unreachable("It is slow.")
        return really(self, method, path, *args, **more)

    for name, dies in (("odd", False), ("odder", True)):
        desk.tender.claim("ticketing", name, storage_class="stedy")
        with monkeypatch.context() as patch:
            patch.setattr(link.Orchestrator, "ask", refused)
            with pytest.raises(Unreachable):
                desk.look()
        kept = next(kept for kept in current_view().claims if kept.claim.name == name)
        assert kept.hindrance is Hindrance.UNKNOWN_CLASS
        assert desk.tender.events("ticketing", name) == []
        if dies:
            desk.steward, mirrors = steward_for(desk.tender)
            desk.mirrors.update(mirrors)
        desk.look()
        [event] = desk.tender.events("ticketing", name)
        assert event["message"].startswith("There is no class stedy.")
    # Who was told before it began anew is told nothing twice.
    assert len(desk.tender.events("ticketing", "odd")) == 1


def test_what_is_not_understood_is_said_there_once_and_keeps_nobody_from_the_others(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    beyond = {"kind": "VolumeSnapshot", "name": "nightly", "namespace": "cargo-desk"}
    desk.tender.claim("ticketing", "odd", dataSourceRef={**beyond, "apiGroup": link.SNAPSHOTS.group})
    desk.tender.claim("ticketing", "seat-ledger")
    desk.settle("ticketing/seat-ledger", Life.BOUND)
    desk.look()
    told = desk.tender.events("ticketing", "odd")
    assert [(e["reason"], e["type"], e["message"]) for e in told] == [
        ("NotUnderstood", "Warning", "A claim is filled from what is in its own namespace.")
    ]
    assert [kept.path for kept in current_view().claims] == ["ticketing/seat-ledger"]


def test_a_class_of_somebody_elses_is_left_alone_and_said_to_be_in_the_way(desk: Desk) -> None:
    theirs = {"metadata": {"name": "steady"}, "provisioner": "other.example"}
    desk.tender.make(link.CLASSES, theirs)
    desk.look()
    desk.site.do("save-policy", name="steady-three", copies=3, level="node")
    warned = [w.sentence for w in plan_of("publish-class", name="steady", policy="steady-three").warnings]
    assert warned == [
        "tender has a class steady that is somebody else's: there claims get nothing of this one."
    ]
    offer(desk.site)
    desk.look()
    found = desk.tender.find(link.CLASSES, "", "steady")
    assert found is not None
    assert found["provisioner"] == "other.example"
    (shown,) = consumers_out(outlook()).classes
    assert (shown.appears, shown.others) == ([], ["tender"])
    # It goes, and ours appears.
    desk.tender.delete(link.CLASSES, "", "steady")
    desk.look()
    found = desk.tender.find(link.CLASSES, "", "steady")
    assert found is not None
    assert found["provisioner"] == "fold-barn.internal"
    (shown,) = consumers_out(outlook()).classes
    assert (shown.appears, shown.others) == (["tender"], [])


def test_a_late_one_remembers_where_its_first_pod_runs(desk: Desk) -> None:
    """As the labels of the node say that the scheduler chose."""
    view = current_view()
    room = view.rooms[view.racks[view.nodes[view.disks[0].node].rack].room].name
    zone = as_label(room)  # the orchestrator takes no spaces there
    assert zone != room
    labels = {"metadata": {"labels": {"topology.kubernetes.io/zone": zone}}}
    for node in NODES:
        desk.tender.admin.ask("PATCH", link.NODES.path(name=node), labels, patch=link.MERGE)
    offer(desk.site)
    late = {"name": "late", "policy": "steady-three", "binding": "WaitForFirstConsumer"}
    assert desk.site.state(desk.site.do("publish-class", **late)) == "done"
    desk.look()
    desk.tender.claim("ticketing", "tides", storage_class="late")
    desk.look()
    assert desk.kept("ticketing/tides").near == ()
    desk.tender.pod("ticketing", "gauge", "tides")
    kept = desk.settle("ticketing/tides", Life.BOUND)
    assert kept.near == (zone,)
    with transaction() as session:
        (made,) = session.scalars(select(ChangeRow).where(ChangeRow.kind == "make-claimed"))
        assert f"it stands in {zone}, as its first pod does" in str(made.preview)


# Limits. ---------------------------------------------------------------------------------------------------


def test_claims_in_several_changes_at_once_never_pass_a_limit_by_a_byte(desk: Desk) -> None:
    """Two changes for the claims of one namespace, planned before either was carried out: each is judged
    again where it is promised.
    """
    offer(desk.site, size="14 GiB")
    for number in range(5):
        desk.tender.claim("ticketing", f"c{number}", size="4Gi")
    desk.take_in()
    waiting = [kept.number for kept in current_view().claims]
    changes_ = [changes.carry_out(ME, "make-claimed", {"claims": [one]}) for one in waiting]
    with ThreadPoolExecutor(max_workers=5) as crew:
        list(crew.map(run_change, changes_))
    had = had_in(current_view())[current_view().orchestrators[0].number]
    assert [sum(one.bytes for one in mine) for mine in had.values()] == [12 * GIB]
    states = Counter(desk.site.state(number) for number in changes_)
    assert states == {"done": 3, "withdrawn": 2}
    assert len(current_view().volumes) == 3
    desk.look()
    waits = [kept for kept in current_view().claims if kept.life is Life.WAITING]
    assert {kept.hindrance for kept in waits} == {Hindrance.OVER_LIMIT}
    assert "this would be 2 GiB too much" in waits[0].sentence
    desk.site.do(
        "grant-policy", orchestrator="tender", namespace="ticketing", policy="steady-three", size="20 GiB"
    )
    for kept in waits:
        desk.settle(kept.path, Life.BOUND)


def test_what_is_not_granted_is_not_had_and_a_class_appears_only_for_whom_it_was_granted(desk: Desk) -> None:
    desk.site.do("save-policy", name="steady-three", copies=3, level="node")
    desk.site.do("publish-class", name="steady", policy="steady-three")
    desk.look()
    assert desk.tender.find(link.CLASSES, "", "steady") is None
    desk.tender.claim("ticketing", "seat-ledger")
    desk.look()
    kept = desk.kept("ticketing/seat-ledger")
    assert kept.hindrance is Hindrance.NOT_GRANTED
    offer(desk.site)
    desk.settle("ticketing/seat-ledger", Life.BOUND)
    until(lambda: desk.tender.find(link.CLASSES, "", "steady"))
    desk.site.do("withdraw-grant", orchestrator="tender", namespace="ticketing", policy="steady-three")
    desk.look()
    assert desk.tender.find(link.CLASSES, "", "steady") is None
    assert desk.kept("ticketing/seat-ledger").life is Life.BOUND  # nothing is taken from it


def test_a_class_says_there_what_it_says_here_and_leaves_those_of_others_alone(desk: Desk) -> None:
    offer(desk.site)
    foreign = {"metadata": {"name": "theirs"}, "provisioner": "disks.example", "reclaimPolicy": "Delete"}
    desk.tender.make(link.CLASSES, foreign)
    desk.tender.claim("ticketing", "other", storage_class="theirs")
    desk.look()
    assert not current_view().claims  # that is somebody else's to serve
    desk.site.do("publish-class", storage_class="steady", name="steady", policy="steady-three", default=True)
    desk.look()
    there = desk.tender.find(link.CLASSES, "", "steady")
    assert there is not None
    assert there["metadata"]["annotations"] == {"storageclass.kubernetes.io/is-default-class": "true"}
    was = there["metadata"]["uid"]
    wish = {"storage_class": "steady", "name": "steady", "policy": "steady-three", "reclaim": "Retain"}
    desk.site.do("publish-class", **wish)
    desk.look()
    there = desk.tender.find(link.CLASSES, "", "steady")
    assert there is not None
    assert there["metadata"]["uid"] != was  # such is altered of none: it is another one of its name
    assert (there["reclaimPolicy"], there["metadata"].get("annotations")) == ("Retain", None)
    assert desk.tender.find(link.CLASSES, "", "theirs") is not None


# Life and death. -------------------------------------------------------------------------------------------


def test_a_volume_that_goes_with_its_claim_goes_into_the_bin_and_its_object_away(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    uid = desk.tender.claim("ticketing", "seat-ledger")["metadata"]["uid"]
    desk.settle("ticketing/seat-ledger", Life.BOUND)
    desk.tender.delete(link.CLAIMS, "ticketing", "seat-ledger")
    desk.settle("ticketing/seat-ledger", Life.OVER)
    assert current_view().volume("ticketing-seat-ledger").binned is not None
    assert desk.tender.find(link.VOLUMES, "", object_name(uid)) is None


def test_one_that_is_retained_is_kept_aside_and_can_be_bound_again(desk: Desk) -> None:
    offer(desk.site)
    wish = {"name": "kept", "policy": "steady-three", "reclaim": "Retain"}
    desk.site.do("publish-class", **wish)
    desk.look()
    desk.tender.claim("ticketing", "seat-ledger", storage_class="kept")
    first = desk.settle("ticketing/seat-ledger", Life.BOUND)
    desk.tender.delete(link.CLAIMS, "ticketing", "seat-ledger")
    desk.settle("ticketing/seat-ledger", Life.ASIDE)
    assert current_view().volume("ticketing-seat-ledger").binned is None
    # Another claim, which asks for another class, is too large at first.
    desk.tender.claim("ticketing", "again", size="9Gi", storage_class="none-such")
    desk.look()
    to = desk.kept("ticketing/again")
    refusals = [b.sentence for b in plan_of("bind-again", claim=first.number, to=to.number).blockers]
    assert refusals == ["ticketing/again asks for 9 GiB, and ticketing-seat-ledger has 5 GiB."]
    desk.tender.delete(link.CLAIMS, "ticketing", "again")
    desk.site.do("grant-policy", **GRANT, size="5 GiB", claims=1)
    desk.tender.claim("ticketing", "more", size="2Gi", storage_class="stedy")
    desk.look()
    desk.site.do("publish-class", name="stedy", policy="steady-three", binding="WaitForFirstConsumer")
    desk.look()
    to = desk.kept("ticketing/more")
    assert to.hindrance is Hindrance.NO_CONSUMER
    assert desk.site.state(desk.site.do("bind-again", claim=first.number, to=to.number)) == "done"
    again = desk.settle("ticketing/more", Life.BOUND)
    assert again.volume == first.volume
    assert desk.tender.phase("ticketing", "more") == "Bound"
    handles = [v["spec"]["csi"]["volumeHandle"] for v in desk.tender.admin.all(link.VOLUMES)[0]]
    assert handles == [f"{current_view().mark}/{first.volume}"]  # it is known once
    assert len(current_view().volumes) == 1


def test_taking_its_object_away_leaves_the_volume_and_its_data(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    uid = desk.tender.claim("ticketing", "seat-ledger")["metadata"]["uid"]
    desk.settle("ticketing/seat-ledger", Life.BOUND)
    desk.tender.admin.ask("DELETE", link.VOLUMES.path(name=object_name(uid)))
    desk.tender.delete(link.CLAIMS, "ticketing", "seat-ledger")
    until(lambda: desk.tender.find(link.VOLUMES, "", object_name(uid)) is None)
    desk.settle("ticketing/seat-ledger", Life.ASIDE)
    assert current_view().volume("ticketing-seat-ledger").binned is None


def test_a_volume_that_somebody_altered_to_be_retained_there_is(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    uid = desk.tender.claim("ticketing", "seat-ledger")["metadata"]["uid"]
    desk.settle("ticketing/seat-ledger", Life.BOUND)
    retain = {"spec": {"persistentVolumeReclaimPolicy": "Retain"}}
    desk.tender.admin.ask("PATCH", link.VOLUMES.path(name=object_name(uid)), retain, patch=link.MERGE)
    desk.tender.delete(link.CLAIMS, "ticketing", "seat-ledger")
    desk.settle("ticketing/seat-ledger", Life.ASIDE)


def test_a_claim_made_anew_under_its_name_is_another_one(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    desk.tender.claim("ticketing", "seat-ledger")
    first = desk.settle("ticketing/seat-ledger", Life.BOUND)
    desk.tender.delete(link.CLAIMS, "ticketing", "seat-ledger")
    desk.tender.claim("ticketing", "seat-ledger")
    second = desk.settle("ticketing/seat-ledger", Life.BOUND)
    assert second.claim.uid != first.claim.uid
    assert second.volume != first.volume
    names = {v.name: v.binned is not None for v in current_view().volumes}
    assert names == {"ticketing-seat-ledger": True, "ticketing-seat-ledger-2": False}


def test_what_is_still_being_made_of_a_claim_that_is_gone_does_not_stay(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    desk.tender.claim("ticketing", "seat-ledger")
    desk.take_in()
    number = changes.carry_out(ME, "make-claimed", {"claims": [desk.kept("ticketing/seat-ledger").number]})
    desk.tender.delete(link.CLAIMS, "ticketing", "seat-ledger")
    desk.look()
    run_change(number)
    desk.settle("ticketing/seat-ledger", Life.OVER)
    assert (desk.site.state(number), current_view().volumes) == ("withdrawn", ())


def test_what_is_made_beside_others_of_a_claim_that_is_gone_goes_into_the_bin(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    for name in ("seat-ledger", "more"):
        desk.tender.claim("ticketing", name)
    desk.take_in()
    both = [kept.number for kept in current_view().claims]
    number = changes.carry_out(ME, "make-claimed", {"claims": both})
    desk.tender.delete(link.CLAIMS, "ticketing", "seat-ledger")
    desk.look()
    run_change(number)
    assert desk.site.state(number) == "done"
    desk.settle("ticketing/seat-ledger", Life.OVER)
    desk.settle("ticketing/more", Life.BOUND)
    binned = {v.name: v.binned is not None for v in current_view().volumes}
    assert binned == {"ticketing-seat-ledger": True, "ticketing-more": False}


def test_what_was_withdrawn_is_tried_again(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    desk.tender.claim("ticketing", "seat-ledger")
    desk.take_in()
    number = changes.carry_out(ME, "make-claimed", {"claims": [desk.kept("ticketing/seat-ledger").number]})
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert (desk.site.state(number), current_view().volumes) == ("withdrawn", ())
    desk.settle("ticketing/seat-ledger", Life.BOUND)


# Growing, waiting for pods, attaching. ---------------------------------------------------------------------


def grow(desk: Desk, size: str) -> None:
    said = {"spec": {"resources": {"requests": {"storage": size}}}}
    desk.tender.admin.ask("PATCH", link.CLAIMS.path("ticketing", "seat-ledger"), said, patch=link.MERGE)


def test_a_claim_grows_with_its_volume_as_far_as_it_was_granted(desk: Desk) -> None:
    offer(desk.site, size="12 GiB")
    desk.look()
    desk.tender.claim("ticketing", "seat-ledger")
    desk.settle("ticketing/seat-ledger", Life.BOUND)
    grow(desk, "10Gi")
    until(lambda: desk.look(2) or desk.kept("ticketing/seat-ledger").promised == 10 * GIB)

    def capacity() -> str:
        there = desk.tender.find(link.CLAIMS, "ticketing", "seat-ledger")
        return there["status"]["capacity"]["storage"] if there else ""

    until(lambda: desk.look(2) or capacity() == str(10 * GIB), "it to have grown")
    assert current_view().volume("ticketing-seat-ledger").size_bytes == 10 * GIB
    grow(desk, "20Gi")
    until(lambda: desk.look(2) or desk.kept("ticketing/seat-ledger").hindrance is Hindrance.OVER_LIMIT)
    kept = desk.kept("ticketing/seat-ledger")
    assert (kept.life, kept.promised) == (Life.BOUND, 10 * GIB)
    assert "this would be 8 GiB too much" in kept.sentence
    told = {e["reason"] for e in desk.tender.events("ticketing", "seat-ledger")}
    assert told == {"OverLimit"}
    desk.site.do("grant-policy", **GRANT, size="20 GiB")
    until(lambda: desk.look(2) or capacity() == str(20 * GIB), "it to have grown")
    assert desk.kept("ticketing/seat-ledger").hindrance is None


def test_a_class_that_waits_for_a_pod_makes_no_volume_before_there_is_one(desk: Desk) -> None:
    offer(desk.site)
    desk.site.do("publish-class", name="late", policy="steady-three", binding="WaitForFirstConsumer")
    desk.look()
    desk.tender.claim("ticketing", "seat-ledger", storage_class="late")
    desk.look()
    assert desk.kept("ticketing/seat-ledger").hindrance is Hindrance.NO_CONSUMER
    assert not current_view().volumes
    desk.tender.pod("ticketing", "keeper", "seat-ledger")
    kept = desk.settle("ticketing/seat-ledger", Life.BOUND)
    until(lambda: desk.look(2) or desk.kept(kept.path).used_by == "keeper")


def test_a_volume_follows_its_pod_from_node_to_node(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    for name in NODES:
        register(desk.site, name)
    desk.tender.claim("ticketing", "seat-ledger")
    desk.settle("ticketing/seat-ledger", Life.BOUND)
    volume = current_view().volume("ticketing-seat-ledger")

    def at() -> list[str]:
        target = current_view().target_of(volume.number)
        return [current_view().host_numbered(one.host).name for one in target.attachments] if target else []

    def running(name: str) -> str:
        there = desk.tender.find(link.PODS, "ticketing", name)
        ready = there is not None and there["status"]["phase"] == "Running"
        return str(there["spec"]["nodeName"]) if there is not None and ready else ""

    desk.tender.pod("ticketing", "keeper", "seat-ledger")
    until(lambda: desk.look(2) or running("keeper"), "the pod to run")
    first = running("keeper")
    assert at() == [first]
    desk.tender.admin.ask(
        "PATCH", link.NODES.path(name=first), {"spec": {"unschedulable": True}}, patch=link.MERGE
    )
    desk.tender.delete(link.PODS, "ticketing", "keeper")
    desk.tender.pod("ticketing", "keeper-again", "seat-ledger")
    until(lambda: desk.look(2) or running("keeper-again"), "the pod to run elsewhere")
    assert running("keeper-again") != first
    assert at() == [running("keeper-again")]


def test_a_node_that_is_no_host_here_is_named(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    desk.tender.claim("ticketing", "seat-ledger")
    desk.settle("ticketing/seat-ledger", Life.BOUND)
    desk.tender.pod("ticketing", "keeper", "seat-ledger")

    def told() -> str:
        found = desk.tender.admin.all(link.ATTACHMENTS)[0]
        return str(((found[0].get("status") or {}).get("attachError") or {}).get("message")) if found else ""

    until(lambda: desk.look(2) or "No host is registered in Fold Barn by the name tender-" in told())


# As manifests. ---------------------------------------------------------------------------------------------


def test_a_namespace_is_written_as_manifests_and_what_they_say_can_be_brought_about(desk: Desk) -> None:
    """Of a class and a quota that are read: published and granted, with what they say; and back."""
    assert desk.site.state(desk.site.do("save-policy", name="steady-three", copies=3, level="node")) == "done"
    text = """
kind: StorageClass
metadata: {name: steady}
provisioner: fold-barn.internal
parameters: {policy: steady-three, csi.storage.k8s.io/fstype: ext4}
reclaimPolicy: Retain
---
kind: ResourceQuota
metadata: {name: of-ours}
spec:
  hard:
    steady.storageclass.storage.k8s.io/requests.storage: 20Gi
    steady.storageclass.storage.k8s.io/persistentvolumeclaims: "2"
    other.storageclass.storage.k8s.io/requests.storage: 1Ti
"""
    asked = ManifestsIn(orchestrator="tender", namespace="ticketing", text=text)
    published, quota = manifests_out(current_view(), asked).documents
    assert quota.wishes == []  # there is no such class yet
    [wish] = published.wishes
    assert (wish.kind, wish.words) == ("publish-class", "Preview publishing steady")
    assert desk.site.state(desk.site.do(wish.kind, **wish.params)) == "done"
    found = current_view().storage_class("steady")
    assert (found.reclaim, found.file_system, found.expands) == (Reclaim.RETAIN, FileSystem.EXT4, False)
    again, quota = manifests_out(current_view(), asked).documents
    assert again.wishes[0].params["storage_class"] == "steady"
    [wish] = quota.wishes
    assert (wish.kind, wish.words) == ("grant-policy", "Preview granting steady-three to ticketing")
    assert desk.site.state(desk.site.do(wish.kind, **wish.params)) == "done"
    [grant] = current_view().grants
    assert grant.by_class == {"steady": Limits(20 * GIB, 2)}
    desk.look()
    desk.tender.claim("ticketing", "seat-ledger")
    desk.settle("ticketing/seat-ledger", Life.BOUND)
    written = namespace_written(current_view(), "tender", "ticketing")
    documents = list(yaml.safe_load_all(written))
    kinds = ["ResourceQuota", "StorageClass", "PersistentVolumeClaim", "PersistentVolume"]
    assert [one["kind"] for one in documents] == kinds
    assert documents[0]["spec"]["hard"]["steady.storageclass.storage.k8s.io/requests.storage"] == str(
        20 * GIB
    )
    there = desk.tender.find(link.CLASSES, "", "steady")
    assert there is not None
    assert says_the_same(there, documents[1])
    assert [one["metadata"]["name"] for one in yaml.safe_load_all(classes_written(current_view()))] == [
        "steady"
    ]
    judged = manifests_out(current_view(), asked.model_copy(update={"text": written})).documents
    assert [one.kind for one in judged] == kinds
    with pytest.raises(NotFound, match="has no namespace nowhere"):
        namespace_written(current_view(), "tender", "nowhere")


# Whom one connects. ----------------------------------------------------------------------------------------


def test_what_is_connected_is_asked_first_and_kept_by_what_it_is(barn_site: Site, tmp_path: Path) -> None:
    with standing(tmp_path / "one") as tender:
        wrong = barn_site.do(
            "connect-orchestrator",
            name="tender",
            url=tender.url,
            authority=tender.stand_in.authority.decode(),
            token="no token",
        )
        assert (barn_site.state(wrong), barn_site.problem(wrong)) == ("paused", "It does not know the token.")
        changes.ask(ME, wrong, "withdraw")
        run_change(wrong)
        assert not current_view().orchestrators
        assert barn_site.state(connect(barn_site, tender)) == "done"
        (found,) = current_view().orchestrators
        assert (found.missing, found.version, found.answering) == ((), "v1.37.0", Answering.HEARD)
        twice = connect(barn_site, tender, "other")
        assert "connected already, as tender" in barn_site.problem(twice)
        with transaction() as session:
            row = session.get_one(OrchestratorRow, found.number)
            kept = session.get_one(ChangeRow, connect(barn_site, tender, "third"))
            assert tender.token not in row.token
            assert tender.token not in str(kept.params) + str(kept.preview)
    with standing(tmp_path / "two") as other:
        moved = barn_site.do(
            "connect-orchestrator",
            orchestrator="tender",
            name="tender",
            url=other.url,
            authority=other.stand_in.authority.decode(),
            token=other.token,
        )
        assert "is not tender: its claims are other ones" in barn_site.problem(moved)


def test_one_whose_claims_have_volumes_is_not_forgotten(desk: Desk) -> None:
    offer(desk.site)
    desk.look()
    desk.tender.claim("ticketing", "seat-ledger")
    desk.settle("ticketing/seat-ledger", Life.BOUND)
    wish = {"orchestrator": "tender", "typed": "tender"}
    assert "would be nobody's" in plan_of("disconnect-orchestrator", **wish).blockers[0].sentence
    desk.tender.delete(link.CLAIMS, "ticketing", "seat-ledger")
    desk.settle("ticketing/seat-ledger", Life.OVER)
    assert desk.site.state(desk.site.do("disconnect-orchestrator", **wish)) == "done"
    view = current_view()
    assert (view.orchestrators, view.grants, view.claims) == ((), (), ())
    assert len(view.classes) == 1


def test_a_policy_or_a_pool_that_is_offered_is_not_deleted(desk: Desk) -> None:
    offer(desk.site)
    assert plan_of("delete-policy", policy="steady-three").blockers[0].sentence == (
        "It is published as steady, and granted to ticketing."
    )
    desk.site.do(
        "publish-class", storage_class="steady", name="steady", policy="steady-three", pool="quayside"
    )
    said = [b.sentence for b in plan_of("delete-pool", pool="quayside", typed="quayside").blockers]
    assert said == ["The class steady lies in quayside."]


# Followed by threads of its own. ---------------------------------------------------------------------------


@pytest.fixture
def followed(desk: Desk, monkeypatch: pytest.MonkeyPatch) -> Iterator[Callable[[Callable[[], object]], None]]:
    """Waits for something while the orchestrator is looked after as the work process does it."""
    monkeypatch.setattr(following, "SHORTEST_PAUSE", 0.05)
    monkeypatch.setattr(following, "AGAIN_SECONDS", 0.05)
    mine: dict[int, following.Following] = {}

    def wait(true: Callable[[], object]) -> None:
        until(lambda: follow(mine) or true())

    yield wait
    for one in mine.values():
        one.stop()


def the_one() -> Orchestrator:
    return current_view().orchestrators[0]


def test_what_is_new_there_and_here_is_seen_by_itself(
    desk: Desk, followed: Callable[[Callable[[], object]], None]
) -> None:
    desk.tender.claim("ticketing", "seat-ledger")
    followed(lambda: [k.hindrance for k in current_view().claims] == [Hindrance.UNKNOWN_CLASS])
    offer(desk.site)
    followed(lambda: [k.life for k in current_view().claims] == [Life.BOUND])
    desk.tender.delete(link.CLAIMS, "ticketing", "seat-ledger")
    followed(lambda: [k.life for k in current_view().claims] == [Life.OVER])


def test_a_right_that_is_taken_away_is_named_with_the_line_that_gives_it(
    desk: Desk, followed: Callable[[Callable[[], object]], None], monkeypatch: pytest.MonkeyPatch
) -> None:
    offer(desk.site)
    followed(lambda: desk.tender.find(link.CLASSES, "", "steady"))
    gone = Right("", "persistentvolumes", ("create",), "")
    rules = [one.rule for one in together(one for one in one_by_one() if one.rule != gone.rule)]
    role = Resource("rbac.authorization.k8s.io", "clusterroles", namespaced=False).path(name=ACCOUNT)
    desk.tender.admin.ask("PATCH", role, {"rules": rules}, patch=link.MERGE)
    desk.tender.claim("ticketing", "seat-ledger")
    monkeypatch.setattr(following, "RIGHTS_SECONDS", 3600.0)  # nothing is found out by waiting
    asked: list[int] = []
    missing = link.Orchestrator.missing

    def noted(self: link.Orchestrator) -> list[Right]:
        found = missing(self)
        asked.append(len(found))
        return found

    monkeypatch.setattr(link.Orchestrator, "missing", noted)
    followed(lambda: the_one().answering is Answering.REFUSING and the_one().missing == (gone.line,))
    assert "cannot create" in the_one().reason
    assert desk.kept("ticketing/seat-ledger").life is Life.TOLD
    followed(lambda: asked.count(1) > 1)  # what it gives is known before it is given back
    whole = {"rules": [one.rule for one in RIGHTS]}
    desk.tender.admin.ask("PATCH", role, whole, patch=link.MERGE)
    followed(lambda: desk.kept("ticketing/seat-ledger").life is Life.BOUND)
    followed(lambda: (the_one().answering, the_one().missing) == (Answering.HEARD, ()))


def test_another_one_at_its_address_is_not_taken_for_it(
    desk: Desk, followed: Callable[[Callable[[], object]], None], tmp_path: Path
) -> None:
    """Of which all claims would seem to be gone, and their volumes would go with them."""
    offer(desk.site)
    desk.tender.claim("ticketing", "seat-ledger")
    followed(lambda: [k.life for k in current_view().claims] == [Life.BOUND])
    with standing(tmp_path / "other") as other:
        with transaction() as session:
            row = session.get_one(OrchestratorRow, the_one().number)
            row.url, row.authority = other.url, other.stand_in.authority.decode()
            row.token, row.altered = seal(other.token), row.altered + 1
            announce(session, "site")
        followed(lambda: the_one().answering is Answering.ANOTHER)
        time.sleep(0.3)
        assert [k.life for k in current_view().claims] == [Life.BOUND]
        assert [v.binned for v in current_view().volumes] == [None]


def test_one_that_is_started_anew_is_followed_on(
    desk: Desk, followed: Callable[[Callable[[], object]], None]
) -> None:
    offer(desk.site)
    desk.tender.claim("ticketing", "seat-ledger")
    followed(lambda: [k.life for k in current_view().claims] == [Life.BOUND])
    port = desk.tender.stand_in.port
    desk.tender.stand_in.stop()
    followed(lambda: the_one().answering is Answering.SILENT)
    desk.tender.stand_in.start(port)
    desk.tender.claim("ticketing", "more")
    followed(lambda: [k.life for k in current_view().claims] == [Life.BOUND, Life.BOUND])
