<script setup lang="ts">
import StateMark from "./StateMark.vue";

/** The key to the barn map. */
defineProps<{ work?: boolean }>();
const LAMPS = ["sound", "watch", "mending", "short", "failed", "away", "not heard"] as const;
</script>

<template>
  <div class="legend">
    <span><em>Bin:</em></span>
    <span
      ><i class="k"><u /></i
      >{{ work ? "hay shows work now, against the busiest disk" : "hay shows how much is used" }}</span
    >
    <span><i class="k unfit" />unfit</span>
    <span><em>Edge:</em></span>
    <span><i class="k" />capacity</span><span><i class="k cache" />cache</span
    ><span><i class="k spare" />spare</span><span><i class="k boot" />boot</span
    ><span><i class="k unclaimed" />unclaimed</span>
    <span class="lamps"><em>Lamp:</em><StateMark v-for="lamp in LAMPS" :key="lamp" :lamp="lamp" word /></span>
  </div>
</template>

<style scoped>
.legend {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  font-size: var(--t-xs);
  color: var(--soft);
  line-height: 18px;
  padding-top: 6px;
}
span {
  display: inline-flex;
  align-items: center;
  gap: 5px;
  white-space: nowrap;
}
.lamps {
  gap: 10px;
}
em {
  font-style: normal;
  color: var(--ink);
  font-weight: 600;
}
.k {
  display: inline-block;
  width: 13px;
  height: 14px;
  position: relative;
  border: 1px solid var(--edge);
  background: var(--sheet);
  overflow: hidden;
}
.k u {
  position: absolute;
  inset: 5px 0 0;
  background: var(--hay);
  border-top: 1.5px solid var(--hay-line);
}
.k.cache {
  border: 3px double var(--edge);
}
.k.spare {
  border: 1.5px dashed var(--edge);
  background: none;
}
.k.boot {
  border: 2.5px solid var(--timber);
}
.k.unclaimed {
  border: 1.5px dotted var(--timber);
  background: none;
}
.k.unfit {
  background: repeating-linear-gradient(135deg, var(--sheet) 0 3px, var(--rule2) 3px 4px);
}
</style>
