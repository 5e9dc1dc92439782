import { createRouter, createWebHistory, type RouteRecordRaw } from "vue-router";
import { ROUTES } from "./routes";
import BarnView from "./views/barn/BarnView.vue";

// Each view comes when it is first asked for: the first page is not to wait for what others are made of.
const views = import.meta.glob(["./views/**/*View.vue", "./views/NotHere.vue", "!./views/barn/BarnView.vue"]);
const routes = ROUTES.map(
  ({ path, view, number }) =>
    ({
      path,
      component: path === "/" ? BarnView : views[`./views/${view}.vue`]!,
      props: number ? (to) => ({ [number]: Number(to.params[number]) }) : true,
    }) satisfies RouteRecordRaw,
);

export const router = createRouter({ history: createWebHistory(), routes });
