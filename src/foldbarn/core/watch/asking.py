"""What one asks of volumes on call: which are short, which hang by one path, which lie on a node; in the
order that is wanted, page by page.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import cast

import numpy as np

from foldbarn.core.arrays import Flags, Ints
from foldbarn.core.names import folded
from foldbarn.core.policies.conformance import Standing, conformance, plainly_kept
from foldbarn.core.pools.filling import SOON_SECONDS, full_in
from foldbarn.core.site import Volume
from foldbarn.core.units import DAY_SECONDS
from foldbarn.core.volumes.lineage import Link, volumes_of
from foldbarn.core.volumes.origins import against_marking, bearer_of
from foldbarn.core.volumes.thin import is_thin
from foldbarn.core.watch.glance import glance
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.reach import hangs_by_one, is_parted
from foldbarn.core.watch.states import Lamp


class Question(StrEnum):
    """What may be asked of a volume; what is urgent comes first."""

    AMISS = "not as it should be"  # what is only being made is not amiss
    UNREADABLE = "cannot be read"
    SHORT = "short of strips"
    WANTS_ROOM = "wants room"  # that its pool does not have
    NOT_CONNECTED = "not connected"  # a host that is to use it
    ONE_PATH = "one path"  # left to a host
    DEPARTING = "departs from its policy"
    FILLING = "full in a week at this pace"
    UNKEPT = "no snapshot for a day"
    MAKING = "being made"
    READING = "reads from a snapshot"  # of another: not all of it is its own
    OFFLINE = "offline"
    UNATTACHED = "attached to nothing"
    BY_HAND = "keeps no policy"
    THIN = "thin"


class By(StrEnum):
    """What volumes are listed by."""

    NAME = "name"
    STATE = "state"  # the worst last; turned around, first
    POOL = "pool"
    SIZE = "size"
    WRITTEN = "written"
    ON_DISKS = "on disks"
    POLICY = "policy"
    SURVIVES = "survives"
    HOSTS = "hosts"


@dataclass(frozen=True, slots=True)
class Wanted:
    """Volumes of which all this is true: every word is part of the name or of a label; every question is
    answered with yes; every thing, by kind and name, is one that they depend on, or that uses them. binned:
    in the bin.
    """

    words: str = ""
    questions: tuple[Question, ...] = ()
    of: tuple[tuple[Link, str], ...] = ()
    binned: bool = False


@dataclass(frozen=True, slots=True)
class Listed:
    """rows: of the volumes, in order; counts: of them, those for which one more question is answered with
    yes; kept: volumes there are, in the bin or out of it as was wanted.
    """

    rows: Ints
    counts: Mapping[Question, int]
    kept: int


def listed(outlook: Outlook, wanted: Wanted, by: By = By.NAME, *, falling: bool = False) -> Listed:
    """What volumes are alike in is listed by name. Raises NotFound for a thing that is not there."""
    view = outlook.view
    here = view.columns.of(_is_binned, np.bool_) == wanted.binned
    kept = int(here.sum())
    for word in folded(wanted.words).split():
        here &= np.array([word in words for words in view.columns.of(_found_by, object)], dtype=np.bool_)
    for link, name in wanted.of:
        here &= volumes_of(view, link, name)
    for question in wanted.questions:
        here &= answers(outlook, question)
    counts = {question: int((here & answers(outlook, question)).sum()) for question in Question}
    keys = _keys(outlook, by)
    order = np.argsort(-keys if falling else keys, kind="stable")
    return Listed(order[here[order]], counts, kept)


def _found_by(volume: Volume) -> str:
    """In which the words are looked for: no word goes over several lines."""
    return "\n".join(folded(said) for said in (volume.name, *volume.labels))


def answers(outlook: Outlook, question: Question) -> Flags:
    """For which volumes the answer is yes, [volumes]. It stays with the picture of the site."""
    view = outlook.view
    # Of this the answer changes as time passes, though nothing else does.
    minute = int(outlook.now // 60) if question == Question.UNKEPT else 0
    key = ("asked", question, minute)
    if key not in view.findings:
        view.findings[key] = _seen(outlook, question)
    return cast(Flags, view.findings[key])


def _seen(outlook: Outlook, question: Question) -> Flags:
    if question in _SEEN:
        return _SEEN[question](outlook)
    found = np.zeros(len(outlook.view.volumes), dtype=np.bool_)
    worth_asking = np.flatnonzero(_MAY_BE[question](outlook)).tolist()
    if question in _ASK_ALL and len(worth_asking) > MANY:
        outlook.look_at_all()
    found[[row for row in worth_asking if is_so(outlook, question, row)]] = True
    return found


def is_so(outlook: Outlook, question: Question, row: int) -> bool:
    """The same of one volume, by its row, looked at alone."""
    return _JUDGES[question](outlook, row, outlook.view.volumes[row])


MANY = 5_000  # from so many on it is quicker to look at all of them together
_ASK_ALL = {Question.AMISS, Question.UNREADABLE, Question.SHORT, Question.NOT_CONNECTED, Question.ONE_PATH}


def _departs(outlook: Outlook, _: int, volume: Volume) -> bool:
    found = conformance(outlook.view, volume)
    return found is not None and found.standing != Standing.KEPT


def _fills(outlook: Outlook, _: int, volume: Volume) -> bool:
    seconds = full_in(outlook.view, volume)
    return seconds is not None and seconds <= SOON_SECONDS


def _unkept(outlook: Outlook, _: int, volume: Volume) -> bool:
    return _newest_snapshot(volume) < outlook.now - DAY_SECONDS


def _newest_snapshot(volume: Volume) -> float:
    """When it was taken, in seconds since 1970; 0 for never, and no end where none can be."""
    if volume.forming or against_marking(volume) is not None:
        return math.inf
    return max((s.taken_at for s in volume.snapshots if s.there), default=0.0)


_JUDGES: dict[Question, Callable[[Outlook, int, Volume], bool]] = {
    Question.AMISS: lambda outlook, row, volume: not volume.forming and not outlook.at_ease(row),
    Question.UNREADABLE: lambda outlook, row, _: (
        outlook.fate(row).unavailable > 0 or outlook.fate(row).lost > 0
    ),
    Question.SHORT: lambda outlook, row, volume: not volume.forming and outlook.fate(row).short > 0,
    Question.WANTS_ROOM: lambda _, __, volume: volume.short is not None,
    Question.NOT_CONNECTED: lambda outlook, _, volume: any(map(is_parted, outlook.lanes_from(volume))),
    Question.ONE_PATH: lambda outlook, _, volume: any(map(hangs_by_one, outlook.lanes_from(volume))),
    Question.DEPARTING: _departs,
    Question.FILLING: _fills,
    Question.UNKEPT: _unkept,
    Question.MAKING: lambda _, __, volume: volume.forming,
    Question.READING: lambda _, __, volume: volume.origin is not None,
    Question.OFFLINE: lambda _, __, volume: volume.offline,
    # What holds a share is used by whoever mounts that.
    Question.UNATTACHED: lambda outlook, _, volume: (
        not outlook.lanes_from(volume) and outlook.view.share_of(volume.number) is None
    ),
    # What shows a snapshot is held by another's.
    Question.BY_HAND: lambda outlook, _, volume: (
        volume.policy is None and bearer_of(outlook.view, volume) is volume
    ),
    Question.THIN: lambda outlook, _, volume: is_thin(outlook.view, volume),
}


# Of most volumes it is seen at a glance that the answer is no. --------------------------------------------


def _where(is_so: Callable[[Volume], bool]) -> Callable[[Outlook], Flags]:
    return lambda outlook: outlook.view.columns.of(is_so, np.bool_)


def _is_binned(volume: Volume) -> bool:
    return volume.binned is not None


def _is_set_apart(volume: Volume) -> bool:
    return volume.parked or volume.short is not None or bool(volume.only_on)


def _unlike(outlook: Outlook) -> Flags:
    """What could be other than it should be."""
    seen = glance(outlook.view)
    unlike: Flags = ~seen.there | seen.barely | outlook.view.columns.of(_is_set_apart, np.bool_)
    return unlike


def _no_newer(outlook: Outlook) -> Flags:
    newest = outlook.view.columns.of(_newest_snapshot, np.float64)
    older: Flags = newest < outlook.now - DAY_SECONDS
    return older


def _made_thin(volume: Volume) -> tuple[tuple[int, int] | None, bool]:
    """On what it depends whether a volume is thin."""
    return volume.policy, volume.thin


def _shared(outlook: Outlook) -> Flags:
    """Which volumes hold a share, [volumes]."""
    mine = {share.volume for share in outlook.view.shares}
    return _where(lambda volume: volume.number in mine)(outlook)


def _thin(outlook: Outlook) -> Flags:
    return outlook.view.columns.alike(_made_thin, lambda volume: is_thin(outlook.view, volume))


# What is seen so is the answer: nothing more is to be looked at.
_SEEN: dict[Question, Callable[[Outlook], Flags]] = {
    Question.WANTS_ROOM: _where(lambda volume: volume.short is not None),
    Question.UNKEPT: _no_newer,
    Question.MAKING: _where(lambda volume: volume.forming),
    Question.READING: _where(lambda volume: volume.origin is not None),
    Question.OFFLINE: _where(lambda volume: volume.offline),
    Question.UNATTACHED: lambda outlook: (glance(outlook.view).hosts == 0) & ~_shared(outlook),
    Question.THIN: _thin,
}
# Where this says no, that is the answer; else each is judged by itself.
_MAY_BE: dict[Question, Callable[[Outlook], Flags]] = {
    Question.AMISS: _unlike,
    Question.UNREADABLE: lambda outlook: ~glance(outlook.view).there,
    Question.SHORT: lambda outlook: ~glance(outlook.view).there,
    Question.NOT_CONNECTED: lambda outlook: glance(outlook.view).barely,
    Question.ONE_PATH: lambda outlook: glance(outlook.view).barely,
    Question.DEPARTING: lambda outlook: ~plainly_kept(outlook.view, glance(outlook.view).there),
    Question.FILLING: lambda outlook: answers(outlook, Question.THIN),
    Question.BY_HAND: _where(lambda volume: volume.policy is None),
}


def _keys(outlook: Outlook, by: By) -> Ints:
    """By which volumes are put in order, [volumes]; they come by name."""
    view, volumes = outlook.view, outlook.view.volumes
    match by:
        case By.NAME:
            return np.arange(len(volumes))
        case By.STATE:
            order = list(Lamp)
            uneasy = answers(outlook, Question.AMISS) | answers(outlook, Question.MAKING)
            worse = np.zeros(len(volumes), dtype=np.int64)
            for row in np.flatnonzero(uneasy).tolist():
                worse[row] = order.index(outlook.volume(row).lamp)
            return worse
        case By.POOL:
            found = [v.pool for v in volumes]
        case By.SIZE:
            found = [v.size_bytes for v in volumes]
        case By.WRITTEN:
            found = [v.written_bytes for v in volumes]
        case By.ON_DISKS:
            found = [
                sum(ply.extents_set_aside * ply.scheme.strips for ply in v.plies)
                * view.pools[v.pool].strip_bytes
                for v in volumes
            ]
        case By.POLICY:
            places = {policy.number: place for place, policy in enumerate(view.current_policies)}
            found = [len(places) if v.policy is None else places[v.policy[0]] for v in volumes]
        case By.SURVIVES:
            found = [bearer_of(view, v).whole.scheme.survives for v in volumes]
        case By.HOSTS:
            return glance(view).hosts
    return np.array(found, dtype=np.int64)
