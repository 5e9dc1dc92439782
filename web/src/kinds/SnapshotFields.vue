<script setup lang="ts">
import { ref, watch } from "vue";
import { useDefaults } from "../api/client";
import { moment } from "../lib/format";
import { useSheet, volumesAsked, type Wish } from "./kind";

/** What a snapshot is called, and how much room volumes without one yet set aside for it. */
const wish = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const { data: defaults } = useDefaults();
const name = ref(moment());
const room = ref<string>();
watch(
  [name, room],
  () => {
    wish.value = {
      volumes: volumesAsked(asked),
      name: name.value,
      ...(room.value ? { room: Number(room.value) } : {}),
    };
  },
  { immediate: true },
);
</script>

<template>
  <VTextField v-model="name" label="Name of the snapshot" v-first maxlength="63" width="220" />
  <VTextField
    v-model="room"
    type="number"
    min="1"
    max="100"
    :placeholder="String(defaults?.snapshot_room ?? '')"
    label="Room with the first one, %"
    width="180"
  />
</template>
