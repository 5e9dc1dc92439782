"""Giving disks of a pool another role: capacity, cache or spare. What a disk holds leaves it first."""

from __future__ import annotations

from collections.abc import Sized
from dataclasses import replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.moving import compare, stop_moving
from foldbarn.changes.engine.preview import Note, PlannedStep, Preview
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.disks import bind, chosen_disks
from foldbarn.changes.kinds.effects import NO_FEWER_COPIES, role_rows, tell_capacity, tell_moves, with_disks
from foldbarn.changes.kinds.leaving import (
    call_off,
    drain,
    holding,
    leaving_touches,
    mark,
    plan_leaving,
    pools_of,
    tell_leaving,
    unreadable_blockers,
)
from foldbarn.core.errors import NotPossible
from foldbarn.core.levelling import LEVEL_TOLERANCE, imbalance, plan_levelling
from foldbarn.core.moves import NO_MOVES
from foldbarn.core.roles import Assignment, assign_roles
from foldbarn.core.site import POOLED, Disk, Role, SiteView, Tier
from foldbarn.core.touching import Meant, Touch
from foldbarn.core.units import say_count, say_list
from foldbarn.store import disks as store_disks
from foldbarn.store import pools as store_pools
from foldbarn.store.database import Session, announce
from foldbarn.store.views import current_view


class ChangeRoleParams(Params):
    """Disks of one pool by name, the role they get, and why. stands_in_for: the disk whose place a spare
    takes.
    """

    disks: list[str] = Field(min_length=1, max_length=500)
    role: Role
    reason: str = Field(default="", max_length=300)
    stands_in_for: str = ""


@register
class ChangeRole(Kind[ChangeRoleParams]):
    """mark, drain (where a disk holds strips), assign (ours), bind (agents)."""

    name: ClassVar[str] = "change-role"
    params: ClassVar[type[Params]] = ChangeRoleParams
    exact: ClassVar[bool] = False
    inside: ClassVar[frozenset[str]] = frozenset({"mark"})

    def about(self, params: ChangeRoleParams) -> str:
        return say_list(params.disks)

    def meant(self, view: SiteView, params: ChangeRoleParams) -> Meant:
        named = [*params.disks, *([params.stands_in_for] if params.stands_in_for else [])]
        return Meant(disks=tuple(view.disk(n) for n in named))

    def touches(self, view: SiteView, params: ChangeRoleParams) -> list[Touch]:
        disks = [view.disk(n) for n in params.disks]
        return leaving_touches(pools_of(view, disks), disks)

    def preview(self, view: SiteView, params: ChangeRoleParams) -> Preview:
        disks = chosen_disks(view, params.disks)
        preview = Preview(
            kind=self.name,
            title=f"Make {say_list(params.disks)} {params.role.value}",
            summary="",
            revision=view.revision,
            steps=[],
            protection=NO_FEWER_COPIES,
        )
        preview.blockers = _blockers(view, params, disks)
        if preview.blockers:
            return preview.sealed()
        pool = view.pools[disks[0].pool]
        leaving = holding(disks) if params.role != Role.CAPACITY else []
        if leaving:
            preview.steps += [
                PlannedStep(
                    name="mark",
                    title="Give them nothing new",
                    detail="Volumes made from here on leave them out.",
                ),
                PlannedStep(
                    name=f"drain:{pool.name}",
                    title="Move what they hold",
                    detail="Each strip to a domain that keeps its extent's spread.",
                ),
            ]
        preview.steps.append(
            PlannedStep(
                name="assign",
                title=f"Make them {params.role.value}",
                detail="The reason is kept with them.",
                can_withdraw=False,
            )
        )
        preview.steps.append(
            PlannedStep(
                name=f"bind:{pool.name}", title="Bind cache devices to disks", seconds=1, can_withdraw=False
            )
        )
        if leaving:
            preview.blockers += unreadable_blockers(view, leaving)
            tell_leaving(
                preview,
                view,
                plan_leaving(view, pool, disks, becoming=params.role),
                f"they are {params.role.value}",
            )
            preview.steps[1].seconds = preview.seconds
        else:
            after = with_disks(
                view, (replace(d, role=params.role, tier=Tier.BULK, retiring=False) for d in disks)
            )
            tell_capacity(preview, view, after, pool)
            if params.role == Role.CAPACITY:
                moves = (
                    plan_levelling(after, pool, seed=1)
                    if imbalance(after, pool) > LEVEL_TOLERANCE
                    else NO_MOVES
                )
                tell_moves(preview, after, pool, moves)
        rule = {a.disk: a for a in assign_roles(view.all_of(pool))}
        assigned = [
            Assignment(
                d.name,
                params.role,
                Tier.BULK,
                params.reason or rule[d.name].reason,
                rule[d.name].by_rule,
                params.role != rule[d.name].by_rule,
            )
            for d in disks
        ]
        preview.roles = role_rows(view, assigned)
        return preview.sealed()

    def step_mark(self, run: Run[ChangeRoleParams], session: Session) -> str:
        return mark(session, _numbers(run))

    def step_drain(self, run: Run[ChangeRoleParams]) -> str:
        return drain(run, run.subject, _numbers(run))

    def step_assign(self, run: Run[ChangeRoleParams]) -> str:
        """What had to leave has left; its old strips go before the disks are something else."""
        view, params = current_view(), run.params
        disks = [run.disk(view, name) for name in params.disks]
        for pool in pools_of(
            view, [d for d in disks if d.role == Role.CAPACITY and params.role != Role.CAPACITY]
        ):
            with run.holding_strips(pool):
                compare(run, pool.name, only_drop=True)
        stood_in = run.disk(view, params.stands_in_for).number if params.stands_in_for else None
        with run.writing() as session:
            rows = store_disks.locked(session, _numbers(run))
            if gone := [r.name for r in rows if r.pool_id is None]:
                raise NotPossible(
                    f"{say_list(gone)} left the pool meanwhile.", next_step="Withdraw this change."
                )
            for row in rows:
                store_disks.give_role(row, params.role, params.reason.strip(), stood_in)
            why = f"{say_list([r.name for r in rows])} became {params.role.value}"
            store_pools.look(session, {r.pool_id for r in rows if r.pool_id}, why)
            announce(session, "site")
        return f"{say_count(len(rows), 'disk')} {_is(rows)} {params.role.value}."

    def step_bind(self, run: Run[ChangeRoleParams]) -> str:
        return bind(run, run.subject)

    def stop(self, run: Run[ChangeRoleParams]) -> None:
        stop_moving(run)

    def withdraw(self, run: Run[ChangeRoleParams]) -> None:
        run.refuse_once("done", "assign", f"the disks are {run.params.role.value} already")
        call_off(run, _numbers(run))


def _numbers(run: Run[ChangeRoleParams]) -> list[int]:
    view = current_view()
    return [run.disk(view, name).number for name in run.params.disks]


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
