<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { type AccessRule, useFiles, usePolicies, useFileShare } from "../api/client";
import { binarySize } from "../lib/format";
import AccessRules from "./AccessRules.vue";
import { usePlaces } from "./choices";
import { useSheet, type Wish, words } from "./kind";

/** What a share is to be: a new one, or one that is there, as it is at first. */
const params = defineModel<Wish>({ required: true });
const { barn, asked } = useSheet();
const old = asked("share");
const { data: share } = useFileShare(old);
const { data: policies } = usePolicies();
const { data: files } = useFiles();
const PROTOCOLS = [
  { title: "NFS 3", value: "nfs3" },
  { title: "NFS 4.1", value: "nfs4.1" },
  { title: "SMB", value: "smb" },
];
const wish = reactive({
  name: "",
  policy: asked("policy"),
  pool: "",
  quota: asked("quota"),
  warn: "80",
  protocols: ["nfs4.1"],
  address: "",
  labels: "",
  rules: [{ who: "", right: "read", root: false }] as AccessRule[],
});
const begun = ref(!old);
/** The rules that people set; the others follow nodes. */
const own = (rules: NonNullable<typeof share.value>["access"]): AccessRule[] =>
  rules.filter((r) => !r.follows).map(({ who, right, root }) => ({ who, right, root }));
watch(
  share,
  (now) => {
    if (!now || begun.value) return;
    wish.warn = String(now.warn);
    wish.protocols = [...now.protocols];
    wish.address = now.address;
    wish.rules = own(now.access);
    begun.value = true;
  },
  { immediate: true },
);
const byPolicy = computed(() => [
  { title: "none: as its pool usually is", value: "" },
  ...(policies.value ?? []).filter((p) => !p.draft).map((p) => ({ title: p.name, value: p.name })),
]);
const pools = usePlaces(() => wish.policy);
const addresses = computed(() => [
  ...(old ? [] : [{ title: "that with fewest shares", value: "" }]),
  ...(files.value?.addresses ?? []).map((a) => ({ title: a.name, value: a.name })),
]);
watch(
  () => wish.policy,
  (now) => (wish.pool = now ? "" : (barn.value?.pools[0]?.name ?? "")),
  { immediate: true },
);
const same = (one: unknown, other: unknown) => JSON.stringify(one) === JSON.stringify(other);
watch(
  [wish, begun],
  () => {
    if (!begun.value) return;
    const { name, policy, pool, warn, rules, labels, ...rest } = wish;
    const typed = rules.filter((r) => r.who.trim());
    const number = Number(warn) || 0;
    const now = share.value;
    if (!old) {
      params.value = { name, policy, pool, warn: number, rules: typed, labels: words(labels), ...rest };
      return;
    }
    if (!now) return;
    params.value = {
      share: old,
      ...(wish.quota.trim() ? { quota: wish.quota } : {}),
      ...(number !== now.warn ? { warn: number } : {}),
      ...(same(wish.protocols, now.protocols) ? {} : { protocols: wish.protocols }),
      ...(wish.address === now.address ? {} : { address: wish.address }),
      ...(same(typed, own(now.access)) ? {} : { rules: typed }),
    };
  },
  { immediate: true, deep: true },
);
</script>

<template>
  <p v-if="!begun" class="small">Reading what is known of {{ old }} …</p>
  <template v-else>
    <template v-if="!old">
      <VTextField v-model="wish.name" label="Name of the share" v-first maxlength="80" width="180" />
      <VSelect v-model="wish.policy" :items="byPolicy" label="Policy" width="200" />
      <VSelect v-model="wish.pool" :items="pools" label="Pool" width="180" />
    </template>
    <VTextField
      v-model="wish.quota"
      :label="old ? 'Another quota' : 'Quota, such as 500 GiB'"
      :placeholder="share ? `${binarySize(share.quota_bytes)} now` : ''"
      maxlength="40"
      width="170"
    />
    <VTextField
      v-model="wish.warn"
      type="number"
      min="1"
      max="100"
      label="Said to fill from, %"
      width="140"
    />
    <VSelect v-model="wish.protocols" :items="PROTOCOLS" label="Mounted by" multiple width="190" />
    <VSelect v-model="wish.address" :items="addresses" label="Served at" width="230" />
    <VTextField
      v-if="!old"
      v-model="wish.labels"
      label="Labels, with commas between"
      maxlength="400"
      width="230"
    />
    <AccessRules v-model="wish.rules" />
  </template>
</template>
