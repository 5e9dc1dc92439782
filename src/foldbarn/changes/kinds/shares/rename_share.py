"""Renaming a share. What clients have mounted goes on: it is found under its new name from then on."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts, unchanged, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.shares.telling import tell_files
from foldbarn.core.errors import BarnError, Overtaken
from foldbarn.core.shares.belonging import check_share_name, mounts_of
from foldbarn.core.shares.share import Share
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_list
from foldbarn.store import shares
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view


class RenameShareParams(Params):
    """A share by name, and the name that it is to have."""

    share: str
    name: str = ""


class CallShare(Inside):
    """A share (by number) has this name; was: the one it had."""

    name: ClassVar[str] = "call-share"
    share: int
    called: str
    was: str

    def carry_out(self, run: Run, session: Session) -> str:
        self._call(session, self.called)
        return f"It is called {self.called}."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            self._call(session, self.was)

    def _call(self, session: Session, name: str) -> None:
        shares.one_at_a_time(session)
        view = load_view(session)
        if all(share.number != self.share for share in view.shares):
            raise Overtaken("The share is gone.", about="share")
        check_share_name(view, name, self.share)
        shares.rename(session, self.share, name)
        announce(session, "site")


@register
class RenameShare(Kind[RenameShareParams]):
    """call (ours), tell (agents)."""

    name: ClassVar[str] = "rename-share"
    params: ClassVar[type[Params]] = RenameShareParams

    def plan(self, view: SiteView, params: RenameShareParams) -> Plan:
        name = params.name.strip()
        title = f"Rename the share {params.share or '...'}"
        try:
            share = view.share(params.share)
            check_share_name(view, name, share.number)
        except BarnError as error:
            return Plan(title=title, about=params.share, blockers=[Note.of(error)])
        step = CallShare(share=share.number, called=name, was=share.name)
        return Plan(
            title=f"Rename the share {share.name} to {name}",
            about=name,
            steps=[
                Planned(step, "Write down its new name"),
                tell_files("Clients find it under its new name from then on."),
            ],
            effects=[Texts(rows=[TextRow(label="The share", before=share.name, after=name)])],
            touches=[alone(Thing.SHARE, share.number), shared(Thing.FILES)],
            meant=Meant(shares=(share,)),
            blockers=[unchanged("name")] if name == share.name else [],
            warnings=_mounted(view, share),
            undo=Undo(self.name, {"share": name, "name": share.name}),
        )


def _mounted(view: SiteView, share: Share) -> list[Note]:
    """What clients have to do that have it mounted."""
    mounted = mounts_of(view, share)
    if not mounted:
        return []
    words = (
        f"{say_list([one.said for one in mounted], 4)} {'has' if len(mounted) == 1 else 'have'} it mounted: "
    )
    words += "that goes on, and is not found under its old name when it is mounted anew."
    return [warning("mounted", words, next_step="Write its new name into their tables.")]
