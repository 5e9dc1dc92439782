/** What a wish begins with, and what there is to choose from, as the server says. */

import { computed } from "vue";
import { useBarn, useDefaults, usePolicies } from "../api/client";
import { placesFor } from "../lib/places";

export function useChoices() {
  const { data } = useDefaults();
  return {
    defaults: data,
    copies: computed(() => Array.from({ length: data.value?.most_copies ?? 0 }, (_, i) => i + 1)),
    levels: computed<string[]>(() => data.value?.levels ?? []),
    heldBack: computed(() => [
      { title: "nothing held back", value: null },
      ...(data.value?.headrooms ?? []).map((l) => ({ title: l, value: l })),
    ]),
  };
}

/** Pools for what is to keep a policy, if any. */
export function usePlaces(policy: () => string) {
  const { data: barn } = useBarn();
  const { data: policies } = usePolicies();
  return computed(() => [
    ...(policy() ? [{ title: "chosen by the policy", value: "" }] : []),
    ...placesFor(
      (barn.value?.pools ?? []).map((p) => p.name),
      policies.value?.find((p) => p.name === policy())?.answers,
    ),
  ]);
}
