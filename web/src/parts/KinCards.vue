<script setup lang="ts">
import { computed } from "vue";
import { useLineage, type Link } from "../api/client";
import { count, say } from "../lib/format";
import { pathOf } from "../lib/paths";
import LineageCards from "./LineageCards.vue";
import ProblemNote from "./ProblemNote.vue";

/** All that depends on a thing and all that it depends on, as the chain of cards it stands in. */
const props = defineProps<{ link: Link; name: string }>();
const { data: lineage, error } = useLineage(
  () => props.link,
  () => props.name,
);
const LISTS: Record<Link, string> = {
  claim: "/consumers",
  host: "/hosts",
  vm: "/vms",
  share: "/shares",
  volume: "/volumes",
  policy: "/policies",
  pool: "/pools",
  disk: "/machines",
  node: "/machines",
  rack: "/arrange",
  room: "/arrange",
};
const cards = computed(() =>
  (lineage.value?.kin ?? [])
    // Of what uses it, that there is none is worth saying; what a bare place lacks is not.
    .filter((k) => k.names.length || k.link === "host" || k.link === "volume")
    .map(({ link, names, lamp }) => {
      const here = link === props.link;
      const alone = names.length === 1;
      return {
        kind: link === "vm" ? "VM" : link[0]!.toUpperCase() + link.slice(1),
        name: alone
          ? names[0]!
          : names.length
            ? count(names.length, link === "vm" ? "VM" : link, link === "policy" ? "policies" : undefined)
            : "none",
        fact: alone || !names.length ? "" : say(names),
        lamp,
        to:
          link === "claim"
            ? { path: LISTS.claim, query: alone ? { words: names[0]! } : {} }
            : alone && link !== "rack" && link !== "room"
              ? pathOf(link, names[0]!)
              : { path: LISTS[link], query: link === "volume" ? { of: `${props.link}:${props.name}` } : {} },
        here,
      };
    }),
);
</script>

<template>
  <ProblemNote :error="error" />
  <div class="whole"><LineageCards v-if="cards.length" :cards="cards" /></div>
</template>

<style scoped>
.whole {
  min-height: 68px; /* of the cards, so that nothing moves when they come */
  margin-bottom: 10px;
}
</style>
