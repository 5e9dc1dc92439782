import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";

export default {
  fields: () => import("./RoomFields.vue"),
  wants: "Say how much of its size is to be kept for them.",
  begun: (wish) => Boolean(wish.room),
  asks: ["volume"],
  page: (about) => pathOf("volume", about),
} satisfies KindOfChange;
