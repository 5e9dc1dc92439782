<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import {
  useDeleteRoute,
  useRoutesOfWord,
  useSaveMail,
  useSaveRoute,
  useTestRoute,
  type Route,
} from "../../api/client";
import CommandLine from "../../parts/CommandLine.vue";
import OnceSheet from "../../parts/OnceSheet.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import MessageTable from "./MessageTable.vue";
import WatchTabs from "./WatchTabs.vue";

/** To whom alerts are told and how, by which server, and what was sent. */
const { data, error } = useRoutesOfWord();
const save = useSaveRoute();
const away = useDeleteRoute();
const test = useTestRoute();
const mail = useSaveMail();
const failure = computed(
  () => error.value ?? save.error.value ?? away.error.value ?? test.error.value ?? mail.error.value,
);
const EMPTY = { name: "", kind: "mail", target: "", least: "notice", usual: true } as Route["wish"];
const form = reactive({ number: 0, wish: { ...EMPTY } });
const edit = (r: Route) => Object.assign(form, { number: r.number, wish: { ...r.wish } });
const sure = ref(0); // which of them is to be deleted
const secret = ref("");
const shown = ref(false);
const keep = () =>
  save.mutate(
    { number: form.number, wish: { ...form.wish } },
    {
      onSuccess: (made) => {
        Object.assign(form, { number: 0, wish: { ...EMPTY } });
        if (made.secret) {
          secret.value = made.secret;
          shown.value = true;
        }
      },
    },
  );
const NO_SERVER = { host: "", port: "25", sender: "", trusted: "", account: "", password: "" };
const post = ref({ ...NO_SERVER, encrypted: false });
const known = ref(false);
watch(
  () => data.value?.mail,
  (now) => {
    if (!now || known.value) return;
    known.value = true;
    const { host, sender, encrypted, trusted, account } = now;
    Object.assign(post.value, { host, port: String(now.port), sender, encrypted, trusted, account });
  },
  { immediate: true },
);
const keepServer = () =>
  mail.mutate(
    { ...post.value, port: Number(post.value.port) || 0, password: post.value.password || null },
    { onSuccess: () => (post.value.password = "") },
  );
const tried = computed(() => (test.data.value ? (test.data.value.problem ?? "") : null));
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Who is told</h1>
      <WatchTabs />
      <p>Alerts go by the route that their rule names, or by the usual one.</p>
      <span class="grow" />
    </div>
    <ProblemNote :error="failure" />
    <p v-if="tried !== null" role="status" class="result">
      <StateMark :lamp="tried ? 'failed' : 'sound'" />
      {{ tried || "The test was taken." }}
    </p>
    <section v-if="data" aria-label="Routes">
      <VTable v-if="data.routes.length" class="plain">
        <thead>
          <tr>
            <th>Route</th>
            <th>By</th>
            <th>To</th>
            <th>Hears of</th>
            <th>For</th>
            <th><span class="unseen">What can be done</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in data.routes" :key="r.number">
            <td class="name">
              <b>{{ r.wish.name }}</b>
            </td>
            <td>{{ r.wish.kind }}</td>
            <td class="name">{{ r.wish.target }}</td>
            <td>{{ r.wish.least === "urgent" ? "what is urgent" : "everything" }}</td>
            <td class="soft">
              {{
                [r.wish.usual ? "rules that name no route" : "", ...r.rules].filter(Boolean).join(", ") ||
                "no rule yet"
              }}
            </td>
            <td class="acts">
              <VBtn class="act" :aria-label="`Send a test to ${r.wish.name}`" @click="test.mutate(r.number)"
                >Send a test</VBtn
              >
              <VBtn class="act" :aria-label="`Alter ${r.wish.name}`" @click="edit(r)">Alter</VBtn>
              <VBtn
                class="act"
                :aria-label="`Delete ${r.wish.name}`"
                @click="sure === r.number ? away.mutate(r.number) : (sure = r.number)"
                >{{ sure === r.number ? "Press once more" : "Delete" }}</VBtn
              >
            </td>
          </tr>
        </tbody>
      </VTable>
      <p v-else class="empty">Nobody is told yet: say below who is.</p>
      <form class="fields" :aria-label="form.number ? 'Alter a route' : 'A new route'" @submit.prevent="keep">
        <label
          ><span>{{ form.number ? "Alter the route" : "A new route" }}</span>
          <VTextField
            v-model="form.wish.name"
            aria-label="Name of the route"
            placeholder="its name"
            width="180"
        /></label>
        <label
          ><span>By</span>
          <VSelect v-model="form.wish.kind" aria-label="By" :items="['mail', 'webhook']" width="120"
        /></label>
        <label
          ><span>To</span>
          <VTextField
            v-model="form.wish.target"
            aria-label="To"
            :placeholder="form.wish.kind === 'mail' ? 'somebody@skerry.example' : 'https://…'"
            width="280"
        /></label>
        <label
          ><span>Hears of</span>
          <VSelect
            v-model="form.wish.least"
            aria-label="Hears of"
            :items="[
              { title: 'everything', value: 'notice' },
              { title: 'what is urgent', value: 'urgent' },
            ]"
            width="150"
        /></label>
        <VCheckbox v-model="form.wish.usual" label="for rules that name no route" />
        <VBtn type="submit" class="btn" :disabled="!form.wish.name.trim() || !form.wish.target.trim()">{{
          form.number ? "Keep it so" : "Make it"
        }}</VBtn>
      </form>
    </section>
    <section v-if="data" aria-label="The mail server">
      <div class="sec next">
        <h2>The mail server</h2>
        <span class="small">{{
          data.mail.chosen
            ? "as it was entered here"
            : data.mail.host
              ? "as this machine's settings say; what is entered here goes before"
              : "none is set"
        }}</span>
      </div>
      <form class="fields" aria-label="The mail server" @submit.prevent="keepServer">
        <label><span>Host</span><VTextField v-model="post.host" aria-label="Mail host" width="200" /></label>
        <label
          ><span>Port</span
          ><VTextField v-model="post.port" inputmode="numeric" aria-label="Mail port" width="80"
        /></label>
        <label
          ><span>Sent as</span><VTextField v-model="post.sender" aria-label="Mail is sent as" width="230"
        /></label>
        <VCheckbox v-model="post.encrypted" label="only encrypted (STARTTLS)" />
        <label
          ><span>Account</span
          ><VTextField v-model="post.account" aria-label="Mail account" placeholder="none" width="150"
        /></label>
        <label
          ><span>Password</span
          ><VTextField
            v-model="post.password"
            type="password"
            autocomplete="new-password"
            aria-label="Mail password"
            :placeholder="data.mail.account ? 'as it is' : 'none'"
            width="150"
        /></label>
        <VTextarea
          v-if="post.encrypted"
          v-model="post.trusted"
          aria-label="Certificates by which it is known, beside this machine's"
          placeholder="certificates (PEM) by which it is known, beside this machine's"
          rows="3"
          class="trusted"
        />
        <VBtn type="submit" class="btn plain" :disabled="!post.host.trim() || !post.sender.trim()"
          >Keep it so</VBtn
        >
      </form>
    </section>
    <section v-if="data" aria-label="What was sent">
      <div class="sec next"><h2>What was sent</h2></div>
      <MessageTable v-if="data.messages.length" :messages="data.messages" />
      <p v-else class="empty">Nothing yet.</p>
    </section>
    <p v-else-if="!error" class="empty">Reading who is told …</p>
    <OnceSheet
      v-model="shown"
      title="The webhook's secret"
      label="The secret, shown once"
      @closed="secret = ''"
    >
      <p>
        What is sent there is signed by it (RFC 9421, hmac-sha256), with a time and a mark that tells each
        message from all others.
      </p>
      <CommandLine :text="secret" />
    </OnceSheet>
  </main>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
  min-width: 110px;
}
.acts {
  text-align: right;
  white-space: nowrap;
}
.acts > * + * {
  margin-left: 12px;
}
.fields {
  display: flex;
  flex-wrap: wrap;
  align-items: flex-end;
  gap: 8px 12px;
  padding: 8px 0;
}
.fields label > span {
  display: block;
  font-size: var(--t-xs);
  color: var(--soft);
}
.fields > * {
  flex: none;
}
.trusted {
  flex: 1 1 420px;
  font-family: var(--mono);
}
.result {
  padding: 4px 0;
}
.next {
  padding-top: 16px;
}
</style>
