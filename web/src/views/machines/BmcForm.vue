<script setup lang="ts">
import { reactive } from "vue";
import { useReadBmc, type Yard } from "../../api/client";
import { count } from "../../lib/format";
import ProblemNote from "../../parts/ProblemNote.vue";

/** A node is described by what its BMC says, with a name and password that are kept nowhere. */
defineProps<{ yard?: Yard }>();
const EXAMPLE = "https://10.0.0.11";
const readBmc = useReadBmc();
const bmc = reactive({ bmc_url: "", user: "", password: "" });
const read = () => readBmc.mutate({ ...bmc }, { onSuccess: () => (bmc.password = "") });
</script>

<template>
  <form class="wish" @submit.prevent="read">
    <VTextField
      v-model="bmc.bmc_url"
      list="bmcs"
      label="Address of the BMC"
      :placeholder="EXAMPLE"
      width="260"
    />
    <datalist v-if="yard" id="bmcs">
      <option v-for="(url, node) in yard.bmc_urls" :key="node" :value="url">{{ node }}, a stand-in</option>
    </datalist>
    <VTextField v-model="bmc.user" label="Name at the BMC" width="110" />
    <VTextField v-model="bmc.password" type="password" label="Password at the BMC" width="130" />
    <VBtn type="submit" class="btn plain" :disabled="!bmc.bmc_url || readBmc.isPending.value">
      {{ readBmc.isPending.value ? "Reading …" : "Read" }}
    </VBtn>
  </form>
  <ProblemNote :error="readBmc.error.value" />
  <p v-if="readBmc.data.value" role="status" class="small">
    {{ readBmc.data.value.node }}: {{ count(readBmc.data.value.disks, "drive")
    }}{{ readBmc.data.value.new ? ", new here and awaited" : "; it was known already" }}. The password is kept
    nowhere.<template v-if="yard"> The stand-ins take name yard, password yard.</template>
  </p>
  <p v-else-if="yard" class="small">The stand-ins' BMCs take name yard, password yard.</p>
</template>

<style scoped>
.wish {
  display: flex;
  gap: 12px;
  align-items: end;
  padding-bottom: 6px;
}
</style>
