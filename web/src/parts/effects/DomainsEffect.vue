<script setup lang="ts">
import type { EffectOf } from "../../lib/effects";
import { terabytes } from "../../lib/format";

defineProps<{ effect: EffectOf<"domains"> }>();
</script>

<template>
  <template v-if="effect.rows.length">
    <div class="sec">
      <h2>By {{ effect.level }}</h2>
      <span class="small">TB</span>
    </div>
    <VTable class="eff">
      <thead>
        <tr>
          <th>{{ effect.level }}</th>
          <th>Room</th>
          <th>{{ effect.title }}</th>
          <th>Stranded</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="d in effect.rows" :key="d.name">
          <td>{{ d.name }}</td>
          <td>{{ terabytes(d.room) }}</td>
          <td>{{ terabytes(d.takes) }}</td>
          <td>{{ d.stranded ? terabytes(d.stranded) : "" }}</td>
        </tr>
      </tbody>
    </VTable>
  </template>
</template>
