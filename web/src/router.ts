import { createRouter, createWebHistory, type RouteRecordRaw } from "vue-router";
import BarnView from "./views/barn/BarnView.vue";

// Each view comes when it is first asked for: the first page is not to wait for what others are made of.
const routes: RouteRecordRaw[] = [
  { path: "/", component: BarnView },
  { path: "/machines", component: () => import("./views/machines/MachinesView.vue") },
  { path: "/machines/:node", component: () => import("./views/machines/NodeView.vue"), props: true },
  { path: "/disks/:disk", component: () => import("./views/machines/DiskView.vue"), props: true },
  { path: "/intake", component: () => import("./views/machines/IntakeView.vue") },
  { path: "/arrange", component: () => import("./views/machines/ArrangeView.vue") },
  { path: "/text", component: () => import("./views/machines/TextView.vue") },
  { path: "/cluster", component: () => import("./views/cluster/ClusterView.vue") },
  { path: "/pools", component: () => import("./views/pools/PoolsView.vue") },
  { path: "/sizing", component: () => import("./views/pools/SizingView.vue") },
  { path: "/pools/:name", component: () => import("./views/pools/PoolView.vue"), props: true },
  { path: "/policies", component: () => import("./views/policies/PoliciesView.vue") },
  { path: "/policies/:name", component: () => import("./views/policies/PolicyView.vue"), props: true },
  { path: "/volumes", component: () => import("./views/volumes/VolumesView.vue") },
  { path: "/volumes/:name", component: () => import("./views/volumes/VolumeView.vue"), props: true },
  { path: "/changes", component: () => import("./views/changes/ChangesView.vue") },
  {
    path: "/changes/:number(\\d+)",
    component: () => import("./views/changes/ChangeView.vue"),
    props: (r) => ({ number: Number(r.params.number) }),
  },
  { path: "/:rest(.*)*", component: () => import("./views/NotHere.vue") },
];

export const router = createRouter({ history: createWebHistory(), routes });
