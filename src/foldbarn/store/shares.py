"""The file service and its shares."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy import delete, func, select, text, update

from foldbarn.core.names import natural_key
from foldbarn.core.shares.filling import ShareGrowth
from foldbarn.core.shares.quotas import Fill, fill_of
from foldbarn.core.shares.rules import Right, Rule, read_address
from foldbarn.core.shares.share import (
    FileAddress,
    FileService,
    Heard,
    Looked,
    Protocol,
    Resolved,
    Share,
    ShareUser,
)
from foldbarn.core.site import Contact
from foldbarn.store.database import Session
from foldbarn.store.tables import (
    FileAddressRow,
    FileServiceRow,
    NodeRow,
    ShareRow,
    ShareUserRow,
    VolumeRow,
)


def read_service(session: Session) -> FileService | None:
    """None where it is switched off."""
    row = session.get(FileServiceRow, 1)
    if row is None:
        return None
    addresses = [_address(one) for one in session.scalars(select(FileAddressRow))]
    return FileService(row.name_server, tuple(sorted(addresses, key=lambda one: read_address(one.at[0]))))


def _address(row: FileAddressRow) -> FileAddress:
    return FileAddress(
        number=row.id,
        name=row.name,
        at=tuple(row.at),
        home=row.home_id,
        resolved=tuple(
            Resolved(one["at"], _looked(one["forward"]), _looked(one["backward"])) for one in row.resolved
        ),
        looked_at=row.looked_at.timestamp() if row.looked_at else 0.0,
    )


def _looked(kept: Mapping[str, Any]) -> Looked:
    return Looked(Heard(kept["heard"]), tuple(kept["values"]), kept["why"])


def read_shares(session: Session) -> tuple[Share, ...]:
    """All of them, by name."""
    users: dict[int, list[ShareUser]] = defaultdict(list)
    for row in session.scalars(select(ShareUserRow)):
        one = ShareUser(row.id, row.name, Right(row.may), row.proof, shown=not row.sealed)
        users[row.share_id].append(one)
    rows = sorted(session.scalars(select(ShareRow)), key=lambda row: natural_key(row.name))
    return tuple(
        Share(
            number=row.id,
            name=row.name,
            volume=row.volume_id,
            address=row.address_id,
            quota=row.quota,
            warn=row.warn,
            protocols=tuple(Protocol(one) for one in row.protocols),
            rules=tuple(Rule(who, Right(right), root, follows) for who, right, root, follows in row.rules),
            users=tuple(sorted(users[row.id], key=lambda one: natural_key(one.name))),
            used=row.used,
            fill=Fill(row.fill),
            fill_since=row.fill_since.timestamp(),
        )
        for row in rows
    )


def stored(session: Session, share: int) -> ShareRow:
    return session.get_one(ShareRow, share)


def one_at_a_time(session: Session) -> None:
    """Until this transaction ends nobody else alters the service, or adds a share."""
    session.execute(text("lock table file_service, share in share row exclusive mode"))


# The service. ----------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class AddressSaid:
    """An address as it is wished for; home: number of a node."""

    name: str
    at: tuple[str, ...]
    home: int


def save_service(session: Session, name_server: str, addresses: Sequence[AddressSaid]) -> None:
    """It is switched on, with these addresses and no others; one that was there already, of any of its
    versions, keeps its number, so that what is served at it is served on.
    """
    row = session.get(FileServiceRow, 1)
    if row is None:
        session.add(FileServiceRow(id=1, name_server=name_server))
    elif row.name_server != name_server:
        row.name_server = name_server
    known = list(session.scalars(select(FileAddressRow)))
    left = {one.id for one in known}
    for said in addresses:
        mine = next((one for one in known if one.id in left and set(one.at) & set(said.at)), None)
        if mine is None:
            continue
        left.discard(mine.id)
        if (mine.name, tuple(mine.at)) != (said.name, said.at):
            mine.resolved, mine.looked_at = [], None
        mine.name, mine.at, mine.home_id = f"{mine.id}.", list(said.at), said.home
    session.execute(delete(FileAddressRow).where(FileAddressRow.id.in_(left)))
    session.flush()  # names may go from one to another
    for said in addresses:
        mine = next((one for one in known if one.id not in left and list(said.at) == one.at), None)
        if mine is None:
            session.add(FileAddressRow(name=said.name, at=list(said.at), home_id=said.home))
        else:
            mine.name = said.name
    session.flush()


def forget_service(session: Session) -> None:
    """It is switched off. No share may be left."""
    session.execute(delete(FileAddressRow))
    session.execute(delete(FileServiceRow))


def set_homes(session: Session, homes: Mapping[int, int]) -> None:
    """The nodes on which addresses are at home, both by number."""
    for number, node in homes.items():
        session.execute(update(FileAddressRow).where(FileAddressRow.id == number).values(home_id=node))


def note_resolved(session: Session, found: Mapping[int, Sequence[Resolved]]) -> bool:
    """What was found of names just now, by number of the address; whether any of it is news."""
    news = False
    for row in session.scalars(select(FileAddressRow).where(FileAddressRow.id.in_(list(found)))):
        mine = [one for one in found[row.id] if one.at in row.at]
        if len(mine) < len(row.at):
            continue  # it has others by now
        kept = [asdict(one) for one in mine]
        kept = [
            one | {of: one[of] | {"values": list(one[of]["values"])} for of in ("forward", "backward")}
            for one in kept
        ]
        if row.looked_at is not None and row.resolved == kept:
            continue
        row.resolved, row.looked_at, news = kept, func.now(), True
    return news


# Shares. ---------------------------------------------------------------------------------------------------


def add(session: Session, change: int, share: Share, labels: Sequence[str], nth: int = 0) -> bool:
    """A new one, on a volume of the change (by its place among those that it has made), which gets these
    labels; false where that is gone.
    """
    mine = (VolumeRow.change_id == change, VolumeRow.nth == nth)
    volume = session.scalar(select(VolumeRow.id).where(*mine))
    if volume is None:
        return False
    if labels:
        session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(labels=list(labels)))
    session.add(
        ShareRow(
            name=share.name,
            volume_id=volume,
            address_id=share.address,
            quota=share.quota,
            warn=share.warn,
            protocols=[one.value for one in share.protocols],
            rules=_kept(share.rules),
            made_by=change,
        )
    )
    session.flush()
    return True


def _kept(rules: Sequence[Rule]) -> list[list[Any]]:
    return [[rule.who, rule.right.value, rule.root, rule.follows] for rule in rules]


def made_by(session: Session, change: int) -> int | None:
    """The number of the one that a change has made; none where it has not."""
    return session.scalar(select(ShareRow.id).where(ShareRow.made_by == change))


def forget(session: Session, share: int) -> None:
    session.execute(delete(ShareRow).where(ShareRow.id == share))


def rename(session: Session, share: int, name: str) -> None:
    session.execute(update(ShareRow).where(ShareRow.id == share).values(name=name))


def write(session: Session, share: Share) -> None:
    """All that a person sets of one; with another quota or warn level how full it is is judged anew."""
    row = session.get_one(ShareRow, share.number)
    if (row.quota, row.warn) != (share.quota, share.warn):
        _note_fill(row, fill_of(row.used, share.quota, share.warn))
    row.quota, row.warn, row.address_id = share.quota, share.warn, share.address
    row.protocols, row.rules = [one.value for one in share.protocols], _kept(share.rules)


def _note_fill(row: ShareRow, fill: Fill) -> None:
    if row.fill != fill.value:
        row.fill, row.fill_since = fill.value, func.now()


def sum_used(session: Session, step: float) -> bool:
    """Brings what shares hold up to what the nodes told last that are heard and have their addresses. Whether
    any of it is news: how full one is, or more or less by this part of it.
    """
    heard = select(NodeRow.files_said).where(NodeRow.contact == Contact.HEARD.value)
    told = [said for said in session.scalars(heard) if said]
    news = False
    for row in session.scalars(select(ShareRow).order_by(ShareRow.id)):
        mine = (dict(said["used"]).get(row.id) for said in told if row.address_id in said["carries"])
        now = next((used for used in mine if used is not None), None)
        if now is None:
            continue
        fill = fill_of(now, row.quota, row.warn, Fill(row.fill))
        if fill.value == row.fill and abs(now - row.used) <= step * max(now, row.used):
            continue
        row.used, news = now, True
        _note_fill(row, fill)
    return news


def growths(session: Session) -> dict[int, ShareGrowth]:
    """How fast each share fills, by its number."""
    rows = session.execute(select(ShareRow.id, ShareRow.growth))
    return {number: ShareGrowth(**growth) for number, growth in rows}


def keep_growth(session: Session, seconds: float) -> bool:
    """So many seconds later, by what each holds now. Whether any of it is news."""
    news = False
    for row in session.scalars(select(ShareRow).order_by(ShareRow.id)):
        before = ShareGrowth(**row.growth)
        now = before.gone_on(row.used, seconds)
        news |= not now.is_like(before)
        row.growth = asdict(now)
    return news


# Who signs in. ---------------------------------------------------------------------------------------------


def save_user(session: Session, change: int, share: int, user: ShareUser, sealed: str) -> None:
    """Who is there already has another password from here on. sealed: it, until somebody has seen it."""
    mine = (ShareUserRow.share_id == share, ShareUserRow.name == user.name)
    row = session.scalars(select(ShareUserRow).where(*mine)).one_or_none()
    if row is None:
        row = ShareUserRow(share_id=share, name=user.name)
        session.add(row)
    row.may, row.proof, row.sealed, row.made_by = user.right.value, user.proof, sealed, change
    session.flush()


def user_made_by(session: Session, change: int, share: int) -> bool:
    """Whether a change has written somebody down already."""
    mine = select(ShareUserRow.id).where(ShareUserRow.share_id == share, ShareUserRow.made_by == change)
    return session.scalar(mine) is not None


def remove_user(session: Session, share: int, name: str) -> None:
    mine = (ShareUserRow.share_id == share, ShareUserRow.name == name)
    session.execute(delete(ShareUserRow).where(*mine))


def take_password(session: Session, share: int, name: str) -> str | None:
    """A password, sealed, for the one who sees it: it is kept no longer. None where there is no such user;
    empty where somebody has seen it.
    """
    mine = (ShareUserRow.share_id == share, ShareUserRow.name == name)
    row = session.scalars(select(ShareUserRow).where(*mine).with_for_update()).one_or_none()
    if row is None:
        return None
    sealed, row.sealed = row.sealed, ""
    return sealed
