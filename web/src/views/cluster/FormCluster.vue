<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { askWitness, useBarn, useMachines, useText, useYard } from "../../api/client";
import { usePlan } from "../../lib/plan";
import { natural } from "../../lib/natural";
import PreviewEffects from "../../parts/PreviewEffects.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";

/** Choosing members, keepers, the witness, the service address and keys; what the votes survive, and every precheck, show while choosing. */
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

function toggle(list: "members" | "keepers" | "dedicated", name: string) {
  const held = wish[list];
  wish[list] = held.includes(name) ? held.filter((n) => n !== name) : [...held, name];
  if (list === "members" && !wish.members.includes(name)) {
    wish.keepers = wish.keepers.filter((n) => n !== name);
    wish.dedicated = wish.dedicated.filter((n) => n !== name);
  }
}
async function ask() {
  asking.value = "Asking …";
  try {
    wish.witness = (await askWitness(wish.witness_url)).name;
    asking.value = `${wish.witness} answers.`;
  } catch (error) {
    wish.witness = "";
    asking.value = (error as Error).message;
  }
}
</script>

<template>
  <div class="headline">
    <h1>Form the cluster</h1>
    <p>The nodes that decide together. Nothing is changed before you carry it out.</p>
    <span class="grow" />
    <button type="button" class="btn" :disabled="plan.blocked.value || mismatch" @click="plan.carryOut">
      Carry out
    </button>
  </div>
  <ProblemNote :error="plan.error.value" />
  <p v-if="machines && !nodes.length" class="empty">
    No node is known yet. <RouterLink class="act" to="/intake">Take in machines</RouterLink>
  </p>
  <template v-else>
    <div class="top">
      <table class="plain choose" aria-label="Nodes">
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
              <input
                type="checkbox"
                :checked="wish.members.includes(n.name)"
                :aria-label="`${n.name} is a member`"
                @change="toggle('members', n.name)"
              />
            </td>
            <td>
              <input
                type="checkbox"
                :checked="wish.keepers.includes(n.name)"
                :disabled="!wish.members.includes(n.name)"
                :aria-label="`${n.name} has a vote`"
                @change="toggle('keepers', n.name)"
              />
            </td>
            <td>
              <input
                type="checkbox"
                :checked="wish.dedicated.includes(n.name)"
                :disabled="!wish.members.includes(n.name)"
                :aria-label="`${n.name} is dedicated to storage`"
                @change="toggle('dedicated', n.name)"
              />
            </td>
            <td :title="n.state.reason">
              <StateMark :lamp="n.state.lamp" />
              <span class="soft">{{ n.state.lamp === "sound" ? "" : n.state.reason }}</span>
            </td>
          </tr>
        </tbody>
      </table>
      <form class="wishes" @submit.prevent>
        <div class="row">
          <label class="field"
            >Name<input
              v-model="wish.name"
              aria-label="Name of the cluster"
              maxlength="80"
              autocomplete="off"
          /></label>
          <label class="field"
            >Service address, with prefix<input
              v-model="wish.service_address"
              placeholder="10.10.0.5/24"
              aria-label="Service address"
              autocomplete="off"
          /></label>
        </div>
        <div class="row">
          <label class="field"
            >Witness, at its address (none: leave empty)<input
              v-model="wish.witness_url"
              list="witnesses"
              aria-label="Address of the witness"
              style="width: 300px"
              autocomplete="off"
              @input="wish.witness = ''"
          /></label>
          <datalist v-if="yard" id="witnesses">
            <option :value="yard.witness_url">lamp-room, a stand-in</option>
          </datalist>
          <button type="button" class="btn plain" :disabled="!wish.witness_url" @click="ask">Ask it</button>
          <span class="small" role="status">{{ asking }}</span>
        </div>
        <div v-if="wish.witness" class="row">
          <label class="field"
            >It stands in<select v-model="wish.witness_room" aria-label="Room of the witness">
              <option value="">neither room: apart</option>
              <option v-for="r in [...new Set(nodes.map((n) => n.room))]" :key="r">{{ r }}</option>
            </select></label
          >
          <label v-if="wish.witness_room" class="field"
            >Why it may stand beside members<input
              v-model="wish.witness_reason"
              maxlength="500"
              aria-label="Why the witness may stand beside members"
              style="width: 300px"
              autocomplete="off"
          /></label>
        </div>
        <div class="row">
          <label class="field"
            >Notify by mail (nobody: leave empty)<input
              v-model="wish.mail_to"
              type="email"
              placeholder="storage@example.org"
              aria-label="Mail address for notifications"
              style="width: 300px"
              autocomplete="off"
          /></label>
        </div>
        <div class="row">
          <label class="check"><input v-model="wish.encrypted" type="checkbox" /> Encrypt data at rest</label>
          <template v-if="wish.encrypted">
            <label class="field"
              >Passphrase that seals the key<input
                v-model="wish.passphrase"
                type="password"
                aria-label="Passphrase that seals the key"
                autocomplete="new-password"
            /></label>
            <label class="field"
              >Once more<input
                v-model="again"
                type="password"
                aria-label="Passphrase once more"
                autocomplete="new-password"
                :aria-invalid="mismatch"
            /></label>
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
.choose {
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
.check {
  font-size: var(--t-m);
  display: flex;
  gap: 8px;
  align-items: center;
  min-height: 30px;
}
</style>
