<script setup lang="ts">
import { useConsumers, type StorageClass } from "../../api/client";
import { count, say } from "../../lib/format";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import ConsumerTabs from "./ConsumerTabs.vue";

/** Under which names claims ask for policies, and what they get with each. */
const { data, error } = useConsumers();
const ends = (c: StorageClass) => (c.reclaim === "Retain" ? "is kept aside" : "goes into the bin");
const made = (c: StorageClass) => (c.binding === "Immediate" ? "at once" : "for its first pod");
const spaces = (c: StorageClass) => say(c.granted.map((g) => g.split("/").slice(1).join("/")));
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Classes</h1>
      <ConsumerTabs />
      <p v-if="data">
        <template v-if="data.default_class"
          >Claims that name none get <b>{{ data.default_class }}</b>.</template
        ><template v-else-if="data.classes.length"
          >There is no default: claims that name no class wait.</template
        >
      </p>
      <span class="grow" />
      <a v-if="data?.classes.length" class="act" href="/api/manifests/classes.yaml" download
        >Keep them as manifests</a
      >
      <RouterLink class="btn" :to="{ query: { plan: 'publish-class' } }">Publish a class</RouterLink>
    </div>
    <ProblemNote :error="error" />
    <VTable v-if="data?.classes.length" class="plain classes">
      <thead>
        <tr>
          <th>Class</th>
          <th>It promises</th>
          <th>In</th>
          <th>Its volume is made</th>
          <th>With its claim</th>
          <th>Claims grow</th>
          <th>File system</th>
          <th>Appears for</th>
          <th class="n">Claims</th>
          <th><span class="unseen">What can be done</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in data.classes" :key="c.name">
          <td class="name">
            <b>{{ c.name }}</b>
            <p v-if="c.default" class="small">the default</p>
          </td>
          <td class="promise">
            <RouterLink :to="`/policies/${encodeURIComponent(c.policy)}`"
              ><b>{{ c.policy }}</b></RouterLink
            >: <span class="soft">{{ c.promise }}</span>
          </td>
          <td>
            <RouterLink v-if="c.pool" :to="`/pools/${encodeURIComponent(c.pool)}`">{{ c.pool }}</RouterLink>
            <span v-else class="soft">whichever is best</span>
          </td>
          <td class="nowrap">{{ made(c) }}</td>
          <td class="nowrap">{{ ends(c) }}</td>
          <td>{{ c.expands ? "yes" : "no" }}</td>
          <td>
            {{ c.file_system === "none" ? "none: a block device" : c.file_system }}
            <p v-if="c.mount_options.length" class="small">{{ c.mount_options.join(", ") }}</p>
          </td>
          <td>
            <template v-if="c.granted.length">{{ spaces(c) }}</template>
            <span v-else class="soft">nobody: its policy is granted to no namespace</span>
            <p v-if="c.others.length" class="small">
              <StateMark lamp="watch" /> not in {{ say(c.others) }}, where a class of that name is somebody
              else's
            </p>
          </td>
          <td class="n">
            {{ c.claims }}
            <p v-if="c.waiting" class="small">{{ c.waiting }} waiting</p>
          </td>
          <td>
            <span class="deeds">
              <RouterLink class="act" :to="{ query: { plan: 'publish-class', class: c.name } }"
                >Change</RouterLink
              >
              <RouterLink class="act" :to="{ query: { plan: 'withdraw-class', class: c.name } }"
                >Preview withdrawing</RouterLink
              >
            </span>
          </td>
        </tr>
      </tbody>
    </VTable>
    <p v-else-if="data" class="empty">
      No class yet: claims have nothing to ask for.
      <RouterLink class="act" data-offered :to="{ query: { plan: 'publish-class' } }"
        >Publish a class</RouterLink
      >
      from a policy.
    </p>
    <p v-if="data?.classes.length" class="small foot">
      {{ count(data.classes.length, "class", "classes") }}. Each appears by itself in the orchestrators whose
      namespaces were granted its policy, and goes again when the last grant is withdrawn.
    </p>
  </main>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
  max-width: 170px;
}
.promise {
  max-width: 260px;
}
.nowrap {
  white-space: nowrap;
}
.deeds {
  display: grid;
  gap: 2px;
}
.foot {
  padding-top: 10px;
}
</style>
