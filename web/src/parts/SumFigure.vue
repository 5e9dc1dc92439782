<script setup lang="ts">
import { ref, useSlots } from "vue";
import type { Figure } from "../api/client";
import { amount, binarySize } from "../lib/format";

/**
 * A dotted figure that opens into its sum. The slot replaces the printed value, for columns with a unit of
 * their own.
 */
const props = defineProps<{ figure: Figure }>();
const slots = useSlots();
/** What is read on the screen, so that its name says the same (WCAG 2.2, 2.5.3). */
const printed = () =>
  (slots.default?.() ?? []).map((node) => String(node.children ?? "").trim()).join("") ||
  amount(props.figure.value, props.figure.unit);
const open = ref(false);
function onKey(event: KeyboardEvent) {
  if (event.key !== ".") return;
  event.preventDefault();
  open.value = !open.value;
}
const WORDS: Record<string, string> = { "+": "plus", "−": "less", "×": "times", "÷": "divided by" };
</script>

<template>
  <VMenu v-model="open" :close-on-content-click="false" location="top end" :offset="10" transition="none">
    <template #activator="{ props: ours }">
      <button
        v-if="figure.parts.length"
        v-bind="ours"
        class="sum"
        type="button"
        :aria-label="`${figure.label}: ${printed()}. Opens its sum.`"
        :aria-description="amount(figure.value, figure.unit)"
        @keydown="onKey"
      >
        <slot>{{ amount(figure.value, figure.unit) }}</slot>
      </button>
      <span v-else
        ><slot>{{ amount(figure.value, figure.unit) }}</slot></span
      >
    </template>
    <div class="sheet" role="dialog" :aria-label="figure.label">
      <h3>
        {{ figure.label }}: {{ amount(figure.value, figure.unit)
        }}<template v-if="figure.unit === 'bytes' && figure.value >= 2 ** 30">
          ({{ binarySize(figure.value) }})</template
        >
      </h3>
      <table>
        <tbody>
          <tr v-for="(part, i) in figure.parts" :key="i">
            <td class="op">
              <span :aria-label="WORDS[part.operation]">{{ i ? part.operation : "" }}</span>
            </td>
            <td>{{ part.label }}</td>
            <td class="n">{{ amount(part.value, part.unit) }}</td>
          </tr>
          <tr class="total">
            <td class="op">=</td>
            <td>{{ figure.label }}</td>
            <td class="n">{{ amount(figure.value, figure.unit) }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="figure.note">{{ figure.note }}</p>
    </div>
  </VMenu>
</template>

<style scoped>
.sum {
  cursor: help;
  text-decoration: underline dotted;
  text-decoration-thickness: 1.5px;
  text-underline-offset: 4px;
  text-decoration-color: var(--faint);
  white-space: nowrap;
  font: inherit;
  color: inherit;
  letter-spacing: inherit;
}
.sheet {
  background: var(--sheet);
  color: var(--ink);
  border: 1px solid var(--ink);
  box-shadow: var(--lift);
  padding: 10px 14px;
  width: 400px;
  max-width: 90vw;
  font-size: var(--t-s);
  clip-path: polygon(0 0, calc(100% - 16px) 0, 100% 16px, 100% 100%, 0 100%);
}
h3 {
  font-size: var(--t-m);
  font-weight: 680;
  padding: 0 20px 6px 0;
}
table {
  width: 100%;
  border-collapse: collapse;
}
td {
  border-top: 1px solid var(--rule);
  padding: 3px 0;
  vertical-align: top;
}
td.n {
  text-align: right;
  font-family: var(--mono);
  white-space: nowrap;
  padding-left: 12px;
}
td.op {
  width: 16px;
  color: var(--faint);
}
tr.total td {
  border-top: 1.5px solid var(--ink);
  font-weight: 640;
}
p {
  padding-top: 8px;
  color: var(--soft);
}
</style>
