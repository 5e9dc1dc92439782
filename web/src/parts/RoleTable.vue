<script setup lang="ts">
import { computed, ref } from "vue";
import type { RoleRow } from "../api/client";
import { size } from "../lib/format";
import { pathOf } from "../lib/paths";

/**
 * Roles as a table, with the rule's reason beside each disk. Capacity disks of a node that are alike are
 * told once, unless `whole` or asked for each.
 */
const props = defineProps<{ roles: RoleRow[]; whole?: boolean; choosing?: boolean }>();
const emit = defineEmits<{ choose: [disks: string[], role: string] }>();
const each = ref(false);
interface Line extends RoleRow {
  disks: string[];
}
const lines = computed(() => {
  const found: Line[] = [];
  for (const r of props.roles) {
    const alike = found.find(
      (f) =>
        !props.whole &&
        !each.value &&
        r.by_rule === "capacity" &&
        f.node === r.node &&
        f.media === r.media &&
        f.size_bytes === r.size_bytes &&
        f.role === r.role &&
        f.tier === r.tier &&
        f.overridden === r.overridden &&
        f.reason === r.reason &&
        f.bound_to === r.bound_to &&
        f.serves === r.serves,
    );
    if (alike) alike.disks.push(r.disk);
    else found.push({ ...r, disks: [r.disk] });
  }
  return found;
});
const called = (l: Line) =>
  l.disks.length > 1 ? `${l.disks[0]} and ${l.disks.length - 1} more` : l.disks[0]!;
const role = (l: RoleRow) => (l.role === "capacity" && l.tier === "fast" ? "fast tier" : l.role);
const edge = (l: RoleRow) => `e-${l.role}`;
</script>

<template>
  <VTable class="plain roles"
    ><caption class="unseen">
      Roles
    </caption>
    <thead>
      <tr>
        <th>Disk</th>
        <th>Class</th>
        <th class="n">Size</th>
        <th>Role</th>
        <th>Because</th>
        <th>Cache</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="l in lines" :key="l.disks[0]" :data-role-of="l.disks[0]">
        <td class="mono name">
          <RouterLink v-if="whole" :to="pathOf('disk', l.disks[0]!)"
            ><b>{{ l.disks[0] }}</b></RouterLink
          ><b v-else :title="l.disks.join(', ')">{{ called(l) }}</b>
        </td>
        <td class="tight">{{ l.media }}</td>
        <td class="n">{{ size(l.size_bytes) }}</td>
        <td class="tight">
          <i class="edge" :class="edge(l)" />
          <VSelect
            v-if="choosing"
            class="role"
            :aria-label="`Role of ${called(l)}`"
            :model-value="l.role"
            :items="
              ['capacity', 'cache', 'spare'].map((o) => ({
                title: o === l.by_rule ? `${o}, by rule` : o,
                value: o,
              }))
            "
            width="150"
            @update:model-value="(role) => emit('choose', l.disks, role)"
          />
          <template v-else>{{ role(l) }}</template>
        </td>
        <td class="soft">
          {{
            l.overridden
              ? `By choice: ${l.reason}. By rule it is ${l.by_rule}.`
              : `${l.reason[0]!.toUpperCase()}${l.reason.slice(1)}.`
          }}
        </td>
        <td class="soft tight">
          {{
            l.bound_to
              ? `served by ${l.bound_to}`
              : l.serves
                ? `serves ${l.serves} disk${l.serves === 1 ? "" : "s"}`
                : ""
          }}
        </td>
      </tr>
    </tbody>
  </VTable>
  <VBtn v-if="!whole && lines.length < roles.length" class="act each" @click="each = true">
    Each disk by itself
  </VBtn>
</template>

<style scoped>
.roles {
  margin: 2px 0 6px;
}
.roles th {
  background: inherit !important;
}
.roles td {
  height: 25px;
  padding-top: 2px;
  padding-bottom: 2px;
}
.tight {
  white-space: nowrap;
}
.each {
  font-size: var(--t-s);
}
.edge {
  display: inline-block;
  width: 12px;
  height: 13px;
  margin-right: 6px;
  vertical-align: -2px;
  border: 1px solid var(--edge);
  background: var(--sheet);
}
.e-cache {
  border: 3px double var(--edge);
}
.e-spare {
  border: 1.5px dashed var(--edge);
  background: none;
}
.role {
  display: inline-grid;
  vertical-align: middle;
}
.name {
  white-space: nowrap;
}
</style>
