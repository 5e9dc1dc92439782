"""Telling nodes what they go by: each is told where that is other than it was told last, by one at a time."""

from __future__ import annotations

import json
import time
import zlib
from abc import ABC, abstractmethod
from collections.abc import Collection
from typing import Any, ClassVar

import structlog

from foldbarn.changes.engine.runner import Run
from foldbarn.core.errors import BarnError
from foldbarn.core.site import Contact, SiteView
from foldbarn.core.units import say_count, say_list
from foldbarn.links.agents import Agent
from foldbarn.settings import settings
from foldbarn.store.database import Session, advisory_lock, announce, transaction
from foldbarn.store.nodes import Told
from foldbarn.store.views import current_view

log = structlog.get_logger()
TELLING_LOCK = 0xBA57  # advisory lock: an order replaces the one before, so only one tells at a time


class Matter(ABC):
    """Something that nodes are told of, all of it anew each time. number: tells it from the other matters."""

    kind: ClassVar[str]  # of the order
    number: ClassVar[int]
    shown: ClassVar[bool] = False  # whether the picture of the site has what was told

    @abstractmethod
    def wanted(self, view: SiteView) -> dict[int, dict[str, Any]]:
        """By number of the node; nothing for one that is to know of nothing."""

    @abstractmethod
    def same(self, told: dict[str, Any], wanted: dict[str, Any]) -> bool:
        """Whether a node may go by what it was told."""

    @abstractmethod
    def order(self, view: SiteView, node: int, wanted: dict[str, Any]) -> dict[str, Any]:
        """What the order says."""

    @abstractmethod
    def told(self, session: Session) -> dict[int, Told]: ...

    @abstractmethod
    def note(self, session: Session, node: int, wanted: dict[str, Any], order: str) -> None: ...


def tell(matter: Matter, only: Collection[int] | None = None) -> list[str] | None:
    """Tells nodes (by number; all when None) what they are to go by, where that is other than each was told
    last. Returns the names of those that could not be told, or are not heard; None where another tells them
    now.
    """
    with advisory_lock(TELLING_LOCK, matter.number) as mine:
        return _tell(matter, only) if mine else None


def _tell(matter: Matter, only: Collection[int] | None) -> list[str]:
    # Read under the lock: who tells last tells what holds then.
    view = current_view()
    wanted, left, any_told = matter.wanted(view), [], False
    with transaction() as session:
        told = matter.told(session)
    for node in view.nodes:
        keep, known = wanted.get(node.number, {}), told.get(node.number)
        if known is None or (only is not None and node.number not in only) or matter.same(known.what, keep):
            continue
        if node.contact != Contact.HEARD:
            left.append(node.name)
            continue
        digest = zlib.crc32(json.dumps([keep, known.times]).encode())
        order = {"id": f"{matter.kind}-{node.number}-{digest:x}", "kind": matter.kind}
        try:
            Agent(known.url).send(order | matter.order(view, node.number, keep))
        except BarnError as error:
            left.append(node.name)
            log.info("not told", matter=matter.kind, node=node.name, why=error.sentence)
            continue
        with transaction() as session:
            matter.note(session, node.number, keep, order["id"])
        any_told = True
    if any_told and matter.shown:
        with transaction() as session:
            announce(session, "site")
    return left


def tell_for_a_step(run: Run, matter: Matter, nodes: Collection[int]) -> str:
    """Tells some nodes (by number) of a matter, trying again a few times; those that cannot be told now are
    told as soon as they can. Returns how that went, in a sentence.
    """
    left: list[str] | None = None
    for _ in range(settings().attempts):
        run.check_asked()
        left = tell(matter, nodes)
        if left is not None and not _heard(current_view(), left):
            break
        time.sleep(settings().look_seconds)  # another tells them, or one did not answer
    if left is None:
        return "Its nodes are being told."
    told = f"Told to {say_count(len(nodes) - len(left), 'node')}."
    return f"{told} {say_list(left)} will be told when heard again." if left else told


def _heard(view: SiteView, names: list[str]) -> bool:
    """Whether any of these nodes is heard, so that telling it again may help."""
    return any(node.name in names and node.contact == Contact.HEARD for node in view.nodes)
