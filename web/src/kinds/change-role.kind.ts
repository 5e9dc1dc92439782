import { listed, type KindOfChange } from "./kind";

export default {
  fields: () => import("./RoleFields.vue"),
  wants: "Choose a role, and write why where the rule says otherwise.",
  begun: (wish) => Boolean(wish.reason),
  asks: ["disk"],
  start: (asked) => ({ disks: listed(asked("disk")), role: "spare", reason: "" }),
  map: "moves",
  page: () => "/machines",
} satisfies KindOfChange;
