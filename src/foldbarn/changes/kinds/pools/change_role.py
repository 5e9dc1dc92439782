"""Giving disks of a pool another role: capacity, cache or spare. What a disk holds leaves it first."""

from __future__ import annotations

from collections.abc import Sized
from dataclasses import replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import AnyEffect, Note
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.moving import compare
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.changes.kinds.pools.disks import chosen_disks
from foldbarn.changes.kinds.pools.effects import (
    NO_FEWER_COPIES,
    Moving,
    moved,
    roles,
    room_before_and_after,
    said_capacity,
    with_disks,
)
from foldbarn.changes.kinds.pools.joining import Bind
from foldbarn.changes.kinds.pools.leaving import (
    Drain,
    Leaving,
    holding,
    leaving_blockers,
    leaving_effects,
    leaving_touches,
    leaving_warnings,
    mark_step,
    numbers_of,
    plan_leaving,
    pools_of,
    rooms_while_leaving,
    unreadable_blockers,
)
from foldbarn.core.errors import NotPossible
from foldbarn.core.moving.levelling import LEVEL_TOLERANCE, imbalance, plan_levelling
from foldbarn.core.moving.moves import NO_MOVES
from foldbarn.core.pools.roles import Assignment, assign_roles
from foldbarn.core.site import POOLED, Disk, Pool, Role, SiteView, Tier
from foldbarn.core.touching import Meant
from foldbarn.core.units import say_count, say_list
from foldbarn.store import disks as store_disks
from foldbarn.store import pools as store_pools
from foldbarn.store.database import announce
from foldbarn.store.views import current_view


class ChangeRoleParams(Params):
    """Disks of one pool by name, the role they get, and why. stands_in_for: the disk whose place a spare
    takes.
    """

    disks: list[str] = Field(min_length=1, max_length=500)
    role: Role
    reason: str = Field(default="", max_length=300)
    stands_in_for: str = ""


class Assign(Outside):
    """Gives disks (by number) another role in their pool. stands_in_for: the disk whose place a spare takes,
    0 for none.
    """

    name: ClassVar[str] = "assign"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "the disks have their new role already"
    disks: tuple[int, ...]
    role: Role
    reason: str
    stands_in_for: int = 0

    def carry_out(self, run: Run) -> str:
        """What had to leave has left; its old strips go before the disks are something else."""
        view = current_view()
        disks = [view.disk_numbered(number) for number in self.disks]
        emptied = [d for d in disks if d.role == Role.CAPACITY and self.role != Role.CAPACITY]
        for pool in pools_of(view, emptied):
            with run.holding_strips(pool):
                compare(run, pool.number, only_drop=True)
        with run.writing() as session:
            rows = store_disks.locked(session, self.disks)
            if gone := [r.name for r in rows if r.pool_id is None]:
                words = f"{say_list(gone)} left the pool meanwhile."
                raise NotPossible(words, next_step="Withdraw this change.")
            for row in rows:
                store_disks.give_role(row, self.role, self.reason, self.stands_in_for or None)
            why = f"{say_list([r.name for r in rows])} became {self.role.value}"
            store_pools.look(session, {r.pool_id for r in rows if r.pool_id}, why)
            announce(session, "site")
        return f"{say_count(len(rows), 'disk')} {_is(rows)} {self.role.value}."


@register
class ChangeRole(Kind[ChangeRoleParams]):
    """mark, drain (where a disk holds strips), assign (ours), bind (agents)."""

    name: ClassVar[str] = "change-role"
    params: ClassVar[type[Params]] = ChangeRoleParams

    def plan(self, view: SiteView, params: ChangeRoleParams) -> Plan:
        disks = chosen_disks(view, params.disks)
        title, about = f"Make {say_list(params.disks)} {params.role.value}", say_list(params.disks)
        blockers = _blockers(view, params, disks)
        if blockers:
            return Plan(title=title, about=about, effects=[NO_FEWER_COPIES], blockers=blockers)
        pool = view.pools[disks[0].pool]
        leaving = holding(disks) if params.role != Role.CAPACITY else []
        found = plan_leaving(view, pool, disks, becoming=params.role) if leaving else None
        seconds, effects = _effects(view, pool, params, disks, found)
        stood_in = view.disk(params.stands_in_for) if params.stands_in_for else None
        return Plan(
            title=title,
            about=about,
            steps=_steps(pool, params, disks, seconds if leaving else None, stood_in),
            effects=[*effects, _roles(view, pool, params, disks), NO_FEWER_COPIES],
            touches=leaving_touches([pool], disks),
            meant=Meant(disks=(*disks, *([stood_in] if stood_in else []))),
            blockers=unreadable_blockers(view, leaving) + (leaving_blockers(view, found) if found else []),
            warnings=leaving_warnings(view, found) if found else [],
        )


def _steps(
    pool: Pool, params: ChangeRoleParams, disks: list[Disk], seconds: float | None, stood_in: Disk | None
) -> list[Planned]:
    """seconds: of emptying them; None where nothing has to leave."""
    numbers = numbers_of(disks)
    drain = Planned(
        Drain(pool=pool.number, disks=numbers),
        "Move what they hold",
        "Each strip to a domain that keeps its extent's spread.",
        seconds=seconds,
    )
    assign = Assign(
        disks=numbers,
        role=params.role,
        reason=params.reason.strip(),
        stands_in_for=stood_in.number if stood_in else 0,
    )
    return [
        *([mark_step(disks), drain] if seconds is not None else []),
        Planned(assign, f"Make them {params.role.value}", "The reason is kept with them."),
        Planned(Bind(pool=pool.number), "Bind cache devices to disks", seconds=1),
    ]


def _effects(
    view: SiteView, pool: Pool, params: ChangeRoleParams, disks: list[Disk], found: Leaving | None
) -> tuple[float, list[AnyEffect]]:
    """Seconds of emptying them, and what it does."""
    if found is not None:
        moving = Moving()
        effects, seconds = leaving_effects(view, found, moving)
        rooms = rooms_while_leaving(view, found, f"they are {params.role.value}")
        return seconds, [*effects, said_capacity(rooms), *moving.effects()]
    becoming = (replace(d, role=params.role, tier=Tier.BULK, retiring=False) for d in disks)
    after = with_disks(view, becoming)
    effects = room_before_and_after(view, after, pool)
    if params.role == Role.CAPACITY:
        uneven = imbalance(after, pool) > LEVEL_TOLERANCE
        effects += moved(after, pool, plan_levelling(after, pool, seed=1) if uneven else NO_MOVES)
    return 0.0, effects


def _roles(view: SiteView, pool: Pool, params: ChangeRoleParams, disks: list[Disk]) -> AnyEffect:
    rule = {a.disk: a for a in assign_roles(view.all_of(pool))}
    return roles(
        view,
        [
            Assignment(
                d.name,
                params.role,
                Tier.BULK,
                params.reason or rule[d.name].reason,
                rule[d.name].by_rule,
                params.role != rule[d.name].by_rule,
            )
            for d in disks
        ],
    )


def _is(things: Sized) -> str:
    return "is" if len(things) == 1 else "are"


def _blockers(view: SiteView, params: ChangeRoleParams, disks: list[Disk]) -> list[Note]:
    if unknown := [name for name in params.disks if view.known_disk(name) is None]:
        return [Note(sentence=f"There is no disk named {say_list(unknown)}.", about="disks")]
    found = []
    if params.role not in POOLED:
        found.append(
            Note(
                sentence=f"A disk of a pool is capacity, cache or spare, not {params.role.value}.",
                about="role",
                next_step="Retire it instead.",
            )
        )
    if outside := [d.name for d in disks if d.pool < 0]:
        found.append(
            Note(
                sentence=f"{say_list(outside)} {_is(outside)} in no pool.",
                about="disks",
                next_step="Add it to a pool first.",
            )
        )
    elif len({d.pool for d in disks}) > 1:
        found.append(
            Note(
                sentence="The disks are of several pools.",
                about="disks",
                next_step="Change one pool at a time.",
            )
        )
    if already := [d.name for d in disks if d.role == params.role]:
        found.append(
            Note(sentence=f"{say_list(already)} {_is(already)} {params.role.value} already.", about="disks")
        )
    if busy := [d.name for d in disks if d.retiring]:
        found.append(Note(sentence=f"{say_list(busy)} {_is(busy)} being emptied already.", about="disks"))
    if found:
        return found
    rule = {a.disk: a.by_rule for a in assign_roles(view.all_of(view.pools[disks[0].pool]))}
    against = [d.name for d in disks if rule[d.name] != params.role]
    if against and not params.reason.strip():
        words = f"By rule {against[0]} is {rule[against[0]].value}; another role wants a reason."
        found.append(Note(sentence=words, about="reason", next_step="Write why in a few words."))
    return found
