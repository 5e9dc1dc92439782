import type { KindOfChange } from "./kind";

export default { page: () => "/cluster", elsewhere: true } satisfies KindOfChange;
