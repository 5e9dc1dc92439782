import { pathOf } from "../lib/paths";
import type { KindOfChange } from "./kind";
import SetPoolFields from "./SetPoolFields.vue";

export default {
  fields: SetPoolFields,
  asks: ["pool"],
  page: (about) => pathOf("pool", about),
} satisfies KindOfChange;
