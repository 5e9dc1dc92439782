"""Retiring disks, nodes and racks: they are emptied, blanked and let go, and protection never falls while
that lasts.
"""

from __future__ import annotations

from typing import ClassVar, Literal

from pydantic import Field

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.moving import stop_moving
from foldbarn.changes.engine.preview import Note, PlannedStep, Preview
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.disks import bind
from foldbarn.changes.kinds.effects import NO_FEWER_COPIES
from foldbarn.changes.kinds.leaving import (
    blank,
    call_off,
    drain,
    holding,
    leaving_touches,
    mark,
    part,
    plan_leaving,
    pools_of,
    tell_leaving,
    unreadable_blockers,
)
from foldbarn.core.names import folded, natural_key
from foldbarn.core.site import Disk, Role, SiteView
from foldbarn.core.touching import Meant, Touch
from foldbarn.core.units import say_count, say_list
from foldbarn.store.database import Session


class RetireParams(Params):
    """Things of one level, by name."""

    what: Literal["disk", "node", "rack"]
    names: list[str] = Field(min_length=1, max_length=500)


def disks_under(view: SiteView, what: str, names: list[str]) -> tuple[list[Disk], list[str]]:
    """Disks in use that belong to these things, and the names that nothing has."""
    wanted = {folded(n) for n in names}
    things = {"disk": view.disks, "node": view.nodes, "rack": view.racks}[what]
    unknown = sorted(wanted - {folded(t.name) for t in things})  # type: ignore[attr-defined]
    found = []
    for row, disk in enumerate(view.disks):
        node = view.nodes[disk.node]
        rack = view.racks[int(view.disk_rack[row])]
        # A disk in an enclosure outlives the node that carries it, and leaves with the enclosure's rack.
        name = {"disk": disk.name, "node": node.name if disk.enclosure < 0 else "", "rack": rack.name}[what]
        if folded(name) in wanted and disk.pool >= 0:
            found.append(disk)
    return sorted(found, key=lambda d: natural_key(d.name)), unknown


@register
class Retire(Kind[RetireParams]):
    """mark (ours), drain (agents, for each pool), release (agents), part (ours), bind (agents, where there is
    cache).
    """

    name: ClassVar[str] = "retire"
    params: ClassVar[type[Params]] = RetireParams
    exact: ClassVar[bool] = False
    inside: ClassVar[frozenset[str]] = frozenset({"mark", "part"})

    def about(self, params: RetireParams) -> str:
        return say_list(params.names)

    def meant(self, view: SiteView, params: RetireParams) -> Meant:
        """The disks that the preview shows, also where a node or a rack is meant: it may stand elsewhere when
        its turn comes.
        """
        return Meant(disks=tuple(disks_under(view, params.what, params.names)[0]))

    def touches(self, view: SiteView, params: RetireParams) -> list[Touch]:
        disks, _ = disks_under(view, params.what, params.names)
        return leaving_touches(pools_of(view, disks), disks)

    def preview(self, view: SiteView, params: RetireParams) -> Preview:
        disks, unknown = disks_under(view, params.what, params.names)
        pools = pools_of(view, disks)
        preview = Preview(
            kind=self.name,
            title=f"Retire {say_list(params.names)}",
            summary=f"{say_count(len(disks), 'disk')} of {say_list([p.name for p in pools])}.",
            revision=view.revision,
            protection=NO_FEWER_COPIES,
            disks=[d.name for d in disks],
            steps=[
                PlannedStep(
                    name="mark",
                    title="Give them nothing new",
                    detail="Volumes made from here on leave them out.",
                ),
                *(
                    PlannedStep(
                        name=f"drain:{p.name}",
                        title=f"Move what {p.name} keeps there",
                        detail="Each strip to where it keeps its extent's spread.",
                    )
                    for p in pools_of(view, holding(disks))
                ),
                PlannedStep(
                    name="release",
                    title="Blank them",
                    detail="Each must hold nothing any more.",
                    seconds=1,
                    can_withdraw=False,
                ),
                PlannedStep(
                    name="part",
                    title="Let them go",
                    detail="They are fit and free, and may be pulled.",
                    can_withdraw=False,
                ),
                *(
                    PlannedStep(
                        name=f"bind:{p.name}",
                        title=f"Bind the cache of {p.name} anew",
                        seconds=1,
                        can_withdraw=False,
                    )
                    for p in pools
                    if any(d.role == Role.CACHE for d in view.all_of(p))
                ),
            ],
        )
        if unknown:
            preview.blockers.append(
                Note(sentence=f"There is no {params.what} named {say_list(unknown)}.", about="names")
            )
        if not disks and not unknown:
            preview.blockers.append(
                Note(
                    sentence=f"No pool uses a disk of {say_list(params.names)}.",
                    about="names",
                    next_step="There is nothing to empty.",
                )
            )
        if busy := [d.name for d in disks if d.retiring]:
            preview.blockers.append(
                Note(
                    sentence=f"{say_list(busy)} {'is' if len(busy) == 1 else 'are'} being emptied already.",
                    about="names",
                )
            )
        preview.blockers += unreadable_blockers(view, holding(disks))
        gone = {d.number for d in disks}
        for pool in pools:
            staying = [d for d in view.all_of(pool) if d.number not in gone and d.role == Role.CAPACITY]
            if not staying and not view.volumes_of(pool):
                words = f"{pool.name} would have no disk left."
                preview.blockers.append(
                    Note(
                        sentence=words,
                        about="names",
                        next_step=f"Delete {pool.name} instead; it holds no volume.",
                    )
                )
                continue
            found = plan_leaving(view, pool, disks)
            tell_leaving(preview, view, found, "let go")
            step = next((s for s in preview.steps if s.name == f"drain:{pool.name}"), None)
            if step is not None and preview.seconds:
                step.seconds = preview.seconds - sum(
                    s.seconds or 0 for s in preview.steps if s.name.startswith("drain:") and s is not step
                )
        voters = (
            [n.name for n in view.nodes if n.keeper and folded(n.name) in {folded(x) for x in params.names}]
            if params.what == "node"
            else []
        )
        if voters:
            words = f"{say_list(voters)} still {'has' if len(voters) == 1 else 'have'} a vote in the cluster."
            preview.warnings.append(
                Note(
                    sentence=words, next_step="Let it go from the cluster as well before it is switched off."
                )
            )
        served = {d.node for d in view.disks if d.role == Role.CAPACITY and d.number not in gone}
        for disk in (d for d in disks if d.role == Role.CACHE and d.node in served):
            preview.warnings.append(
                Note(
                    sentence=f"{disk.name} is cache: what it has taken settles first, and other devices of "
                    "its node serve its disks."
                )
            )
        return preview.sealed()

    def step_mark(self, run: Run[RetireParams], session: Session) -> str:
        return mark(session, run.numbers("disk"))

    def step_drain(self, run: Run[RetireParams]) -> str:
        return drain(run, run.subject, run.numbers("disk"))

    def step_release(self, run: Run[RetireParams]) -> str:
        return blank(run, run.numbers("disk"))

    def step_part(self, run: Run[RetireParams], session: Session) -> str:
        return part(session, run.numbers("disk"))

    def step_bind(self, run: Run[RetireParams]) -> str:
        return bind(run, run.subject)

    def stop(self, run: Run[RetireParams]) -> None:
        stop_moving(run)

    def withdraw(self, run: Run[RetireParams]) -> None:
        run.refuse_once("begun", "release", "its disks are being blanked")
        call_off(run, run.numbers("disk"))
