<script setup lang="ts">
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useBarn, useChanges, usePool, useVolumes } from "../../api/client";
import { binarySize, count, percent, size, span, tebibytes, terabytes } from "../../lib/format";
import BarnMap from "../../parts/BarnMap.vue";
import CopyName from "../../parts/CopyName.vue";
import LedgerTable from "../../parts/LedgerTable.vue";
import LineageCards from "../../parts/LineageCards.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import RoleTable from "../../parts/RoleTable.vue";
import StateMark from "../../parts/StateMark.vue";
import TideGraph from "../../parts/TideGraph.vue";
import UsableTable from "../../parts/UsableTable.vue";
import { pathOf } from "../../lib/paths";
import PlanMenu from "../barn/PlanMenu.vue";

/** A pool: where it lies, what each disk is for, what it could hold, how it is set. */
const props = defineProps<{ name: string }>();
const { data: barn, error } = useBarn();
const { data: page, error: pageError } = usePool(() => props.name);
const { data: changes } = useChanges();
const router = useRouter();
const route = useRoute();
const SHOWS = [
  ["where", "Where it lies"],
  ["roles", "Roles and cache"],
  ["usable", "What it could hold"],
  ["settings", "Settings"],
] as const;
const show = computed(() => SHOWS.find(([id]) => id === route.query.show)?.[0] ?? "where");
const pool = computed(() => barn.value?.pools.find((p) => p.name.toLowerCase() === props.name.toLowerCase()));
const disks = computed(() =>
  (barn.value?.rooms ?? [])
    .flatMap((r) => r.racks.flatMap((k) => k.nodes.flatMap((n) => n.disks)))
    .filter((d) => d.pool === pool.value?.name),
);
const lit = computed(() => Object.fromEntries(disks.value.map((d) => [d.name, d.used_bytes])));
const MOST = 500; // of its volumes shown here; their list has all
const { data: held } = useVolumes(() => ({ of: [`pool:${props.name}`], per: MOST }));
const volumes = computed(() => held.value?.volumes ?? []);
const matching = computed(() => held.value?.matching ?? 0);
const all = computed(() => ({ path: "/volumes", query: { of: `pool:${props.name}` } }));
const running = computed(() => (changes.value ?? []).filter((c) => page.value?.running.includes(c.number)));
/** A letter for each cache device of a node, on the device and on every disk it serves. */
const bindings = computed(() => {
  const tags: Record<string, string> = {};
  const letters = new Map<string, number>();
  for (const r of page.value?.roles ?? []) {
    if (r.role !== "cache") continue;
    const n = letters.get(r.node) ?? 0;
    letters.set(r.node, n + 1);
    tags[r.disk] = String.fromCharCode(97 + (n % 26));
  }
  for (const r of page.value?.roles ?? [])
    if (r.bound_to && tags[r.bound_to]) tags[r.disk] = tags[r.bound_to]!;
  return tags;
});
const plan = (kind: string) => ({ query: { ...route.query, plan: kind, pool: pool.value!.name } });
const cards = computed(() => {
  const p = pool.value!;
  const first = volumes.value[0];
  return [
    {
      kind: "Volumes",
      name: first
        ? `${first.name}${matching.value > 1 ? ` and ${(matching.value - 1).toLocaleString("en")} more` : ""}`
        : "none yet",
      fact:
        first && matching.value <= MOST
          ? `${size(volumes.value.reduce((s, v) => s + v.size_bytes, 0))} in all`
          : "",
      lamp: p.worst.lamp,
      to: first && matching.value === 1 ? pathOf("volume", first.name) : all.value,
    },
    {
      kind: "Pool",
      name: p.name,
      fact: `${percent(p.full)} full, ${size(p.free.value)} free (${binarySize(p.free.value)})`,
      lamp: p.state.lamp,
      to: pathOf("pool", p.name),
      here: true,
    },
    {
      kind: "Nodes and disks",
      name: `${count(p.nodes.length, "node")}, ${count(p.disks, "disk")}`,
      fact: p.nodes.join(", "),
      lamp: p.worst.lamp,
      to: "/machines",
    },
  ];
});
</script>

<template>
  <main class="page">
    <ProblemNote :error="error ?? (pool ? pageError : null)" />
    <template v-if="pool && barn">
      <div class="headline">
        <h1><StateMark :lamp="pool.worst.lamp" /> {{ pool.name }} <CopyName :name="pool.name" /></h1>
        <p>{{ pool.worst.reason }}</p>
        <span class="grow" />
        <RouterLink class="act" :to="plan('delete-pool')">Preview deleting it</RouterLink>
        <RouterLink class="act" :to="plan('set-pool')">Preview other settings</RouterLink>
        <RouterLink class="act" :to="plan('grow-pool')">Preview adding disks</RouterLink>
        <RouterLink class="act" data-offered :to="plan('rebuild')">Preview levelling</RouterLink>
        <PlanMenu :pools="[pool]" />
      </div>
      <LineageCards :cards="cards" />
      <p v-for="c in running" :key="c.number" class="run">
        <StateMark :lamp="c.state === 'paused' ? 'short' : c.state === 'waiting' ? 'away' : 'mending'" />
        <RouterLink class="act" :to="`/changes/${c.number}`">{{ c.title }}</RouterLink> {{ c.state
        }}<template v-if="c.total_bytes"
          >, {{ percent(c.done_bytes / c.total_bytes) }} of {{ size(c.total_bytes) }}</template
        ><template v-if="c.seconds_left">, about {{ span(c.seconds_left) }} left</template>
      </p>
      <nav class="lens tabs" aria-label="Of this pool">
        <RouterLink
          v-for="[id, name_] in SHOWS"
          :key="id"
          :to="{ query: { ...route.query, show: id } }"
          :aria-current="show === id ? 'page' : undefined"
          >{{ name_ }}</RouterLink
        >
      </nav>
      <template v-if="show === 'where'">
        <div class="upper">
          <section aria-label="Barn map">
            <div class="sec">
              <h2>Where it lies</h2>
              <span class="small"
                >Blue is what its volumes take of each disk.<template v-if="pool.roles.cache">
                  The letter under a cache device stands under every disk it serves.</template
                ></span
              >
            </div>
            <BarnMap
              line
              :rooms="barn.rooms"
              :lit="lit"
              :tags="bindings"
              @open="(d) => router.push(pathOf('disk', d.name))"
              @open-node="(n) => router.push(pathOf('node', n.name))"
              @unlight="router.push('/')"
            />
            <TideGraph class="next" of="pool" :name="pool.name" />
          </section>
          <section aria-label="Domains">
            <div class="sec">
              <h2>Domains</h2>
              <span class="small">by {{ pool.level }}, TB</span>
            </div>
            <VTable class="plain">
              <thead>
                <tr>
                  <th>{{ pool.level }}</th>
                  <th class="n">Room</th>
                  <th class="n">Used</th>
                  <th class="n">Stranded</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="d in pool.domains" :key="d.name">
                  <td>{{ d.name }}</td>
                  <td class="n">{{ terabytes(d.room) }}</td>
                  <td class="n">{{ terabytes(d.used) }}</td>
                  <td class="n">{{ d.stranded ? terabytes(d.stranded) : "" }}</td>
                </tr>
              </tbody>
            </VTable>
            <p class="say">{{ pool.healing }}</p>
            <p v-if="pool.filling" class="say">{{ pool.filling }}</p>
            <p class="say soft">
              Usual protection: {{ pool.protection }}. The furthest disk is {{ percent(pool.imbalance) }} off
              what it should hold.
            </p>
            <template v-if="page?.policies.length">
              <div class="sec next"><h2>Policies it can keep</h2></div>
              <div class="policies">
                <p v-for="p in page.policies" :key="p.policy" :data-keeps="p.keeps">
                  <StateMark
                    :lamp="p.keeps ? 'sound' : 'failed'"
                    :title="p.keeps ? 'keeps it' : 'cannot keep it'"
                  />
                  <RouterLink :to="pathOf('policy', p.policy)"
                    ><b>{{ p.policy }}</b></RouterLink
                  >
                  <span v-if="!p.keeps" class="soft"> not now: {{ p.against }}</span>
                </p>
              </div>
            </template>
          </section>
        </div>
        <section aria-label="Where it went">
          <div class="sec">
            <h2>Where it went</h2>
            <span class="small"
              >Fill line {{ percent(pool.fill_line) }}. Usable {{ terabytes(pool.usable_bytes) }} TB ({{
                tebibytes(pool.usable_bytes)
              }}
              TiB) at its usual protection.</span
            >
          </div>
          <LedgerTable :ledgers="[pool.ledger]" binary />
        </section>
        <section aria-label="Volumes">
          <div class="sec">
            <h2>Volumes</h2>
            <span class="small">{{ count(matching, "volume") }}</span><RouterLink
              v-if="matching"
              class="act"
              :to="all"
              >Ask of them</RouterLink
            >
          </div>
          <VTable v-if="volumes.length" class="plain">
            <thead>
              <tr>
                <th>Volume</th>
                <th>State</th>
                <th class="n">Size, TB</th>
                <th class="n">TiB</th>
                <th class="n">Written</th>
                <th>Protection</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="v in volumes" :key="v.name">
                <td>
                  <RouterLink :to="pathOf('volume', v.name)"
                    ><b>{{ v.name }}</b></RouterLink
                  >
                </td>
                <td :title="v.state.reason"><StateMark :lamp="v.state.lamp" word /></td>
                <td class="n">{{ terabytes(v.size_bytes) }}</td>
                <td class="n soft">{{ tebibytes(v.size_bytes) }}</td>
                <td class="n">{{ percent(v.written_bytes / v.size_bytes) }}</td>
                <td class="soft">{{ v.protection }}</td>
              </tr>
            </tbody>
          </VTable>
        </section>
      </template>
      <template v-else-if="page && show === 'roles'">
        <div class="two">
          <section aria-label="What each disk is for">
            <div class="sec">
              <h2>What each disk is for</h2>
              <span class="small">{{
                ["capacity", "cache", "spare"]
                  .filter((r) => pool!.roles[r])
                  .map((r) => `${pool!.roles[r]} ${r}`)
                  .join(", ")
              }}</span>
            </div>
            <RoleTable :roles="page.roles" whole />
          </section>
          <section aria-label="Cache and endurance">
            <div class="sec"><h2>If a cache device fails</h2></div>
            <p v-if="!page.cache_losses.length" class="say soft">
              This pool has no cache: its disks take writes themselves.
            </p>
            <template v-else>
              <p class="say soft">
                It takes with it what it had not yet settled. The disks it serves are then compared with the
                other copies, and served by another device of their node.
              </p>
              <VTable class="plain tight"
                ><caption class="unseen">
                  If a cache device fails
                </caption>
                <thead>
                  <tr>
                    <th>Device</th>
                    <th class="n">Serves</th>
                    <th class="n">holding, TB</th>
                    <th class="n">Extents a copy short</th>
                    <th>Other copies</th>
                  </tr>
                </thead>
                <tbody>
                  <tr v-for="c in page.cache_losses" :key="c.device" :title="c.disks.join(', ')">
                    <td class="mono">
                      <b>{{ c.device }}</b>
                    </td>
                    <td class="n">{{ c.disks.length }}</td>
                    <td class="n">{{ terabytes(c.used_bytes) }}</td>
                    <td class="n">{{ c.extents.toLocaleString("en") }}</td>
                    <td>
                      <StateMark :lamp="c.unreadable ? 'failed' : 'sound'" />
                      {{ c.unreadable ? `none for ${c.unreadable.toLocaleString("en")}` : "of all" }}
                    </td>
                  </tr>
                </tbody>
              </VTable>
            </template>
            <div class="sec"><h2>How long it lasts</h2></div>
            <p v-if="page.cache_share" class="say">
              The cache is {{ percent(page.cache_share) }} of the capacity.
            </p>
            <p v-for="e in page.endurance" :key="e" class="say">{{ e }}</p>
            <p v-for="c in page.concerns" :key="c" class="say"><StateMark lamp="watch" /> {{ c }}</p>
          </section>
        </div>
      </template>
      <template v-else-if="page && show === 'usable'">
        <div class="two">
          <section aria-label="Usable for each protection">
            <div class="sec">
              <h2>Usable for each protection</h2>
              <span class="small">of all its disks, whatever is used now</span>
            </div>
            <UsableTable :rows="page.protections" />
          </section>
          <section aria-label="What would raise it most">
            <div class="sec">
              <h2>What would raise it most</h2>
              <span class="small">each tried, at the usual protection</span>
            </div>
            <VTable v-if="page.additions.length" class="plain">
              <thead>
                <tr>
                  <th>One more</th>
                  <th class="n">Raw, TB</th>
                  <th class="n">Gains, TB</th>
                  <th class="n">Of each TB</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="a in page.additions" :key="a.what">
                  <td>{{ a.what }}</td>
                  <td class="n">{{ terabytes(a.raw_bytes) }}</td>
                  <td class="n">{{ terabytes(a.gain_bytes) }}</td>
                  <td class="n">{{ percent(a.gain_bytes / a.raw_bytes) }}</td>
                </tr>
              </tbody>
            </VTable>
            <p v-else class="say soft">No single disk or node that is like those it has would raise it.</p>
            <div class="sec">
              <h2>Healing</h2>
              <span class="small">of the volumes that are there, after any one loss</span>
            </div>
            <VTable v-if="page.heals.length" class="plain"
              ><caption class="unseen">
                Healing by level
              </caption>
              <thead>
                <tr>
                  <th>Losing a</th>
                  <th>Made whole again</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="h in page.heals" :key="h.level">
                  <td>{{ h.level }}</td>
                  <td class="wraps">
                    <StateMark :lamp="h.holds ? 'sound' : h.holds === false ? 'watch' : 'not heard'" />
                    {{ h.holds ? "everything" : h.sentence }}
                  </td>
                </tr>
              </tbody>
            </VTable>
            <p class="say">{{ pool.healing }}</p>
            <p class="say soft">
              With nothing held back it would hold {{ terabytes(page.without_headroom) }} TB ({{
                tebibytes(page.without_headroom)
              }}
              TiB); holding back, {{ terabytes(pool.usable_bytes) }} TB ({{ tebibytes(pool.usable_bytes) }}
              TiB).
            </p>
            <p v-if="page.fast_usable" class="say">
              Its fast tier holds {{ terabytes(page.fast_usable) }} TB, of which
              {{ terabytes(page.fast_free) }} TB are free.
            </p>
          </section>
        </div>
      </template>
      <section v-else-if="page" aria-label="Settings">
        <div class="sec">
          <h2>Settings</h2>
          <span class="small">extent, encryption and compression are fixed when a pool is formed</span>
        </div>
        <dl>
          <template v-for="s in page.settings" :key="s.name"
            ><dt>{{ s.label }}</dt>
            <dd>{{ s.value }}</dd></template
          >
        </dl>
      </section>
      <p v-else class="empty">Reading {{ pool.name }} …</p>
    </template>
    <p v-else-if="barn" class="empty">
      There is no pool named {{ name }}. <RouterLink class="act" to="/pools">All pools</RouterLink>
    </p>
  </main>
</template>

<style scoped>
.next {
  margin-top: 14px;
}
.policies {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
}
.policies p {
  margin: 0;
}
.upper {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 340px;
  gap: 26px;
  padding: 6px 0;
}
.two {
  display: grid;
  grid-template-columns: minmax(0, 1.4fr) minmax(0, 1fr);
  gap: 26px;
  padding: 6px 0;
}
.tight td {
  height: 24px;
  padding-top: 2px;
  padding-bottom: 2px;
}
.say {
  font-size: var(--t-s);
  padding-top: 8px;
}
.wraps {
  white-space: normal;
  line-height: 1.38;
  padding: 4px 0;
}
.run {
  font-size: var(--t-s);
  padding-top: 6px;
}
.tabs {
  padding: 10px 0 2px;
}
.tabs a:hover {
  color: var(--ink);
}
.tabs a[aria-current] {
  color: var(--ink);
  font-weight: 650;
  box-shadow: 0 2px 0 var(--ink);
}
dl {
  display: grid;
  grid-template-columns: 200px 1fr;
  border-top: 1.5px solid var(--ink);
  font-size: var(--t-s);
  max-width: 760px;
}
dt,
dd {
  border-bottom: 1px solid var(--rule);
  padding: 5px 0;
}
dt {
  color: var(--soft);
}
</style>
