<script setup lang="ts">
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useDisk, useLight, useMachines, useWork } from "../../api/client";
import { binarySize, count, percent, rate, size } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import CopyName from "../../parts/CopyName.vue";
import KinCards from "../../parts/KinCards.vue";
import HistoryTable from "../../parts/HistoryTable.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import TideGraph from "../../parts/TideGraph.vue";
import { MEDIA } from "./columns";

/** A disk: the verdict with every reason, what it holds and what its loss would mean, how it is seen, what it
 * says of itself, what was done with it, its light. */
const props = defineProps<{ disk: string }>();
const { data: machines, error } = useMachines();
const { data: page } = useDisk(() => props.disk);
const { data: work } = useWork(true);
const light = useLight();
const GRADES = { good: "sound", warning: "watch", bad: "failed", unknown: "not heard" } as const;
const router = useRouter();
const route = useRoute();
const one = computed(() =>
  machines.value?.disks.find((d) => d.name.toLowerCase() === props.disk.toLowerCase()),
);
const plan = (kind: string) => ({ query: { ...route.query, plan: kind, disk: one.value!.name } });
const clear = () => router.push({ query: { ...route.query, plan: "clear-disk", disk: one.value!.name } });
</script>

<template>
  <main class="page">
    <ProblemNote :error="error ?? light.error.value" />
    <p v-if="machines && !one" class="empty">
      No disk named {{ disk }} is known. <RouterLink class="act" to="/machines">All machines</RouterLink>
    </p>
    <template v-if="one">
      <div class="headline">
        <h1><StateMark :lamp="one.lamp" /> {{ one.name }} <CopyName :name="one.name" /></h1>
        <p>
          {{ MEDIA[one.media] ?? one.media }} {{ one.model }}, {{ size(one.size_bytes) }} ({{
            binarySize(one.size_bytes)
          }}). {{ one.state }}
        </p>
        <span class="grow" />
        <VBtn
          class="btn plain"
          :aria-pressed="one.lit"
          @click="light.mutate({ name: one.name, on: !one.lit })"
        >
          {{ one.lit ? "Turn its light off" : "Turn its light on" }}
        </VBtn>
        <template v-if="one.pool">
          <RouterLink class="act" :to="plan('change-role')">Preview another role</RouterLink>
          <RouterLink class="act" :to="plan('replace-disk')">Preview replacing it</RouterLink>
          <RouterLink class="act" :to="plan('retire')">Preview retiring it</RouterLink>
        </template>
        <VBtn v-if="one.clearable" class="btn" @click="clear">Preview clearing it</VBtn>
      </div>
      <KinCards link="disk" :name="one.name" />
      <div class="two">
        <section aria-label="Verdict">
          <div class="sec"><h2>Verdict</h2></div>
          <p v-if="one.pool">
            <StateMark :lamp="one.lamp" /> In use by pool
            <RouterLink class="act" :to="pathOf('pool', one.pool)">{{ one.pool }}</RouterLink> as {{ one.role
            }}<template v-if="one.role === 'capacity'"
              >: {{ percent(one.used_bytes / one.size_bytes) }} of it holds strips</template
            >.<template v-if="one.role_reason">
              {{ one.role_reason[0]!.toUpperCase() }}{{ one.role_reason.slice(1) }}.</template
            ><template v-if="one.retiring"> It is being emptied and takes nothing new.</template>
          </p>
          <p v-else-if="one.role === 'unclaimed'"><StateMark lamp="sound" /> Fit, and in no pool.</p>
          <p v-else>
            <StateMark lamp="away" /> Unfit, for
            {{ one.reasons.length === 1 ? "this reason" : `these ${one.reasons.length} reasons` }}:
          </p>
          <ul>
            <li v-for="r in one.reasons" :key="r">{{ r[0]!.toUpperCase() }}{{ r.slice(1) }}.</li>
          </ul>
          <p v-if="one.role === 'unfit'" class="soft">
            {{
              one.clearable
                ? "Clearing it would make it fit; what it carries would be lost."
                : "Clearing would not help, or must not be done."
            }}
          </p>
          <template v-if="page">
            <div class="sec"><h2>What it holds</h2></div>
            <p>{{ page.loss }}</p>
            <VTable v-if="page.held.length" class="plain"
              ><caption class="unseen">
                What it holds
              </caption>
              <thead>
                <tr>
                  <th>Volume</th>
                  <th class="n">Strips</th>
                  <th class="n">Size</th>
                  <th class="n">Of the disk</th>
                  <th>Without it now</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="h in page.held" :key="h.volume">
                  <td>
                    <RouterLink :to="pathOf('volume', h.volume)"
                      ><b>{{ h.volume }}</b></RouterLink
                    >
                  </td>
                  <td class="n">{{ h.strips.toLocaleString("en") }}</td>
                  <td class="n">{{ size(h.bytes) }}</td>
                  <td class="n">{{ percent(h.bytes / one.size_bytes) }}</td>
                  <td>
                    <template v-if="h.unreadable"
                      ><StateMark lamp="failed" /> {{ count(h.unreadable, "extent") }} unreadable</template
                    ><template v-else-if="h.bare"
                      ><StateMark lamp="watch" /> {{ count(h.bare, "extent") }} with nothing to
                      spare</template
                    ><template v-else><StateMark lamp="sound" /> still protected</template>
                  </td>
                </tr>
              </tbody>
            </VTable>
            <TideGraph class="next" of="disk" :name="one.name" />
            <div class="sec"><h2>What was done with it</h2></div>
            <HistoryTable :lines="page.history" />
          </template>
        </section>
        <section aria-label="Facts">
          <div class="sec"><h2>How it is known</h2></div>
          <dl>
            <dt>Serial number</dt>
            <dd class="mono">{{ one.serial }} <CopyName :name="one.serial" /></dd>
            <dt>World-wide name</dt>
            <dd class="mono">{{ one.wwn || "none shown" }} <CopyName v-if="one.wwn" :name="one.wwn" /></dd>
            <dt>Node</dt>
            <dd>
              <RouterLink class="act" :to="pathOf('node', one.node)">{{ one.node }}</RouterLink>, bay
              {{ one.bay }}, {{ one.room }}, {{ one.rack }}
            </dd>
            <dt>Seen as</dt>
            <dd class="mono">
              {{ one.paths.join(", ") || "not seen now"
              }}<template v-if="one.paths.length > 1">
                <span class="soft">({{ one.paths.length }} paths, one disk)</span></template
              >
            </dd>
            <template v-if="one.rated_bytes"
              ><dt>Rated for</dt>
              <dd>
                {{ size(one.rated_bytes) }} written,
                {{ (one.rated_bytes / one.size_bytes / 365 / 5).toFixed(1) }} drive writes a day over 5 years
              </dd></template
            >
            <template v-if="one.enclosure"
              ><dt>Enclosure</dt>
              <dd>{{ one.enclosure }}: a fault domain of its own</dd></template
            >
            <template v-for="m in one.missing_paths" :key="m"
              ><dt>Missing</dt>
              <dd><StateMark lamp="watch" /> {{ m }}</dd></template
            >
            <dt>Reads, writes</dt>
            <dd class="mono">
              {{ work?.read[one.name] ? rate(work.read[one.name]!) : "none" }},
              {{ work?.write[one.name] ? rate(work.write[one.name]!) : "none" }}
            </dd>
          </dl>
          <template v-if="page">
            <div class="sec"><h2>What it says of itself</h2></div>
            <p class="grade">
              <StateMark :lamp="GRADES[page.grade]" /> <b>Health: {{ page.grade }}</b
              ><template v-if="page.why.length">, {{ page.why.join("; ") }}</template>
            </p>
            <dl v-if="page.health.length">
              <template v-for="f in page.health" :key="f.what"
                ><dt>{{ f.what }}</dt>
                <dd class="mono">{{ f.said }}</dd></template
              >
            </dl>
            <p v-else class="soft">Its node tells nothing of its health.</p>
          </template>
        </section>
      </div>
    </template>
    <p v-else-if="!machines && !error" class="empty">Reading {{ disk }} …</p>
  </main>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 26px;
}
ul {
  padding: 4px 0 4px 22px;
  list-style: disc;
  font-size: var(--t-m);
}
dl {
  display: grid;
  grid-template-columns: 130px 1fr;
  border-top: 1.5px solid var(--ink);
  font-size: var(--t-s);
}
dt,
dd {
  border-bottom: 1px solid var(--rule);
  padding: 5px 0;
}
dt {
  color: var(--soft);
}
section > p {
  padding: 4px 0;
}
section > * + .sec,
.next {
  margin-top: 16px;
}
</style>
