<script setup lang="ts">
import { computed, ref } from "vue";
import { useBarn, useGrace, usePull, useYard } from "../api/client";
import { span } from "../lib/format";
import { useScreen } from "../screen";
import ProblemNote from "./ProblemNote.vue";
import YardMachine from "./YardMachine.vue";
import YardOrchestrator from "./YardOrchestrator.vue";

/** The levers of the stand-ins. */
const screen = useScreen();
const { data: barn } = useBarn();
const { data: yard, error } = useYard(() => screen.yardOpen);
const pull = usePull();
const grace = useGrace();
const unfolded = ref<string | null>(null);
const graceText = ref("");
const port = ref("7503");
const HOW = ["well", "silent", "refuses", "lies", "garbled"] as const;
const HOW_SAID = {
  well: "answers",
  silent: "is silent",
  refuses: "refuses",
  lies: "lies",
  garbled: "talks nonsense",
};
const record = ref("");
const addRecord = () =>
  pull.mutate({ lever: "record", text: record.value }, { onSuccess: () => (record.value = "") });
const isShut = (node: string) =>
  yard.value?.shut.some((s) => s.node === node && s.port === Number(port.value)) ?? false;
const MAIL_HOW = ["well", "refuses", "silent"] as const;
const MAIL_SAID = { well: "takes mail", refuses: "refuses it", silent: "is silent" };
const MOST_LETTERS = 8;
const letters = computed(() => [...(yard.value?.mails ?? [])].reverse().slice(0, MOST_LETTERS));
const read = ref(""); // the letter that is open, by its mark
const copy = (text: string) => void navigator.clipboard.writeText(text);
const SPEEDS = [1, 10, 60, 600];
const TIMES = [0, 1, 3, 10];
function unfold(name: string | null) {
  unfolded.value = name;
  printed.value = "";
}
/** What is typed into the shell of a stand-in host, and what the last command there printed. */
const typed = ref("");
const printed = ref("");
function run(host: string) {
  printed.value = "";
  pull.mutate(
    { lever: "run", what: host, text: typed.value },
    {
      onSuccess: (yard) => {
        printed.value = yard.printed || "done, and nothing printed";
        typed.value = "";
      },
    },
  );
}
const failure = computed(() => error.value ?? pull.error.value ?? grace.error.value);
function setGrace() {
  const seconds = Number(graceText.value);
  if (graceText.value.trim())
    grace.mutate(Number.isFinite(seconds) ? seconds : 0, { onSuccess: () => (graceText.value = "") });
}
</script>

<template>
  <VNavigationDrawer v-model="screen.yardOpen" location="right" temporary width="380" disable-resize-watcher>
    <section v-if="screen.yardOpen" class="yard" aria-label="Yard" @keydown.esc="screen.yardOpen = false">
      <header>
        <h2>Yard</h2>
        <VBtn class="act" @click="screen.yardOpen = false">Close</VBtn>
      </header>
      <p>
        These levers drive stand-ins: simulated servers that ship with Fold Barn and speak its agent protocol.
        No real machine is touched. What you do here, Fold Barn must find out for itself.
      </p>
      <ProblemNote :error="failure" />
      <template v-if="yard">
        <h3>Their time</h3>
        <div class="row">
          <VBtn
            v-for="s in SPEEDS"
            :key="s"
            class="chip"
            :aria-pressed="yard.speed === s"
            @click="pull.mutate({ lever: 'speed', speed: s })"
          >
            × {{ s }}
          </VBtn>
          <span class="small">data moves this much faster</span>
        </div>
        <h3>Consumers</h3>
        <div class="row">
          <VBtn
            v-for="t in TIMES"
            :key="t"
            class="chip"
            :aria-label="`× ${t} consumers`"
            :aria-pressed="yard.consumers === t"
            @click="pull.mutate({ lever: 'consumers', times: t })"
          >
            × {{ t }}
          </VBtn>
          <span class="small">of what they usually want</span>
        </div>
        <h3>Grace time</h3>
        <form class="row" @submit.prevent="setGrace">
          <span class="small">{{ span(barn?.grace_seconds ?? 0) }} of silence before a rebuild.</span>
          <VTextField
            v-model="graceText"
            inputmode="numeric"
            aria-label="Grace time in seconds"
            placeholder="seconds"
            width="90"
          /><VBtn type="submit" class="chip">Set</VBtn>
        </form>
        <template v-if="yard.orchestrators.length">
          <h3>Orchestrator</h3>
          <YardOrchestrator v-for="o in yard.orchestrators" :key="o.name" :one="o" />
        </template>
        <template v-if="yard.name_server">
          <h3>Name server</h3>
          <p class="small mono name-of">{{ yard.name_server }}</p>
          <div class="row wrap">
            <VBtn
              v-for="how in HOW"
              :key="how"
              class="chip"
              :aria-label="`The name server ${HOW_SAID[how]}`"
              :aria-pressed="yard.names.how === how"
              @click="pull.mutate({ lever: 'name server', how })"
            >
              {{ HOW_SAID[how] }}
            </VBtn>
          </div>
          <form class="row" @submit.prevent="addRecord">
            <VTextField
              v-model="record"
              aria-label="A record of the name server"
              placeholder="a.example. IN A 10.30.0.9"
              width="250"
            /><VBtn type="submit" class="chip">Add</VBtn>
          </form>
        </template>
        <h3>Mail server</h3>
        <p class="small mono name-of">{{ yard.mail_server.at }}</p>
        <div class="row wrap">
          <VBtn
            v-for="how in MAIL_HOW"
            :key="how"
            class="chip"
            :aria-label="`The mail server ${MAIL_SAID[how]}`"
            :aria-pressed="yard.mail_server.how === how"
            @click="pull.mutate({ lever: 'mail server', how })"
          >
            {{ MAIL_SAID[how] }}
          </VBtn>
        </div>
        <p class="small">
          It can encrypt, and lets <span class="mono">{{ yard.mail_server.account }}</span> sign in by “<span
            class="mono"
            >{{ yard.mail_server.password }}</span
          >”.
          <VBtn class="act" @click="copy(yard.mail_server.certificate)">Copy its certificate</VBtn>
        </p>
        <div v-for="(m, i) in letters" :key="m.mark || i" class="mail small">
          <VBtn class="act" :aria-expanded="read === m.mark" @click="read = read === m.mark ? '' : m.mark">{{
            m.subject
          }}</VBtn>
          to {{ m.to }}
          <template v-if="read === m.mark">
            <p v-if="m.encrypted || m.account">
              {{ m.encrypted ? "Encrypted" : "Not encrypted"
              }}{{ m.account ? `, signed in as ${m.account}` : "" }}
            </p>
            <pre class="printed">{{ m.text }}</pre>
            <img
              v-if="m.picture"
              :src="`data:image/png;base64,${m.picture}`"
              :alt="`The curve that came with: ${m.subject}`"
            />
          </template>
        </div>
        <p v-if="!yard.mails.length" class="small">No mail has arrived.</p>
        <h3>Nodes</h3>
        <ul>
          <YardMachine
            v-for="node in yard.nodes"
            :key="node.name"
            :name="node.name"
            :power="node.power"
            :words="
              !node.power ? 'no power' : node.answers === 'well' ? 'has power' : `answers ${node.answers}`
            "
            :model-value="unfolded === node.name"
            @update:model-value="(on) => unfold(on ? node.name : null)"
            @power="(on) => pull.mutate({ lever: on ? 'give power' : 'cut power', what: node.name })"
          >
            <div class="row">
              <span class="small">Its agent answers</span>
              <VBtn
                v-for="how in ['well', 'slowly', 'garbled'] as const"
                :key="how"
                class="chip"
                :aria-pressed="node.answers === how"
                @click="pull.mutate({ lever: 'answer', what: node.name, how })"
              >
                {{ how }}
              </VBtn>
              <VBtn class="chip" @click="pull.mutate({ lever: 'forget orders', what: node.name })">
                Forget its orders
              </VBtn>
            </div>
            <form
              v-if="node.disks.length"
              class="row"
              @submit.prevent="
                pull.mutate({
                  lever: isShut(node.name) ? 'open port' : 'shut port',
                  what: node.name,
                  port: Number(port),
                })
              "
            >
              <span class="small">Its firewall</span
              ><VTextField
                v-model="port"
                inputmode="numeric"
                :aria-label="`Port of ${node.name}`"
                width="80"
              /><VBtn type="submit" class="chip">
                {{ isShut(node.name) ? "Open port" : "Shut port" }}
              </VBtn>
              <span class="small">{{
                yard.shut
                  .filter((s) => s.node === node.name)
                  .map((s) => s.port)
                  .join(", ") || "lets everything in"
              }}</span>
            </form>
            <div v-if="node.disks.length" class="row wrap">
              <span class="small">Pull a disk</span>
              <VBtn
                v-for="disk in node.disks"
                :key="disk.name"
                class="chip"
                :aria-pressed="!disk.inside"
                :aria-label="disk.inside ? `Pull ${disk.name}` : `Return ${disk.name}`"
                @click="pull.mutate({ lever: disk.inside ? 'pull disk' : 'return disk', what: disk.name })"
              >
                {{ disk.name.slice(node.name.length + 1) }}
              </VBtn>
            </div>
          </YardMachine>
        </ul>
        <h3>Hosts</h3>
        <ul>
          <YardMachine
            v-for="host in yard.hosts"
            :key="host.name"
            :name="host.name"
            :power="host.power"
            :words="host.power ? 'has power' : 'no power'"
            :model-value="unfolded === host.name"
            @update:model-value="(on) => unfold(on ? host.name : null)"
            @power="(on) => pull.mutate({ lever: on ? 'give power' : 'cut power', what: host.name })"
          >
            <p v-for="n in host.initiators" :key="n" class="small mono name-of">{{ n }}</p>
            <p class="small mono name-of">{{ host.agent_url }}</p>
            <template v-if="host.service_url">
              <p class="small">It runs VMs, and is asked at</p>
              <p class="small mono name-of">{{ host.service_url }}</p>
              <p v-for="a in host.accounts" :key="a" class="small">as {{ a }}</p>
            </template>
            <div class="row wrap">
              <span class="small">Its cables</span>
              <VBtn
                v-for="port in host.ports"
                :key="port.name"
                class="chip"
                :aria-pressed="!port.up"
                :aria-label="
                  port.up ? `Unplug ${port.name} of ${host.name}` : `Plug ${port.name} of ${host.name} in`
                "
                @click="pull.mutate({ lever: port.up ? 'unplug' : 'plug', what: host.name, text: port.name })"
              >
                {{ port.up ? "Unplug" : "Plug in" }} {{ port.name }}
              </VBtn>
            </div>
            <form class="row" @submit.prevent="run(host.name)">
              <VTextField
                v-model="typed"
                :aria-label="`A command for ${host.name}`"
                placeholder="a command, such as lsblk"
                width="250"
              /><VBtn type="submit" class="chip">Run</VBtn>
            </form>
            <pre v-if="printed" class="printed" role="status">{{ printed }}</pre>
          </YardMachine>
        </ul>
      </template>
      <p v-else-if="!failure" class="small">Asking the yard …</p>
    </section>
  </VNavigationDrawer>
</template>

<style scoped>
.yard {
  padding: 12px 16px;
  font-size: var(--t-s);
  background: var(--sheet);
  color: var(--ink);
  min-height: 100%;
}
header {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  padding-bottom: 6px;
  border-bottom: 1.5px solid var(--ink);
}
h2 {
  font-size: var(--t-l);
  font-weight: 680;
}
h3 {
  font-size: var(--t-s);
  font-weight: 640;
  padding-top: 12px;
}
p {
  padding-top: 8px;
  color: var(--soft);
}
.row {
  display: flex;
  align-items: center;
  gap: 6px;
  padding: 4px 0;
  min-height: 30px;
}
.row.wrap {
  flex-wrap: wrap;
}
.name-of {
  overflow-wrap: anywhere;
  padding: 0;
}
.mail {
  padding-top: 6px;
  overflow-wrap: anywhere;
}
.mail .act {
  white-space: normal;
  text-align: left;
}
.mail img {
  display: block;
  max-width: 100%;
  margin-top: 6px;
}
.printed {
  font: 430 12px/1.4 var(--mono);
  background: var(--well);
  padding: 6px 8px;
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
