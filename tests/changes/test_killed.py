"""Every kind of change, killed at every step boundary: when a step is done but not recorded, and when it has
just been recorded. It goes on.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from claiming import shared_tender
from conftest import ME, Site
from sqlalchemy import func, select
from test_changes import Killed, held, lose, should_hold
from test_cluster import EIGHT, form, hear
from walking import attach, register

from foldbarn.changes.engine import runner
from foldbarn.changes.engine.kind import KINDS
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.consumers.make_secret import put_secret
from foldbarn.changes.kinds.machines.arrange import arrangement
from foldbarn.changes.text import text_of, write_text
from foldbarn.core.claims.claims import AccessMode, Claim
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.units import GIB
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.core.volumes.thin import to_set_aside
from foldbarn.sealed import unseal
from foldbarn.services import changes
from foldbarn.services.limits import tell_files, tell_limits, tell_marks, tell_targets
from foldbarn.store import claims, orchestrators
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import MoveRow, StepRow
from foldbarn.store.views import current_view

NODES = ("fulmar", "petrel", "kittiwake", "turnstone")


def mixed(site: Site) -> dict[str, Any]:
    return {
        "name": "quayside",
        "disks": [d for d in site.disks(nodes=NODES) + site.disks("nvme", nodes=NODES) if d != "turnstone-8"],
    }


def pooled(site: Site) -> None:
    site.do("form-pool", **mixed(site))
    site.volume()


def clustered(site: Site, members: list[str]) -> None:
    hear(site)
    form(site, members=members, keepers=["fulmar", "petrel", "kittiwake"])
    hear(site)


def form_pool(site: Site) -> dict[str, Any]:
    return mixed(site)


def create_volume(site: Site) -> dict[str, Any]:
    site.do("form-pool", **mixed(site))
    return {"name": "charts", "pool": "quayside", "size": "100 GiB"}


def rebuild(site: Site) -> dict[str, Any]:
    pooled(site)
    lose(site, "petrel")
    return {"pool": "quayside"}


def grow_pool(site: Site) -> dict[str, Any]:
    pooled(site)
    return {"pool": "quayside", "disks": ["turnstone-8", "razorbill-1", "razorbill-c1"]}


def set_pool(site: Site) -> dict[str, Any]:
    pooled(site)
    return {"pool": "quayside", "headroom_losses": 2}


def retire(site: Site) -> dict[str, Any]:
    pooled(site)
    return {"what": "disk", "names": ["petrel-3", "petrel-c1"]}


def replace_disk(site: Site) -> dict[str, Any]:
    pooled(site)
    return {"disk": "turnstone-2", "by": "turnstone-8"}


def change_role(site: Site) -> dict[str, Any]:
    pooled(site)
    return {"disks": ["petrel-3"], "role": "spare", "reason": "for the night"}


def delete_volume(site: Site) -> dict[str, Any]:
    pooled(site)
    return {"volume": "charts", "typed": "charts"}


def delete_several(site: Site) -> dict[str, Any]:
    pooled(site)
    site.volume("logs")
    return {"volumes": ["logs", "charts"], "typed": "2 volumes"}


def restore_several(site: Site) -> dict[str, Any]:
    site.do("delete-volume", **delete_several(site))
    return {"volumes": ["logs", "charts"]}


def take_several_offline(site: Site) -> dict[str, Any]:
    wish = delete_several(site)
    return {"volumes": wish["volumes"]}


VM = {"name": "crew-roster", "pool": "quayside", "disks": [{"size": "10 GiB"}]}


def make_vm(site: Site) -> dict[str, Any]:
    pooled(site)
    return VM


def delete_vm(site: Site) -> dict[str, Any]:
    site.do("make-vm", **make_vm(site))
    return {"vm": "crew-roster", "typed": "crew-roster"}


def move_vm(site: Site) -> dict[str, Any]:
    move_volume(site)
    site.do("make-vm", **VM)
    return {"vm": VM["name"], "pool": "second"}


def connect_vm_host(site: Site) -> dict[str, Any]:
    make_vm(site)
    site.do("make-vm", **VM)
    register(site, "bridge-1")
    url = f"{site.yard.url}/vm-hosts/bridge-1"
    return {"host": "bridge-1", "url": url, "user": "fold-barn", "password": "tide-table"}


def disconnect_vm_host(site: Site) -> dict[str, Any]:
    site.do("connect-vm-host", **connect_vm_host(site))
    return {"host": "bridge-1"}


def power_on(site: Site) -> dict[str, Any]:
    return {"vm": VM["name"], **disconnect_vm_host(site)}


def power_off(site: Site) -> dict[str, Any]:
    site.do("power-on", **power_on(site))
    return {"vm": VM["name"]}


def rename_vm(site: Site) -> dict[str, Any]:
    site.do("make-vm", **make_vm(site))
    return {"vm": VM["name"], "name": "watch-keeper"}


def set_template(site: Site) -> dict[str, Any]:
    site.do("make-vm", **make_vm(site))
    return {"vm": VM["name"]}


def keep_memory(site: Site) -> dict[str, Any]:
    return {**power_off(site), "name": "awake"}


def serve_files(site: Site) -> dict[str, Any]:
    pooled(site)
    clustered(site, EIGHT)
    wish = {"addresses": "10.30.0.21-10.30.0.22", "names": "files-{1..2}.skerry.example"}
    return {**wish, "name_server": site.yard.name_server}


def stop_files(site: Site) -> dict[str, Any]:
    site.do("serve-files", **serve_files(site))
    return {}


def make_share(site: Site) -> dict[str, Any]:
    stop_files(site)
    return {"name": "maps", "pool": "quayside", "quota": "3 GiB", "rules": [{"who": "everyone"}]}


def alter_share(site: Site) -> dict[str, Any]:
    site.do("make-share", **make_share(site))
    return {"share": "maps", "quota": "5 GiB", "protocols": ["smb"]}


def rename_share(site: Site) -> dict[str, Any]:
    return {"share": alter_share(site)["share"], "name": "old-maps"}


def delete_share(site: Site) -> dict[str, Any]:
    return {"share": alter_share(site)["share"], "typed": "maps"}


def restore_share(site: Site) -> dict[str, Any]:
    site.do("delete-share", **delete_share(site))
    return {"share": "maps"}


def let_user_in(site: Site) -> dict[str, Any]:
    return {"share": alter_share(site)["share"], "user": "ines"}


def remove_user(site: Site) -> dict[str, Any]:
    site.do("let-user-in", **let_user_in(site))
    return {"share": "maps", "user": "ines"}


def restore_vm(site: Site) -> dict[str, Any]:
    site.do("delete-vm", **delete_vm(site))
    return {"vm": "crew-roster"}


def revert_vm(site: Site) -> dict[str, Any]:
    site.do("make-vm", **make_vm(site))
    parts = [v.name for v in current_view().volumes if v.part is not None]
    site.do("take-snapshot", volumes=parts, name="before-the-season")
    site.do("offline-volume", volumes=parts, offline=True)
    return {"vm": "crew-roster", "snapshot": "before-the-season", "keep_as": "as-it-was"}


def clone_vm(site: Site) -> dict[str, Any]:
    return {"vm": "crew-roster", "snapshot": revert_vm(site)["snapshot"], "name": "watch-keeper"}


def restore_volume(site: Site) -> dict[str, Any]:
    empty_bin(site)
    return {"volume": "charts"}


def empty_bin(site: Site) -> dict[str, Any]:
    pooled(site)
    site.do("delete-volume", volume="charts", typed="charts")
    return {"pool": "quayside", "typed": "charts"}


def offline_volume(site: Site) -> dict[str, Any]:
    pooled(site)
    return {"volume": "charts"}


def delete_pool(site: Site) -> dict[str, Any]:
    site.do("form-pool", **mixed(site))
    return {"pool": "quayside", "typed": "quayside"}


def clear_disk(_: Site) -> dict[str, Any]:
    return {"disk": "skua-3", "typed": "skua-3"}


def add_node(site: Site) -> dict[str, Any]:
    clustered(site, EIGHT[:5])
    return {"node": "skua"}


def let_go(site: Site) -> dict[str, Any]:
    clustered(site, EIGHT)
    return {"node": "whimbrel"}


def arrange(_: Site) -> dict[str, Any]:
    rooms = [r.model_dump() for r in arrangement(current_view())]
    rooms[0]["racks"][0]["name"] = "NQ-one"
    return {"rooms": rooms}


def rename(_: Site) -> dict[str, Any]:
    return {"nodes": ["skua"], "pattern": "puffin"}


def give_up(site: Site) -> dict[str, Any]:
    pooled(site)
    lose(site, "petrel", given_up=False)
    return {"nodes": ["petrel"]}


def address_ports(_: Site) -> dict[str, Any]:
    return {"nodes": ["fulmar", "petrel"], "port": "stor0", "start": "10.33.0.11/24"}


def purpose_ports(_: Site) -> dict[str, Any]:
    return {"nodes": ["fulmar"], "port": "stor1", "purpose": "client"}


def save_policy(site: Site) -> dict[str, Any]:
    site.do("form-pool", **mixed(site))
    return {"name": "two-and-one", "data": 2, "parity": 1, "level": "rack"}


def delete_policy(site: Site) -> dict[str, Any]:
    site.do("save-policy", **save_policy(site))
    return {"policy": "two-and-one"}


def keep_policy(site: Site) -> dict[str, Any]:
    """Of three volumes one gets a copy more, one gives one up, and one is written anew."""
    site.do("form-pool", **mixed(site))
    site.do("save-policy", name="three", copies=3, level="node")
    site.do("create-volume", name="more", pool="quayside", size="8 GiB", copies=4, level="node")
    site.do("create-volume", name="fewer", pool="quayside", size="8 GiB", copies=2, level="disk")
    site.do("save-policy", name="two-and-one", data=2, parity=1, level="node")
    site.do("create-volume", name="other", policy="two-and-one", size="8 GiB")
    return {"volumes": ["more", "fewer", "other"], "policy": "three"}


def land(site: Site) -> dict[str, Any]:
    """Of three volumes one gets a landing, one a smaller one, and one is written anew for it."""
    site.do("form-pool", **mixed(site), serves="fast tier")
    parity = {"data": 2, "parity": 1, "level": "node"}
    site.do("save-policy", name="plain", **parity)
    site.do("save-policy", name="wide", **parity, landing=50)
    site.do("save-policy", name="lands", **parity, landing=10)
    site.do("create-volume", name="gets", policy="plain", size="20 GiB")
    site.do("create-volume", name="changes", policy="wide", size="20 GiB")
    site.do("create-volume", name="anew", pool="quayside", size="20 GiB", copies=2, level="node")
    return {"volumes": ["gets", "changes", "anew"], "policy": "lands"}


def move_extents(site: Site) -> dict[str, Any]:
    site.do("form-pool", **mixed(site), serves="fast tier")
    site.do("save-policy", name="busy-up", data=2, parity=1, level="node", share=30)
    site.do("create-volume", name="charts", policy="busy-up", size="20 GiB")
    site.do("move-extents", volume="charts", tier="fast", extents=[1])
    return {"volume": "charts", "tier": "fast", "extents": [0, 5]}


def share(site: Site) -> dict[str, Any]:
    """Of three volumes one gets a share, one comes down before it is written anew, one keeps its."""
    site.do("form-pool", **mixed(site), serves="fast tier")
    site.do("save-policy", name="plain", data=2, parity=1, level="node")
    site.do("save-policy", name="pairs", copies=2, level="node", share=30)
    site.do("save-policy", name="busy-up", data=2, parity=1, level="node", share=30)
    for name, policy in (("gets", "plain"), ("anew", "pairs"), ("keeps", "busy-up")):
        site.do("create-volume", name=name, policy=policy, size="20 GiB")
    for name in ("anew", "keeps"):
        site.do("move-extents", volume=name, tier="fast", extents=[1])
    version = {"data": 2, "parity": 1, "level": "node", "share": 20, "version": 1}
    site.do("save-policy", name="busy-up", **version)
    return {"volumes": ["gets", "anew", "keeps"], "policy": "busy-up"}


def grow_volume(site: Site) -> dict[str, Any]:
    pooled(site)
    return {"volume": "charts", "size": "150 GiB"}


def rename_volume(site: Site) -> dict[str, Any]:
    pooled(site)
    return {"volume": "charts", "name": "tide-charts"}


def grow_with_landing(site: Site) -> dict[str, Any]:
    """Its landing grows with it."""
    land(site)
    return {"volume": "changes", "size": "60 GiB"}


def several(site: Site) -> dict[str, Any]:
    pooled(site)
    return {"name": "web-{1..2}", "pool": "quayside", "size": "20 GiB"}


def grow_thin(site: Site) -> dict[str, Any]:
    site.do("form-pool", **mixed(site))
    site.volume(thin=True)
    return {"volume": "charts", "size": "150 GiB"}


def save_host(site: Site) -> dict[str, Any]:
    """One that is known, and connects under another name from then on."""
    attach_volume(site)
    attach(site, "charts", "slipway")
    return {"host": "slipway", "name": "slip", "initiators": ["iqn.2019-04.example.skerry:slip"]}


def delete_host(site: Site) -> dict[str, Any]:
    attach_volume(site)
    return {"host": "slipway"}


def attach_volume(site: Site) -> dict[str, Any]:
    pooled(site)
    register(site, "slipway")
    return {"volume": "charts", "hosts": ["slipway"], "file_system": "xfs"}


def detach_volume(site: Site) -> dict[str, Any]:
    attach_volume(site)
    attach(site, "charts", "slipway")
    return {"volume": "charts", "hosts": ["slipway"]}


def take_snapshot(site: Site) -> dict[str, Any]:
    """Of two volumes, of which one has room for it already."""
    pooled(site)
    site.volume("logs")
    site.do("take-snapshot", volumes=["logs"], name="before")
    return {"volumes": ["charts", "logs"], "name": "both"}


def delete_snapshot(site: Site) -> dict[str, Any]:
    """The last one."""
    pooled(site)
    site.do("take-snapshot", volumes=["charts"], name="before")
    return {"volume": "charts", "snapshots": ["before"], "typed": "before"}


def restore_snapshot(site: Site) -> dict[str, Any]:
    pooled(site)
    site.do("take-snapshot", volumes=["charts"], name="before")
    site.do("offline-volume", volumes=["charts"], offline=True)
    return {"volume": "charts", "snapshot": "before", "keep_as": "now"}


def grow_room(site: Site) -> dict[str, Any]:
    pooled(site)
    site.do("take-snapshot", volumes=["charts"], name="before", room=5)
    return {"volume": "charts", "room": 30}


def keep_on(site: Site) -> dict[str, Any]:
    pooled(site)
    view = current_view()
    by_rack = {view.nodes[view.disks[r].node].rack: r for r in view.in_pool(view.pools[0]).tolist()}
    names = [view.nodes[view.disks[row].node].name for row in by_rack.values()]
    return {"volume": "charts", "only_on": names[:3]}


def move_volume(site: Site) -> dict[str, Any]:
    """One that has snapshots, to a pool of other disks."""
    site.do("form-pool", **mixed(site) | {"disks": site.disks(nodes=NODES)})
    site.volume()
    site.do("form-pool", name="second", disks=site.disks("nvme", nodes=NODES), copies=2)
    site.do("take-snapshot", volumes=["charts"], name="before")
    return {"volume": "charts", "pool": "second"}


def copy_snapshot(site: Site) -> dict[str, Any]:
    pooled(site)
    site.do("take-snapshot", volumes=["charts"], name="before")
    return {"volume": "charts", "snapshot": "before", "name": "again"}


def show_snapshot(site: Site) -> dict[str, Any]:
    return copy_snapshot(site) | {"name": "charts-before"}


def stand_alone(site: Site) -> dict[str, Any]:
    site.do("copy-snapshot", **copy_snapshot(site))
    return {"volume": "again"}


def rename_snapshot(site: Site) -> dict[str, Any]:
    return copy_snapshot(site) | {"name": "after"}


def delete_shown(site: Site) -> dict[str, Any]:
    """Beside another that goes into the bin."""
    site.do("show-snapshot", **show_snapshot(site))
    return {"volumes": ["charts", "charts-before"], "typed": "2 volumes"}


def set_volume(site: Site) -> dict[str, Any]:
    """Two of them."""
    pooled(site)
    site.volume("logs")
    return {"volumes": ["charts", "logs"], "labels": ["maps"], "operations": 500}


def connected(site: Site) -> None:
    """An orchestrator that is known, and a policy."""
    site.do("form-pool", **mixed(site))
    access = orchestrators.Access("tender", "https://127.0.0.1:9", "", "sealed")
    with transaction() as session:
        orchestrators.add(session, 1, access, orchestrators.Said("u-1", "v1", ()))
        announce(session, "site")
    site.do("save-policy", name="pairs", copies=2, level="node")


def offered(site: Site, claimed: int = 0) -> list[int]:
    """And the policy is granted and published; numbers of claims that wait."""
    connected(site)
    site.do("publish-class", name="pairs", policy="pairs")
    site.do("grant-policy", orchestrator="tender", namespace="ticketing", policy="pairs")
    modes = frozenset({AccessMode.ONE_NODE})
    found = [Claim(f"u{n}", "ticketing", f"c{n}", "pairs", 10 * GIB, modes) for n in range(claimed)]
    with transaction() as session:
        claims.add_claims(session, current_view().orchestrators[0].number, found)
        claims.note(session)
        announce(session, "site")
    return [kept.number for kept in current_view().claims]


def connect_orchestrator(site: Site) -> dict[str, Any]:
    """One that answers."""
    tender = shared_tender()
    authority = tender.stand_in.authority.decode()
    return {"name": "tender", "url": tender.url, "authority": authority, "token": tender.token}


def disconnect_orchestrator(site: Site) -> dict[str, Any]:
    offered(site, claimed=1)
    return {"orchestrator": "tender", "typed": "tender"}


def make_secret(site: Site) -> dict[str, Any]:
    """Another one, beside that by which a volume is served."""
    connected(site)
    site.volume()
    with transaction() as session:
        put_secret(session, current_view().orchestrators[0].number)
        announce(session, "site")
    register(site, "slipway")
    attach(site, "charts", "slipway", secret_of="tender")
    return {"orchestrator": "tender"}


def revoke_secret(site: Site) -> dict[str, Any]:
    make_secret(site)
    return {"orchestrator": "tender", "secret": current_view().orchestrators[0].secrets[0].name}


def grant_policy(site: Site) -> dict[str, Any]:
    offered(site)
    wish = {"orchestrator": "tender", "namespace": "ticketing", "policy": "pairs", "size": "40 GiB"}
    return {**wish, "by_class": [{"name": "pairs", "claims": 3}]}


def withdraw_grant(site: Site) -> dict[str, Any]:
    offered(site)
    return {"orchestrator": "tender", "namespace": "ticketing", "policy": "pairs"}


def publish_class(site: Site) -> dict[str, Any]:
    """One that takes over from the default one."""
    connected(site)
    site.do("publish-class", name="before", policy="pairs", default=True)
    return {"name": "steady", "policy": "pairs", "default": True}


def withdraw_class(site: Site) -> dict[str, Any]:
    offered(site)
    return {"storage_class": "pairs"}


def make_claimed(site: Site) -> dict[str, Any]:
    return {"claims": offered(site, claimed=3)}


def bind_again(site: Site) -> dict[str, Any]:
    first, second = offered(site, claimed=2)
    site.do("make-claimed", claims=[first])
    with transaction() as session:
        claims.set_life(claims.locked(session, [first])[first], Life.ASIDE)
        claims.note(session)
        announce(session, "site")
    return {"claim": first, "to": second}


def describe(_: Site) -> dict[str, Any]:
    return {"text": write_text(text_of(current_view())).replace("name: NQ-1", "name: NQ-one")}


WISHES: dict[str, Callable[[Site], dict[str, Any]]] = {
    made.__name__.replace("_", "-"): made
    for made in (
        form_pool,
        create_volume,
        rebuild,
        grow_pool,
        set_pool,
        retire,
        replace_disk,
        change_role,
        delete_volume,
        restore_volume,
        serve_files,
        stop_files,
        make_share,
        alter_share,
        rename_share,
        delete_share,
        restore_share,
        let_user_in,
        remove_user,
        make_vm,
        delete_vm,
        restore_vm,
        revert_vm,
        clone_vm,
        move_vm,
        connect_vm_host,
        disconnect_vm_host,
        power_on,
        power_off,
        keep_memory,
        rename_vm,
        set_template,
        empty_bin,
        offline_volume,
        delete_pool,
        clear_disk,
        add_node,
        let_go,
        arrange,
        rename,
        give_up,
        address_ports,
        purpose_ports,
        save_policy,
        delete_policy,
        keep_policy,
        move_extents,
        grow_volume,
        rename_volume,
        save_host,
        delete_host,
        attach_volume,
        detach_volume,
        take_snapshot,
        delete_snapshot,
        restore_snapshot,
        copy_snapshot,
        show_snapshot,
        grow_room,
        keep_on,
        move_volume,
        stand_alone,
        rename_snapshot,
        set_volume,
        connect_orchestrator,
        disconnect_orchestrator,
        make_secret,
        revoke_secret,
        grant_policy,
        withdraw_grant,
        publish_class,
        withdraw_class,
        make_claimed,
        bind_again,
        describe,
    )
}


# More than one wish of a kind.
MORE = {
    "delete-volume, several": delete_several,
    "delete-volume, of which one is shown": delete_shown,
    "restore-volume, several": restore_several,
    "offline-volume, several": take_several_offline,
    "create-volume, several": several,
    "keep-policy, with a landing": land,
    "keep-policy, with a share": share,
    "grow-volume, with a landing": grow_with_landing,
    "grow-volume, thin": grow_thin,
}


WITH_ONE_SNAPSHOT = (
    "copy-snapshot",
    "show-snapshot",
    "stand-alone",
    "rename-snapshot",
    "grow-room",
    "delete-volume, of which one is shown",
)


def test_no_kind_of_change_is_forgotten_here() -> None:
    assert set(KINDS) - set(WISHES) == {"form-cluster"}  # killed at each of its steps in test_cluster


def check_files(site: Site, kind: str) -> None:
    """The file service and its share are as the change says, and so do all nodes of the cluster know them."""
    view, service = current_view(), site.yard.machines.files
    told = [said["shares"] for said in service.told.values()]
    assert all(said == told[0] for said in told)
    if kind in ("serve-files", "stop-files"):
        assert len(view.files.addresses if view.files else ()) == 2 * (kind == "serve-files")
        assert len(service.has) == 2 * (kind == "serve-files")
    if not kind.endswith("-share") and kind not in ("let-user-in", "remove-user"):
        assert not view.shares
        return
    [share] = view.shares
    assert share.name == ("old-maps" if kind == "rename-share" else "maps")
    volume = view.volume_numbered(share.volume)
    assert (volume.binned is not None) == (kind == "delete-share")
    size = 5 * GIB if kind == "alter-share" else 3 * GIB
    assert (share.quota, volume.size_bytes) == (size, size)
    assert [user.name for user in share.users] == ["ines"] * (kind == "let-user-in")
    assert len(told) == len(EIGHT)
    assert [said["name"] for said in told[0].values()] == [share.name] * (kind != "delete-share")


@pytest.mark.parametrize("wish", [*WISHES, *MORE])
def test_killed_at_every_step_boundary_it_goes_on_and_ends_as_it_should(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch, wish: str
) -> None:
    kind = wish.partition(",")[0]
    # The yard is fast: consumers would soon overwrite more of a volume than there is room for beside it.
    barn_site.yard.machines.consumers = 0.0
    asked = (WISHES | MORE)[wish](barn_site)
    number = changes.carry_out(ME, kind, asked)
    with transaction() as session:
        last = session.scalar(select(func.max(StepRow.number)).where(StepRow.change_id == number))
    finish, do = runner._finish_step, runner._next_step
    deaths: set[tuple[int, str]] = set()

    def unrecorded(session: Any, run: Any, outcome: str) -> None:
        if (run.step, "done") not in deaths:
            deaths.add((run.step, "done"))
            raise Killed
        finish(session, run, outcome)

    def recorded(run: Any) -> bool:
        step, going_on = run.step, do(run)
        if going_on and (step, "recorded") not in deaths:
            deaths.add((step, "recorded"))
            raise Killed
        return going_on

    monkeypatch.setattr(runner, "_finish_step", unrecorded)
    monkeypatch.setattr(runner, "_next_step", recorded)
    for _ in range(2 * int(last or 0) + 1):
        try:
            run_change(number)
        except Killed:
            continue
        break
    assert (barn_site.state(number), barn_site.problem(number)) == ("done", "")
    every = {(step, when) for step in range(1, int(last or 0) + 1) for when in ("done", "recorded")}
    assert deaths == every - {(last, "recorded")}  # which is recorded together with the end of the change
    view = current_view()
    if kind == "rebuild":
        assert all(fate_of(view, v).state == DataState.WHOLE for v in view.volumes)
        with transaction() as session:
            moves = list(
                session.execute(
                    select(MoveRow.ply_id, MoveRow.extent, MoveRow.strip).where(MoveRow.state != "withdrawn")
                )
            )
        assert len(moves) == len(set(moves))  # nothing is copied twice
        return  # what the silent node still holds is dropped when it returns
    if kind == "give-up":
        assert view.node("petrel").given_up
    assert held(barn_site) == should_hold()
    if kind in ("empty-bin", "power-off"):
        assert not tell_limits()  # of what is gone nodes are told as of all else
    withheld = set().union(*barn_site.yard.machines.withheld.values())
    mine = [v for v in view.volumes if v.name in ("charts", "logs")]
    taken = kind in ("delete-volume", "offline-volume", "restore-snapshot")
    if kind == "delete-share":
        mine, taken = [v for v in view.volumes if v.name == "maps-files"], True
    # What a moved volume was is in the bin.
    apart = mine if taken else [v for v in view.volumes if v.name == "charts-in-quayside"]
    expected = len(mine) if taken else kind == "move-volume"
    of_vm = [v for v in view.volumes if v.part is not None]
    with_vms = "-vm" in kind or kind.startswith("power-") or kind == "set-template"
    counts = {"clone-vm": 4, "power-on": 3, "keep-memory": 4}
    assert len(of_vm) == counts.get(kind, 2 if with_vms else 0)
    if kind in ("delete-vm", "revert-vm", "clone-vm"):  # of the others the original stays offline
        apart, expected = [v for v in of_vm if v.name.startswith("crew-roster")], 2
    if kind == "move-vm":
        apart, expected = [v for v in view.volumes if v.name.endswith("-in-quayside")], 2
    assert withheld == {p.number for v in apart for p in v.plies}
    assert len(apart) == expected
    assert all((v.binned is not None) == (kind == "delete-vm") and not v.forming for v in of_vm)
    assert not any(v.parked for v in view.volumes)
    assert not tell_files()  # and of the file service
    check_files(barn_site, kind)
    assert not tell_marks()  # so much as of snapshots
    marks = {
        "take-snapshot": {"charts": [1], "logs": [1, 2]},
        "delete-snapshot": {},
        "restore-snapshot": {"charts": [1, 2]},
        "move-volume": {"charts-in-quayside": [1, 2]},
        "keep-memory": {"crew-roster-configuration": [1], "crew-roster-disk-1": [1]},
        "set-template": {"crew-roster-configuration": [1], "crew-roster-disk-1": [1]},
        "move-vm": {
            "charts": [1],
            "crew-roster-configuration-in-quayside": [1],
            "crew-roster-disk-1-in-quayside": [1],
        },
        "clone-vm": {"crew-roster-configuration": [1], "crew-roster-disk-1": [1]},
        "revert-vm": {"crew-roster-configuration": [1, 2], "crew-roster-disk-1": [1, 2]},
        **{one: {"charts": [1]} for one in WITH_ONE_SNAPSHOT},
    }.get(wish, {})
    there = {v.past.number: v.name for v in view.volumes if v.past is not None}
    assert {there[p]: past.marks for p, past in barn_site.yard.machines.pasts.items()} == marks
    in_bin = kind in ("delete-volume", "delete-share")
    assert all((v.binned is not None) == in_bin for v in mine)
    assert not tell_targets()  # nodes were told all that they are to serve, and nothing that they are not
    let_in = {
        name
        for serving in barn_site.yard.machines.serving.values()
        for said in serving["targets"].values()
        for name in said["allows"]
    }
    slip = "iqn.2019-04.example.skerry:slip"
    reached = {"attach-volume": slip + "way", "save-host": slip}
    reached |= dict.fromkeys(("make-secret", "revoke-secret"), slip + "way")
    reached |= dict.fromkeys(("power-on", "keep-memory"), "iqn.2019-04.example.skerry:bridge-1")
    guests = barn_site.yard.machines.vm_hosts["bridge-1"].guests.values()
    is_on = kind in ("power-on", "keep-memory")
    assert [(guest.on, guest.paused) for guest in guests] == [(True, False)] * is_on
    assert let_in == ({reached[kind]} if kind in reached else set())
    if kind == "set-volume":
        assert not tell_limits()
        assert {(v.labels, v.operations) for v in view.volumes} == {(("maps",), 500)}
    if kind in ("make-claimed", "bind-again"):
        lives = Counter(kept.life for kept in view.claims)
        made = {"make-claimed": {Life.MAKING: 3}, "bind-again": {Life.HANDED_ON: 1, Life.MADE: 1}}
        assert lives == made[kind]
        assert len({kept.volume for kept in view.claims if kept.volume}) == len(view.volumes)
    if kind == "publish-class":
        assert [(one.name, one.default) for one in view.classes] == [("before", False), ("steady", True)]
    if kind == "connect-orchestrator":
        assert [(one.name, one.missing) for one in view.orchestrators] == [("tender", ())]
        assert len(view.orchestrators[0].secrets) == 1
    if kind in ("make-secret", "revoke-secret"):
        good = {s.name: unseal(s.sealed) for s in view.orchestrators[0].secrets}
        assert len(good) == (2 if kind == "make-secret" else 0)
        serving = [one["targets"] for one in barn_site.yard.machines.serving.values()]
        asked = [said["secrets"] for targets in serving for said in targets.values()]
        assert asked
        assert all(one == {slip + "way": good} for one in asked)
    if kind == "disconnect-orchestrator":
        assert (view.orchestrators, view.grants, view.claims) == ((), (), ())
    if kind == "stand-alone":
        assert [v.origin for v in view.volumes] == [None, None]
    if wish.endswith("shown"):
        assert [v.name for v in view.volumes] == ["charts"]
    if kind == "move-extents":
        assert np.flatnonzero(view.volume("charts").upper).tolist() == [0, 1, 5]
    if wish.endswith("with a share"):
        assert [int(v.upper.sum()) for v in view.volumes if v.hot] == [0, 0, 1]
    if kind == "grow-volume":
        volume = view.volume(asked["volume"])
        assert volume.whole.extents == volume.size_bytes // view.data_bytes(volume.whole)
        assert to_set_aside(volume).any() == (wish == "grow-volume, thin")
    elif wish.endswith("landing"):
        assert [v.landing.extents for v in view.volumes if v.landing] == [2, 2, 2]
    serials = {d.serial: view.pools[d.pool].name for d in view.disks if d.pool >= 0}
    assert barn_site.yard.machines.pool_of == serials  # the agents agree with us on what belongs to whom
    assert not any(d.retiring for d in view.disks)
    with transaction() as session:
        assert (
            session.scalar(select(func.count(MoveRow.id)).where(MoveRow.state.in_(("waiting", "ordered"))))
            == 0
        )
