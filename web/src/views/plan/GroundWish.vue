<script setup lang="ts">
import { computed, reactive, watch } from "vue";
import { useRoute } from "vue-router";
import { useMachines } from "../../api/client";
import { natural } from "../../lib/natural";

/** What is wished of machines, and of what is to be destroyed: clearing, deleting, other names, addresses, joining and leaving the cluster. What the address names is filled in. */
const props = defineProps<{ kind: string }>();
const params = defineModel<Record<string, unknown>>({ required: true });
const { data: machines } = useMachines();
const route = useRoute();
const query = (name: string) => (typeof route.query[name] === "string" ? (route.query[name] as string) : "");
const wish = reactive({
  typed: "",
  pattern: "",
  keeper: false,
  successor: "",
  start: "",
  purpose: "storage",
  port: query("port"),
  nodes: new Set(query("nodes").split(",").filter(Boolean)),
});
const nodes = computed(() => [...(machines.value?.nodes ?? [])].sort((a, b) => natural(a.name, b.name)));
const ports = computed(() =>
  [...new Set(nodes.value.flatMap((n) => n.ports.map((p) => p.name)))].sort(natural),
);
const heirs = computed(() => nodes.value.filter((n) => n.member && !n.keeper && n.contact === "heard"));
const destroyed = computed(
  () =>
    ({ "clear-disk": query("disk"), "delete-volume": query("volume"), "delete-pool": query("pool") })[
      props.kind
    ],
);
const names = computed(() => [...wish.nodes].sort(natural));
watch(
  [wish, () => props.kind],
  () => {
    switch (props.kind) {
      case "delete-volume":
        params.value = { volume: query("volume"), typed: wish.typed };
        break;
      case "delete-pool":
        params.value = { pool: query("pool"), typed: wish.typed };
        break;
      case "clear-disk":
        params.value = { disk: query("disk"), typed: wish.typed };
        break;
      case "rename":
        params.value = { nodes: names.value, pattern: wish.pattern };
        break;
      case "address-ports":
        params.value = { nodes: names.value, port: wish.port, start: wish.start };
        break;
      case "purpose-ports":
        params.value = { nodes: names.value, port: wish.port, purpose: wish.purpose };
        break;
      case "add-node":
        params.value = { node: query("node"), keeper: wish.keeper };
        break;
      case "let-go":
        params.value = { node: query("node"), successor: wish.successor };
    }
  },
  { immediate: true, deep: true },
);
const toggle = (name: string) => void (wish.nodes.delete(name) || wish.nodes.add(name));
</script>

<template>
  <form class="wish" @submit.prevent>
    <label v-if="destroyed" class="field"
      >Type {{ destroyed }} to confirm<input
        v-model="wish.typed"
        autofocus
        autocomplete="off"
        :aria-label="`Type ${destroyed} to confirm`"
    /></label>
    <template v-if="['rename', 'address-ports', 'purpose-ports'].includes(kind)">
      <div class="field">
        Nodes, in natural order<span class="chips"
          ><button
            v-for="n in nodes"
            :key="n.name"
            type="button"
            class="chip"
            :aria-pressed="wish.nodes.has(n.name)"
            @click="toggle(n.name)"
          >
            {{ n.name }}
          </button></span
        >
      </div>
    </template>
    <label v-if="kind === 'rename'" class="field"
      >New names, such as heron-{01..12}<input
        v-model="wish.pattern"
        autofocus
        autocomplete="off"
        aria-label="Pattern of the new names"
        style="width: 220px"
    /></label>
    <template v-if="kind === 'address-ports' || kind === 'purpose-ports'">
      <label class="field"
        >Port<select v-model="wish.port" aria-label="Port">
          <option v-for="p in ports" :key="p">{{ p }}</option>
        </select></label
      >
      <label v-if="kind === 'purpose-ports'" class="field"
        >Is for<select v-model="wish.purpose" aria-label="Purpose">
          <option v-for="p in ['management', 'storage', 'client']" :key="p">{{ p }}</option>
        </select></label
      >
      <label v-else class="field"
        >First address, with prefix<input
          v-model="wish.start"
          autofocus
          autocomplete="off"
          placeholder="10.20.0.11/24"
          aria-label="First address"
      /></label>
    </template>
    <label v-if="kind === 'add-node'" class="check"
      ><input v-model="wish.keeper" type="checkbox" /> It gets a vote</label
    >
    <label v-if="kind === 'let-go' && heirs.length" class="field"
      >Its vote goes to<select v-model="wish.successor" aria-label="Its vote goes to">
        <option value="">nobody</option>
        <option v-for="n in heirs" :key="n.name">{{ n.name }}</option>
      </select></label
    >
  </form>
</template>

<style scoped>
.wish {
  display: flex;
  flex-wrap: wrap;
  gap: 14px;
  padding-bottom: 8px;
  align-items: end;
}
.chips {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
}
.chip {
  border: 1px solid var(--edge);
  border-radius: 3px;
  padding: 2px 8px;
  font-size: var(--t-s);
  background: var(--paper);
  color: var(--ink);
}
.chip[aria-pressed="true"] {
  background: var(--slate);
  color: var(--on-slate);
  border-color: var(--slate);
}
.check {
  font-size: var(--t-m);
  display: flex;
  gap: 8px;
  align-items: center;
}
</style>
