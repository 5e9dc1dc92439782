"""The duty that takes snapshots as policies have it, and lets go of those that no rule keeps."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

import structlog

from foldbarn.changes.kinds.volumes.several import MOST_VOLUMES
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import BarnError
from foldbarn.core.policies.policy import Policy
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Thing
from foldbarn.core.units import say_count
from foldbarn.core.vms.parts import goes_into_snapshots
from foldbarn.core.volumes.origins import readers_of
from foldbarn.core.volumes.schedules import auto_name, is_due, to_drop
from foldbarn.services.changes import carry_out
from foldbarn.store import samples, touching
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

log = structlog.get_logger()


def go_by_schedules() -> None:
    """Takes what is due of the volumes of each policy together, and lets go, volume by volume, of what is
    kept by no rule any more. What another change touches waits until that is done.
    """
    view = current_view()
    scheduled = [(v, p) for v in view.volumes if (p := view.policy_of(v)) is not None and _has_any(v, p)]
    if not scheduled:
        return
    with transaction() as session:
        now = samples.now(session).timestamp()
        free = [one for one in scheduled if not touching.open_touching(session, Thing.VOLUME, one[0].number)]
    due: dict[int, list[Volume]] = defaultdict(list)
    for volume, policy in free:
        moments = [s.taken_at for s in volume.snapshots if s.scheduled]
        if is_due(policy.wishes.schedule, moments, now):
            due[policy.number].append(volume)
        elif gone := _no_more_kept(view, volume, policy):
            _let_go(volume, gone)
    for number, volumes in due.items():
        policy = next(p for _, p in free if p.number == number)
        _take(policy, volumes[:MOST_VOLUMES], now)


def _has_any(volume: Volume, policy: Policy) -> bool:
    """Whether anything of a volume goes by a schedule: what one version took goes by the next."""
    if not goes_into_snapshots(volume):
        return False
    taken = any(s.scheduled for s in volume.snapshots)
    return not volume.forming and volume.binned is None and (bool(policy.wishes.schedule.rules) or taken)


def _no_more_kept(view: SiteView, volume: Volume, policy: Policy) -> list[str]:
    """What another volume reads from stays until it does not any more."""
    mine = {s.number: s.taken_at for s in volume.snapshots if s.scheduled and s.there}
    gone = {
        *to_drop(policy.wishes.schedule, mine),
        *(s.number for s in volume.snapshots if s.scheduled and s.lost),
    }
    gone -= {v.origin.snapshot for v in readers_of(view, volume) if v.origin is not None}
    return [s.name for s in volume.snapshots if s.number in gone]


def _take(policy: Policy, volumes: list[Volume], now: float) -> None:
    wish = {"name": auto_name(now), "room": policy.wishes.schedule.room, "scheduled": True}
    why = f"{policy.name} has one taken of {say_count(len(volumes), 'volume')} now."
    together = [volume.name for volume in volumes]
    if _start("take-snapshot", {**wish, "volumes": together}, why) or len(together) == 1:
        return
    for one in together:  # something stands against one of them: the others have theirs
        _start("take-snapshot", {**wish, "volumes": [one]}, why)


def _let_go(volume: Volume, names: list[str]) -> None:
    typed = names[0] if len(names) == 1 else volume.name
    wish = {"volume": volume.name, "snapshots": names, "typed": typed}
    _start("delete-snapshot", wish, f"Its policy keeps {say_count(len(names), 'snapshot')} no longer.")


def _start(kind: str, wish: dict[str, Any], why: str) -> bool:
    """Whether it could be begun."""
    try:
        carry_out(BY_ITSELF, kind, wish, reason=why)
    except BarnError as error:  # it must not keep the watch from its other duties
        log.info("not by schedule", kind=kind, why=error.sentence)
        return False
    return True
