"""The barn as a whole, as a page shows them."""

from __future__ import annotations

from datetime import UTC, datetime

from foldbarn.api.machines.pictures import rooms_out
from foldbarn.api.pools.pictures import pool_out
from foldbarn.api.volumes.models import VolumeMark
from foldbarn.api.watch.models import AttentionOut, BarnOut, Counts, StageOut
from foldbarn.core.pools.capacity import free_figure, site_ledgers
from foldbarn.core.pools.printing import print_ledger, print_whole
from foldbarn.core.units import say_count
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.stages import stages
from foldbarn.core.watch.states import Lamp
from foldbarn.services.house import Restart
from foldbarn.store.tables import DutyRow, SiteRow


def barn_out(
    outlook: Outlook, site: SiteRow, yard: bool, restarts: list[Restart], failing: list[DutyRow]
) -> BarnOut:
    view = outlook.view
    headline, subline = outlook.headline()
    free = {p.name: free_figure(p, space) for p, space in zip(view.pools, outlook.spaces, strict=True)}
    ledgers = [print_ledger(name, ledger, free.get(name)) for name, ledger in site_ledgers(view)]
    return BarnOut(
        name=view.name,
        revision=view.revision,
        operator=site.operator,
        grace_seconds=site.grace_seconds,
        yard=yard,
        headline=headline,
        subline=subline,
        counts=Counts(
            nodes=len(view.nodes),
            disks=len(view.disks),
            pools=len(view.pools),
            volumes=len(view.volumes_kept),
        ),
        rooms=rooms_out(outlook),
        attention=[
            AttentionOut(
                lamp=a.lamp, kind=a.kind, name=a.name, title=a.title, sentence=a.sentence, since=a.since
            )
            for a in outlook.attention()
        ]
        + _failing(failing)
        + _restarted(restarts),
        whole=print_whole("Whole site", ledgers),
        ledgers=ledgers,
        stages=[StageOut.model_validate(s, from_attributes=True) for s in stages(view)],
        pools=[pool_out(outlook, i) for i in range(len(view.pools))],
        volumes=[
            VolumeMark(name=v.name, pool=view.pools[v.pool].name, binned=v.binned is not None)
            for v in view.volumes
        ],
    )


def _failing(duties: list[DutyRow]) -> list[AttentionOut]:
    """What the watch cannot see to at present."""
    return [
        AttentionOut(
            lamp=Lamp.FAILED,
            kind="house",
            name=d.name,
            title=f"Fold Barn fails to {d.name}",
            since=d.at.timestamp(),
            sentence=f"It broke off with {d.problem}, and is tried again every second. The log of the work "
            "process has more.",
        )
        for d in duties
    ]


def _restarted(restarts: list[Restart]) -> list[AttentionOut]:
    """Processes of our own that had to be started again, one entry for each."""
    found = []
    for process in sorted({r.process for r in restarts}):
        mine = [r for r in restarts if r.process == process]
        last = mine[-1]
        at = datetime.fromtimestamp(last.at, UTC)
        words = (
            f"Last at {at:%H:%M:%S} UTC, because {last.why}. {say_count(len(mine), 'time')} in the last hour."
        )
        title = f"Fold Barn's own process {process} was started again"
        found.append(
            AttentionOut(
                lamp=Lamp.WATCH, kind="house", name=process, title=title, sentence=words, since=last.at
            )
        )
    return found
