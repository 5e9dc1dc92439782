import type { KindOfChange } from "./kind";

export default { map: "moves", page: () => "/machines?show=nodes" } satisfies KindOfChange;
