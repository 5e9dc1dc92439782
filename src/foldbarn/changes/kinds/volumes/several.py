"""What changes of one volume or of several have alike."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from pydantic import Field, model_validator

from foldbarn.changes.engine.effects import TextRow, Texts
from foldbarn.changes.engine.kind import Params
from foldbarn.core.errors import NotPossible
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Thing, Touch, alone, shared
from foldbarn.core.units import say_count, say_list

MOST_VOLUMES = 500  # that one change takes by name


class OfVolumes(Params):
    """volumes: by name; one may be named alone, as `volume`."""

    volumes: list[str] = Field(max_length=MOST_VOLUMES)

    @model_validator(mode="before")
    @classmethod
    def _one_alone(cls, sent: Any) -> Any:
        if isinstance(sent, dict) and "volume" in sent and "volumes" not in sent:
            return {**{k: v for k, v in sent.items() if k != "volume"}, "volumes": [sent["volume"]]}
        return sent


def find_volumes(view: SiteView, names: Sequence[str]) -> list[Volume]:
    """Each once. Raises NotFound; NotPossible where none is named."""
    found = list({v.number: v for v in map(view.volume, names)}.values())
    if not found:
        raise NotPossible("No volume is chosen.", about="volumes")
    return found


def called(names: Sequence[str]) -> str:
    """How a change names its volumes: one by its name, and what is typed to confirm that they are meant."""
    return names[0] or "..." if len(names) == 1 else say_count(len(names), "volume")


def pools_of(view: SiteView, volumes: Sequence[Volume]) -> str:
    """The pools that they lie in, for people."""
    rows = {volume.pool for volume in volumes}
    return say_list([pool.name for row, pool in enumerate(view.pools) if row in rows])


def consumers(
    volumes: Sequence[Volume], now: Callable[[Volume], str], then: Callable[[Volume], str]
) -> Texts:
    """What the consumers of each have now, and then."""
    rows = []
    for volume in volumes:
        label = "Its consumers" if len(volumes) == 1 else f"Consumers of {volume.name}"
        rows.append(TextRow(label=label, before=now(volume), after=then(volume)))
    return Texts(heads=["", "Now", "Then"], rows=rows)


def alone_with(view: SiteView, volumes: Sequence[Volume]) -> list[Touch]:
    """Nobody else alters these meanwhile, nor by what hosts reach them; their pools stay."""
    pools = {view.pools[v.pool].number for v in volumes}
    return [
        *(alone(what, v.number) for v in volumes for what in (Thing.VOLUME, Thing.TARGET)),
        *(shared(Thing.POOL, pool) for pool in sorted(pools)),
    ]
