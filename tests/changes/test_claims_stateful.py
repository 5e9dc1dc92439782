"""Claims, against the stand-in orchestrator, in any order: they come, grow and go, some filled from others or
from snapshots, which come and go as well; objects are taken away by hand; grants and classes change; the
orchestrator goes away, forgets what was, or takes rights back; Fold Barn is killed in the middle of every
deed. What must hold after every step, and at the end.

FOLDBARN_SOAK_EXAMPLES and FOLDBARN_SOAK_STEPS let it go on for longer.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from contextlib import AbstractContextManager, suppress
from pathlib import Path
from typing import Any, ClassVar

import pytest
from claiming import PATIENCE, Tender, connect, standing, steward_for, until
from conftest import ME, Site, Start, be_patient
from hypothesis import HealthCheck, Phase
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule, run_state_machine_as_test
from sqlalchemy import select
from test_stateful import Dies, one_of

from foldbarn.changes.engine.runner import run_change
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.claims.admission import had_in
from foldbarn.core.claims.kept import Hindrance, KeptClaim
from foldbarn.core.claims.objects import handle_of, object_name
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.claims.rights import ACCOUNT, RIGHTS
from foldbarn.core.claims.snapshots import NOTHING, next_snapshot_turn
from foldbarn.core.errors import BarnError, NotFound
from foldbarn.core.units import GIB
from foldbarn.links import orchestrators as link
from foldbarn.links.orchestrators import MERGE, Mirror, Resource
from foldbarn.services import changes
from foldbarn.services.consumers import attaching, snapshotting, stewarding
from foldbarn.services.copies import let_copies_stand_alone
from foldbarn.store.database import transaction
from foldbarn.store.tables import ChangeRow
from foldbarn.store.views import current_view

EXAMPLES = int(os.environ.get("FOLDBARN_SOAK_EXAMPLES", "3"))
STEPS = int(os.environ.get("FOLDBARN_SOAK_STEPS", "60"))
LIMIT = 40 * GIB
SEEDS = st.integers(min_value=0, max_value=2**30)
CLASSES = ("goes", "kept", "late")
ROLES = Resource("rbac.authorization.k8s.io", "clusterroles", namespaced=False)
OPEN = ("waiting", "running", "paused")


class Claims(RuleBasedStateMachine):
    """Who runs the orchestrator, who works in it, and who runs the storage."""

    new_site: ClassVar[Callable[[Start], AbstractContextManager[Site]]]
    start: ClassVar[Start]
    tender: ClassVar[Tender]
    number: ClassVar[int] = 0

    def __init__(self) -> None:
        super().__init__()
        self.context = type(self).new_site(type(self).start)
        self.site = self.context.__enter__()
        self.site.yard.machines.consumers = 0.0
        type(self).number += 1
        self.space = f"space-{type(self).number}"
        self.count = 0
        self.fuse: int | None = None  # deeds until Fold Barn dies
        self.mirrors: dict[Resource, Mirror] = {}
        self.told_retain: set[str] = set()  # uids of claims whose volumes were to be retained
        self.patches = pytest.MonkeyPatch()
        be_patient(self.patches, self.site.yard.machines)
        self.patches.setattr(stewarding, "REST_SECONDS", 0.0)
        self.patches.setattr(stewarding, "carry_out", self._carry_out)
        self.patches.setattr(attaching, "carry_out", self._carry_out)
        self.patches.setattr(snapshotting, "carry_out", self._carry_out)
        self.patches.setattr(snapshotting, "REST_SECONDS", 0.0)
        ask = link.Orchestrator.ask

        def asked(here: link.Orchestrator, method: str, *rest: Any, **more: Any) -> Any:
            """Killed before what was asked is done, or before anybody hears that it was."""
            mine = here.token == self.tender.token and method != "GET"
            if mine:
                self._burn()
            found = ask(here, method, *rest, **more)
            if mine:
                self._burn()
            return found

        self.patches.setattr(link.Orchestrator, "ask", asked)

    def _burn(self) -> None:
        if self.fuse is not None:
            self.fuse -= 1
            if self.fuse <= 0:
                self.fuse = None
                raise Dies

    def _carry_out(self, *args: Any, **rest: Any) -> int:
        self._burn()
        number = changes.carry_out(*args, **rest)
        self._burn()
        return number

    @initialize()
    def begin(self) -> None:
        self.tender.namespace(self.space)
        assert self.site.state(connect(self.site, self.tender)) == "done"
        self.site.do("save-policy", name="pairs", copies=2, level="node")
        self.site.do("publish-class", name="goes", policy="pairs")
        self.site.do("publish-class", name="kept", policy="pairs", reclaim="Retain")
        self.site.do("publish-class", name="late", policy="pairs", binding="WaitForFirstConsumer")
        self.grant(f"{LIMIT} B")
        self.begin_anew()

    def begin_anew(self) -> None:
        """A new process, which knows nothing."""
        self.steward, self.mirrors = steward_for(self.tender)

    def grant(self, size: str) -> None:
        wish = {"orchestrator": "tender", "namespace": self.space, "policy": "pairs", "size": size}
        with suppress(BarnError):
            self.site.do("grant-policy", **wish)

    # In the orchestrator. ----------------------------------------------------------------------------------

    @property
    def number_here(self) -> int:
        return current_view().orchestrators[0].number

    def names(self, resource: Resource = link.CLAIMS) -> list[str]:
        return [one["metadata"]["name"] for one in self.tender.admin.all(resource, self.space)[0]]

    @rule(seed=SEEDS, size=st.integers(min_value=1, max_value=12))
    def a_claim_comes(self, seed: int, size: int) -> None:
        """Now and then under the name of one that was there before."""
        self.count += seed % 3 > 0
        with suppress(BarnError):
            made = self.tender.claim(
                self.space,
                f"c{self.count}",
                f"{size}Gi",
                one_of([*CLASSES, "goen"], seed),
                **self.filled_from(seed),
            )
            if made["spec"]["storageClassName"] == "kept":
                self.told_retain.add(made["metadata"]["uid"])

    def filled_from(self, seed: int) -> dict[str, Any]:
        """Now and then another claim, or a snapshot; also such as are no more, or hold more."""
        claims, snapshots = self.names(), self.names(link.SNAPSHOTS)
        if seed % 5 == 1 and claims:
            return {"dataSource": {"kind": "PersistentVolumeClaim", "name": one_of(claims, seed)}}
        if seed % 5 == 2 and snapshots:
            source = {"apiGroup": link.SNAPSHOTS.group, "kind": "VolumeSnapshot"}
            return {"dataSource": {**source, "name": one_of(snapshots, seed)}}
        return {}

    @rule(seed=SEEDS)
    def a_snapshot_comes_or_goes(self, seed: int) -> None:
        claims, snapshots = self.names(), self.names(link.SNAPSHOTS)
        if snapshots and seed % 3 == 0:
            self.goes(link.SNAPSHOTS, one_of(snapshots, seed))
        elif claims:
            spec: dict[str, Any] = {"source": {"persistentVolumeClaimName": one_of(claims, seed)}}
            if seed % 2:
                spec["volumeSnapshotClassName"] = "fold-barn-retain"
            with suppress(BarnError):
                body = {"metadata": {"name": f"s{seed % 7}"}, "spec": spec}
                self.tender.make(link.SNAPSHOTS, body, self.space)

    @rule()
    def copies_are_written(self) -> None:
        let_copies_stand_alone()

    @rule(seed=SEEDS)
    def a_person_deletes_a_snapshot(self, seed: int) -> None:
        taken = [(v.name, s.name) for v in current_view().volumes for s in v.snapshots if s.there]
        if taken and seed % 4 == 0:
            volume, snapshot = one_of(taken, seed)
            with suppress(BarnError):
                self.site.do("delete-snapshot", volume=volume, snapshots=[snapshot], typed=snapshot)

    @rule(seed=SEEDS)
    def a_claim_goes(self, seed: int) -> None:
        if names := self.names():
            self.goes(link.CLAIMS, one_of(names, seed))

    def goes(self, resource: Resource, name: str) -> None:
        """What was to go already may have gone since it was seen."""
        with suppress(NotFound):
            self.tender.admin.ask("DELETE", resource.path(self.space, name))

    @rule(seed=SEEDS, size=st.integers(min_value=5, max_value=20))
    def a_claim_grows(self, seed: int, size: int) -> None:
        said = {"spec": {"resources": {"requests": {"storage": f"{size}Gi"}}}}
        if names := self.names():
            with suppress(BarnError):
                self.tender.admin.ask(
                    "PATCH", link.CLAIMS.path(self.space, one_of(names, seed)), said, patch=MERGE
                )

    @rule(seed=SEEDS)
    def an_object_is_taken_away_by_hand(self, seed: int) -> None:
        mine = [kept for kept in current_view().claims if kept.life in (Life.TOLD, Life.BOUND, Life.ASIDE)]
        if mine:
            with suppress(BarnError):
                name = object_name(one_of(mine, seed).claim.uid)
                self.tender.admin.ask("DELETE", link.VOLUMES.path(name=name))

    @rule(seed=SEEDS)
    def a_pod_comes_or_goes(self, seed: int) -> None:
        pods, claims = self.names(link.PODS), self.names()
        if pods and seed % 2:
            self.goes(link.PODS, one_of(pods, seed))
        elif claims:
            with suppress(BarnError):
                self.tender.pod(self.space, f"p{seed % 5}", one_of(claims, seed))

    @rule(seed=SEEDS)
    def rights_are_taken_and_given_back(self, seed: int) -> None:
        rules = [one.rule for one in RIGHTS]
        left = rules if seed % 2 else [rule for place, rule in enumerate(rules) if place != seed % len(rules)]
        self.tender.admin.ask("PATCH", ROLES.path(name=ACCOUNT), {"rules": left}, patch=MERGE)

    # Here. -------------------------------------------------------------------------------------------------

    @rule(fuse=st.one_of(st.none(), st.integers(min_value=1, max_value=8)))
    def look(self, fuse: int | None) -> None:
        """One look; with a fuse, Fold Barn is killed at its so many-th deed, and begins anew."""
        self.fuse = fuse
        try:
            touched = {resource: mirror._look() for resource, mirror in self.mirrors.items()}
            self.steward.look(touched)
        except Dies:
            self.begin_anew()
        except BarnError:
            self.begin_anew()  # as a look that failed is done again, with all that was new
        finally:
            self.fuse = None

    @rule(seed=SEEDS)
    def a_look_at_what_was(self, seed: int) -> None:
        """What is new comes late for some kinds of things, and not at all for others; some comes twice."""
        touched: dict[Resource, set[Any]] = {resource: set() for resource in self.mirrors}
        try:
            for place, (resource, mirror) in enumerate(self.mirrors.items()):
                if seed >> place & 1 and mirror.version:
                    touched[resource] = mirror._look() | set(list(mirror.things)[:2])
            if all(mirror.version for mirror in self.mirrors.values()):
                self.steward.look(touched)
        except BarnError:
            self.begin_anew()

    @rule(seed=SEEDS)
    def a_change_goes_on(self, seed: int) -> None:
        if open_ := self.open_changes("waiting", "running"):
            run_change(one_of(open_, seed))

    @rule(seed=SEEDS, what=st.sampled_from(["pause", "withdraw", "resume"]))
    def a_person_asks(self, seed: int, what: str) -> None:
        if open_ := self.open_changes(*OPEN):
            with suppress(BarnError):
                changes.ask(ME, one_of(open_, seed), what)

    @rule(size=st.integers(min_value=1, max_value=40))
    def what_is_granted_changes(self, size: int) -> None:
        self.grant(f"{size} GiB")

    @rule(seed=SEEDS)
    def a_class_changes(self, seed: int) -> None:
        name = one_of(list(CLASSES), seed)
        wish = {"name": name, "policy": "pairs", "reclaim": "Retain" if name == "kept" else "Delete"}
        there = any(one.name == name for one in current_view().classes)
        late = {"binding": "WaitForFirstConsumer"} if name == "late" else {}
        with suppress(BarnError):
            if there and seed % 4 == 0:
                self.site.do("withdraw-class", storage_class=name)
            else:
                known = {"storage_class": name if there else "", "expands": seed % 2 == 0}
                self.site.do("publish-class", **wish, **late, **known)

    @rule(seed=SEEDS)
    def a_person_bins_or_brings_back_a_volume(self, seed: int) -> None:
        volumes = current_view().volumes
        if volumes:
            chosen = one_of(list(volumes), seed)
            with suppress(BarnError):
                if chosen.binned is None and seed % 3 == 0:
                    self.site.do("delete-volume", volume=chosen.name, typed=chosen.name)
                elif chosen.binned is not None and seed % 2:
                    self.site.do("restore-volume", volume=chosen.name)

    @rule(seed=SEEDS)
    def what_is_kept_aside_is_bound_again(self, seed: int) -> None:
        view = current_view()
        aside = [kept.number for kept in view.claims if kept.life is Life.ASIDE]
        waiting = [kept.number for kept in view.claims if kept.life is Life.WAITING]
        if aside and waiting:
            with suppress(BarnError):
                self.site.do("bind-again", claim=one_of(aside, seed), to=one_of(waiting, seed // 3))

    def open_changes(self, *states: str) -> list[int]:
        with transaction() as session:
            rows = select(ChangeRow.id).where(ChangeRow.state.in_(states)).order_by(ChangeRow.id)
            return list(session.scalars(rows))

    # What must hold. ---------------------------------------------------------------------------------------

    @invariant()
    def never_two_volumes_for_a_claim_and_none_without_an_owner(self) -> None:
        view = current_view()
        kept = [one for one in view.claims if one.volume is not None]
        assert len({one.volume for one in kept}) == len(kept)
        assert len({one.claim.uid for one in view.claims}) == len(view.claims)
        owners = {one.volume: one for one in kept}
        for volume in view.volumes:
            assert volume.number in owners, f"{volume.name} is nobody's"

    @invariant()
    def never_two_snapshots_for_what_asked_for_one(self) -> None:
        uids = [s.asked.uid for v in current_view().volumes for s in v.snapshots if s.asked is not None]
        assert len(uids) == len(set(uids))

    @invariant()
    def never_a_byte_over_what_was_granted(self) -> None:
        view = current_view()
        for mine in had_in(view).values():
            assert all(sum(one.bytes for one in had) <= LIMIT for had in mine.values())

    @invariant()
    def nothing_that_was_to_be_retained_is_deleted_by_itself(self) -> None:
        by_itself = self.binned_by_itself()
        for kept in current_view().claims:
            if kept.claim.uid in self.told_retain and kept.volume in by_itself:
                # Of what nobody was told there is nothing in it yet.
                assert object_name(kept.claim.uid) not in self.ever_told, kept

    @property
    def ever_told(self) -> set[str]:
        """Names of all objects of volumes that have ever been there, as this test has seen them."""
        there = {one["metadata"]["name"] for one in self.tender.admin.all(link.VOLUMES)[0]}
        self._ever = getattr(self, "_ever", set()) | there
        return self._ever

    def binned_by_itself(self) -> set[int]:
        with transaction() as session:
            rows = session.scalars(
                select(ChangeRow).where(ChangeRow.kind == "delete-volume", ChangeRow.actor == BY_ITSELF)
            )
            return {number for row in rows for number in row.meant["volume"].values()}

    # The end. ----------------------------------------------------------------------------------------------

    def teardown(self) -> None:
        try:
            if self.mirrors:
                self.everything_comes_to_rest()
        finally:
            self.patches.undo()
            self.context.__exit__(None, None, None)
            self.leave_nothing()

    def leave_nothing(self) -> None:
        """The next site finds none of this one's."""
        admin = self.tender.admin
        admin.ask("DELETE", link.NAMESPACES.path(name=self.space))
        for thing in admin.all(link.CONTENTS)[0]:
            name = thing["metadata"]["name"]
            for method, said in (("PATCH", {"metadata": {"finalizers": []}}), ("DELETE", None)):
                with suppress(BarnError):
                    admin.ask(method, link.CONTENTS.path(name=name), said, patch=MERGE if said else "")
        for thing in admin.all(link.ATTACHMENTS)[0]:
            said = {"metadata": {"finalizers": []}}
            with suppress(BarnError):
                admin.ask("PATCH", link.ATTACHMENTS.path(name=thing["metadata"]["name"]), said, patch=MERGE)
        until(lambda: self.tender.find(link.NAMESPACES, "", self.space) is None, "the namespace to be gone")
        for thing in admin.all(link.VOLUMES)[0]:
            with suppress(BarnError):
                admin.ask("DELETE", link.VOLUMES.path(name=thing["metadata"]["name"]))
        until(lambda: not admin.all(link.VOLUMES)[0], "the volumes to be gone")

    @invariant()
    def the_orchestrator_itself_is_well(self) -> None:
        assert not self.tender.stand_in.faults, self.tender.stand_in.faults[0]

    def everything_comes_to_rest(self) -> None:
        """With all rights and enough granted, each claim that is there is bound, and what is left listed."""
        self.rights_are_taken_and_given_back(1)
        for name in CLASSES:
            with suppress(BarnError):
                wish = {"name": name, "policy": "pairs", "reclaim": "Retain" if name == "kept" else "Delete"}
                there = any(one.name == name for one in current_view().classes)
                self.site.do("publish-class", **wish, storage_class=name if there else "")
        self.grant("4 TiB")
        quiet, ends = 0, time.monotonic() + PATIENCE
        while time.monotonic() < ends:
            self.look(None)
            for change in self.open_changes("paused"):
                with suppress(BarnError):
                    changes.ask(ME, change, "resume")
            for change in self.open_changes(*OPEN):
                run_change(change)
            let_copies_stand_alone()
            quiet = quiet + 1 if self.at_rest() else 0
            if quiet > 2:
                break
        assert self.at_rest(), [(k.path, k.life, k.hindrance, k.sentence) for k in current_view().claims]
        self.never_two_volumes_for_a_claim_and_none_without_an_owner()
        view = current_view()
        for volume in view.volumes:
            owner = next(one for one in view.claims if one.volume == volume.number)
            assert owner.life is not Life.OVER or volume.binned is not None, f"{volume.name} is in no list"
        self.snapshots_are_as_they_are_said_to_be()
        known = {handle_of(view.mark, one.volume) for one in view.claims if one.volume is not None}
        for thing in self.tender.admin.all(link.VOLUMES)[0]:
            reference = thing["spec"].get("claimRef") or {}
            if reference.get("namespace") == self.space and not thing["metadata"].get("deletionTimestamp"):
                assert thing["spec"]["csi"]["volumeHandle"] in known, thing["metadata"]["name"]

    def snapshots_are_as_they_are_said_to_be(self) -> None:
        """What is ready there is there, and what was taken to fill a claim is let go of."""
        view = current_view()
        waiting = {kept.claim.uid for kept in view.claims if kept.life is Life.WAITING}
        taken = {s.asked.uid: s for v in view.volumes for s in v.snapshots if s.asked is not None}
        for uid, snapshot in taken.items():
            assert snapshot.asked is not None
            assert not snapshot.asked.fills or uid in waiting, f"{snapshot.name} was taken for nothing"
        for thing in self.tender.admin.all(link.CONTENTS)[0]:
            if (thing.get("status") or {}).get("readyToUse"):
                assert taken[thing["metadata"]["uid"]].there, thing["metadata"]["name"]

    def at_rest(self) -> bool:
        if self.open_changes(*OPEN):
            return False
        # Each says what became of it, and those that were to go have gone.
        contents = self.tender.admin.all(link.CONTENTS)[0]
        if any(next_snapshot_turn(current_view(), self.number_here, c, 0.0) != NOTHING for c in contents):
            return False
        there = {one["metadata"]["uid"]: one for one in self.tender.admin.all(link.CLAIMS, self.space)[0]}
        return all(self.is_as_it_should_be(kept, there) for kept in current_view().claims) and not (
            there.keys() - {kept.claim.uid for kept in current_view().claims}
        )

    def is_as_it_should_be(self, kept: KeptClaim, there: dict[str, Any]) -> bool:
        view = current_view()
        volume = view.known_volume(kept.volume) if kept.volume is not None else None
        claim = there.get(kept.claim.uid)
        if claim is None:
            return kept.life in (Life.OVER, Life.ASIDE) or (volume is not None and volume.binned is not None)
        if claim["metadata"].get("deletionTimestamp"):
            return True
        if kept.claim.class_name not in CLASSES or kept.hindrance is Hindrance.NO_SOURCE:
            return kept.life is Life.WAITING or kept.life is Life.BOUND
        if volume is not None and volume.binned is not None:
            return True  # a person put it there
        return kept.life in (Life.BOUND, Life.ASIDE, Life.OVER)


def test_whatever_happens_each_claim_has_one_volume_and_nothing_is_lost(
    new_site: Callable[[Start], AbstractContextManager[Site]], pooled: Start, tmp_path: Path
) -> None:
    with standing(tmp_path / "tender") as tender:
        parts = {"new_site": staticmethod(new_site), "start": pooled, "tender": tender}
        run_state_machine_as_test(
            type("ClaimsHere", (Claims,), parts),
            settings=hypothesis_settings(
                max_examples=EXAMPLES,
                stateful_step_count=STEPS,
                phases=tuple(p for p in Phase if p != Phase.shrink),
                suppress_health_check=list(HealthCheck),
            ),
        )
