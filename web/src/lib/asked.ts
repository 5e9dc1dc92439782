/** What is asked of the list of volumes, as the address of the page says it. */

import type { LocationQuery } from "vue-router";
import type { AskedVolumes } from "../api/client";

const word = (found: LocationQuery[string] | undefined) => (typeof found === "string" ? found : "");
const several = (found: LocationQuery[string] | undefined) => word(found).split(",").filter(Boolean);

export function askedOf(query: LocationQuery): AskedVolumes {
  return {
    words: word(query.words),
    is: several(query.is) as AskedVolumes["is"],
    of: several(query.of),
    by: (word(query.by) || "name") as AskedVolumes["by"],
    falling: word(query.falling) === "yes",
    page: Math.max(1, Number(word(query.page)) || 1),
  };
}

/** What the address says of it: nothing of what goes without saying. */
export function addressOf(asked: AskedVolumes): Record<string, string | undefined> {
  return {
    words: asked.words || undefined,
    is: asked.is?.join(",") || undefined,
    of: asked.of?.join(",") || undefined,
    by: asked.by === "name" ? undefined : asked.by,
    falling: asked.falling ? "yes" : undefined,
    page: asked.page === 1 ? undefined : String(asked.page),
  };
}

/** Of a list that is asked otherwise the first page is wanted. */
export const otherwise = (asked: AskedVolumes, part: Partial<AskedVolumes>): AskedVolumes => ({
  ...asked,
  page: 1,
  ...part,
});

/** By another column it rises first; but for the state, of which the worst is wanted. By the same, it turns
 * around. */
export function ordered(asked: AskedVolumes, by: AskedVolumes["by"]): AskedVolumes {
  return otherwise(asked, { by, falling: asked.by === by ? !asked.falling : by === "state" });
}
