/** Pools to choose from for what is to keep a policy. */

import type { PoolAnswer } from "../api/client";

/** An entry of a list: one that may not be chosen says why. */
export interface Place {
  title: string;
  value: string;
  props?: { disabled: true; subtitle: string };
}

/** Every pool by name; of those that cannot keep the policy, by what they answered, why. */
export const placesFor = (pools: string[], answers: PoolAnswer[] = []): Place[] =>
  pools.map((name) => {
    const against = answers.find((a) => a.pool === name && !a.keeps)?.against;
    const subtitle = against?.map((a) => a.sentence).join(" ");
    return { title: name, value: name, ...(subtitle ? { props: { disabled: true, subtitle } } : {}) };
  });
