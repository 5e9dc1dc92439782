/** What a wish begins with, and what there is to choose from, as the server says. */

import { computed } from "vue";
import { useDefaults } from "../api/client";

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
