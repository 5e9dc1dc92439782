<script setup lang="ts">
import { useChoices } from "./choices";
import { worded, words, type Settings } from "./kind";
import { binarySize } from "../lib/format";

/** What can be set of a pool. Sizes and rates are typed in their usual units and kept in bytes. */
const wish = defineModel<Settings>({ required: true });
const MB = 1e6,
  MIB = 2 ** 20,
  GB = 1e9;
const UNITS = [1, 16, 256, 1024, 8192].map((n) => ({ title: binarySize(n * MIB), value: n * MIB }));
const LOSSES = ["any one", "any two", "any three"].map((title, i) => ({ title, value: i + 1 }));
const FIRST = [
  { title: "consumers' work", value: "consumers" },
  { title: "neither", value: "even" },
  { title: "copying", value: "copying" },
];
const { copies, levels, heldBack } = useChoices();
const set = (name: string, value: Settings[string]) => (wish.value = { ...wish.value, [name]: value });
// Numbers are taken when they are whole: half of one is none, and is not to be replaced under the hand.
const number = (event: Event) => Math.max(0, Number((event.target as HTMLInputElement).value) || 0);
</script>

<template>
  <VSelect
    :model-value="Number(wish.copies)"
    :items="copies"
    label="Usual copies"
    width="70"
    @update:model-value="(n) => set('copies', n)"
  />
  <VSelect
    :model-value="String(wish.level)"
    :items="levels"
    label="Spread over"
    width="100"
    @update:model-value="(l) => set('level', l)"
  />
  <span class="pair">
    <VSelect
      :model-value="wish.headroom_losses"
      :items="LOSSES"
      label="Losses to heal from"
      width="104"
      :disabled="wish.headroom === null"
      @update:model-value="(n) => set('headroom_losses', n)"
    />
    <VSelect
      :model-value="wish.headroom"
      :items="heldBack"
      aria-label="Hold back for"
      width="160"
      @update:model-value="(l) => set('headroom', l)"
    />
  </span>
  <VTextField
    type="number"
    min="20"
    max="100"
    :model-value="Math.round(Number(wish.fill_line) * 100)"
    label="Fill line, per cent"
    width="104"
    @change="set('fill_line', Math.min(100, number($event)) / 100)"
  />
  <VSelect
    :model-value="wish.allocation_bytes"
    :items="UNITS"
    label="Allocation unit"
    width="104"
    @update:model-value="(n) => set('allocation_bytes', n)"
  />
  <VTextField
    type="number"
    min="0.1"
    step="0.1"
    :model-value="wish.overcommit_cap"
    label="Cap on overcommit"
    width="112"
    @change="set('overcommit_cap', number($event) || 1)"
  />
  <VTextField
    type="number"
    min="0"
    :model-value="Number(wish.rebuild_rate) / MB || ''"
    placeholder="no limit"
    label="Rebuild rate, MB/s"
    width="128"
    @change="set('rebuild_rate', number($event) * MB)"
  />
  <VTextField
    type="number"
    min="0"
    :model-value="Number(wish.level_rate) / MB || ''"
    placeholder="no limit"
    label="Levelling rate, MB/s"
    width="136"
    @change="set('level_rate', number($event) * MB)"
  />
  <VSelect
    :model-value="wish.priority"
    :items="FIRST"
    label="Goes first"
    width="160"
    @update:model-value="(p) => set('priority', p)"
  />
  <VTextField
    type="number"
    min="0"
    :model-value="Number(wish.daily_writes) / GB || ''"
    placeholder="not said"
    label="Expected writes a day, GB"
    width="160"
    @change="set('daily_writes', number($event) * GB)"
  />
  <VTextField
    :model-value="worded(wish.labels)"
    label="Labels, with commas between"
    width="220"
    @change="set('labels', words(($event.target as HTMLInputElement).value))"
  />
</template>

<style scoped>
.pair {
  display: flex;
  align-items: end;
  gap: 4px;
}
</style>
