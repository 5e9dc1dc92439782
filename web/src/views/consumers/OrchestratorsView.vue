<script setup lang="ts">
import { ref } from "vue";
import { useConsumers, useWould } from "../../api/client";
import { clock, count } from "../../lib/format";
import CommandLine from "../../parts/CommandLine.vue";
import CopyName from "../../parts/CopyName.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import ConsumerTabs from "./ConsumerTabs.vue";
import SecretRows from "./SecretRows.vue";

/** Orchestrators that are connected, how they answer, what they lack; and what manifests would get there. */
const { data, error } = useConsumers();
const text = ref("");
const namespace = ref("");
const orchestrator = ref<string | null>(null);
const { mutate, data: would, error: refused, reset } = useWould();
const judge = () =>
  mutate({
    orchestrator: orchestrator.value ?? data.value!.orchestrators[0]!.name,
    namespace: namespace.value || "default",
    text: text.value,
  });
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Orchestrators</h1>
      <ConsumerTabs />
      <p v-if="data">{{ count(data.orchestrators.length, "orchestrator") }} connected.</p>
      <span class="grow" />
      <RouterLink class="btn" :to="{ query: { plan: 'connect-orchestrator' } }"
        >Connect an orchestrator</RouterLink
      >
    </div>
    <ProblemNote :error="error" />
    <section v-for="o in data?.orchestrators" :key="o.name" :aria-label="o.name" class="one">
      <div class="sec">
        <h2><StateMark :lamp="o.state.lamp" /> {{ o.name }}</h2>
        <span class="small">{{ o.state.reason }}</span>
        <span class="grow" />
        <RouterLink class="act" :to="{ query: { plan: 'connect-orchestrator', orchestrator: o.name } }"
          >Change how it is asked</RouterLink
        >
        <RouterLink class="act" :to="{ query: { plan: 'disconnect-orchestrator', orchestrator: o.name } }"
          >Preview disconnecting</RouterLink
        >
      </div>
      <VTable class="known">
        <tbody>
          <tr>
            <td>Its API</td>
            <td class="mono">{{ o.url }} <CopyName :name="o.url" /></td>
            <td>Version</td>
            <td class="mono">{{ o.version }}</td>
          </tr>
          <tr>
            <td>Its identity</td>
            <td class="mono">{{ o.identity }} <CopyName :name="o.identity" /></td>
            <td>So since</td>
            <td>{{ clock(o.since) }}</td>
          </tr>
          <tr>
            <td>Classes there</td>
            <td>{{ o.classes.join(", ") || "none: nothing was granted to its namespaces" }}</td>
            <td>Claims</td>
            <td>
              {{
                o.lives
                  .filter((l) => l.count)
                  .map((l) => `${l.count} ${l.life}`)
                  .join(", ") || "none"
              }}, in {{ count(o.namespaces, "namespace") }}
            </td>
          </tr>
          <tr>
            <td>The cluster answers at</td>
            <td v-if="data?.service_address" class="mono">
              {{ data.service_address }} <CopyName :name="data.service_address" />
            </td>
            <td v-else>nowhere yet: none is formed</td>
            <td>Its keepers at</td>
            <td>
              <span v-for="k in data?.keepers" :key="k.name" class="keeper"
                >{{ k.name }} <span class="mono">{{ k.address }}</span> <CopyName :name="k.address"
              /></span>
            </td>
          </tr>
        </tbody>
      </VTable>
      <SecretRows :orchestrator="o" />
      <template v-if="o.missing.length">
        <p class="small lacks">
          It has not given what these lines of the role <b>fold-barn</b> would give. Without them:
        </p>
        <div v-for="m in o.missing" :key="m.line" class="lack">
          <p>{{ m.why }}</p>
          <CommandLine :text="m.line" />
        </div>
      </template>
    </section>
    <div class="halves">
      <section aria-label="How one is connected">
        <div class="sec next"><h2>How one is connected</h2></div>
        <ol class="steps">
          <li>
            Keep <a class="act" href="/api/manifests/account.yaml" download>the manifests of the account</a>:
            a namespace, an account with a role that gives the least it takes, and its token.
          </li>
          <li>Apply them there: <CommandLine text="kubectl apply -f fold-barn-account.yaml" /></li>
          <li>
            Read the token:
            <CommandLine
              text="kubectl -n fold-barn get secret fold-barn-token -o jsonpath='{.data.token}' | base64 -d"
            />
          </li>
          <li>
            <RouterLink
              class="act"
              :data-offered="data && !data.orchestrators.length ? '' : undefined"
              :to="{ query: { plan: 'connect-orchestrator' } }"
              >Connect it</RouterLink
            >
            by its address, its certificate and that token, which is kept sealed and shown to nobody again.
          </li>
          <li>
            Show the secret that is made with it, once, and apply that there: by it the orchestrator's nodes
            are let in to the volumes of its claims.
          </li>
        </ol>
      </section>
      <section v-if="data?.orchestrators.length" aria-label="What manifests would get">
        <div class="sec next">
          <h2>What manifests would get</h2>
          <span class="small">Judged as claims are, one after the other; nothing is altered.</span>
        </div>
        <div class="trial">
          <VSelect
            v-if="data.orchestrators.length > 1"
            v-model="orchestrator"
            :items="data.orchestrators.map((o) => o.name)"
            label="Orchestrator"
            width="150"
          />
          <VTextField
            v-model="namespace"
            label="Namespace, where a document names none"
            placeholder="default"
            maxlength="63"
            width="260"
          />
        </div>
        <VTextarea
          v-model="text"
          label="Manifests, several documents in one"
          placeholder="apiVersion: v1, kind: PersistentVolumeClaim, …"
          rows="14"
          class="mono"
          @update:model-value="reset"
        />
        <VBtn class="act" :disabled="!text.trim()" @click="judge">Judge them</VBtn>
        <ProblemNote :error="refused" />
        <VTable v-if="would" class="plain">
          <tbody>
            <template v-for="(d, i) in would.documents" :key="i">
              <tr>
                <td>
                  <b>{{ d.kind }}</b> {{ d.namespace ? `${d.namespace}/` : "" }}{{ d.name }}
                </td>
                <td class="soft">
                  {{ d.about }}
                  <RouterLink
                    v-for="w in d.wishes"
                    :key="w.words"
                    class="act"
                    :to="{ query: { plan: w.kind, 'with-params': JSON.stringify(w.params) } }"
                    >{{ w.words }}</RouterLink
                  >
                </td>
              </tr>
              <tr v-for="c in d.claims" :key="c.claim">
                <td><StateMark :lamp="c.gets ? 'sound' : 'watch'" /> {{ c.claim }}</td>
                <td>{{ c.gets || `${c.against} ${c.cure}` }}</td>
              </tr>
            </template>
          </tbody>
        </VTable>
      </section>
    </div>
  </main>
</template>

<style scoped>
.one {
  margin-bottom: 14px;
}
.next {
  padding-top: 10px;
}
.steps {
  display: grid;
  gap: 8px;
  list-style: decimal;
  padding-left: 18px;
}
.keeper {
  margin-right: 12px;
  white-space: nowrap;
}
.lacks {
  padding: 8px 0 4px;
}
.lack {
  padding: 4px 0 4px 12px;
  border-left: 2px solid var(--rule2);
}
.trial {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 12px;
  padding-bottom: 6px;
}
</style>
