<script setup lang="ts">
import { useTemplateRef } from "vue";

/** Words that let one choose files. */
defineProps<{ label: string; name: string; accept: string; multiple?: boolean }>();
const emit = defineEmits<{ pick: [files: File[]] }>();
const field = useTemplateRef<{ $el: HTMLElement }>("field");
const open = () => field.value?.$el.querySelector("input")?.click();
function pick(files: File | File[] | null | undefined) {
  const found = [files ?? []].flat();
  if (found.length) emit("pick", found);
}
</script>

<template>
  <span>
    <VBtn class="act" @click="open">{{ label }}</VBtn>
    <VFileInput
      ref="field"
      :model-value="[]"
      class="unseen"
      :aria-label="name"
      tabindex="-1"
      :accept="accept"
      :multiple="multiple"
      @update:model-value="pick"
    />
  </span>
</template>
