/** Which component shows which kind of effect, in the order in which people read them. */
import type { Component } from "vue";
import type { Effect } from "../../lib/effects";
import CapacityEffect from "./CapacityEffect.vue";
import ChecksEffect from "./ChecksEffect.vue";
import DomainsEffect from "./DomainsEffect.vue";
import EnduranceEffect from "./EnduranceEffect.vue";
import LevelsEffect from "./LevelsEffect.vue";
import MovedEffect from "./MovedEffect.vue";
import PoolAnswersEffect from "./PoolAnswersEffect.vue";
import PromiseEffect from "./PromiseEffect.vue";
import RolesEffect from "./RolesEffect.vue";
import SumsEffect from "./SumsEffect.vue";
import TextsEffect from "./TextsEffect.vue";
import VotesEffect from "./VotesEffect.vue";

/** Ledgers and what comes to disks have places of their own on the sheet: a table and the map. */
type Shown = Exclude<Effect["effect"], "ledgers" | "on-disks">;

const COMPONENTS: Record<Shown, Component> = {
  sums: SumsEffect,
  checks: ChecksEffect,
  votes: VotesEffect,
  levels: LevelsEffect,
  texts: TextsEffect,
  roles: RolesEffect,
  endurance: EnduranceEffect,
  capacity: CapacityEffect,
  moved: MovedEffect,
  promise: PromiseEffect,
  "pool-answers": PoolAnswersEffect,
  domains: DomainsEffect,
};
const ORDER = Object.keys(COMPONENTS);

/** The effects that are shown, each with its component. */
export function shown(effects: Effect[]): { effect: Effect; component: Component }[] {
  return effects
    .filter((effect) => ORDER.includes(effect.effect))
    .sort((a, b) => ORDER.indexOf(a.effect) - ORDER.indexOf(b.effect))
    .map((effect) => ({ effect, component: COMPONENTS[effect.effect as Shown] }));
}
