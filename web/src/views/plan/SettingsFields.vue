<script setup lang="ts">
/** What can be set of a pool. Sizes and rates are typed in their usual units and kept in bytes. */
const wish = defineModel<Record<string, number | string | null>>({ required: true });
const LEVELS = ["room", "rack", "node", "disk"];
const MB = 1e6,
  MIB = 2 ** 20,
  GB = 1e9;
const UNITS = [
  [1, "1 MiB"],
  [16, "16 MiB"],
  [256, "256 MiB"],
  [1024, "1 GiB"],
  [8192, "8 GiB"],
] as const;
const set = (name: string, value: number | string | null) => (wish.value = { ...wish.value, [name]: value });
const number = (event: Event) => Math.max(0, Number((event.target as HTMLInputElement).value) || 0);
const text = (event: Event) => (event.target as HTMLSelectElement).value;
</script>

<template>
  <label class="field"
    >Copies<select
      :value="wish.copies"
      aria-label="Usual copies"
      @change="set('copies', Number(text($event)))"
    >
      <option v-for="n in 5" :key="n" :value="n">{{ n }}</option>
    </select></label
  >
  <label class="field"
    >Each in another<select :value="wish.level" aria-label="Spread over" @change="set('level', text($event))">
      <option v-for="l in LEVELS" :key="l">{{ l }}</option>
    </select></label
  >
  <label class="field"
    >Heal from losing<span class="pair"
      ><select
        :value="wish.headroom_losses"
        aria-label="Losses to heal from"
        :disabled="wish.headroom === null"
        @change="set('headroom_losses', Number(text($event)))"
      >
        <option v-for="n in 3" :key="n" :value="n">any {{ ["one", "two", "three"][n - 1] }}</option></select
      ><select
        :value="wish.headroom ?? 'none'"
        aria-label="Hold back for"
        @change="set('headroom', text($event) === 'none' ? null : text($event))"
      >
        <option value="none">nothing held back</option>
        <option v-for="l in ['disk', 'node', 'rack']" :key="l">{{ l }}</option>
      </select></span
    ></label
  >
  <label class="field"
    >Fill line, per cent<input
      type="number"
      min="20"
      max="100"
      :value="Math.round(Number(wish.fill_line) * 100)"
      aria-label="Fill line"
      style="width: 74px"
      @change="set('fill_line', Math.min(100, number($event)) / 100)"
  /></label>
  <label class="field"
    >Allocation unit<select
      :value="Number(wish.allocation_bytes) / MIB"
      aria-label="Allocation unit"
      @change="set('allocation_bytes', Number(text($event)) * MIB)"
    >
      <option v-for="[n, name] in UNITS" :key="n" :value="n">{{ name }}</option>
    </select></label
  >
  <label class="field"
    >Overcommit at most<input
      type="number"
      min="0.1"
      step="0.1"
      :value="wish.overcommit_cap"
      aria-label="Cap on overcommit"
      style="width: 74px"
      @change="set('overcommit_cap', number($event) || 1)"
  /></label>
  <label class="field"
    >Rebuild, MB/s at most<input
      type="number"
      min="0"
      :value="Number(wish.rebuild_rate) / MB || ''"
      placeholder="no limit"
      aria-label="Rebuild rate"
      style="width: 96px"
      @change="set('rebuild_rate', number($event) * MB)"
  /></label>
  <label class="field"
    >Levelling, MB/s at most<input
      type="number"
      min="0"
      :value="Number(wish.level_rate) / MB || ''"
      placeholder="no limit"
      aria-label="Levelling rate"
      style="width: 96px"
      @change="set('level_rate', number($event) * MB)"
  /></label>
  <label class="field"
    >Goes first<select :value="wish.priority" aria-label="Goes first" @change="set('priority', text($event))">
      <option value="consumers">consumers' work</option>
      <option value="even">neither</option>
      <option value="copying">copying</option>
    </select></label
  >
  <label class="field"
    >Writes a day, GB<input
      type="number"
      min="0"
      :value="Number(wish.daily_writes) / GB || ''"
      placeholder="not said"
      aria-label="Expected writes a day"
      style="width: 96px"
      @change="set('daily_writes', number($event) * GB)"
  /></label>
</template>

<style scoped>
.pair {
  display: flex;
  gap: 4px;
}
</style>
