import { pathOf } from "../lib/paths";
import { listed, type KindOfChange } from "./kind";

export default {
  start: (asked) => ({
    volume: asked("volume"),
    tier: asked("tier") || "bulk",
    extents: listed(asked("extents")).map(Number),
  }),
  asks: ["volume", "tier", "extents"],
  page: (about) => pathOf("volume", about),
} satisfies KindOfChange;
