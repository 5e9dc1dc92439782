import { flushPromises, mount } from "@vue/test-utils";
import { defineComponent, ref, toValue, type Ref } from "vue";
import { createMemoryHistory, createRouter } from "vue-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";

/**
 * The API as a test answers it: the preview that stands, whether one is asked for, and what carrying out
 * comes to.
 */
const api = vi.hoisted(() => ({
  data: undefined as unknown as Ref<unknown>,
  placeholder: undefined as unknown as Ref<boolean>,
  asked: undefined as unknown as { params: unknown; enabled: unknown },
  carryOut: (() => Promise.resolve({ number: 7 })) as (deed: unknown) => Promise<{ number: number }>,
}));

vi.mock("../api/client", async () => {
  const { ref } = await import("vue");
  class Refused extends Error {
    constructor(readonly problem: { preview: unknown }) {
      super("refused");
    }
  }
  return {
    Refused,
    usePreview: (_: unknown, params: unknown, enabled: unknown) => {
      api.asked = { params, enabled };
      return { data: api.data, isPlaceholderData: api.placeholder, error: ref(null) };
    },
    useCarryOut: () => ({
      isPending: ref(false),
      error: ref(null),
      mutateAsync: (deed: unknown) => api.carryOut(deed),
    }),
  };
});

const { usePlan } = await import("./plan");
const { Refused } = (await import("../api/client")) as unknown as {
  Refused: new (problem: { preview: unknown }) => Error;
};

const made = (digest: string, blockers: unknown[] = []) => ({ digest, blockers, effects: [], steps: [] });

type Said = (p: Record<string, unknown>) => boolean;

async function planned(start: Record<string, unknown>, ready: Said, begins: Said = () => true) {
  const params = ref<Record<string, unknown>>(start);
  const router = createRouter({
    history: createMemoryHistory(),
    routes: [{ path: "/:rest(.*)*", component: { template: "<p/>" } }],
  });
  await router.push("/");
  let plan: ReturnType<typeof usePlan> | undefined;
  mount(
    defineComponent({
      setup() {
        plan = usePlan(
          ref("describe"),
          params,
          () => ready(params.value),
          () => begins(params.value),
        );
        return () => null;
      },
    }),
    { global: { plugins: [router] } },
  );
  return { params, router, plan: plan! };
}
const asks = () => toValue(api.asked.enabled as () => boolean);

beforeEach(() => {
  vi.useFakeTimers();
  api.data = ref(undefined);
  api.placeholder = ref(false);
  api.carryOut = () => Promise.resolve({ number: 7 });
});
afterEach(() => vi.useRealTimers());

describe("usePlan", () => {
  it("asks about nothing before there is something to ask about, and not for every key", async () => {
    const { params } = await planned({ text: "" }, (p) => p.text !== "");
    expect(asks()).toBe(false);
    params.value = { text: "a" };
    await flushPromises();
    expect(toValue(api.asked.params as Ref<unknown>)).toEqual({ text: "" });
    params.value = { text: "ab" };
    await flushPromises();
    vi.advanceTimersByTime(200);
    expect(asks()).toBe(true);
    expect(toValue(api.asked.params as Ref<unknown>)).toEqual({ text: "ab" });
  });

  it("asks nothing about what was wished before it was ready", async () => {
    const { params } = await planned({ text: "a" }, (p) => p.text !== "");
    params.value = { text: "" };
    await flushPromises();
    vi.advanceTimersByTime(200); // a wish that is none is settled
    params.value = { text: "b" };
    await flushPromises();
    expect(asks()).toBe(false);
    vi.advanceTimersByTime(200);
    expect(asks()).toBe(true);
  });

  it("tells nobody what was wrong with the wish before it was begun", async () => {
    const { params, plan } = await planned(
      { text: "" },
      () => true,
      (p) => p.text !== "",
    );
    api.data.value = made("empty", [{ sentence: "The text is empty." }]);
    await flushPromises();
    expect(plan.begun.value).toBe(false);
    params.value = { text: "a" };
    await flushPromises();
    expect(plan.begun.value).toBe(false); // what stands is still the preview of the empty wish
    vi.advanceTimersByTime(200);
    await flushPromises();
    expect(plan.begun.value).toBe(true);
  });

  it("carries nothing out whose preview is of another wish, blocked, or still being read", async () => {
    const { params, plan } = await planned({ text: "a" }, () => true);
    expect(plan.blocked.value).toBe(true);
    api.data.value = made("one");
    expect(plan.blocked.value).toBe(false);
    api.data.value = made("one", [{ sentence: "no" }]);
    expect(plan.blocked.value).toBe(true);
    api.data.value = made("one");
    api.placeholder.value = true;
    expect(plan.blocked.value).toBe(true);
    api.placeholder.value = false;
    params.value = { text: "b" };
    await flushPromises();
    expect(plan.blocked.value).toBe(true); // until a preview of this has come
    vi.advanceTimersByTime(200);
    expect(plan.blocked.value).toBe(false);
  });

  it("carries out what was seen, and shows the change", async () => {
    const deeds: unknown[] = [];
    api.carryOut = (deed) => {
      deeds.push(deed);
      return Promise.resolve({ number: 7 });
    };
    const { plan, router } = await planned({ text: "a" }, () => true);
    api.data.value = made("seen");
    await plan.carryOut();
    await flushPromises();
    expect(deeds).toEqual([{ kind: "describe", params: { text: "a" }, digest: "seen" }]);
    expect(router.currentRoute.value.path).toBe("/changes/7");
  });

  it("shows the fresh preview that an outdated one is refused with, until the wish changes", async () => {
    api.carryOut = () => Promise.reject(new Refused({ preview: made("fresh") }));
    const { params, plan, router } = await planned({ text: "a" }, () => true);
    api.data.value = made("old");
    await plan.carryOut();
    expect(plan.preview.value?.digest).toBe("fresh");
    expect(router.currentRoute.value.path).toBe("/");
    params.value = { text: "b" };
    await flushPromises();
    expect(plan.preview.value?.digest).toBe("old");
  });
});
