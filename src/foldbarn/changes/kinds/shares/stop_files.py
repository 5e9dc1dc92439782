"""Switching the file service off. Shares are deleted before that, and the bin emptied of them."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.shares.serve_files import AddressAt, against_stopping, as_it_is
from foldbarn.changes.kinds.shares.telling import tell_files
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.store import shares
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view


class StopFilesParams(Params):
    """There is one file service."""


class ForgetFiles(Inside):
    """The file service is off. before: its addresses, and its name server."""

    name: ClassVar[str] = "forget-files"
    before: tuple[AddressAt, ...]
    server_before: str = ""

    def carry_out(self, run: Run, session: Session) -> str:
        shares.one_at_a_time(session)
        if refusals := against_stopping(load_view(session)):
            raise refusals[0]
        shares.forget_service(session)
        announce(session, "site")
        return "It is switched off."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            shares.one_at_a_time(session)
            if load_view(session).files is None:
                shares.save_service(session, self.server_before, [one.said() for one in self.before])
                announce(session, "site")


@register
class StopFiles(Kind[StopFilesParams]):
    """forget (ours), tell (agents)."""

    name: ClassVar[str] = "stop-files"
    params: ClassVar[type[Params]] = StopFilesParams

    def plan(self, view: SiteView, params: StopFilesParams) -> Plan:
        title, about = "Switch the file service off", "file service"
        if view.files is None:
            note = Note(sentence="The file service is not switched on.", about="addresses")
            return Plan(title=title, about=about, blockers=[note])
        rows = [
            TextRow(label=", ".join(one.at), before=one.name, after="no node has it")
            for one in view.files.addresses
        ]
        step = ForgetFiles(before=as_it_is(view.files), server_before=view.files.name_server)
        return Plan(
            title=title,
            about=about,
            steps=[
                Planned(step, "Forget its addresses"),
                tell_files("They let go of the addresses."),
            ],
            effects=[Texts(heads=["Address", "Now", "Then"], rows=rows)],
            touches=[alone(Thing.FILES)],
            meant=Meant(),
            blockers=[Note.of(error) for error in against_stopping(view)],
        )
