import { createRouter, createWebHistory, type RouteRecordRaw } from "vue-router";
// The views are small: loaded with the rest, none of them is waited for.
import BarnView from "./views/barn/BarnView.vue";
import ChangeView from "./views/changes/ChangeView.vue";
import ChangesView from "./views/changes/ChangesView.vue";
import DiskView from "./views/machines/DiskView.vue";
import MachinesView from "./views/machines/MachinesView.vue";
import NodeView from "./views/machines/NodeView.vue";
import NotHere from "./views/NotHere.vue";
import PoolView from "./views/pools/PoolView.vue";
import PoolsView from "./views/pools/PoolsView.vue";
import VolumeView from "./views/volumes/VolumeView.vue";
import VolumesView from "./views/volumes/VolumesView.vue";

const routes: RouteRecordRaw[] = [
  { path: "/", component: BarnView },
  { path: "/machines", component: MachinesView },
  { path: "/machines/:node", component: NodeView, props: true },
  { path: "/disks/:disk", component: DiskView, props: true },
  // Used while a site is being set up, not every day: they come when first asked for.
  { path: "/intake", component: () => import("./views/machines/IntakeView.vue") },
  { path: "/arrange", component: () => import("./views/machines/ArrangeView.vue") },
  { path: "/text", component: () => import("./views/machines/TextView.vue") },
  { path: "/cluster", component: () => import("./views/cluster/ClusterView.vue") },
  { path: "/pools", component: PoolsView },
  { path: "/sizing", component: () => import("./views/pools/SizingView.vue") },
  { path: "/pools/:name", component: PoolView, props: true },
  { path: "/volumes", component: VolumesView },
  { path: "/volumes/:name", component: VolumeView, props: true },
  { path: "/changes", component: ChangesView },
  {
    path: "/changes/:number(\\d+)",
    component: ChangeView,
    props: (r) => ({ number: Number(r.params.number) }),
  },
  { path: "/:rest(.*)*", component: NotHere },
];

export const router = createRouter({ history: createWebHistory(), routes });
