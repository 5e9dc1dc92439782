"""What can be set of a volume, or of several, while they are in use: labels, limits of their own, and by how
many nodes each is served to hosts.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, TextRow, Texts, unchanged
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Payload
from foldbarn.changes.kinds.volumes.gateways import fewer_than_set, gateways_of, hosts_move
from foldbarn.changes.kinds.volumes.serving import TellServing, find_volume
from foldbarn.changes.kinds.volumes.several import OfVolumes, called, find_volumes
from foldbarn.core.errors import BarnError, Overtaken
from foldbarn.core.hosts.gateways import check_serving
from foldbarn.core.names import labels_of
from foldbarn.core.policies.adopting import with_volumes
from foldbarn.core.policies.limits import Limits, limits_of
from foldbarn.core.policies.policy import check_limit
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.volumes.bin import against_altering
from foldbarn.store import volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view


class SetVolumeParams(OfVolumes):
    """labels: words by which they are found, instead of those they have; as they are where nothing is said.
    operations, throughput: what consumers may ask of each in a second, in operations and in bytes, where that
    is less than its policy has it; 0 for no limit of its own, as it is where nothing is said. serving_nodes:
    how many nodes serve each to hosts, in the same way.
    """

    labels: list[str] | None = Field(default=None, max_length=200)
    operations: int | None = None
    throughput: int | None = None
    serving_nodes: int | None = None


class SetOf(Payload):
    """What of a volume is set; of what is not, nothing is said."""

    labels: tuple[str, ...] | None = None
    operations: int | None = None
    throughput: int | None = None
    serving_nodes: int | None = None

    def values(self) -> dict[str, Any]:
        return self.model_dump(exclude_none=True)

    def held_by(self, volume: Volume) -> Volume:
        return replace(volume, **self.values())


class WriteSet(Inside):
    """A volume (by number) has these labels and limits, and so many nodes that serve it, from here on.
    before: those of them that it had.
    """

    name: ClassVar[str] = "write-set"
    volume: int
    before: SetOf
    then: SetOf

    def carry_out(self, run: Run, session: Session) -> str:
        volume = find_volume(load_view(session), self.volume)
        if volume is None and run.step > 1:
            return "It is gone."
        if volume is None:
            raise Overtaken("The volume is gone.", about="volumes")
        volumes.set_values(session, self.volume, **self.then.values())
        announce(session, "site")
        return "Written down."

    def take_back(self, run: Run) -> None:
        """Each as it was, where nobody has set it otherwise since."""
        with transaction() as session:
            volume = find_volume(load_view(session), self.volume)
            if volume is None:
                return
            then = self.then.values()
            back = {n: was for n, was in self.before.values().items() if getattr(volume, n) == then[n]}
            volumes.set_values(session, self.volume, **back)
            announce(session, "site")


@register
class SetVolume(Kind[SetVolumeParams]):
    """write (ours) for each volume, tell their nodes (agents)."""

    name: ClassVar[str] = "set-volume"
    params: ClassVar[type[Params]] = SetVolumeParams

    def plan(self, view: SiteView, params: SetVolumeParams) -> Plan:
        about = called(params.volumes)
        try:
            chosen = find_volumes(view, params.volumes)
            for volume in chosen:
                if refusal := against_altering(volume):
                    raise refusal
            wished = [(volume, _wished(volume, params)) for volume in chosen]
        except BarnError as error:
            return Plan(
                title=f"Set labels, limits and paths of {about}", about=about, blockers=[Note.of(error)]
            )
        about, one = called([v.name for v in chosen]), len(chosen) == 1
        altered = [(volume, then) for volume, then in wished if then.values()]
        after = with_volumes(view, {v.number: then.held_by(v) for v, then in altered})
        rows = [row for volume, _ in altered for row in _rows(view, after, volume, one=one)]
        if not altered:
            title = f"Set labels, limits and paths of {about}"
            return Plan(title=title, about=about, blockers=[unchanged("labels")])
        tell = TellServing(volumes=tuple(v.number for v, _ in altered))
        return Plan(
            title=f"Set labels, limits and paths of {about}",
            about=about,
            summary="At once, while it is in use. Nothing moves by it."
            if one
            else "At once, while they are in use. Nothing moves by it.",
            steps=[
                *(_write(volume, then, one=one) for volume, then in altered),
                Planned(
                    tell,
                    f"Tell {'its' if one else 'their'} nodes",
                    "Each keeps to its part of a limit.",
                    seconds=1,
                ),
            ],
            effects=[Texts(heads=["What is set", "Now", "Then"], rows=rows)],
            warnings=[
                note
                for volume, then in altered
                if then.serving_nodes is not None
                for note in _served_otherwise(view, after, volume)
            ],
            touches=[alone(Thing.VOLUME, volume.number) for volume in chosen],
            meant=Meant(volumes=tuple(chosen)),
        )


def _wished(volume: Volume, params: SetVolumeParams) -> SetOf:
    """What would be other than it is. Raises NotPossible."""
    found: dict[str, Any] = {}
    if params.labels is not None:
        found["labels"] = labels_of(params.labels)
    for name in ("operations", "throughput"):
        if (value := getattr(params, name)) is not None:
            check_limit(name, value or None)
            found[name] = value
    if params.serving_nodes is not None:
        check_serving(params.serving_nodes)
        found["serving_nodes"] = params.serving_nodes
    return SetOf(**{name: value for name, value in found.items() if value != getattr(volume, name)})


def _write(volume: Volume, then: SetOf, *, one: bool) -> Planned:
    before = SetOf(**{name: getattr(volume, name) for name in then.values()})
    step = WriteSet(volume=volume.number, before=before, then=then)
    title = "Write them down" if one else f"Write down those of {volume.name}"
    return Planned(step, title, about="" if one else volume.name)


def _rows(view: SiteView, after: SiteView, volume: Volume, *, one: bool) -> Sequence[TextRow]:
    then, of = after.volume_numbered(volume.number), "" if one else f" of {volume.name}"
    told = [
        ("Labels", _said_labels(volume), _said_labels(then)),
        ("Operations", *(said_limit(limits_of(*at), "operations") for at in ((view, volume), (after, then)))),
        ("Bytes", *(said_limit(limits_of(*at), "throughput") for at in ((view, volume), (after, then)))),
        ("Served to hosts by", *(say_count(v.serving_nodes, "node") for v in (volume, then))),
        ("By name", *(gateways_of(view, after, volume) or ("", ""))),
    ]
    return [TextRow(label=f"{what}{of}", before=now, after=to) for what, now, to in told if now != to]


def _served_otherwise(view: SiteView, after: SiteView, volume: Volume) -> list[Note]:
    return [*hosts_move(view, after, volume), *fewer_than_set(view, after.volume_numbered(volume.number))]


def _said_labels(volume: Volume) -> str:
    return say_list(list(volume.labels)) if volume.labels else "none"


def said_limit(limits: Limits, of: str) -> str:
    """What consumers may ask in a second, and by whom that is."""
    value, own = (
        (limits.operations, limits.own_operations)
        if of == "operations"
        else (limits.throughput, limits.own_throughput)
    )
    if not value:
        return "no limit"
    size = f"{value:,}" if of == "operations" else say_size(value)
    return f"{size} a second, {'its own' if own else 'by its policy'}"
