"""The file service and its shares, as a page shows them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime

from foldbarn.api.bodies import StateOut
from foldbarn.api.changes.pictures import change_line
from foldbarn.api.shares.models import (
    AddressOut,
    FilesOut,
    HowToMountOut,
    IdleRuleOut,
    MountedOut,
    MountOut,
    NameFaultOut,
    RuleOut,
    ShareOut,
    SharePage,
    ShareUserOut,
)
from foldbarn.api.volumes.pictures import shares_of, volume_out
from foldbarn.core.shares.addresses import carrier_of, could_serve
from foldbarn.core.shares.belonging import is_binned, mounts_of, untold
from foldbarn.core.shares.filling import ShareGrowth, reached
from foldbarn.core.shares.mounting import how_to_mount
from foldbarn.core.shares.naming import faults_of
from foldbarn.core.shares.quotas import warn_bytes
from foldbarn.core.shares.rules import idle_rules, ready
from foldbarn.core.shares.share import FileAddress, Share
from foldbarn.core.shares.takeover import takeover, takes_over
from foldbarn.core.site import SiteView
from foldbarn.core.watch.files import address_state, fill_state, served_state
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.shares import share_state
from foldbarn.store.tables import ChangeRow, ShareRow

IDLE_SHOWN, MOUNTS_SHOWN = 50, 200


def files_out(outlook: Outlook) -> FilesOut:
    view = outlook.view
    addresses = view.files.addresses if view.files is not None else ()
    named = {one.number: one.name for one in addresses}
    mounted = [(share, one) for share in view.shares for one in mounts_of(view, share)]
    return FilesOut(
        on=view.files is not None,
        name_server=view.files.name_server if view.files is not None else "",
        addresses=[_address(view, one) for one in addresses],
        could=[node.name for node in could_serve(view)],
        takeover=takeover(view).sentence,
        clients=len(mounted),
        mounted=[
            MountedOut(
                share=share.name,
                client=one.client,
                host=one.host,
                at=one.at,
                protocol=one.protocol,
                read_only=one.read_only,
                user=one.user,
                served=named.get(share.address, ""),
            )
            for share, one in mounted[:MOUNTS_SHOWN]
        ],
    )


def _address(view: SiteView, one: FileAddress) -> AddressOut:
    mine = [share for share in view.shares if share.address == one.number]
    node, after = carrier_of(view, one), takes_over(view, one)
    return AddressOut(
        name=one.name,
        at=list(one.at),
        home=view.node_numbered(one.home).name,
        carrier=node.name if node is not None else "",
        takes_over=after.name if after is not None else "",
        shares=[share.name for share in mine if not is_binned(view, share)],
        mounts=sum(len(mounts_of(view, share)) for share in mine),
        state=StateOut.of(address_state(view, one)),
        faults=[NameFaultOut(sentence=fault.sentence, record=fault.record) for fault in faults_of(one)],
        looked_at=datetime.fromtimestamp(one.looked_at, UTC) if one.looked_at else None,
    )


def shares_out(outlook: Outlook, growths: Mapping[int, ShareGrowth]) -> list[ShareOut]:
    return [ShareOut.model_validate(_fields(outlook, share, growths)) for share in outlook.view.shares]


def share_page(
    outlook: Outlook,
    share: Share,
    stored: ShareRow,
    growths: Mapping[int, ShareGrowth],
    history: Sequence[ChangeRow],
) -> SharePage:
    view = outlook.view
    volume = view.volume_numbered(share.volume)
    row = outlook.row_of_volume(volume.number)
    assert row is not None
    address = view.files.numbered(share.address) if view.files is not None else None
    access, idle = ready(share.rules), list(idle_rules(share.rules))
    return SharePage.model_validate(
        _fields(outlook, share, growths)
        | {
            "warn_bytes": warn_bytes(share.quota, share.warn),
            "served": StateOut.of(served_state(view, share)),
            "fill_state": StateOut.of(fill_state(share)),
            "fill_since": datetime.fromtimestamp(share.fill_since, UTC),
            "volume": volume_out(outlook, row),
            "shares": shares_of(view, volume),
            "access": [
                RuleOut(who=one.who, right=one.right, root=one.root, follows=one.follows)
                for one in share.rules
            ],
            "idle": [IdleRuleOut(rule=one.rule, sentence=one.sentence) for one in idle[:IDLE_SHOWN]],
            "mounted": [
                MountOut(
                    client=one.client,
                    host=one.host,
                    at=one.at,
                    kept=one.kept,
                    protocol=one.protocol,
                    read_only=one.read_only,
                    user=one.user,
                    may=access.decide(one.client).sentence,
                )
                for one in mounts_of(view, share)[:MOUNTS_SHOWN]
            ],
            "how": [
                HowToMountOut(
                    protocol=one.protocol,
                    said=one.protocol.said,
                    by=one.by,
                    commands=list(one.commands),
                    table=one.table,
                )
                for one in (how_to_mount(share, address) if address is not None else ())
            ],
            "users": [ShareUserOut(name=one.name, right=one.right, shown=one.shown) for one in share.users],
            "untold": untold(view, share),
            "change": stored.made_by,
            "made_at": stored.made_at,
            "history": [change_line(one) for one in history],
        }
    )


def _fields(outlook: Outlook, share: Share, growths: Mapping[int, ShareGrowth]) -> dict[str, object]:
    view = outlook.view
    volume = view.volume_numbered(share.volume)
    address = view.files.numbered(share.address) if view.files is not None else None
    policy, when = view.policy_of(volume), reached(share, growths.get(share.number, ShareGrowth()))
    return {
        "name": share.name,
        "state": StateOut.of(share_state(outlook, share)),
        "address": address.name if address is not None else "",
        "protocols": list(share.protocols),
        "quota_bytes": share.quota,
        "warn": share.warn,
        "used_bytes": share.used,
        "fill": share.fill,
        "fills": when.sentence() if when is not None else "",
        "mounts": len(mounts_of(view, share)),
        "rules": len(share.rules),
        "policy": policy.name if policy is not None else None,
        "pool": view.pools[volume.pool].name,
        "labels": list(volume.labels),
        "binned": volume.binned is not None,
    }
