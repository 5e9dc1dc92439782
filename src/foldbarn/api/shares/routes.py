"""The file service and its shares: what the API has."""

from __future__ import annotations

from fastapi import APIRouter

from foldbarn.api.common import person
from foldbarn.api.shares.models import FilesOut, ShareOut, SharePage, ShownPasswordOut, TryIn, TryOut
from foldbarn.api.shares.pictures import files_out, share_page, shares_out
from foldbarn.core.shares.rules import check_rules, ready
from foldbarn.core.touching import Thing
from foldbarn.services import shares as service
from foldbarn.services import site
from foldbarn.store import changes as changes_kept
from foldbarn.store import shares as kept
from foldbarn.store.database import transaction

routes = APIRouter()
HISTORY = 20  # changes, the newest


@routes.get("/files")
def files() -> FilesOut:
    """The file service of the cluster: its addresses, their names, and who has them."""
    return files_out(site.outlook())


@routes.get("/shares")
def shares() -> list[ShareOut]:
    """All shares, those in the bin among them."""
    outlook = site.outlook()
    with transaction() as session:
        growths = kept.growths(session)
    return shares_out(outlook, growths)


@routes.post("/shares/try")
def try_out(asked: TryIn) -> TryOut:
    """What who comes from an address may do, by some rules. Nothing is altered."""
    found = ready(check_rules([one.rule() for one in asked.rules])).decide(asked.address)
    return TryOut(sentence=found.sentence, right=found.right, root=found.root, rule=found.rule)


@routes.get("/shares/{name}")
def file_share(name: str) -> SharePage:
    """A share, with who may mount it, who has, and how it is mounted."""
    outlook = site.outlook()
    found = outlook.view.share(name)
    with transaction() as session:
        growths = kept.growths(session)
        history = changes_kept.that_touched(session, [Thing.SHARE], found.number, HISTORY)
        return share_page(outlook, found, kept.stored(session, found.number), growths, history)


@routes.post("/shares/{name}/users/{user}/password")
def show_password(name: str, user: str) -> ShownPasswordOut:
    """The password of who signs in to a share, in the clear. It is shown once, and kept no longer."""
    shown = service.show_password(person(), name, user)
    return ShownPasswordOut(user=shown.user, password=shown.password)
