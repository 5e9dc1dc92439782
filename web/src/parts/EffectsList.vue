<script setup lang="ts">
import { computed } from "vue";
import type { Preview } from "../api/client";
import { everyEffect, type Effect } from "../lib/effects";
import { shown } from "./effects/kinds";

/** The effects of a preview, each drawn as its kind is. without: those that the page shows elsewhere. */
const props = defineProps<{ preview: Preview; without?: Effect["effect"][] }>();
const several = computed(() => new Set(everyEffect(props.preview, "sums").map((s) => s.pool)).size > 1);
const effects = computed(() =>
  shown(props.preview.effects.filter((e) => !props.without?.includes(e.effect))).map((one) => ({
    ...one,
    given:
      one.effect.effect === "sums" ? { effect: one.effect, several: several.value } : { effect: one.effect },
  })),
);
</script>

<template>
  <component
    :is="one.component"
    v-for="(one, i) in effects"
    :key="one.effect.effect + i"
    v-bind="one.given"
  />
</template>
