"""Snapshots that an orchestrator asks for, claims that are filled from one, and claims that are filled from
another (snapshot.storage.k8s.io/v1 and core/v1, dataSource).
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import yaml
from claiming import GIB, Desk, desk_of, offer, standing, until
from conftest import ME, Site

from foldbarn.api.consumers.models import ManifestsIn
from foldbarn.api.consumers.pictures import manifests_out
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.claims.kept import Hindrance
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.claims.rights import ACCOUNT, RIGHTS, Right
from foldbarn.core.claims.snapshots import BEING_DELETED, HELD, snapshot_handle
from foldbarn.core.errors import NotFound
from foldbarn.core.volumes.snapshots import Snapshot
from foldbarn.links import orchestrators as link
from foldbarn.links.orchestrators import MERGE, Resource, Thing
from foldbarn.services import changes
from foldbarn.services.consumers.following import Following
from foldbarn.services.consumers.looking_after import follow
from foldbarn.services.copies import let_copies_stand_alone
from foldbarn.services.site import outlook
from foldbarn.services.watching import empty_bins
from foldbarn.store import claims
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import ChangeRow, ClaimRow, VolumeRow
from foldbarn.store.views import current_view

pytestmark = pytest.mark.pooled
SPACE, LEDGER = "ticketing", "ticketing-seat-ledger"
FROM_SNAPSHOT = {"apiGroup": link.SNAPSHOTS.group, "kind": "VolumeSnapshot"}


@pytest.fixture
def desk(barn_site: Site, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Desk]:
    """With a claim that is bound."""
    barn_site.yard.machines.consumers = 0.0
    with standing(tmp_path / "tender") as tender, desk_of(barn_site, tender, monkeypatch) as found:
        tender.namespace(SPACE)
        offer(barn_site)
        found.look()
        tender.claim(SPACE, "seat-ledger")
        found.settle(f"{SPACE}/seat-ledger", Life.BOUND)
        yield found


@pytest.fixture
def no_snapshots(monkeypatch: pytest.MonkeyPatch) -> None:
    """An orchestrator to which nobody has brought their kinds."""
    asking = link.Orchestrator.ask

    def without(self: link.Orchestrator, method: str, path: str, *rest: Any, **more: Any) -> Thing:
        if link.SNAPSHOTS.group in path:
            raise NotFound("It refuses: the server could not find the requested resource.")
        return asking(self, method, path, *rest, **more)

    monkeypatch.setattr(link.Orchestrator, "ask", without)


def ask(desk: Desk, name: str = "nightly", **spec: Any) -> None:
    wanted = {"source": {"persistentVolumeClaimName": "seat-ledger"}, **spec}
    desk.tender.make(link.SNAPSHOTS, {"metadata": {"name": name}, "spec": wanted}, SPACE)


def said(desk: Desk, name: str = "nightly") -> Thing:
    found = desk.tender.find(link.SNAPSHOTS, SPACE, name)
    return {} if found is None else dict(found.get("status") or {})


def ready(desk: Desk, name: str = "nightly") -> Thing:
    def there() -> bool:
        desk.look(2)
        return bool(said(desk, name).get("readyToUse"))

    until(there, f"{name} to be ready")
    return said(desk, name)


def content(desk: Desk, name: str = "nightly") -> Thing:
    found = desk.tender.find(link.CONTENTS, "", said(desk, name)["boundVolumeSnapshotContentName"])
    assert found is not None
    return found


def snapshots() -> list[Snapshot]:
    return [one for volume in current_view().volumes for one in volume.snapshots]


def gone(desk: Desk, name: str = "nightly") -> None:
    desk.tender.admin.ask("DELETE", link.SNAPSHOTS.path(SPACE, name))

    def no_more() -> bool:
        desk.look(2)
        return desk.tender.find(link.SNAPSHOTS, SPACE, name) is None

    until(no_more, f"{name} to be gone")


def going_on(kind: str) -> list[int]:
    with transaction() as session:
        rows = session.query(ChangeRow).filter(ChangeRow.ended_at.is_(None), ChangeRow.kind == kind)
        return [row.id for row in rows]


def fill() -> None:
    """Copies are written, as they are by themselves."""
    let_copies_stand_alone()
    for number in going_on("stand-alone"):
        run_change(number)


# Taking and letting go. ------------------------------------------------------------------------------------


def test_what_is_asked_for_there_is_taken_here_and_said_there(desk: Desk) -> None:
    ask(desk)
    status = ready(desk)
    (one,) = snapshots()
    volume = current_view().volume(LEDGER)
    assert (one.name, one.bytes) == ("nightly", 5 * GIB)
    assert one.asked is not None
    assert (one.asked.path, one.asked.fills) == (f"{SPACE}/nightly", False)
    there = content(desk)
    assert there["status"]["snapshotHandle"] == snapshot_handle(
        current_view().mark, volume.number, one.number
    )
    # In nanoseconds there and in words of RFC 3339 here; the size in bytes, as in the published schema.
    assert there["status"]["creationTime"] == int(one.taken_at * 1e9)
    assert (there["status"]["restoreSize"], status["restoreSize"]) == (5 * GIB, str(5 * GIB))
    before = there["metadata"]["resourceVersion"]
    desk.look(4)
    assert content(desk)["metadata"]["resourceVersion"] == before  # it is told once
    assert len([n for n in desk.begun if desk.site.state(n) == "done"]) == len(desk.begun) == 2


def test_with_it_goes_what_was_taken_unless_its_class_keeps_that(desk: Desk) -> None:
    ask(desk, "nightly")
    ask(desk, "for-good", volumeSnapshotClassName="fold-barn-retain")
    for name in ("nightly", "for-good"):
        ready(desk, name)
    assert {one.name for one in snapshots()} == {"nightly", "for-good"}
    gone(desk, "nightly")
    assert [one.name for one in snapshots()] == ["for-good"]
    gone(desk, "for-good")
    desk.look(4)
    assert [one.name for one in snapshots()] == ["for-good"]
    # The content that is left goes when somebody deletes it, and takes nothing along.
    (left,) = desk.tender.admin.all(link.CONTENTS)[0]
    note = {"metadata": {"annotations": {BEING_DELETED: "yes"}}}
    path = link.CONTENTS.path(name=left["metadata"]["name"])
    desk.tender.admin.ask("PATCH", path, note, patch=MERGE)
    desk.tender.admin.ask("DELETE", path)

    def no_more() -> bool:
        desk.look(2)
        return not desk.tender.admin.all(link.CONTENTS)[0]

    until(no_more, "the content to be gone")
    assert [one.name for one in snapshots()] == ["for-good"]


def test_a_content_that_is_deleted_by_hand_keeps_what_is_still_asked_for(desk: Desk) -> None:
    ask(desk)
    ready(desk)
    there = content(desk)
    desk.tender.admin.ask("DELETE", link.CONTENTS.path(name=there["metadata"]["name"]))
    desk.look(4)
    assert [one.name for one in snapshots()] == ["nightly"]
    assert HELD in content(desk)["metadata"]["finalizers"]
    gone(desk)
    assert snapshots() == []


def test_it_outlives_the_claim_and_keeps_the_bin_from_being_emptied(desk: Desk) -> None:
    ask(desk)
    ready(desk)
    desk.tender.admin.ask("DELETE", link.CLAIMS.path(SPACE, "seat-ledger"))
    desk.settle(f"{SPACE}/seat-ledger", Life.OVER)
    assert current_view().volume(LEDGER).binned is not None
    with transaction() as session:
        row = session.query(VolumeRow).filter(VolumeRow.name == LEDGER).one()
        row.kept_until = row.binned_at
        announce(session, "site")
    empty_bins()
    assert going_on("empty-bin") == []
    seen = outlook()
    (row,) = [row for row, volume in enumerate(seen.view.volumes) if volume.name == LEDGER]
    assert f"it is kept for {SPACE}/nightly of an orchestrator" in seen.volume(row).reason
    pool = current_view().pools[0].name
    wish = {"pool": pool, "volumes": [LEDGER], "typed": LEDGER}
    blocked = changes.preview("empty-bin", wish).blockers
    assert [note.sentence for note in blocked] == [
        f"It holds {SPACE}/nightly, which an orchestrator asked for and has still."
    ]
    # It can be read from there, and once it is gone the bin is emptied as ever.
    desk.tender.claim(SPACE, "rescued", dataSource={**FROM_SNAPSHOT, "name": "nightly"})
    desk.settle(f"{SPACE}/rescued", Life.BOUND)
    fill()
    gone(desk)
    empty_bins()
    (number,) = going_on("empty-bin")
    run_change(number)
    assert [v.name for v in current_view().volumes] == [f"{SPACE}-rescued"]


def test_what_is_deleted_or_lost_here_is_said_there(desk: Desk) -> None:
    ask(desk)
    ready(desk)
    wish = {"volume": LEDGER, "snapshots": ["nightly"], "typed": "nightly"}
    warned = changes.preview("delete-snapshot", wish).warnings
    assert [note.sentence for note in warned] == [
        f"{SPACE}/nightly in tender asked for nightly, and cannot be used any more."
    ]
    assert desk.site.state(desk.site.do("delete-snapshot", **wish)) == "done"

    def told() -> bool:
        desk.look(2)
        return "not there" in (said(desk).get("error") or {}).get("message", "")

    until(told, "that it is gone")
    assert said(desk)["readyToUse"] is False
    assert snapshots() == []  # it is not taken anew: that would be of another moment
    gone(desk)


def test_a_volume_of_nobody_there_is_not_taken_one_of(desk: Desk) -> None:
    """The handle names a volume of this site that no claim of this orchestrator has."""
    desk.site.volume("charts", size="5 GiB")
    volume = current_view().volume("charts")
    spec = {
        "driver": "fold-barn.internal",
        "deletionPolicy": "Delete",
        "source": {"volumeHandle": f"{current_view().mark}/{volume.number}"},
        "volumeSnapshotRef": {"namespace": SPACE, "name": "stolen"},
    }
    desk.tender.make(link.CONTENTS, {"metadata": {"name": "stolen"}, "spec": spec})

    def told() -> bool:
        desk.look(2)
        found = desk.tender.find(link.CONTENTS, "", "stolen")
        return bool(found and (found.get("status") or {}).get("error"))

    until(told, "why not")
    assert snapshots() == []


def test_a_snapshot_of_ours_is_brought_in_by_its_handle(desk: Desk) -> None:
    assert desk.site.state(desk.site.do("take-snapshot", volumes=[LEDGER], name="ours")) == "done"
    volume = current_view().volume(LEDGER)
    handle = snapshot_handle(current_view().mark, volume.number, volume.snapshots[0].number)
    refers = {"namespace": SPACE, "name": "brought-in"}
    spec = {"driver": "fold-barn.internal", "deletionPolicy": "Retain", "source": {"snapshotHandle": handle}}
    body = {"metadata": {"name": "brought-in"}, "spec": {**spec, "volumeSnapshotRef": refers}}
    desk.tender.make(link.CONTENTS, body)
    source = {"volumeSnapshotContentName": "brought-in"}
    desk.tender.make(link.SNAPSHOTS, {"metadata": refers, "spec": {"source": source}}, SPACE)
    assert ready(desk, "brought-in")["restoreSize"] == str(5 * GIB)
    desk.tender.claim(SPACE, "again", dataSource={**FROM_SNAPSHOT, "name": "brought-in"})
    desk.settle(f"{SPACE}/again", Life.BOUND)


def test_one_that_is_asked_for_twice_is_taken_once(desk: Desk) -> None:
    """Two changes for one object, previewed before either was carried out."""
    number = current_view().orchestrators[0].number
    asked = {"orchestrator": number, "uid": "u1", "path": f"{SPACE}/nightly"}
    wish = {"volumes": [LEDGER], "asked": asked}
    both = [changes.carry_out(ME, "take-snapshot", {**wish, "name": name}) for name in ("one", "two")]
    for change in both:
        run_change(change)
    assert [desk.site.state(change) for change in both] == ["done", "paused"]
    assert desk.site.problem(both[1]) == f"One was taken for {SPACE}/nightly already."
    assert [one.name for one in snapshots()] == ["one"]
    assert changes.preview("take-snapshot", {**wish, "name": "three"}).blockers


# Filling claims. -------------------------------------------------------------------------------------------


def test_a_claim_is_filled_from_a_snapshot_also_a_larger_one(desk: Desk) -> None:
    ask(desk)
    ready(desk)
    source = {**FROM_SNAPSHOT, "name": "nightly"}
    desk.tender.claim(SPACE, "restored", size="8Gi", dataSource=source)
    kept = desk.settle(f"{SPACE}/restored", Life.BOUND)
    view = current_view()
    made, ledger = view.volume(f"{SPACE}-restored"), view.volume(LEDGER)
    assert (kept.volume, made.size_bytes) == (made.number, 8 * GIB)
    assert made.origin is not None
    assert (made.origin.volume, made.origin.snapshot) == (ledger.number, 1)
    fill()
    made = current_view().volume(f"{SPACE}-restored")
    assert made.origin is None
    assert made.served
    gone(desk)


def test_less_than_the_snapshot_holds_is_refused_and_more_is_tried_again(desk: Desk) -> None:
    ask(desk)
    ready(desk)
    desk.tender.claim(SPACE, "restored", size="4Gi", dataSource={**FROM_SNAPSHOT, "name": "nightly"})
    desk.look()
    kept = desk.kept(f"{SPACE}/restored")
    assert (kept.life, kept.hindrance) == (Life.WAITING, Hindrance.NO_SOURCE)
    assert kept.sentence == "It asks for 4 GiB, and is to be filled from 5 GiB."
    assert kept.cure == "Ask for at least 5 GiB."
    blocks = {"dataSource": {**FROM_SNAPSHOT, "name": "nightly"}, "volumeMode": "Block"}
    desk.tender.claim(SPACE, "blocks", **blocks)
    desk.look()
    assert "used as Filesystem" in desk.kept(f"{SPACE}/blocks").sentence


def test_before_a_snapshot_is_taken_for_a_claim_it_is_seen_whether_that_could_fill_it(desk: Desk) -> None:
    source = {"kind": "PersistentVolumeClaim", "name": "seat-ledger"}
    desk.tender.claim(SPACE, "small", size="4Gi", dataSource=source)
    desk.tender.claim(SPACE, "blocks", dataSource=source, volumeMode="Block")
    desk.look()
    assert desk.kept(f"{SPACE}/small").sentence == "It asks for 4 GiB, and is to be filled from 5 GiB."
    assert "used as Filesystem" in desk.kept(f"{SPACE}/blocks").sentence
    assert snapshots() == []


def test_manifests_are_judged_with_what_they_are_to_be_filled_from(desk: Desk) -> None:
    ask(desk)
    ready(desk)

    def would(size: str, kind: str, name: str) -> str:
        spec = {
            "accessModes": ["ReadWriteOnce"],
            "resources": {"requests": {"storage": size}},
            "storageClassName": "steady",
            "dataSource": {"kind": kind, "name": name},
        }
        document = {"kind": "PersistentVolumeClaim", "metadata": {"name": "m"}, "spec": spec}
        text = yaml.safe_dump({"apiVersion": "v1", **document})
        asked = ManifestsIn(orchestrator="tender", namespace=SPACE, text=text)
        (one,) = manifests_out(current_view(), asked).documents[0].claims
        return one.gets or one.against

    gets = "A volume in quayside, as steady-three says."
    assert would("5Gi", "VolumeSnapshot", "nightly") == gets
    assert would("4Gi", "VolumeSnapshot", "nightly").endswith("is to be filled from 5 GiB.")
    assert would("5Gi", "VolumeSnapshot", "yearly") == f"No snapshot was taken here for {SPACE}/yearly."
    assert would("5Gi", "PersistentVolumeClaim", "seat-ledger") == gets
    assert would("4Gi", "PersistentVolumeClaim", "seat-ledger").endswith("is to be filled from 5 GiB.")
    assert would("5Gi", "PersistentVolumeClaim", "nobodys").endswith("has no volume.")
    assert would("5Gi", "Tide", "high") == "It is to be filled from a Tide, of which nothing is known here."


def test_what_is_not_there_yet_is_waited_for_and_said(desk: Desk) -> None:
    desk.tender.claim(SPACE, "early", dataSource={**FROM_SNAPSHOT, "name": "nightly"})
    desk.tender.claim(SPACE, "odd", dataSource={"apiGroup": "tides.example", "kind": "Tide", "name": "high"})
    desk.look()
    early, odd = desk.kept(f"{SPACE}/early"), desk.kept(f"{SPACE}/odd")
    assert early.hindrance is Hindrance.NO_SOURCE
    assert early.sentence == "The snapshot that it is to be filled from is not there."
    assert odd.sentence == "It is to be filled from a Tide, of which nothing is known here."
    told = desk.tender.events(SPACE, "early")
    assert [event["reason"] for event in told] == ["NothingToFillFrom"]
    ask(desk)
    ready(desk)
    desk.settle(f"{SPACE}/early", Life.BOUND)
    assert current_view().volume(f"{SPACE}-early").origin is not None


def test_a_claim_is_filled_from_another_and_nothing_of_that_is_left(desk: Desk) -> None:
    source = {"kind": "PersistentVolumeClaim", "name": "seat-ledger"}
    desk.tender.claim(SPACE, "rehearsal", dataSource=source)
    desk.settle(f"{SPACE}/rehearsal", Life.BOUND)
    (one,) = snapshots()
    assert one.asked is not None
    assert (one.name, one.asked.fills) == ("for-rehearsal", True)
    assert current_view().volume(f"{SPACE}-rehearsal").origin is not None
    desk.look(3)
    assert len(snapshots()) == 1  # it is read from still
    fill()
    desk.look()
    assert snapshots() == []


def test_what_was_taken_for_a_claim_that_is_gone_is_let_go_of(desk: Desk) -> None:
    """The claim goes before it is filled: it asks for more than it may have by then."""
    source = {"kind": "PersistentVolumeClaim", "name": "seat-ledger"}
    desk.tender.claim(SPACE, "rehearsal", dataSource=source)
    desk.take_in()
    (kept,) = [k for k in current_view().claims if k.life is Life.WAITING]
    volume = current_view().volume(LEDGER)
    assert desk.steward.snapshotter.take_for(current_view(), kept, volume) == ""
    assert len(snapshots()) == 1
    desk.tender.delete(link.CLAIMS, SPACE, "rehearsal")
    desk.look()
    assert snapshots() == []
    assert [v.name for v in current_view().volumes] == [LEDGER]


def test_over_a_limit_no_snapshot_is_taken_for_it(desk: Desk) -> None:
    offer(desk.site, size="6 GiB")
    desk.tender.claim(SPACE, "rehearsal", dataSource={"kind": "PersistentVolumeClaim", "name": "seat-ledger"})
    desk.look()
    assert desk.kept(f"{SPACE}/rehearsal").hindrance is Hindrance.OVER_LIMIT
    assert snapshots() == []


def test_for_one_that_waits_for_its_first_pod_no_snapshot_is_taken_before(desk: Desk) -> None:
    late = {"name": "late", "policy": "steady-three", "binding": "WaitForFirstConsumer"}
    assert desk.site.state(desk.site.do("publish-class", **late)) == "done"
    desk.look()
    source = {"kind": "PersistentVolumeClaim", "name": "seat-ledger"}
    desk.tender.claim(SPACE, "rehearsal", storage_class="late", dataSource=source)
    desk.look()
    assert desk.kept(f"{SPACE}/rehearsal").hindrance is Hindrance.NO_CONSUMER
    assert snapshots() == []
    desk.tender.pod(SPACE, "stage", "rehearsal")
    desk.settle(f"{SPACE}/rehearsal", Life.BOUND)
    assert current_view().volume(f"{SPACE}-rehearsal").origin is not None


def test_what_a_claim_is_to_be_filled_from_is_learned_of_one_that_was_known_before(desk: Desk) -> None:
    """The version before did not write it down."""
    desk.tender.claim(SPACE, "early", dataSource={**FROM_SNAPSHOT, "name": "nightly"})
    desk.look()
    with transaction() as session:
        row = session.query(ClaimRow).filter(ClaimRow.name == "early").one()
        row.source_kind = row.source_name = ""
        claims.note(session)
        announce(session, "site")
    assert desk.kept(f"{SPACE}/early").claim.source is None
    desk.steward.look({resource: set(mirror.things) for resource, mirror in desk.mirrors.items()})
    found = desk.kept(f"{SPACE}/early").claim.source
    assert found is not None
    assert found.name == "nightly"
    nothing = {resource: set() for resource in desk.mirrors}
    assert not any([desk.steward.look(nothing) for _ in range(4)][-2:])  # it comes to rest


@pytest.mark.usefixtures("no_snapshots")
def test_an_orchestrator_without_snapshots_is_looked_at_all_the_same(desk: Desk) -> None:
    desk.look()
    assert not desk.mirrors[link.CONTENTS].there
    desk.tender.claim(SPACE, "tides")
    desk.settle(f"{SPACE}/tides", Life.BOUND)


def test_where_rights_for_snapshots_are_lacking_claims_get_their_volumes_all_the_same(desk: Desk) -> None:
    """As after an update of Fold Barn, before somebody has applied the account's manifests once more."""
    role = {"rules": [right.rule for right in RIGHTS if right.group != link.SNAPSHOTS.group]}
    roles = Resource("rbac.authorization.k8s.io", "clusterroles", namespaced=False)
    desk.tender.admin.ask("PATCH", roles.path(name=ACCOUNT), role, patch=MERGE)
    ask(desk)
    desk.tender.claim(SPACE, "tides")
    desk.settle(f"{SPACE}/tides", Life.BOUND)
    assert snapshots() == []
    missing = {
        line.split('resources: ["')[1].split('"')[0] for line in (r.line for r in missing_rights(desk))
    }
    assert missing >= {"volumesnapshots", "volumesnapshotcontents"}
    whole = {"rules": [right.rule for right in RIGHTS]}
    desk.tender.admin.ask("PATCH", roles.path(name=ACCOUNT), whole, patch=MERGE)
    ready(desk)


def missing_rights(desk: Desk) -> list[Right]:
    return desk.steward.asked.missing()


@pytest.mark.usefixtures("no_snapshots")
def test_followed_by_itself_it_is_looked_at_although_it_keeps_no_snapshots(desk: Desk) -> None:
    """By the threads of the duty, which wait until all has been seen once."""
    desk.tender.claim(SPACE, "tides")
    followed: dict[int, Following] = {}
    try:
        follow(followed)
        bound = f"{SPACE}/tides"
        until(lambda: any(k.path == bound and k.life is Life.BOUND for k in current_view().claims), bound)
    finally:
        for one in followed.values():
            one.stop()
