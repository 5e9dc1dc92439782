import { effectScope, type EffectScope } from "vue";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { queries, useNews } from "./client";

class Stream {
  static last: Stream;
  onopen?: () => void;
  onerror?: () => void;
  closed = false;
  private heard: ((event: { data: string }) => void)[] = [];
  constructor(readonly url: string) {
    Stream.last = this;
  }
  addEventListener(name: string, listener: (event: { data: string }) => void) {
    if (name === "news") this.heard.push(listener);
  }
  close() {
    this.closed = true;
  }
  tell(...topics: string[]) {
    for (const listener of this.heard) listener({ data: JSON.stringify({ topics }) });
  }
}

let scope: EffectScope;
let fetching: Set<string>;
let refreshed: string[];

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal("EventSource", Stream);
  fetching = new Set();
  refreshed = [];
  const about = (filter: unknown) => (filter as { queryKey: string[] }).queryKey[0]!;
  vi.spyOn(queries, "isFetching").mockImplementation((filter) => (fetching.has(about(filter)) ? 1 : 0));
  vi.spyOn(queries, "invalidateQueries").mockImplementation((filter) => {
    refreshed.push(about(filter));
    return Promise.resolve();
  });
  scope = effectScope();
});
afterEach(() => {
  scope.stop();
  vi.restoreAllMocks();
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

describe("useNews", () => {
  it("reads anew what the news is about, and nothing else", () => {
    scope.run(() => useNews());
    Stream.last.tell("changes");
    expect(refreshed).toEqual(["changes"]);
    Stream.last.tell("site");
    expect(refreshed).toEqual(["changes", "barn", "site"]);
  });

  it("lets what is being read come to its end, and reads it once more", () => {
    scope.run(() => useNews());
    fetching.add("barn");
    Stream.last.tell("site");
    Stream.last.tell("site");
    expect(refreshed).toEqual(["site", "site"]);
    vi.advanceTimersByTime(300);
    expect(refreshed).toEqual(["site", "site"]);
    fetching.clear();
    vi.advanceTimersByTime(100);
    expect(refreshed).toEqual(["site", "site", "barn"]);
  });

  it("after a break reads everything, but what is being read already", () => {
    scope.run(() => useNews());
    fetching.add("barn");
    Stream.last.tell("everything");
    fetching.clear();
    vi.advanceTimersByTime(300);
    expect(new Set(refreshed)).toEqual(
      new Set(["site", "changes", "alerts", "work", "heat", "samples", "yard"]),
    );
  });

  it("says whether it is connected, asks by itself where nothing is heard, and ends with its page", () => {
    const connected = scope.run(() => useNews())!;
    Stream.last.onerror!();
    expect(connected.value).toBe(false);
    Stream.last.onopen!();
    expect(connected.value).toBe(true);
    vi.advanceTimersByTime(6000);
    expect(refreshed).toEqual(["barn"]);
    scope.stop();
    expect(Stream.last.closed).toBe(true);
    vi.advanceTimersByTime(20000);
    expect(refreshed).toEqual(["barn"]);
  });
});
