<script setup lang="ts">
import { useScreen } from "../screen";

const screen = useScreen();
const KEYS: [string, string][] = [
  ["/", "find"],
  ["1 – 6", "sections in order"],
  ["P", "preview the offered change"],
  ["Y", "the yard's levers"],
  ["T", "go to the tape"],
  ["[ and ]", "walk the lineage"],
  [".", "open the sum of the figure in focus"],
  ["Alt + N", "day and night watch"],
  ["?", "these keys"],
  ["Esc", "close a sheet, then unlight"],
  ["arrows", "on the map: by bin and stall; on copies: by extent"],
  ["Enter", "on the map: open"],
  ["Space", "on the map: choose a disk"],
  ["N", "on a volume: next extent that is short"],
];
</script>

<template>
  <VDialog v-model="screen.keysOpen" aria-label="Keys" width="460" transition="none">
    <section class="sheet">
      <h2>Keys</h2>
      <dl>
        <template v-for="[key, what] in KEYS" :key="key"
          ><dt>
            <kbd>{{ key }}</kbd>
          </dt>
          <dd>{{ what }}</dd></template
        >
      </dl>
      <VCheckbox v-model="screen.singleKeys" label="Single keys are on (never while typing)" />
    </section>
  </VDialog>
</template>

<style scoped>
.sheet {
  background: var(--sheet);
  color: var(--ink);
  border: 1px solid var(--ink);
  padding: 14px 20px 16px;
  font-size: var(--t-s);
}
h2 {
  font-size: var(--t-l);
  font-weight: 680;
  padding-bottom: 8px;
  border-bottom: 1.5px solid var(--ink);
}
dl {
  display: grid;
  grid-template-columns: 90px 1fr;
  gap: 0;
  padding: 4px 0 10px;
}
dt,
dd {
  border-bottom: 1px solid var(--rule);
  padding: 4px 0;
}
</style>
