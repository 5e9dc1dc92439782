"""Letting a user sign in to a share by SMB, or giving one a new password; and letting one in no more."""

from __future__ import annotations

import secrets
from typing import ClassVar

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.shares.telling import tell_files
from foldbarn.core.errors import BarnError, NotFound, NotPossible, Overtaken
from foldbarn.core.shares.belonging import mounts_of
from foldbarn.core.shares.proofs import PASSWORD_BYTES, SALT_BYTES, check_user, proof_of
from foldbarn.core.shares.rules import SAID, Right
from foldbarn.core.shares.share import Protocol, Share, ShareUser
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_list
from foldbarn.sealed import fresh_secret, seal
from foldbarn.store import shares
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view

MOST_USERS = 1000  # of one share


class LetUserInParams(Params):
    """user: who signs in; right: what they may do, as far as the rules let their client."""

    share: str
    user: str = ""
    right: Right = Right.WRITE


class WriteUser(Inside):
    """Somebody signs in to a share (by number) by a password that nobody has seen yet."""

    name: ClassVar[str] = "write-user"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "the password is made, and can be made anew"
    share: int
    user: str
    right: Right

    def carry_out(self, run: Run, session: Session) -> str:
        if all(one.number != self.share for one in load_view(session).shares):
            raise Overtaken("The share is gone.", about="share")
        password = fresh_secret(PASSWORD_BYTES)
        proof = proof_of(password, secrets.token_bytes(SALT_BYTES))
        user = ShareUser(0, self.user, self.right, proof)
        shares.save_user(session, run.change, self.share, user, seal(password))
        announce(session, "site")
        return f"{self.user} has a password. It can be seen once, on the page of the share."


class RemoveUser(Inside):
    """Somebody signs in to a share (by number) no more."""

    name: ClassVar[str] = "remove-user"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "the password is forgotten"
    share: int
    user: str

    def carry_out(self, run: Run, session: Session) -> str:
        shares.remove_user(session, self.share, self.user)
        announce(session, "site")
        return f"{self.user} is known no more."


@register
class LetUserIn(Kind[LetUserInParams]):
    """write (ours), tell (agents)."""

    name: ClassVar[str] = "let-user-in"
    params: ClassVar[type[Params]] = LetUserInParams

    def plan(self, view: SiteView, params: LetUserInParams) -> Plan:
        title = f"Let {params.user.strip() or 'a user'} in to {params.share or 'a share'}"
        try:
            share = view.share(params.share)
            user = check_user(params.user)
            if params.right is Right.NONE:
                words = "Who is let in may read, or read and write."
                raise NotPossible(words, about="right")
            known = next((one for one in share.users if one.name == user), None)
            if known is None and len(share.users) >= MOST_USERS:
                raise NotPossible(f"{MOST_USERS:,} users are the most of one share.", about="user")
        except BarnError as error:
            return Plan(title=title, about=params.share, blockers=[Note.of(error)])
        step = WriteUser(share=share.number, user=user, right=params.right)
        row = TextRow(label=user, before=SAID[known.right] if known else "", after=SAID[params.right])
        words = "It is shown once; what is kept of it then lets nobody learn it."
        return Plan(
            title=f"Give {user} a new password for {share.name}" if known else title,
            about=share.name,
            steps=[
                Planned(step, "Make a password", words),
                tell_files("They let in whoever proves to know it."),
            ],
            effects=[
                Texts(heads=["User", "May now", "May then"], rows=[row]),
                Promise(
                    title="How far", sentence="As far as the rules let the client that they sign in from."
                ),
            ],
            touches=[alone(Thing.SHARE, share.number), shared(Thing.FILES)],
            meant=Meant(shares=(share,)),
            warnings=[*_no_smb(share), *(_signed_in(view, share, user) if known else [])],
            undo=None if known else Undo("remove-user", {"share": share.name, "user": user}),
        )


def _no_smb(share: Share) -> list[Note]:
    if Protocol.SMB in share.protocols:
        return []
    words = f"{share.name} is not mounted by SMB, by which alone users sign in."
    return [warning("no-smb", words, next_step="Add SMB to its protocols.")]


def _signed_in(view: SiteView, share: Share, user: str) -> list[Note]:
    mounted = [one.said for one in mounts_of(view, share) if one.user == user]
    if not mounted:
        return []
    words = f"{say_list(mounted, 4)} {'has' if len(mounted) == 1 else 'have'} it mounted as {user}: the old "
    return [warning("signed-in", f"{words}password lets nobody in again.")]


class RemoveUserParams(Params):
    """user: who signs in to the share no more."""

    share: str
    user: str = ""


@register
class RemoveShareUser(Kind[RemoveUserParams]):
    """remove (ours), tell (agents)."""

    name: ClassVar[str] = "remove-user"
    params: ClassVar[type[Params]] = RemoveUserParams

    def plan(self, view: SiteView, params: RemoveUserParams) -> Plan:
        title = f"Let {params.user or 'a user'} in to {params.share or 'a share'} no more"
        try:
            share = view.share(params.share)
            user = check_user(params.user)
            known = next((one for one in share.users if one.name == user), None)
            if known is None:
                raise NotFound(f"Nobody called {user} signs in to {share.name}.", about="user")
        except BarnError as error:
            return Plan(title=title, about=params.share, blockers=[Note.of(error)])
        step = RemoveUser(share=share.number, user=user)
        row = TextRow(label=user, before=SAID[known.right], after="is not let in")
        mounted = [one.said for one in mounts_of(view, share) if one.user == user]
        words = f"{say_list(mounted, 4)} {'has' if len(mounted) == 1 else 'have'} it mounted as {user}, and "
        lost = [warning("shut-out", f"{words}reach it no more.")] if mounted else []
        return Plan(
            title=f"Let {user} in to {share.name} no more",
            about=share.name,
            steps=[Planned(step, "Forget the password"), tell_files("They let that user in no more.")],
            effects=[Texts(heads=["User", "May now", "May then"], rows=[row])],
            touches=[alone(Thing.SHARE, share.number), shared(Thing.FILES)],
            meant=Meant(shares=(share,)),
            warnings=lost,
        )
