"""Altering a share: its quota and warn level, who may mount it and by what, and where it is served. Where its
quota asks for more than its volume has, that grows.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import AnyEffect, Note, TextRow, Texts, unchanged, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Payload
from foldbarn.changes.kinds.shares.make_share import (
    RuleAt,
    RuleKept,
    access_effects,
    address_called,
    check_protocols,
    quota_effect,
    rule_warnings,
    user_warnings,
)
from foldbarn.changes.kinds.shares.telling import tell_files
from foldbarn.changes.kinds.volumes.grow_volume import GrowVolume, GrowVolumeParams
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.policies.matching import rounded_size
from foldbarn.core.shares.belonging import against_mounted, mounts_of
from foldbarn.core.shares.quotas import check_quota, fill_of, said_fill
from foldbarn.core.shares.rules import Right, check_rules, ready
from foldbarn.core.shares.share import Protocol, Share
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import parse_size, say_binary, say_list
from foldbarn.core.volumes.bin import against_altering
from foldbarn.store import shares
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view


class AlterShareParams(Params):
    """A share by name, and of all else what is to be otherwise: None leaves it as it is."""

    share: str
    quota: str | None = Field(default=None, max_length=40)
    warn: int | None = None
    protocols: list[Protocol] | None = Field(default=None, max_length=10)
    rules: list[RuleAt] | None = Field(default=None, max_length=20_000)
    address: str | None = None


class ShareAs(Payload):
    """All that people set of a share. rules: theirs; those that follow nodes are as they are then."""

    address: int
    quota: int
    warn: int
    protocols: tuple[Protocol, ...]
    rules: tuple[RuleKept, ...]

    @classmethod
    def of(cls, share: Share) -> ShareAs:
        return cls(
            address=share.address,
            quota=share.quota,
            warn=share.warn,
            protocols=share.protocols,
            rules=tuple(map(RuleKept.of, share.own_rules)),
        )

    def on(self, share: Share) -> Share:
        return replace(
            share,
            address=self.address,
            quota=self.quota,
            warn=self.warn,
            protocols=self.protocols,
        ).with_rules(tuple(one.rule() for one in self.rules))


class WriteShare(Inside):
    """A share (by number) is like this from here on; before: as it was."""

    name: ClassVar[str] = "write-share"
    share: int
    wanted: ShareAs
    before: ShareAs

    def carry_out(self, run: Run, session: Session) -> str:
        self._write(session, self.wanted)
        return "Written down."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            self._write(session, self.before)

    def _write(self, session: Session, wanted: ShareAs) -> None:
        shares.one_at_a_time(session)
        view = load_view(session)
        share = next((one for one in view.shares if one.number == self.share), None)
        if share is None:
            raise Overtaken("The share is gone.", about="share")
        if refusals := against_share(view, wanted.on(share), share):
            raise refusals[0]
        shares.write(session, wanted.on(share))
        announce(session, "site")


def against_share(view: SiteView, wanted: Share, share: Share) -> list[NotPossible]:
    """Why a share cannot be so: its volume is smaller, its address is gone, or clients hold on to the one
    that it has. The volume grows before.
    """
    found: list[NotPossible] = []
    volume = view.volume_numbered(share.volume)
    if refusal := against_altering(volume):
        found.append(refusal)
    if wanted.quota > volume.size_bytes:
        words = (
            f"{volume.name} has {say_binary(volume.size_bytes)}: a quota of {say_binary(wanted.quota)} would "
        )
        found.append(NotPossible(f"{words}promise more.", about="quota"))
    if view.files is None or view.files.numbered(wanted.address) is None:
        found.append(Overtaken("The address at which it is to be served is gone.", about="address"))
    elif wanted.address != share.address:
        found += against_mounted(view, share, "address")
    return found


def _wanted(view: SiteView, share: Share, params: AlterShareParams) -> Share:
    """Raises NotFound, NotPossible."""
    quota = share.quota if params.quota is None else parse_size(params.quota, about="quota")
    warn = share.warn if params.warn is None else params.warn
    check_quota(quota, warn)
    address = share.address if params.address is None else address_called(view, params.address).number
    own = share.own_rules
    if params.rules is not None:
        own = check_rules([one.rule() for one in params.rules])
    protocols = share.protocols if params.protocols is None else check_protocols(params.protocols)
    wanted = replace(share, quota=quota, warn=warn, address=address, protocols=protocols)
    return wanted.with_rules(own)


@register
class AlterShare(Kind[AlterShareParams]):
    """where it grows: extend (ours), fill up (agents); write (ours), tell (agents)."""

    name: ClassVar[str] = "alter-share"
    params: ClassVar[type[Params]] = AlterShareParams

    def plan(self, view: SiteView, params: AlterShareParams) -> Plan:
        title = f"Alter the share {params.share or '...'}"
        try:
            share = view.share(params.share)
            wanted = _wanted(view, share, params)
        except BarnError as error:
            return Plan(title=title, about=params.share, blockers=[Note.of(error)])
        volume = view.volume_numbered(share.volume)
        growth = None
        if wanted.quota > volume.size_bytes:
            size = f"{rounded_size(wanted.quota, view.pools[volume.pool])} B"
            growth = GrowVolume().plan(view, GrowVolumeParams(volume=volume.name, size=size))
        step = WriteShare(share=share.number, wanted=ShareAs.of(wanted), before=ShareAs.of(share))
        refusals = [
            one for one in against_share(view, wanted, share) if growth is None or one.about != "quota"
        ]
        grows = growth is not None
        return Plan(
            title=f"Alter the share {share.name}",
            about=share.name,
            summary=growth.summary if growth is not None else "",
            steps=[
                *(growth.steps if growth is not None else ()),
                Planned(step, "Write down how it is from here on"),
                tell_files("Who serves it goes by that from then on."),
            ],
            effects=[*_effects(view, share, wanted), *(growth.effects if growth is not None else ())],
            touches=[
                alone(Thing.SHARE, share.number),
                shared(Thing.FILES),
                *(growth.touches if growth is not None else [shared(Thing.VOLUME, volume.number)]),
            ],
            meant=Meant(
                shares=(share,),
                volumes=(volume,) if grows else (),
                pools=(view.pools[volume.pool],) if grows else (),
            ),
            blockers=[
                *(Note.of(error) for error in refusals),
                *_of_growth(growth),
                *([unchanged("quota")] if wanted == share else []),
            ],
            warnings=[
                *_of_rules(wanted, share),
                *user_warnings(wanted.protocols, len(share.users)),
                *_shut_out(view, wanted, share),
                *_full_at_once(wanted, share),
                *(growth.warnings if growth is not None else ()),
            ],
            undo=Undo(self.name, _as_it_was(view, share)),
        )


def _of_growth(growth: Plan | None) -> list[Note]:
    """What stands against its volume growing, which is about the quota here."""
    found = growth.blockers if growth is not None else ()
    return [note.model_copy(update={"about": "quota"}) for note in found]


def _effects(view: SiteView, share: Share, wanted: Share) -> list[AnyEffect]:
    def names(one: Share) -> list[tuple[str, str]]:
        address = view.files.numbered(one.address) if view.files is not None else None
        return [
            ("Quota", say_binary(one.quota)),
            ("Said to fill from", f"{one.warn} %"),
            ("Mounted by", say_list([protocol.said for protocol in one.protocols])),
            ("Served at", address.name if address is not None else ""),
            ("Rules", f"{len(one.rules):,}"),
        ]

    rows = [
        TextRow(label=label, before=before, after=after)
        for (label, before), (_, after) in zip(names(share), names(wanted), strict=True)
        if before != after
    ]
    found: list[AnyEffect] = []
    if rows:
        found.append(Texts(heads=["", "Now", "Then"], rows=rows))
    if (share.quota, share.warn) != (wanted.quota, wanted.warn):
        then = fill_of(share.used, wanted.quota, wanted.warn)
        now = said_fill(share.used, share.quota, share.warn, share.fill)
        after = said_fill(share.used, wanted.quota, wanted.warn, then)
        row = TextRow(label="How full", before=now, after=after)
        found.append(Texts(heads=["", "Now", "At once then"], rows=[row]))
        found.append(quota_effect(wanted.quota, wanted.warn))
    if share.rules != wanted.rules:
        found += access_effects(wanted.rules)
    return found


def _of_rules(wanted: Share, share: Share) -> list[Note]:
    return rule_warnings(wanted.rules) if wanted.rules != share.rules else []


def _shut_out(view: SiteView, wanted: Share, share: Share) -> list[Note]:
    """Clients that have it mounted, and could do less with it."""
    before, after = ready(share.rules), ready(wanted.rules)
    out: list[str] = []
    less: list[str] = []
    for mount in mounts_of(view, share):
        was, then = before.decide(mount.client).right, after.decide(mount.client).right
        if mount.protocol not in wanted.protocols or then is Right.NONE:
            out.append(mount.said)
        elif then is Right.READ and was is Right.WRITE and not mount.read_only:
            less.append(mount.said)
    return [
        *_said(out, "reach it no more", "shut-out"),
        *_said(less, "write to it no more", "read-only-then"),
    ]


def _said(names: Sequence[str], what: str, code: str) -> list[Note]:
    if not names:
        return []
    have, they = ("has", "is to") if len(names) == 1 else ("have", "are to")
    words = f"{say_list(list(names), 4)} {have} it mounted, and {they} {what}."
    return [warning(code, words)]


def _full_at_once(wanted: Share, share: Share) -> list[Note]:
    """That there is more in it already than it may have."""
    if share.used < wanted.quota or wanted.quota >= share.quota:
        return []
    words = f"It has {say_binary(share.used)}, as much as that or more: writes are refused from then on."
    return [warning("full-at-once", words)]


def _as_it_was(view: SiteView, share: Share) -> dict[str, object]:
    address = view.files.numbered(share.address) if view.files is not None else None
    return {
        "share": share.name,
        "quota": f"{share.quota} B",
        "warn": share.warn,
        "protocols": [one.value for one in share.protocols],
        "rules": [{"who": one.who, "right": one.right.value, "root": one.root} for one in share.own_rules],
        "address": address.name if address is not None else "",
    }
