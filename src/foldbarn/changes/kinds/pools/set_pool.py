"""Changing what can be set of a pool after it has been formed. Nothing moves by it; what is promised already
stays as it is.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, ClassVar

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts, unchanged, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.pools.effects import room_before_and_after
from foldbarn.changes.kinds.pools.form_pool import SETTINGS, PoolSettings, columns_of, pool_as
from foldbarn.core.errors import BarnError
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.healing import healing_sentence, heals, losses_in_words
from foldbarn.core.site import Pool, SiteView
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_binary, say_list, say_size
from foldbarn.store import pools
from foldbarn.store.database import Session
from foldbarn.store.views import load_view


class SetPoolParams(PoolSettings):
    """The pool by name, and what is to be set of it; what is left out stays as it is."""

    pool: str


LABELS = {
    "copies": "Usual copies",
    "level": "Kept apart by",
    "headroom": "Heals from losing",
    "fill_line": "Fill line",
    "allocation_bytes": "Allocation unit",
    "overcommit_cap": "Cap on overcommit",
    "rebuild_rate": "Rebuilds at most",
    "level_rate": "Levelling at most",
    "priority": "Goes first",
    "daily_writes": "Expected writes a day",
    "labels": "Labels",
}


class SetValues(Inside):
    """Settings of a pool (by number) that are to become different: what someone else sets meanwhile stays."""

    name: ClassVar[str] = "set-pool"
    pool: int
    values: dict[str, Any]

    def carry_out(self, run: Run, session: Session) -> str:
        pool = load_view(session).pool_numbered(self.pool)
        # By itself each setting is in order; together with what others have set meanwhile it may not be.
        _wished(pool, self.values)
        pools.set_values(session, pool.number, columns_of(self.values))
        return "Written down."


@register
class SetPool(Kind[SetPoolParams]):
    """set (ours)."""

    name: ClassVar[str] = "set-pool"
    params: ClassVar[type[Params]] = SetPoolParams

    def to_keep(self, view: SiteView, params: SetPoolParams) -> dict[str, Any]:
        """Only what was set."""
        return params.model_dump(mode="json", include=params.model_fields_set | {"pool"})

    def plan(self, view: SiteView, params: SetPoolParams) -> Plan:
        title, about = f"Change the settings of {params.pool}", params.pool
        try:
            pool = view.pool(params.pool)
            given = params.model_dump(mode="json", include=params.model_fields_set & set(SETTINGS))
            wished = _wished(pool, given)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        now, then = settings_of(pool), settings_of(wished)
        values = {name: value for name, value in then.items() if value != now[name]}
        old, new = settings_in_words(pool), settings_in_words(wished)
        texts = [
            TextRow(label=LABELS[name], before=old[name], after=new[name])
            for name in LABELS
            if old[name] != new[name]
        ]
        after = replace(view, pools=tuple(wished if p.number == pool.number else p for p in view.pools))
        promise = (
            f"Volumes keep the protection they were made with. Usual from here on: {wished.usual.sentence()}."
        )
        step = Planned(
            SetValues(pool=pool.number, values=values),
            "Write them down",
            "Copying under way takes on its new limits at once.",
        )
        return Plan(
            title=title,
            about=about,
            summary="Nothing moves by it.",
            steps=[step],
            effects=[
                Texts(rows=texts),
                *room_before_and_after(view, after, pool, wished),
                Promise(sentence=promise),
            ],
            touches=[shared(Thing.POOL, pool.number), alone(Thing.SETTINGS, pool.number)],
            meant=Meant(pools=(pool,)),
            blockers=[] if values else [unchanged("pool")],
            warnings=_warnings(after, wished),
            undo=Undo(self.name, {"pool": pool.name, **{name: now[name] for name in values}}),
        )


def _wished(pool: Pool, values: dict[str, Any]) -> Pool:
    """The pool with these settings. Raises NotPossible where they are out of order together."""
    whole = PoolSettings.model_validate(settings_of(pool) | values)
    return pool_as(
        whole,
        pool.number,
        pool.name,
        pool.strip_bytes,
        encrypted=pool.encrypted,
        compress_unit=pool.compress_unit,
    )


def _warnings(after: SiteView, wished: Pool) -> Sequence[Note]:
    space = pool_space(after, wished)
    if not heals(after, wished, space):
        return [warning("cannot-heal", healing_sentence(after, wished, space))]
    if not wished.headroom or space.headroom is None or space.headroom.losses >= wished.headroom_losses:
        return []
    lost = losses_in_words(wished.headroom_losses, wished.headroom)
    less = losses_in_words(space.headroom.losses, wished.headroom)
    level = wished.usual.level.value
    words = f"Losing {lost} could leave too few {level}s to rebuild in, so room is held back for {less} only."
    return [warning("heals-fewer", words, next_step=f"Add nodes in other {level}s.")]


def settings_of(pool: Pool) -> dict[str, Any]:
    """What can be set of a pool, as parameters."""
    return {
        "copies": pool.usual.strips,
        "level": pool.usual.level.value,
        "headroom": pool.headroom.value if pool.headroom else None,
        "headroom_losses": pool.headroom_losses,
        "fill_line": pool.fill_line,
        "allocation_bytes": pool.allocation_bytes,
        "overcommit_cap": pool.overcommit_cap,
        "rebuild_rate": pool.rebuild_rate,
        "level_rate": pool.level_rate,
        "priority": pool.priority.value,
        "daily_writes": pool.daily_writes,
        "labels": list(pool.labels),
    }


def settings_in_words(pool: Pool) -> dict[str, str]:
    """The same for people."""
    first = {
        "consumers": "consumers' work",
        "even": "neither: copying gets at least half",
        "copying": "copying",
    }
    return {
        "copies": str(pool.usual.strips),
        "level": pool.usual.level.value,
        "headroom": losses_in_words(pool.headroom_losses, pool.headroom)
        if pool.headroom
        else "nothing is held back",
        "fill_line": f"{pool.fill_line:.0%}",
        "allocation_bytes": say_binary(pool.allocation_bytes),
        "overcommit_cap": f"{pool.overcommit_cap:g} times usable",
        "rebuild_rate": f"{say_size(pool.rebuild_rate)}/s" if pool.rebuild_rate else "as fast as it goes",
        "level_rate": f"{say_size(pool.level_rate)}/s" if pool.level_rate else "as fast as it goes",
        "priority": first[pool.priority.value],
        "daily_writes": say_size(pool.daily_writes) if pool.daily_writes else "not said",
        "labels": say_list(list(pool.labels)) if pool.labels else "none",
    }
