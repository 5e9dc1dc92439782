import { createRouter, createWebHistory, type RouteRecordRaw } from "vue-router";

/** The sections, in the order of the work; their keys are 1, 2, 3, ... */
export const SECTIONS = [
  { name: "Barn", path: "/" },
  { name: "Machines", path: "/machines" },
  { name: "Pools", path: "/pools" },
  { name: "Volumes", path: "/volumes" },
  { name: "Changes", path: "/changes" },
] as const;

const routes: RouteRecordRaw[] = [
  { path: "/", component: () => import("./views/barn/BarnView.vue") },
  { path: "/machines", component: () => import("./views/machines/MachinesView.vue") },
  { path: "/machines/:node", component: () => import("./views/machines/MachinesView.vue"), props: true },
  { path: "/pools", component: () => import("./views/pools/PoolsView.vue") },
  { path: "/pools/:name", component: () => import("./views/pools/PoolView.vue"), props: true },
  { path: "/volumes", component: () => import("./views/volumes/VolumesView.vue") },
  { path: "/volumes/:name", component: () => import("./views/volumes/VolumeView.vue"), props: true },
  { path: "/changes", component: () => import("./views/changes/ChangesView.vue") },
  { path: "/changes/:number(\\d+)", component: () => import("./views/changes/ChangeView.vue"), props: (r) => ({ number: Number(r.params.number) }) },
  { path: "/:rest(.*)*", component: () => import("./views/NotHere.vue") },
];

export const router = createRouter({ history: createWebHistory(), routes });

/** Address of a thing's page. */
export function pathOf(kind: string, name: string): string {
  const path = encodeURIComponent(name);
  switch (kind) {
    case "disk":
      return `/machines/${encodeURIComponent(name.slice(0, name.lastIndexOf("-")))}?disk=${path}`;
    case "node":
      return `/machines/${path}`;
    case "pool":
      return `/pools/${path}`;
    case "volume":
      return `/volumes/${path}`;
    default:
      return "/";
  }
}
