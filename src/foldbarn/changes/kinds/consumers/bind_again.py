"""Giving a volume that is kept aside to a claim that waits."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.consumers.touched_claims import path_of
from foldbarn.core.claims.admission import Verdict, admission_of
from foldbarn.core.claims.kept import KeptClaim
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_exactly, say_list, say_size
from foldbarn.core.volumes.bin import against_altering
from foldbarn.store import claims
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view


class BindAgainParams(Params):
    """claim: of which a volume is kept aside; to: that is to have it; both by number."""

    claim: int
    to: int = 0


class HandOn(Inside):
    """The volume that is kept aside of one claim is another's from here on; both by number."""

    name: ClassVar[str] = "hand-volume-on"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "the claim is bound to it; deleting the claim keeps it aside again"
    claim: int
    to: int

    def carry_out(self, run: Run, session: Session) -> str:
        before = load_view(session)
        to = before.claim_numbered(self.to)
        claims.lock_grants(session, {(to.orchestrator, to.claim.namespace)})
        rows = claims.locked(session, [self.claim, self.to])
        view = load_view(session)
        kept, to = view.claim_numbered(self.claim), view.claim_numbered(self.to)
        volume, said = may_have(view, kept, to)
        assert said.storage_class is not None
        old, new = rows[kept.number], rows[to.number]
        old.volume_id = None
        claims.set_life(old, Life.HANDED_ON)
        session.flush()
        new.volume_id, new.promised = volume.number, to.claim.size
        new.policy, new.class_name = said.storage_class.policy, said.storage_class.name
        # What was kept once is not to go with a claim.
        new.reclaim = old.reclaim
        # What lies on it is what was made on it.
        new.file_system, new.mount_options = old.file_system, old.mount_options
        new.by_secret = bool(view.orchestrator_numbered(to.orchestrator).secrets)
        claims.set_life(new, Life.MADE)
        claims.say_hindrance(new, None)
        claims.note(session)
        announce(session, "site")
        return f"{volume.name} is {to.path}'s. The orchestrator is told of it at once."


def may_have(view: SiteView, kept: KeptClaim, to: KeptClaim) -> tuple[Volume, Verdict]:
    """The one rule of which claim may have what is kept aside, for the plan and for the step. Raises
    NotPossible with what stands against it.
    """
    volume = view.known_volume(kept.volume) if kept.volume is not None else None
    if kept.life is not Life.ASIDE or volume is None:
        raise NotPossible(f"Nothing is kept aside of {kept.path} any more.", about="claim")
    if refusal := against_altering(volume):
        raise refusal
    if to.life is not Life.WAITING or to.volume is not None:
        raise NotPossible(f"{to.path} does not wait for a volume.", about="to")
    if to.claim.source is not None:
        words = f"{to.path} is to be filled from {to.claim.source.name}, and {volume.name} holds other data."
        raise NotPossible(words, about="to", next_step="Choose a claim that begins empty.")
    if to.claim.size > volume.size_bytes:
        words = f"{to.path} asks for {say_exactly(to.claim.size)}, and {volume.name} has "
        words += f"{say_exactly(volume.size_bytes)}."
        raise NotPossible(words, about="to", next_step="Grow the volume first, or ask for less.")
    if to.claim.volume_mode is not kept.claim.volume_mode:
        words = f"{to.path} asks for volumeMode {to.claim.volume_mode.value}, and {volume.name} was used as "
        words += f"{kept.claim.volume_mode.value}: what lies on it would not be understood."
        raise NotPossible(words, about="to")
    if to.claim.wants_share != (view.share_of(volume.number) is not None):
        modes = say_list(sorted(mode.value for mode in to.claim.modes))
        holds = "no share" if to.claim.wants_share else "a share"
        words = f"{to.path} asks for {modes}, and {volume.name} holds {holds}."
        raise NotPossible(words, about="to")
    said = admission_of(view, to.orchestrator).judge(to.claim, has_volume=True)
    if not said.fits:
        raise NotPossible(said.sentence, about="to", next_step=said.cure or None)
    return volume, said


@register
class BindAgain(Kind[BindAgainParams]):
    """hand on (ours); the duty that looks after orchestrators tells them."""

    name: ClassVar[str] = "bind-again"
    params: ClassVar[type[Params]] = BindAgainParams

    def plan(self, view: SiteView, params: BindAgainParams) -> Plan:
        title = "Give what is kept aside to a claim"
        try:
            kept = view.claim_numbered(params.claim)
            title = f"Give what is kept aside of {path_of(view, kept)} to a claim"
            if not params.to:
                words = "Which claim is to have it?"
                raise NotPossible(words, about="to", next_step="Choose one that waits.")
            to = view.claim_numbered(params.to)
            volume, said = may_have(view, kept, to)
        except BarnError as error:
            return Plan(title=title, about="kept aside", blockers=[Note.of(error)])
        assert said.storage_class is not None
        rows = [
            TextRow(label=path_of(view, kept), before="its volume is kept aside", after="over"),
            TextRow(label=path_of(view, to), before="waits", after=f"bound to {volume.name}"),
        ]
        size = say_size(volume.size_bytes)
        words = f"{size}, as they are, though {to.path} asks for {say_size(to.claim.size)}."
        return Plan(
            title=f"Give {volume.name} to {path_of(view, to)}",
            about=volume.name,
            steps=[
                Planned(HandOn(claim=kept.number, to=to.number), "Hand it on", "Nothing on it is touched.")
            ],
            effects=[
                Texts(heads=["Claim", "Now", "Then"], rows=rows),
                Promise(title="It gets", sentence=words),
            ],
            touches=[
                alone(Thing.CLAIM, kept.number),
                alone(Thing.CLAIM, to.number),
                alone(Thing.VOLUME, volume.number),
            ],
            meant=Meant(volumes=(volume,)),
        )
