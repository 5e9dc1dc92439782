<script setup lang="ts">
import { computed } from "vue";
import { useFiles, useShares } from "../../api/client";
import { binarySize, count, percent, say } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import CommandLine from "../../parts/CommandLine.vue";
import CopyName from "../../parts/CopyName.vue";
import MeasureBar from "../../parts/MeasureBar.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import ConsumerTabs from "../consumers/ConsumerTabs.vue";
import { PROTOCOL } from "./words";

/** Shares, and the file service of the cluster that serves them. */
const { data: files, error } = useFiles();
const { data, error: untold } = useShares();
const shares = computed(() => data.value ?? []);
const lacking = computed(() => (files.value?.addresses ?? []).flatMap((a) => a.faults));
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Shares</h1>
      <ConsumerTabs />
      <p v-if="files?.on">
        {{ count(shares.length, "share") }}, served at
        {{ count(files.addresses.length, "address", "addresses") }}.
      </p>
      <span class="grow" />
      <RouterLink v-if="files?.on" class="btn" :to="{ query: { plan: 'make-share' } }"
        >Preview making a share</RouterLink
      >
    </div>
    <ProblemNote :error="error ?? untold" />
    <VTable v-if="shares.length" class="plain">
      <thead>
        <tr>
          <th>Share</th>
          <th>Used of its quota</th>
          <th>Mounted by</th>
          <th>Served at</th>
          <th class="n">Clients</th>
          <th>Policy</th>
          <th>Pool</th>
          <th>State, and why</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in shares" :key="s.name">
          <td class="name">
            <StateMark :lamp="s.state.lamp" />{{ " " }}
            <RouterLink :to="pathOf('share', s.name)"
              ><b>{{ s.name }}</b></RouterLink
            >
            <div v-if="s.labels.length" class="soft">{{ s.labels.join(", ") }}</div>
          </td>
          <td>
            <MeasureBar
              :used="s.used_bytes"
              :limit="s.quota_bytes"
              :label="`Used of ${s.name}`"
              :words="`${percent(s.used_bytes / s.quota_bytes)} of ${binarySize(s.quota_bytes)}`"
            />
          </td>
          <td>{{ say(s.protocols.map((p) => PROTOCOL[p])) }}</td>
          <td class="name">{{ s.address }}</td>
          <td class="n">{{ s.mounts }}</td>
          <td>
            <RouterLink v-if="s.policy" :to="pathOf('policy', s.policy)">{{ s.policy }}</RouterLink>
            <span v-else class="soft">none, by hand</span>
          </td>
          <td>
            <RouterLink :to="pathOf('pool', s.pool)">{{ s.pool }}</RouterLink>
          </td>
          <td class="soft">{{ s.state.reason }} {{ s.fills }}</td>
        </tr>
      </tbody>
    </VTable>
    <p v-else-if="data && files?.on" class="empty">
      No share yet. It is a file system on a volume of its own, with a quota, which clients mount by NFS or
      SMB.
      <RouterLink class="act" data-offered :to="{ query: { plan: 'make-share' } }">Make a share</RouterLink>
    </p>
    <section v-if="files?.clients" aria-label="Who has them mounted">
      <div class="sec next">
        <h2>Who has them mounted</h2>
        <span class="small"
          >{{ count(files.clients, "client") }}, as their nodes tell; where, as their hosts do.</span
        >
      </div>
      <VTable class="plain">
        <thead>
          <tr>
            <th>Share</th>
            <th>Client</th>
            <th>Its address</th>
            <th>Where</th>
            <th>By</th>
            <th>At</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="m in files.mounted" :key="`${m.share} ${m.client} ${m.protocol} ${m.user}`">
            <td>
              <RouterLink :to="pathOf('share', m.share)">{{ m.share }}</RouterLink>
            </td>
            <td>
              <RouterLink v-if="m.host" :to="pathOf('host', m.host)"
                ><b>{{ m.host }}</b></RouterLink
              >
              <span v-else class="soft">no host that is known</span>
            </td>
            <td class="mono">{{ m.client }}</td>
            <td class="mono name">{{ m.at || "not told" }}</td>
            <td>
              {{ PROTOCOL[m.protocol] }}{{ m.user ? ` as ${m.user}` : ""
              }}{{ m.read_only ? ", to read" : "" }}
            </td>
            <td>{{ m.served }}</td>
          </tr>
        </tbody>
      </VTable>
      <p v-if="files.clients > files.mounted.length" class="small">
        and {{ (files.clients - files.mounted.length).toLocaleString("en") + " more" }}, on the pages of their
        shares
      </p>
    </section>
    <section v-if="files" aria-label="The file service">
      <div class="sec next">
        <h2>The file service</h2>
        <span v-if="files.on" class="small"
          >{{ files.takeover }}
          {{
            files.name_server
              ? `Names are asked of ${files.name_server}.`
              : "No name server is asked for names."
          }}</span
        >
        <span class="grow" />
        <template v-if="files.on">
          <RouterLink class="act" :to="{ query: { plan: 'serve-files' } }">Preview altering it</RouterLink>
          <RouterLink class="act" :to="{ query: { plan: 'stop-files' } }"
            >Preview switching it off</RouterLink
          >
        </template>
      </div>
      <VTable v-if="files.on" class="plain">
        <thead>
          <tr>
            <th>Name</th>
            <th>Addresses</th>
            <th>At home on</th>
            <th>Now on</th>
            <th>Next</th>
            <th>Shares</th>
            <th class="n">Clients</th>
            <th>State, and why</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="a in files.addresses" :key="a.name">
            <td class="name">
              <StateMark :lamp="a.state.lamp" />{{ " " }}<b>{{ a.name }}</b> <CopyName :name="a.name" />
            </td>
            <td class="mono">
              <div v-for="one in a.at" :key="one">{{ one }} <CopyName :name="one" /></div>
            </td>
            <td>
              <RouterLink :to="pathOf('node', a.home)">{{ a.home }}</RouterLink>
            </td>
            <td>
              <RouterLink v-if="a.carrier" :to="pathOf('node', a.carrier)">{{ a.carrier }}</RouterLink>
              <span v-else class="soft">nobody that is heard</span>
            </td>
            <td class="soft">{{ a.takes_over || "nobody" }}</td>
            <td>{{ a.shares.length ? say(a.shares) : "none" }}</td>
            <td class="n">{{ a.mounts }}</td>
            <td class="soft">
              {{ a.state.reason
              }}{{
                a.faults.length || !files.name_server
                  ? ""
                  : a.looked_at
                    ? " Its name is known forward and backward."
                    : " Its name is yet to be looked for."
              }}
            </td>
          </tr>
        </tbody>
      </VTable>
      <template v-if="lacking.some((f) => f.record)">
        <p class="small lacks">These records would put its names right:</p>
        <template v-for="f in lacking" :key="f.sentence">
          <CommandLine v-if="f.record" :text="f.record" />
        </template>
      </template>
      <p v-if="!files.on" class="empty">
        The file service is switched off.
        <template v-if="files.could.length"
          >The cluster can serve it: {{ count(files.could.length, "node") }} could have an address.
          <RouterLink class="act" data-offered :to="{ query: { plan: 'serve-files' } }"
            >Switch it on</RouterLink
          ></template
        >
        <template v-else
          >A cluster serves it, and no node belongs to one yet.
          <RouterLink class="act" data-offered to="/cluster">Form a cluster</RouterLink></template
        >
      </p>
    </section>
  </main>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
  min-width: 120px;
  max-width: 260px;
}
.next {
  padding-top: 16px;
}
.lacks {
  padding-top: 8px;
}
</style>
