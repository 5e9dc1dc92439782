<script setup lang="ts">
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import type { VolumePage } from "../../api/client";
import { clock, count, percent, say, size } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import CopyName from "../../parts/CopyName.vue";
import StateMark from "../../parts/StateMark.vue";

/** The snapshots of a volume, what each has of what was overwritten since, and the room for that. */
const props = defineProps<{ volume: VolumePage }>();
const route = useRoute();
const router = useRouter();
const chosen = ref(new Set<string>());
const there = computed(() => props.volume.snapshots.map((s) => s.name).filter((n) => chosen.value.has(n)));
const plan = (kind: string, more: Record<string, string> = {}) => ({
  query: { ...route.query, plan: kind, volume: props.volume.name, ...more },
});
/** What a snapshot is for; what is in the bin is not altered, and can be read. */
const deeds = (name: string) => [
  {
    kind: "copy-snapshot",
    title: `Preview a volume from ${name}`,
    about: "open at once, and written until it stands alone",
  },
  { kind: "show-snapshot", title: `Preview showing ${name}`, about: "as a volume to be read, takes no room" },
  { kind: "rename-snapshot", title: `Preview renaming ${name}`, about: "its name alone" },
  ...(props.volume.binned
    ? []
    : [
        {
          kind: "restore-snapshot",
          title: `Preview going back to ${name}`,
          about: "written over the volume; the present is kept first",
        },
      ]),
];
/** What a volume has of a snapshot that it reads from. */
function reads(reader: VolumePage["snapshots"][number]["read_by"][number]) {
  if (reader.shown) return " shows it, to be read only";
  const left = reader.left.toLocaleString("en");
  return ` is a copy of it, and still reads ${left} of ${count(reader.extents, "extent")} from there`;
}
function choose(name: string, on: unknown) {
  const next = new Set(chosen.value);
  if (on) next.add(name);
  else next.delete(name);
  chosen.value = next;
}
</script>

<template>
  <section aria-label="Snapshots">
    <div class="sec next">
      <h2>Snapshots</h2>
      <span v-if="volume.past" class="small" :title="volume.past.state.reason">
        <StateMark :lamp="volume.past.state.lamp" /> {{ size(volume.past.held) }} of
        {{ size(volume.past.bytes) }} kept for them {{ volume.past.held ? "are" : "is" }} taken ({{
          percent(volume.past.held / volume.past.bytes)
        }})</span
      >
      <span class="grow" />
      <RouterLink
        v-if="there.length"
        class="act"
        :to="plan('delete-snapshot', { snapshots: there.join(',') })"
        >Preview deleting {{ count(there.length, "snapshot") }}</RouterLink
      >
      <RouterLink v-if="volume.past && !volume.binned" class="act" :to="plan('grow-room')"
        >Preview more room</RouterLink
      >
      <RouterLink v-if="!volume.binned" class="act" :to="plan('take-snapshot')"
        >Preview taking one</RouterLink
      >
    </div>
    <p v-if="volume.coming.length" class="small">
      By its policy:
      <template v-for="(c, i) in volume.coming" :key="c.at"
        >{{ i ? "; " : "" }}{{ clock(c.at)
        }}<template v-if="c.drops.length"
          >, when {{ say(c.drops) }} {{ c.drops.length > 1 ? "go" : "goes" }}</template
        ></template
      >.
    </p>
    <p v-else-if="!volume.snapshots.length" class="small">
      None. One keeps what consumers overwrite from then on; nothing is copied as it is taken.
    </p>
    <p v-if="volume.origin" class="small">
      It comes from {{ volume.origin.snapshot }} of
      <RouterLink :to="pathOf('volume', volume.origin.volume)">{{ volume.origin.volume }}</RouterLink>.
    </p>
    <VTable v-if="volume.snapshots.length" class="plain">
      <caption class="unseen">
        Snapshots
      </caption>
      <thead>
        <tr>
          <th class="pick"><span class="unseen">Chosen</span></th>
          <th>Snapshot</th>
          <th>Taken</th>
          <th class="n">It alone has</th>
          <th class="n">With others</th>
          <th class="n">Changed since</th>
          <th>State</th>
          <th><span class="unseen">What may be done</span></th>
        </tr>
      </thead>
      <tbody>
        <template v-for="s in volume.snapshots" :key="s.name">
          <tr>
            <td class="pick">
              <VCheckbox
                :model-value="chosen.has(s.name)"
                :aria-label="`Choose ${s.name}`"
                @update:model-value="(on) => choose(s.name, on)"
              />
            </td>
            <td>
              <b>{{ s.name }}</b> <CopyName :name="s.name" />
              <p v-if="s.asked" class="small">
                {{ s.asked.fills ? "to fill" : "asked for as" }} {{ s.asked.path }} in
                {{ s.asked.orchestrator }}
              </p>
            </td>
            <td>{{ s.taken_at ? clock(s.taken_at) : "" }}</td>
            <td class="n">{{ s.lost ? "" : size(s.alone) }}</td>
            <td class="n">{{ s.lost ? "" : size(s.shared) }}</td>
            <td class="n">{{ s.lost ? "" : size(s.differs) }}</td>
            <td :title="s.state.reason">
              <StateMark :lamp="s.state.lamp" word />
              <span v-if="s.state.lamp !== 'sound'" class="soft"> {{ s.state.reason }}</span>
            </td>
            <td class="go">
              <VMenu v-if="!s.lost && s.taken_at" location="bottom end" content-class="menu">
                <template #activator="{ props: opens }">
                  <VBtn v-bind="opens" class="small"
                    >Preview<span class="unseen"> what {{ s.name }} is for</span> …</VBtn
                  >
                </template>
                <VList role="menu">
                  <VListItem
                    v-for="deed in deeds(s.name)"
                    :key="deed.kind"
                    role="menuitem"
                    tabindex="0"
                    :title="deed.title"
                    :subtitle="deed.about"
                    @click="router.push(plan(deed.kind, { snapshot: s.name }))"
                  />
                </VList>
              </VMenu>
            </td>
          </tr>
          <tr v-for="reader in s.read_by" :key="`${s.name} ${reader.name}`" class="reader">
            <td />
            <td colspan="5">
              <span class="branch" aria-hidden="true">└</span>
              <span class="unseen">Read by </span>
              <RouterLink :to="pathOf('volume', reader.name)">{{ reader.name }}</RouterLink>
              <span class="soft">{{ reads(reader) }}</span>
            </td>
            <td :title="reader.state.reason"><StateMark :lamp="reader.state.lamp" word /></td>
            <td />
          </tr>
        </template>
      </tbody>
    </VTable>
  </section>
</template>

<style scoped>
.next {
  padding-top: 16px;
}
.pick {
  width: 34px;
}
.go {
  text-align: right;
}
.reader td {
  border-top: none;
}
.branch {
  padding: 0 6px 0 10px;
  color: var(--soft);
}
</style>
