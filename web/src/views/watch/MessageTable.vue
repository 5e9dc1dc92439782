<script setup lang="ts">
import { ref } from "vue";
import type { Lamp, Message } from "../../api/client";
import StateMark from "../../parts/StateMark.vue";
import { at, EVENTS } from "./words";

/** What was or is to be sent to whom; each opens into its text. */
defineProps<{ messages: Message[] }>();
const open = ref<number | null>(null);
const LAMPS: Record<Message["state"], Lamp> = {
  waiting: "watch",
  sending: "mending",
  sent: "sound",
  "given up": "failed",
};
</script>

<template>
  <VTable class="plain">
    <thead>
      <tr>
        <th>To</th>
        <th>That</th>
        <th>Message</th>
        <th>State</th>
        <th>Made</th>
        <th>Sent</th>
      </tr>
    </thead>
    <tbody>
      <template v-for="m in messages" :key="m.number">
        <tr>
          <td>{{ m.to }}</td>
          <td class="nowrap">{{ EVENTS[m.event] }}</td>
          <td class="name">
            <VBtn
              class="act"
              :aria-expanded="open === m.number"
              @click="open = open === m.number ? null : m.number"
              >{{ m.subject }}</VBtn
            >
          </td>
          <td>
            <StateMark :lamp="LAMPS[m.state]" /> {{ m.state }}
            <span v-if="m.problem" class="soft">{{ m.problem }}</span>
          </td>
          <td class="nowrap">{{ at(m.made) }}</td>
          <td class="nowrap">{{ at(m.sent) }}</td>
        </tr>
        <tr v-if="open === m.number">
          <td colspan="6">
            <pre>{{ m.text }}</pre>
          </td>
        </tr>
      </template>
    </tbody>
  </VTable>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
}
.name .act {
  white-space: normal;
  text-align: left;
}
.nowrap {
  white-space: nowrap;
}
pre {
  font: 430 12px/1.4 var(--mono);
  background: var(--well);
  padding: 8px 10px;
  margin: 4px 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
