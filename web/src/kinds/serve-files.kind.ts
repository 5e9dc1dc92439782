import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./FilesFields.vue"),
  wants: "Give it addresses, and the names by which clients find them.",
  begun: (wish) => Boolean(wish.addresses || wish.addresses6) && Boolean(wish.names),
  page: () => "/shares",
} satisfies KindOfChange;
