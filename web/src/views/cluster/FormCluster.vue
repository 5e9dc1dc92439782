<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { askWitness, useBarn, useMachines, useProposal, useText, useYard } from "../../api/client";
import { say } from "../../lib/format";
import { usePlan } from "../../lib/plan";
import { natural } from "../../lib/natural";
import PreviewEffects from "../../parts/PreviewEffects.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";

/**
 * Choosing members, keepers, the witness, the service address and keys; what the votes survive, and every
 * precheck, show while choosing.
 */
const { data: machines } = useMachines();
const { data: barn } = useBarn();
const { data: yard } = useYard(() => Boolean(barn.value?.yard));
const { data: text } = useText();
const nodes = computed(() => [...(machines.value?.nodes ?? [])].sort((a, b) => natural(a.name, b.name)));
const wish = reactive({
  name: "",
  members: [] as string[],
  keepers: [] as string[],
  service_address: "",
  witness: "",
  witness_url: "",
  witness_room: "",
  witness_rack: "",
  witness_reason: "",
  dedicated: [] as string[],
  encrypted: false,
  passphrase: "",
  mail_to: "",
});
const again = ref("");
const asking = ref("");
const params = computed(() => ({
  ...wish,
  members: [...wish.members].sort(natural),
  passphrase: wish.encrypted ? wish.passphrase : "",
}));
const kind = ref("form-cluster");
const started = ref(false);
const plan = usePlan(kind, params, () => wish.members.length > 0);
const rooms = computed(() => [
  { title: "neither room: apart", value: "" },
  ...[...new Set(nodes.value.map((n) => n.room))].map((r) => ({ title: r, value: r })),
]);
const answers = ref({ url: "", name: "" }); // the witness that answers, whether it gets a vote or not
const { data: proposal } = useProposal(() => ({
  members: params.value.members,
  witness: answers.value.name,
}));
const taken = computed(
  () =>
    proposal.value?.keepers.join() === [...wish.keepers].sort(natural).join() &&
    proposal.value?.service_address === wish.service_address &&
    proposal.value?.witness === wish.witness,
);
function takeProposal() {
  const { keepers, witness, service_address } = proposal.value!;
  Object.assign(wish, { keepers, service_address, witness, witness_url: witness ? answers.value.url : "" });
  asking.value = witness ? `${witness} answers.` : "";
}
const mismatch = computed(() => wish.encrypted && wish.passphrase !== again.value);

/** What was entered in the site's text is there; otherwise every node that is heard is a member. */
watch(
  [machines, text],
  () => {
    if (started.value || !machines.value || !text.value) return;
    started.value = true;
    wish.members = nodes.value.filter((n) => n.contact === "heard").map((n) => n.name);
    const entered = text.value.cluster;
    if (!entered) return;
    const known = (names: string[]) => names.filter((n) => wish.members.includes(n));
    Object.assign(wish, {
      name: entered.name,
      service_address: entered.service_address,
      keepers: known(entered.keepers),
      dedicated: known(entered.dedicated),
      witness_url: entered.witness_url,
    });
    if (entered.witness_url) void ask();
  },
  { immediate: true },
);
/**
 * A witness that is known here is asked; only one that answers is proposed. What is being typed is not
 * asked.
 */
watch(
  () => yard.value?.witness_url,
  async (url) => {
    if (!url) return;
    const { name } = await askWitness(url).catch(() => ({ name: "" }));
    if (name && !answers.value.name) answers.value = { url, name };
  },
  { immediate: true },
);

function toggle(list: "members" | "keepers" | "dedicated", name: string) {
  const held = wish[list];
  wish[list] = held.includes(name) ? held.filter((n) => n !== name) : [...held, name];
  if (list === "members" && !wish.members.includes(name)) {
    wish.keepers = wish.keepers.filter((n) => n !== name);
    wish.dedicated = wish.dedicated.filter((n) => n !== name);
  }
}
async function ask() {
  const url = wish.witness_url;
  asking.value = "Asking …";
  const { name, said } = await askWitness(url).then(
    (w) => ({ name: w.name, said: `${w.name} answers.` }),
    (error: Error) => ({ name: "", said: error.message }),
  );
  if (url !== wish.witness_url) return; // another address stands there by now
  wish.witness = name;
  asking.value = said;
  if (name) answers.value = { url, name };
}
</script>

<template>
  <div class="headline">
    <h1>Form the cluster</h1>
    <p>The nodes that decide together. Nothing is changed before you carry it out.</p>
    <span class="grow" />
    <VBtn class="btn" :disabled="plan.blocked.value || mismatch" @click="plan.carryOut"> Carry out </VBtn>
  </div>
  <ProblemNote :error="plan.error.value" />
  <p v-if="machines && !nodes.length" class="empty">
    No node is known yet. <RouterLink class="act" to="/intake">Take in machines</RouterLink>
  </p>
  <template v-else>
    <div class="top">
      <VTable class="plain choose"
        ><caption class="unseen">
          Nodes
        </caption>
        <thead>
          <tr>
            <th>Node</th>
            <th>Where</th>
            <th>Member</th>
            <th>Keeper</th>
            <th>Dedicated</th>
            <th>State</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="n in nodes" :key="n.name" :data-row="n.name">
            <td :title="n.name">
              <b>{{ n.name }}</b>
            </td>
            <td class="soft">{{ n.room }}, {{ n.rack }}</td>
            <td>
              <VCheckboxBtn
                :model-value="wish.members.includes(n.name)"
                :aria-label="`${n.name} is a member`"
                density="compact"
                @update:model-value="toggle('members', n.name)"
              />
            </td>
            <td>
              <VCheckboxBtn
                :model-value="wish.keepers.includes(n.name)"
                :disabled="!wish.members.includes(n.name)"
                :aria-label="`${n.name} has a vote`"
                density="compact"
                @update:model-value="toggle('keepers', n.name)"
              />
            </td>
            <td>
              <VCheckboxBtn
                :model-value="wish.dedicated.includes(n.name)"
                :disabled="!wish.members.includes(n.name)"
                :aria-label="`${n.name} is dedicated to storage`"
                density="compact"
                @update:model-value="toggle('dedicated', n.name)"
              />
            </td>
            <td :title="n.state.reason">
              <StateMark :lamp="n.state.lamp" />
              <span class="soft">{{ n.state.lamp === "sound" ? "" : n.state.reason }}</span>
            </td>
          </tr>
        </tbody>
      </VTable>
      <form class="wishes" @submit.prevent>
        <section v-if="proposal && proposal.keepers.length" class="proposed" aria-label="Proposal">
          <p>
            <b
              >Proposed: {{ say(proposal.keepers) }} keep the votes{{
                proposal.witness ? `, with ${proposal.witness} as the witness` : ""
              }}.</b
            >
            {{ proposal.votes_because }}
          </p>
          <p v-if="proposal.service_address">
            <b>Service address {{ proposal.service_address }}.</b> {{ proposal.address_because }}
          </p>
          <p v-else>{{ proposal.address_because }}</p>
          <p v-if="taken" class="soft" role="status">It is what stands below.</p>
          <VBtn v-else class="act" data-offered @click="takeProposal">Take the proposal</VBtn>
        </section>
        <p v-else-if="proposal" class="small">{{ proposal.votes_because }}</p>
        <div class="row">
          <VTextField v-model="wish.name" label="Name of the cluster" maxlength="80" width="220" />
          <VTextField
            v-model="wish.service_address"
            label="Service address, with prefix"
            placeholder="10.10.0.5/24"
            width="220"
          />
        </div>
        <div class="row">
          <VTextField
            v-model="wish.witness_url"
            list="witnesses"
            label="Address of the witness"
            placeholder="none"
            width="300"
            @update:model-value="
              wish.witness = '';
              asking = '';
            "
          />
          <datalist v-if="yard" id="witnesses">
            <option :value="yard.witness_url">lamp-room, a stand-in</option>
          </datalist>
          <VBtn class="btn plain" :disabled="!wish.witness_url" @click="ask">Ask it</VBtn>
          <span class="small" role="status">{{ asking }}</span>
        </div>
        <div v-if="wish.witness" class="row">
          <VSelect v-model="wish.witness_room" :items="rooms" label="Room of the witness" width="220" />
          <VTextField
            v-if="wish.witness_room"
            v-model="wish.witness_reason"
            label="Why the witness may stand beside members"
            maxlength="500"
            width="300"
          />
        </div>
        <div class="row">
          <VTextField
            v-model="wish.mail_to"
            type="email"
            label="Mail address for notifications"
            placeholder="storage@example.org"
            width="300"
          />
        </div>
        <div class="row">
          <VCheckbox v-model="wish.encrypted" label="Encrypt data at rest" />
          <template v-if="wish.encrypted">
            <VTextField
              v-model="wish.passphrase"
              type="password"
              label="Passphrase that seals the key"
              autocomplete="new-password"
              width="200"
            />
            <VTextField
              v-model="again"
              type="password"
              label="Passphrase once more"
              autocomplete="new-password"
              width="160"
              :error="mismatch"
            />
          </template>
        </div>
        <p v-if="wish.encrypted" class="small">
          {{
            mismatch
              ? "The two passphrases differ."
              : "It is kept nowhere. Without it the key cannot be opened, and nobody can help."
          }}
        </p>
      </form>
    </div>
    <PreviewEffects
      v-if="plan.preview.value"
      :preview="plan.preview.value"
      :waiting="
        !wish.name && !wish.keepers.length
          ? 'Give it a name, choose keepers and a service address.'
          : undefined
      "
    />
  </template>
</template>

<style scoped>
.top {
  display: grid;
  grid-template-columns: minmax(0, 1.15fr) minmax(0, 1fr);
  gap: 26px;
}
.choose :deep(table) {
  table-layout: fixed;
}
.choose td {
  height: 25px;
  padding-top: 1px;
  padding-bottom: 1px;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.choose th:nth-child(1) {
  width: 24%;
}
.choose th:nth-child(2) {
  width: 21%;
}
.choose th:nth-child(3),
.choose th:nth-child(4),
.choose th:nth-child(5) {
  width: 68px;
}
.proposed {
  border-top: 1.5px solid var(--ink);
  border-bottom: 1px solid var(--rule);
  padding: 6px 0 8px;
  font-size: var(--t-s);
}
.wishes {
  display: flex;
  flex-direction: column;
  gap: 10px;
}
.row {
  display: flex;
  gap: 12px;
  align-items: end;
  flex-wrap: wrap;
}
</style>
