/** Nodes of the site in natural order, and what is asked of them together. */

import { computed } from "vue";
import { useMachines } from "../api/client";
import { natural } from "./natural";

export function useNodes() {
  const { data: machines } = useMachines();
  const nodes = computed(() => [...(machines.value?.nodes ?? [])].sort((a, b) => natural(a.name, b.name)));
  return {
    nodes,
    names: computed(() => nodes.value.map((n) => n.name)),
    ports: computed(() => [...new Set(nodes.value.flatMap((n) => n.ports.map((p) => p.name)))].sort(natural)),
    inOrder: (names: string[]) => [...names].sort(natural),
  };
}
