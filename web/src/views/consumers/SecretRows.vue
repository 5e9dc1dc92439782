<script setup lang="ts">
import { ref } from "vue";
import { type Consumers, useShownSecret } from "../../api/client";
import { clock } from "../../lib/format";
import { keepAsFile } from "../../lib/files";
import CommandLine from "../../parts/CommandLine.vue";
import CopyName from "../../parts/CopyName.vue";
import OnceSheet from "../../parts/OnceSheet.vue";
import ProblemNote from "../../parts/ProblemNote.vue";

/** An orchestrator's secrets: who has seen each, who is connected by it, and each in the clear, once. */
const { orchestrator } = defineProps<{ orchestrator: Consumers["orchestrators"][number] }>();
const FILE = "fold-barn-storage.yaml";
const { mutate, data: shown, error, reset } = useShownSecret();
const open = ref(false);
const show = (name: string) =>
  mutate({ orchestrator: orchestrator.name, name }, { onSuccess: () => (open.value = true) });
</script>

<template>
  <div class="sec mine">
    <h3>Secrets</h3>
    <span class="small">{{ orchestrator.secrets_said }}</span>
    <span class="grow" />
    <RouterLink
      v-if="!orchestrator.against_another"
      class="act"
      :to="{ query: { plan: 'make-secret', orchestrator: orchestrator.name } }"
      >Make {{ orchestrator.secrets.length ? "another" : "one" }}</RouterLink
    >
    <span v-else class="small">{{ orchestrator.against_another }}</span>
  </div>
  <ProblemNote :error="error" />
  <VTable v-if="orchestrator.secrets.length" class="plain">
    <thead>
      <tr>
        <th>Name</th>
        <th>Made</th>
        <th>Seen by</th>
        <th>Connected by it</th>
        <th><span class="unseen">What can be done</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="s in orchestrator.secrets" :key="s.name">
        <td class="mono">{{ s.name }} <CopyName :name="s.name" /></td>
        <td>{{ clock(s.made_at) }}</td>
        <td v-if="s.shown_at">{{ s.shown_to }}, {{ clock(s.shown_at) }}</td>
        <td v-else>nobody yet</td>
        <td>{{ s.hosts.join(", ") || "nobody" }}</td>
        <td class="acts">
          <VBtn v-if="!s.shown_at" class="act" @click="show(s.name)">Show it, once</VBtn>
          <RouterLink
            class="act"
            :to="{ query: { plan: 'revoke-secret', orchestrator: orchestrator.name, secret: s.name } }"
            >Preview revoking {{ s.name }}</RouterLink
          >
        </td>
      </tr>
    </tbody>
  </VTable>
  <OnceSheet
    v-model="open"
    :title="shown?.name"
    :label="`The secret ${shown?.name}`"
    :width="620"
    @closed="reset"
  >
    <template v-if="shown">
      <p>It is shown this once. Apply it in {{ orchestrator.name }}, or keep it as a file first.</p>
      <dl>
        <dt>Name</dt>
        <dd class="mono">{{ shown.name }} <CopyName :name="shown.name" /></dd>
        <dt>Secret</dt>
        <dd class="mono">{{ shown.secret }} <CopyName :name="shown.secret" /></dd>
      </dl>
      <VTextarea :model-value="shown.manifest" label="As a manifest" readonly rows="11" class="mono" />
      <CommandLine :text="`kubectl apply -f ${FILE}`" />
    </template>
    <template #deeds>
      <VBtn v-if="shown" class="btn" @click="keepAsFile(FILE, shown.manifest, 'application/yaml')"
        >Keep it as a file</VBtn
      >
    </template>
  </OnceSheet>
</template>

<style scoped>
.mine {
  padding-top: 8px;
}
.acts {
  text-align: right;
  white-space: nowrap;
}
.acts > * + * {
  margin-left: 12px;
}
h3 {
  font-size: var(--t-s);
  font-weight: 680;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 2px 14px;
}
</style>
