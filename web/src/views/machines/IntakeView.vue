<script setup lang="ts">
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { Refused, takeFiles, useMachines, useYard, type Outcome } from "../../api/client";
import { batches } from "../../lib/batches";
import { count } from "../../lib/format";
import { natural } from "../../lib/natural";
import { pathOf } from "../../lib/paths";
import FilePick from "../../parts/FilePick.vue";
import StateMark from "../../parts/StateMark.vue";
import BmcForm from "./BmcForm.vue";
import MachineTabs from "./MachineTabs.vue";

/** The ways in: agents, files, BMCs, text; and the verdict on what came in. */
const { data: machines } = useMachines();
const { data: yard } = useYard(true);
const router = useRouter();
const route = useRoute();
const home = location.origin;
const over = ref(false);
const running = ref<{ done: number; all: number } | null>(null);
const stopped = ref(false);
const outcomes = ref<Outcome[]>([]);
const ORDER = { refused: 0, skipped: 1, taken: 2 } as const;
const LAMP = { refused: "failed", skipped: "away", taken: "sound" } as const;
const shown = computed(() =>
  [...outcomes.value].sort((a, b) => ORDER[a.result] - ORDER[b.result] || natural(a.file, b.file)),
);
const tally = computed(() =>
  (["taken", "skipped", "refused"] as const)
    .map((r) => [r, outcomes.value.filter((o) => o.result === r).length] as const)
    .filter(([, n]) => n),
);
const unfit = computed(() =>
  (machines.value?.disks ?? []).filter((d) => d.role === "unfit").sort((a, b) => natural(a.name, b.name)),
);
const many = computed(() => (machines.value?.disks ?? []).filter((d) => d.paths.length > 1));
const fit = computed(() => (machines.value?.nodes ?? []).reduce((sum, n) => sum + n.fit, 0));

async function take(files: File[]) {
  if (!files.length || running.value) return;
  outcomes.value = [];
  stopped.value = false;
  running.value = { done: 0, all: files.length };
  for (const batch of batches(files)) {
    if (stopped.value) break;
    try {
      const read = await Promise.all(
        batch.map(async (f) => ({ name: f.webkitRelativePath || f.name, text: await f.text() })),
      );
      outcomes.value = [...outcomes.value, ...(await takeFiles(read))];
    } catch (error) {
      const [sentence, next_step] =
        error instanceof Refused
          ? [error.problem.detail, error.problem.next_step ?? ""]
          : ["It could not be read.", ""];
      outcomes.value = [
        ...outcomes.value,
        ...batch.map((f) => ({ file: f.name, result: "refused" as const, sentence, next_step, node: "" })),
      ];
    }
    running.value = { ...running.value, done: running.value.done + batch.length };
  }
  running.value = null;
}
function drop(event: DragEvent) {
  over.value = false;
  void take([...(event.dataTransfer?.files ?? [])]);
}
const clear = (disk: string) => router.push({ query: { ...route.query, plan: "clear-disk", disk } });
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Machines</h1>
      <MachineTabs /><span class="grow" />
    </div>
    <div class="two">
      <div>
        <section aria-label="From agents">
          <div class="sec"><h2>From agents</h2></div>
          <p>
            Start the agent on a Linux server; it reports what <code>lsblk</code>, <code>smartctl</code> and
            <code>ip</code> say, and changes nothing. The server appears here within seconds.
          </p>
          <pre class="mono" tabindex="0">./barn agent --home {{ home }} --room "North Quay" --rack NQ-1</pre>
        </section>
        <section aria-label="From files">
          <div class="sec"><h2>From files</h2></div>
          <div
            class="drop"
            :class="{ over }"
            @dragover.prevent="over = true"
            @dragleave="over = false"
            @drop.prevent="drop"
          >
            <p>
              Drop inventory files here, of as many nodes as you like, or
              <FilePick
                label="choose files"
                name="Inventory files"
                accept=".json,application/json"
                multiple
                @pick="take"
              />.
            </p>
            <p class="small">
              The output of <code>lsblk --json --bytes --output-all</code>,
              <code>smartctl --json --all</code> and <code>ip --json addr</code>, named after the node:
              fulmar.lsblk.json. Or agents' inventories, several in one file.
            </p>
          </div>
          <div v-if="running" class="meter">
            <VProgressLinear
              :model-value="(running.done / running.all) * 100"
              aria-label="Files taken in"
              color="primary"
              height="6"
            />
            <p>
              {{ running.done }} of {{ count(running.all, "file") }}
              <VBtn class="act" @click="stopped = true">
                {{ stopped ? "Stopping …" : "Stop" }}
              </VBtn>
            </p>
          </div>
          <template v-if="outcomes.length">
            <p class="small" role="status">
              {{ tally.map(([r, n]) => `${n} ${r}`).join(", ")
              }}{{ stopped ? "; stopped, what was taken stays" : "" }}.
            </p>
            <VTable class="plain outcomes">
              <tbody>
                <tr v-for="(o, i) in shown.slice(0, 200)" :key="i" :data-result="o.result">
                  <td class="mono">{{ o.file }}</td>
                  <td><StateMark :lamp="LAMP[o.result]" /> {{ o.result }}</td>
                  <td>
                    {{ o.sentence }} <span class="soft">{{ o.next_step }}</span>
                  </td>
                </tr>
              </tbody>
            </VTable>
            <p v-if="shown.length > 200" class="small">and {{ shown.length - 200 }} more.</p>
          </template>
        </section>
        <section aria-label="From a BMC">
          <div class="sec"><h2>From a BMC, over Redfish</h2></div>
          <BmcForm :yard="yard" />
        </section>
        <section aria-label="By hand">
          <div class="sec"><h2>By hand</h2></div>
          <p>
            Rooms, racks, nodes, addresses and disks can be
            <RouterLink class="act" to="/text">written as text</RouterLink>.
          </p>
        </section>
      </div>
      <section aria-label="Verdicts">
        <div class="sec">
          <h2>Verdicts</h2>
          <span class="small"
            >{{ fit.toLocaleString("en") }} fit and free,
            {{ unfit.length.toLocaleString("en") }} unfit<template v-if="many.length"
              >, {{ many.length }} seen through several paths</template
            ></span
          >
        </div>
        <VTable class="plain">
          <thead>
            <tr>
              <th>Disk</th>
              <th>Unfit because</th>
              <td />
            </tr>
          </thead>
          <tbody>
            <tr v-for="d in unfit.slice(0, 100)" :key="d.name" :data-row="d.name">
              <td class="mono">
                <RouterLink :to="pathOf('disk', d.name)"
                  ><b>{{ d.name }}</b></RouterLink
                >
              </td>
              <td>{{ d.reasons.join("; ") }}</td>
              <td>
                <VBtn v-if="d.clearable" class="act" @click="clear(d.name)"> Preview clearing </VBtn>
              </td>
            </tr>
            <tr v-if="machines && !unfit.length">
              <td colspan="3" class="soft">
                {{
                  machines.disks.length
                    ? "Every disk that is not a boot disk is fit."
                    : "Nothing has come in yet."
                }}
              </td>
            </tr>
          </tbody>
        </VTable>
        <p v-if="unfit.length > 100" class="small">
          <RouterLink class="act" to="/machines?with=unfit">All {{ unfit.length }}</RouterLink>
        </p>
        <template v-if="many.length">
          <div class="sec"><h2>One disk, several paths</h2></div>
          <VTable class="plain">
            <tbody>
              <tr v-for="d in many.slice(0, 50)" :key="d.name">
                <td class="mono">
                  <RouterLink :to="pathOf('disk', d.name)"
                    ><b>{{ d.name }}</b></RouterLink
                  >
                </td>
                <td class="mono">{{ d.paths.join(", ") }}</td>
                <td>{{ d.enclosure ? `enclosure ${d.enclosure}` : "" }} {{ d.missing_paths.join("; ") }}</td>
              </tr>
            </tbody>
          </VTable>
        </template>
      </section>
    </div>
  </main>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1.15fr) minmax(0, 1fr);
  gap: 26px;
}
section {
  padding-bottom: 12px;
}
section p {
  font-size: var(--t-s);
  max-width: 70ch;
}
pre {
  background: var(--well);
  padding: 8px 12px;
  font-size: var(--t-s);
  margin: 6px 0 0;
  overflow-x: auto;
}
code {
  font-family: var(--mono);
  font-size: 0.95em;
}
.drop {
  border: 1.5px dashed var(--edge);
  padding: 14px 16px;
  background: var(--sheet);
}
.drop.over {
  border-color: var(--slate);
  background: var(--slate-pale);
}
.meter {
  padding: 8px 0 2px;
}
.outcomes {
  max-height: 260px;
  display: block;
  overflow: auto;
}
</style>
