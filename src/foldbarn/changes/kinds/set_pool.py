"""Changing what can be set of a pool after it has been formed. Nothing moves by it; what is promised already
stays as it is.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any, ClassVar

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.preview import Note, PlannedStep, Preview, TextRow
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.effects import tell_capacity
from foldbarn.changes.kinds.form_pool import SETTINGS, PoolSettings, pool_as
from foldbarn.core.capacity import pool_space
from foldbarn.core.errors import BarnError
from foldbarn.core.healing import healing_sentence, heals, losses_in_words
from foldbarn.core.site import Pool, SiteView
from foldbarn.core.touching import Meant, Thing, Touch, alone, shared
from foldbarn.core.units import say_binary, say_size
from foldbarn.store import pools
from foldbarn.store.database import Session
from foldbarn.store.views import load_view


class SetPoolParams(PoolSettings):
    """The pool by name, and everything that can be set of it."""

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
}


@register
class SetPool(Kind[SetPoolParams]):
    """set (ours)."""

    name: ClassVar[str] = "set-pool"
    params: ClassVar[type[Params]] = SetPoolParams
    exact: ClassVar[bool] = False
    inside: ClassVar[frozenset[str]] = frozenset({"set"})

    def about(self, params: SetPoolParams) -> str:
        return params.pool

    def meant(self, view: SiteView, params: SetPoolParams) -> Meant:
        return Meant(pools=(view.pool(params.pool),))

    def touches(self, view: SiteView, params: SetPoolParams) -> list[Touch]:
        pool = view.pool(params.pool).number
        return [shared(Thing.POOL, pool), alone(Thing.SETTINGS, pool)]

    def to_keep(self, view: SiteView, params: SetPoolParams) -> dict[str, Any]:
        """Only what is to become different: what someone else sets meanwhile stays."""
        now = settings_of(view.pool(params.pool))
        wished = params.model_dump(mode="json", include=set(SETTINGS))
        return {"pool": params.pool, **{name: value for name, value in wished.items() if value != now[name]}}

    def preview(self, view: SiteView, params: SetPoolParams) -> Preview:
        preview = Preview(
            kind=self.name,
            title=f"Change the settings of {params.pool}",
            summary="Nothing moves by it.",
            revision=view.revision,
            steps=[
                PlannedStep(
                    name="set",
                    title="Write them down",
                    detail="Copying under way takes on its new limits at once.",
                )
            ],
        )
        try:
            pool = view.pool(params.pool)
            wished = pool_as(params, pool.number, pool.name, pool.extent_bytes, pool.encrypted)
        except BarnError as error:
            preview.blockers.append(Note.of(error))
            return preview.sealed()
        old, new = settings_in_words(pool), settings_in_words(wished)
        preview.texts = [
            TextRow(label=LABELS[name], before=old[name], after=new[name])
            for name in LABELS
            if old[name] != new[name]
        ]
        if not preview.texts:
            preview.blockers.append(Note(sentence="Nothing would be different.", about="pool"))
        preview.undo = {"kind": self.name, "params": {"pool": pool.name, **settings_of(pool)}}
        after = replace(view, pools=tuple(wished if p.number == pool.number else p for p in view.pools))
        tell_capacity(preview, view, after, pool, wished)
        space = pool_space(after, wished)
        if not heals(after, wished, space):
            preview.warnings.append(Note(sentence=healing_sentence(after, wished, space)))
        elif (
            wished.headroom and space.headroom is not None and space.headroom.losses < wished.headroom_losses
        ):
            lost = losses_in_words(wished.headroom_losses, wished.headroom)
            less = losses_in_words(space.headroom.losses, wished.headroom)
            level = wished.usual.level.value
            words = (
                f"Losing {lost} could leave too few {level}s to rebuild in, so room is held back for "
                f"{less} only."
            )
            preview.warnings.append(Note(sentence=words, next_step=f"Add nodes in other {level}s."))
        preview.protection = (
            f"Volumes keep the protection they were made with. Usual from here on: {wished.usual.sentence()}."
        )
        return preview.sealed()

    def step_set(self, run: Run[SetPoolParams], session: Session) -> str:
        view = load_view(session)
        pool = run.pool(view, run.params.pool)
        wished = run.params.model_dump(mode="json", include=set(SETTINGS) & run.params.model_fields_set)
        # By itself each setting is in order; together with what others have set meanwhile it may not be.
        whole = PoolSettings.model_validate(settings_of(pool) | wished)
        pool_as(whole, pool.number, pool.name, pool.extent_bytes, pool.encrypted)
        pools.set_values(session, pool.number, wished)
        return "Written down."

    def withdraw(self, run: Run[SetPoolParams]) -> None:
        """Its one step is done at once or not at all; once it is done, so is the change."""


def settings_of(pool: Pool) -> dict[str, Any]:
    """What can be set of a pool, as parameters."""
    return {
        "copies": pool.usual.copies,
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
    }


def settings_in_words(pool: Pool) -> dict[str, str]:
    """The same for people."""
    first = {
        "consumers": "consumers' work",
        "even": "neither: copying gets at least half",
        "copying": "copying",
    }
    return {
        "copies": str(pool.usual.copies),
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
    }
