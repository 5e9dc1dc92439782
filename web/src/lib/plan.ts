/**
 * A wish whose preview is made anew shortly after the wish, or the site, changes; and its carrying out. For
 * pages and for the sheet.
 */

import { computed, ref, watch, watchEffect, type Ref } from "vue";
import { useRouter } from "vue-router";
import { Refused, useCarryOut, usePreview, type Preview } from "../api/client";

const SETTLE = 200; // ms without a key press before a preview is asked for

export function usePlan(
  kind: Ref<string>,
  params: Ref<Record<string, unknown>>,
  ready: () => boolean,
  begins: () => boolean = () => true,
) {
  const router = useRouter();
  const settled = ref<Record<string, unknown>>({ ...params.value });
  const fresh = ref<Preview | null>(null);
  let timer: ReturnType<typeof setTimeout> | undefined;
  // A wish that was not ready when it was last settled is not asked about: it would be told off for what
  // has long been filled in.
  const asked = ref(ready());
  watch(
    params,
    (now) => {
      clearTimeout(timer);
      timer = setTimeout(() => {
        timer = undefined;
        settled.value = { ...now };
        asked.value = ready();
      }, SETTLE);
      fresh.value = null;
    },
    { deep: true },
  );
  watch(ready, (now) => {
    if (now && timer === undefined) asked.value = true;
  });
  watch(kind, () => (settled.value = {})); // what was wished of another kind is no wish of this one
  const made = usePreview(
    kind,
    settled,
    () => ready() && asked.value && Object.keys(settled.value).length > 0,
  );
  const carrying = useCarryOut();
  const preview = computed(() => fresh.value ?? made.data.value ?? null);
  // A preview that is read anew because the site has changed may be carried out meanwhile: if it matters,
  // it is refused with a fresh one.
  const upToDate = computed(
    () => JSON.stringify(params.value) === JSON.stringify(settled.value) && !made.isPlaceholderData.value,
  );
  // Nobody is told what is wrong with a wish that is not begun, nor, once it is, what was wrong before that.
  const begun = ref(false);
  watchEffect(() => {
    if (!begins()) begun.value = false;
    else if (preview.value && upToDate.value) begun.value = true;
  });
  const blocked = computed(
    () =>
      !ready() ||
      !preview.value ||
      preview.value.blockers.length > 0 ||
      !upToDate.value ||
      carrying.isPending.value,
  );
  async function carryOut() {
    if (blocked.value || !preview.value) return;
    try {
      const { number } = await carrying.mutateAsync({
        kind: kind.value,
        params: params.value,
        digest: preview.value.digest,
      });
      // Also when the page has meanwhile changed under the deed: whoever carried it out wants to see its
      // steps.
      await router.push(`/changes/${number}`);
    } catch (error) {
      fresh.value = error instanceof Refused ? (error.problem.preview ?? null) : null;
    }
  }
  const error = computed(() => carrying.error.value ?? made.error.value);
  return { preview, begun, blocked, carryOut, error };
}
