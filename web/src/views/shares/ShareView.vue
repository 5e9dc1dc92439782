<script setup lang="ts">
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { useBarn, useFileShare, useShownPassword, useTryRules } from "../../api/client";
import { count, size } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import BarnMap from "../../parts/BarnMap.vue";
import CommandLine from "../../parts/CommandLine.vue";
import CopyName from "../../parts/CopyName.vue";
import KinCards from "../../parts/KinCards.vue";
import OnceSheet from "../../parts/OnceSheet.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import TideGraph from "../../parts/TideGraph.vue";
import WhatWasDone from "../../parts/WhatWasDone.vue";
import QuotaDrawing from "./QuotaDrawing.vue";
import { PROTOCOL, RIGHT } from "./words";

const props = defineProps<{ name: string }>();
const { data: share, error } = useFileShare(() => props.name);
const { data: barn } = useBarn();
const router = useRouter();
const address = ref("");
const trial = useTryRules();
const attempt = () => {
  const rules = share.value!.access.map(({ who, right, root }) => ({ who, right, root }));
  trial.mutate({ address: address.value, rules });
};
/** By the name first: that goes on being right where an address does not. */
const by = ref("");
const ways = computed(() => [...new Set(share.value?.how.map((h) => h.by) ?? [])]);
const shown = computed(() => share.value?.how.filter((h) => h.by === (by.value || ways.value[0])) ?? []);
const MOST = 40;
const { mutate: show, data: seen, error: refused, reset } = useShownPassword();
const open = ref(false);
const see = (user: string) => show({ name: props.name, user }, { onSuccess: () => (open.value = true) });
const decided = computed(() => (trial.error.value ? null : (trial.data.value?.rule ?? null)));
</script>

<template>
  <main class="page">
    <ProblemNote :error="error" />
    <template v-if="share">
      <div class="headline">
        <h1><StateMark :lamp="share.state.lamp" /> {{ share.name }} <CopyName :name="share.name" /></h1>
        <p>{{ share.state.reason }}</p>
        <span class="grow" />
        <RouterLink
          v-if="share.binned"
          class="btn"
          :to="{ query: { plan: 'restore-share', share: share.name } }"
          >Preview bringing it back</RouterLink
        >
        <template v-else>
          <RouterLink class="act" :to="{ query: { plan: 'keep-policy', volumes: share.volume.name } }"
            >Preview another policy</RouterLink
          >
          <RouterLink class="act" :to="{ query: { plan: 'rename-share', share: share.name } }"
            >Preview renaming it</RouterLink
          >
          <RouterLink class="act" :to="{ query: { plan: 'delete-share', share: share.name } }"
            >Preview deleting it</RouterLink
          >
          <RouterLink class="act" :to="{ query: { plan: 'take-snapshot', volumes: share.volume.name } }"
            >Preview a snapshot</RouterLink
          >
          <RouterLink class="btn" :to="{ query: { plan: 'alter-share', share: share.name } }"
            >Preview altering it</RouterLink
          >
        </template>
      </div>
      <KinCards link="share" :name="share.name" />
      <div class="halves">
        <section aria-label="How full it is">
          <div class="sec">
            <h2>How full it is</h2>
            <span class="small">{{ share.fill_state.reason }} {{ share.fills }}</span>
          </div>
          <QuotaDrawing :share="share" />
          <div class="sec next"><h2>Who has it mounted</h2></div>
          <VTable v-if="share.mounted.length" class="plain">
            <thead>
              <tr>
                <th>Client</th>
                <th>Where</th>
                <th>By</th>
                <th>May</th>
                <th>As it starts</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="m in share.mounted" :key="`${m.client} ${m.protocol} ${m.user}`">
                <td class="name">
                  <RouterLink v-if="m.host" :to="pathOf('host', m.host)"
                    ><b>{{ m.host }}</b></RouterLink
                  >{{ " " }}<span class="mono soft">{{ m.client }}</span>
                </td>
                <td class="mono name">{{ m.at || "not told" }}</td>
                <td>{{ PROTOCOL[m.protocol] }}{{ m.user ? ` as ${m.user}` : "" }}</td>
                <td class="soft">{{ m.may }}{{ m.read_only ? "; it only reads" : "" }}</td>
                <td class="soft">
                  {{ m.kept === null ? "not told" : m.kept ? "mounted again" : "not mounted again" }}
                </td>
              </tr>
            </tbody>
          </VTable>
          <p v-else class="empty">Nobody has it mounted, as far as its node tells.</p>
          <p v-if="share.mounts > share.mounted.length" class="small">
            and {{ (share.mounts - share.mounted.length).toLocaleString("en") }} more
          </p>
          <p v-if="share.untold.length" class="small">
            {{ share.untold.join(", ") }} served it, and cannot tell now who has it mounted there.
          </p>
        </section>
        <section aria-label="Who may mount it">
          <div class="sec">
            <h2>Who may mount it</h2>
            <span class="small">The rule that covers fewest addresses decides.</span>
            <span class="grow" />
            <RouterLink
              v-if="!share.binned"
              class="act"
              :to="{ query: { plan: 'alter-share', share: share.name } }"
              >Preview other rules</RouterLink
            >
          </div>
          <VTable v-if="share.access.length" class="plain">
            <thead>
              <tr>
                <th class="n">Rule</th>
                <th>Covers</th>
                <th>May</th>
                <th>Root</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="(r, i) in share.access.slice(0, MOST)" :key="i" :class="{ lit: decided === i + 1 }">
                <td class="n">{{ i + 1 }}</td>
                <td class="mono">{{ r.who }}</td>
                <td>{{ RIGHT[r.right] }}</td>
                <td class="soft">
                  {{ r.right === "none" ? "" : r.root ? "stays root" : "is nobody"
                  }}{{ r.follows ? "; a node of its orchestrator" : "" }}
                </td>
              </tr>
            </tbody>
          </VTable>
          <p v-else class="empty">No rule lets anybody in.</p>
          <p v-if="share.access.length > MOST" class="small">
            and {{ count(share.access.length - MOST, "more rule") }}, which the tester knows
          </p>
          <p v-for="i in share.idle" :key="i.rule" class="small">{{ i.sentence }}</p>
          <form class="try" @submit.prevent="attempt">
            <VTextField
              v-model="address"
              label="Try an address"
              placeholder="10.4.7.20"
              maxlength="100"
              width="200"
            />
            <VBtn type="submit" class="chip">Try</VBtn>
            <output v-if="trial.data.value && !trial.error.value" class="told"
              >from {{ trial.variables.value?.address }}: {{ trial.data.value.sentence }}</output
            >
          </form>
          <ProblemNote :error="trial.error.value" />
          <template v-if="share.protocols.includes('smb') || share.users.length">
            <div class="sec next">
              <h2>Who signs in by SMB</h2>
              <span class="grow" />
              <RouterLink class="act" :to="{ query: { plan: 'let-user-in', share: share.name } }"
                >Preview letting a user in</RouterLink
              >
            </div>
            <ProblemNote :error="refused" />
            <VTable v-if="share.users.length" class="plain">
              <thead>
                <tr>
                  <th>User</th>
                  <th>May</th>
                  <th><span class="unseen">What can be done</span></th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="u in share.users" :key="u.name">
                  <td class="mono">{{ u.name }}</td>
                  <td>{{ RIGHT[u.right] }}</td>
                  <td>
                    <div class="acts">
                      <VBtn v-if="!u.shown" class="act" @click="see(u.name)">Show the password, once</VBtn>
                      <RouterLink
                        class="act"
                        :to="{ query: { plan: 'let-user-in', share: share.name, user: u.name } }"
                        >Preview a new one for {{ u.name }}</RouterLink
                      >
                      <RouterLink
                        class="act"
                        :to="{ query: { plan: 'remove-user', share: share.name, user: u.name } }"
                        >Preview letting {{ u.name }} in no more</RouterLink
                      >
                    </div>
                  </td>
                </tr>
              </tbody>
            </VTable>
            <p v-else class="empty">Nobody yet.</p>
          </template>
        </section>
      </div>
      <section v-if="share.how.length" aria-label="How it is mounted">
        <div class="sec next">
          <h2>How it is mounted</h2>
          <span class="small">Typed on a client, and the line for its /etc/fstab.</span>
          <span class="grow" />
          <VBtn
            v-for="w in ways"
            :key="w"
            class="chip"
            :aria-pressed="(by || ways[0]) === w"
            @click="by = w"
            >{{ w }}</VBtn
          >
        </div>
        <div v-for="h in shown" :key="h.protocol" class="way">
          <h3>{{ h.said }}</h3>
          <CommandLine v-for="c in h.commands" :key="c" :text="c" />
          <CommandLine :text="h.table" />
        </div>
      </section>
      <section v-if="barn" aria-label="Where it lies">
        <div class="sec next">
          <h2>Where it lies</h2>
          <span class="small"
            >On the volume
            <RouterLink :to="pathOf('volume', share.volume.name)">{{ share.volume.name }}</RouterLink>,
            {{ size(share.volume.size_bytes)
            }}{{ share.labels.length ? `, labelled ${share.labels.join(", ")}` : "" }}; its snapshots are
            there.
            <RouterLink class="act" :to="{ query: { plan: 'set-volume', volumes: share.volume.name } }"
              >Preview other labels</RouterLink
            ></span
          >
        </div>
        <BarnMap
          :rooms="barn.rooms"
          :lit="share.shares"
          @open="(d) => router.push(pathOf('disk', d.name))"
          @open-node="(n) => router.push(pathOf('node', n.name))"
        />
      </section>
      <TideGraph class="next" of="volume" :name="share.volume.name" />
      <section aria-label="What was done with it">
        <div class="sec next"><h2>What was done with it</h2></div>
        <WhatWasDone made="Made" :at="share.made_at" :change="share.change" :lines="share.history" />
      </section>
      <OnceSheet v-model="open" :title="seen?.user" :label="`The password of ${seen?.user}`" @closed="reset">
        <template v-if="seen">
          <p>It is shown this once: from here on only what it is known by is kept.</p>
          <p class="mono">{{ seen.password }} <CopyName :name="seen.password" /></p>
        </template>
      </OnceSheet>
    </template>
    <p v-else-if="!error" class="empty">Reading {{ name }} …</p>
  </main>
</template>

<style scoped>
.next {
  padding-top: 14px;
}
.name {
  overflow-wrap: anywhere;
  max-width: 220px;
}
.try {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 6px 12px;
  padding-top: 8px;
}
.told {
  padding-bottom: 5px;
  font-weight: 600;
}
.lit td {
  box-shadow: inset 0 -2px 0 var(--slate);
}
.acts {
  display: flex;
  flex-wrap: wrap;
  justify-content: flex-end;
  gap: 2px 12px;
}
.way h3 {
  font-size: var(--t-s);
  font-weight: 680;
  padding-top: 6px;
}
</style>
