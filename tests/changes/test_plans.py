"""Plans as data: of every kind, what is recorded is what was planned, and what is shown is what is kept."""

from __future__ import annotations

from typing import Any, get_args

import pytest
from conftest import Site
from test_cluster import WISH, hear
from test_killed import WISHES

from bench.previews import wishes
from foldbarn.changes.engine.effects import AnyEffect, warning
from foldbarn.changes.engine.kind import KINDS
from foldbarn.changes.engine.plan import Plan
from foldbarn.changes.engine.preview import Preview
from foldbarn.changes.engine.step import STEPS, Inside, Outside, read_step
from foldbarn.core.errors import NotPossible
from foldbarn.store.views import current_view


def plan_for(kind: str, wish: dict[str, Any]) -> Plan:
    return KINDS[kind].plan(current_view(), KINDS[kind].params.model_validate(wish))


@pytest.mark.parametrize("kind", KINDS)
def test_steps_and_effects_are_read_back_as_they_were_planned(barn_site: Site, kind: str) -> None:
    if kind == "form-cluster":
        hear(barn_site)
    wish = WISH if kind == "form-cluster" else WISHES[kind](barn_site)
    plan = plan_for(kind, wish)
    assert plan.steps
    assert not plan.blockers
    assert plan.touches
    for planned in plan.steps:
        assert isinstance(planned.step, Inside | Outside)
        assert read_step(planned.step.name, planned.step.model_dump(mode="json")) == planned.step
    preview = Preview.of(kind, 7, plan)
    assert Preview.model_validate_json(preview.model_dump_json()) == preview
    # Once there is no way back there is none in any later step.
    ways = [step.can_withdraw for step in preview.steps]
    assert ways == sorted(ways, reverse=True)
    # Planned again on the same site it is the same plan.
    assert plan_for(kind, wish).digest() == plan.digest()


def test_a_digest_is_of_what_is_done_and_what_is_warned_of() -> None:
    plan = Plan(title="t", about="a", warnings=[warning("full", "It would be 90 % full.")])
    fuller = Plan(title="t", about="a", warnings=[warning("full", "It would be 91 % full.")])
    other = Plan(title="t", about="a", warnings=[warning("slow", "It would be 90 % full.")])
    elsewhere = Plan(title="t", about="a", warnings=[warning("full", "It would be full.", about="pool")])
    assert plan.digest() == fuller.digest()
    assert len({plan.digest(), other.digest(), elsewhere.digest()}) == 3
    # Whoever was warned of more has seen what is warned of now; nobody else has.
    both = Plan(title="t", about="a", warnings=[*plan.warnings, *other.warnings])
    none, typed = Plan(title="t", about="a"), Plan(title="t", about="a", type_to_confirm="a")
    assert [p.was_seen(both.digest()) for p in (plan, other, none, both)] == [True] * 4
    assert [both.was_seen(p.digest()) for p in (plan, other, none)] == [False] * 3
    assert not elsewhere.was_seen(both.digest())
    assert not typed.was_seen(none.digest())
    twice = Plan(title="t", about="a", warnings=[*plan.warnings, *plan.warnings])
    assert plan.was_seen(twice.digest())
    assert not twice.was_seen(plan.digest())
    with pytest.raises(AssertionError, match="without a code"):
        Plan(title="t", about="a", warnings=[warning("", "It would be full.")])


def test_what_another_version_planned_is_refused_with_a_way_on() -> None:
    name = next(iter(STEPS))
    for known, payload in (("unheard-of", {}), (name, None), (name, {"unheard": "of"})):
        with pytest.raises(NotPossible, match="planned by another version") as refused:
            read_step(known, payload)
        assert refused.value.next_step


def test_each_kind_of_effect_has_a_tag_of_its_own() -> None:
    kinds = get_args(get_args(AnyEffect)[0])
    tags = [kind.model_fields["effect"].default for kind in kinds]
    assert len(set(tags)) == len(kinds) == 14


@pytest.mark.pooled
def test_the_bench_measures_a_preview_of_every_kind(barn_site: Site) -> None:
    for name in ("charts", "tides", "logs"):
        barn_site.volume(name, size="10 GiB")
    barn_site.do("delete-volume", volume="logs", typed="logs")
    asked = wishes(current_view())
    assert set(asked) == set(KINDS)
    for kind, params in asked.items():
        KINDS[kind].plan(current_view(), KINDS[kind].params.model_validate(params))
