import { describe, expect, it } from "vitest";
import { addressOf, askedOf, ordered, otherwise } from "./asked";
import { amount, binarySize, clock, count, milliseconds, percent, rate, size, span } from "./format";
import { typing } from "./keys";
import { packed, unpacked } from "./sizing";
import { natural } from "./natural";
import { first } from "./first";
import { pageOfVolumes, pathOf } from "./paths";
import { placesFor } from "./places";

describe("amounts", () => {
  it("always carry their unit, decimal and binary apart", () => {
    expect([
      size(12e12),
      size(3.5e9),
      size(999),
      size(999.96e9),
      binarySize(2 ** 40),
      binarySize(3 * 2 ** 30),
      binarySize(16384),
    ]).toEqual(["12.00 TB", "3.5 GB", "999 B", "1.00 TB", "1.00 TiB", "3 GiB", "16 KiB"]);
    expect([0.00042, 0.0083, 0.1204, 1.41].map(milliseconds)).toEqual([
      "0.42 ms",
      "8.30 ms",
      "120 ms",
      "1.4 s",
    ]);
    expect([rate(310e6), rate(36e9), percent(0.576), percent(0.013), percent(0)]).toEqual([
      "310 MB/s",
      "36 GB/s",
      "58%",
      "1.3%",
      "0%",
    ]);
    expect([span(0.2), span(44 * 60), span(3840), span(200_000)]).toEqual([
      "1 s",
      "44 min",
      "1 h 04 min",
      "2 days 8 h",
    ]);
    expect([count(1, "copy", "copies"), count(1024, "extent")]).toEqual(["1 copy", "1,024 extents"]);
    expect([amount(0.5, "share"), amount(1e12, "bytes"), amount(1234, "count")]).toEqual([
      "50%",
      "1.00 TB",
      "1,234",
    ]);
  });
  it("names the day only when it is not today", () => {
    const now = new Date("2026-11-23T12:00:00");
    expect(clock("2026-11-23T09:05:01", now)).toBe("09:05:01");
    expect(clock("2026-11-21T09:05:01", now)).toBe("21 Nov 09:05:01");
    expect(clock(null)).toBe("");
  });
});

describe("natural order", () => {
  it("puts 2 before 10 and ignores case", () => {
    expect(["n10", "N2", "n1", "m3"].sort(natural)).toEqual(["m3", "n1", "N2", "n10"]);
  });
});

describe("addresses", () => {
  it("lead to every kind of thing", () => {
    expect(pathOf("disk", "heron-01-boot")).toBe("/disks/heron-01-boot");
    expect([pathOf("node", "skua"), pathOf("pool", "a b"), pathOf("volume", "v")]).toEqual([
      "/machines/skua",
      "/pools/a%20b",
      "/volumes/v",
    ]);
  });
});

describe("single keys", () => {
  it("keep their hands off while someone types", () => {
    const input = document.createElement("input");
    document.body.append(input);
    const seen: boolean[] = [];
    window.addEventListener("keydown", (event) => seen.push(typing(event)));
    input.dispatchEvent(new KeyboardEvent("keydown", { key: "p", bubbles: true }));
    document.body.dispatchEvent(new KeyboardEvent("keydown", { key: "p", bubbles: true }));
    document.body.dispatchEvent(new KeyboardEvent("keydown", { key: "p", ctrlKey: true, bubbles: true }));
    expect(seen).toEqual([true, false, true]);
  });
});

describe("plans in an address", () => {
  const usual = {
    name: "Plan A",
    text: "",
    copies: 3,
    level: "rack",
    headroom: "node",
    headroom_losses: 1,
    extent_bytes: 2 ** 30,
    serves: "cache",
    fill: 0.85,
    failure_rate: null,
    rebuild_rate: 0,
    daily_writes: 0,
    grace_seconds: 30,
    replace_seconds: 172_800,
  } as const;
  it("come back as they were, and carry only what differs", () => {
    const plans = [
      { ...usual, text: "rack A" },
      { ...usual, name: "Plan B", copies: 2 },
    ];
    expect(unpacked(packed(plans, usual), usual)).toEqual(plans);
    expect(packed([{ ...usual, copies: 2 }], usual)).toBe('[{"copies":2}]');
  });
  it("are none where the address carries something else", () => {
    for (const text of ["", "x", "[]", "{}", "3"]) expect(unpacked(text, usual)).toBeNull();
    expect(unpacked("[{},{},{},{}]", usual)).toHaveLength(3);
  });
});

describe("what is asked of a list", () => {
  const plain = { words: "", is: [], of: [], by: "name", falling: false, page: 1 } as const;
  it("comes back from the address as it was, and what goes without saying is not there", () => {
    const asked = {
      words: "web 1",
      is: ["one path", "thin"],
      of: ["node:petrel", "pool:quayside"],
      by: "on disks",
      falling: true,
      page: 3,
    } as const;
    expect(askedOf(addressOf({ ...asked, is: [...asked.is], of: [...asked.of] }) as never)).toEqual(asked);
    expect(askedOf({})).toEqual(plain);
    expect(Object.values(addressOf({ ...plain, is: [], of: [] })).every((v) => v === undefined)).toBe(true);
    expect(askedOf({ page: "-3" }).page).toBe(1);
  });
  it("begins at the first page when it is another, and turns around by the same column", () => {
    const far = { ...plain, is: [], of: [], page: 7 };
    expect(otherwise(far, { words: "auk" })).toMatchObject({ words: "auk", page: 1 });
    const once = ordered(far, "size");
    expect(once).toMatchObject({ by: "size", falling: false, page: 1 });
    expect(ordered(once, "size").falling).toBe(true);
    expect(ordered(far, "state").falling).toBe(true); // the worst first
  });
  it("shows one volume on its page, and several in the list", () => {
    expect(["charts", "web-{1..3}", "3 volumes"].map(pageOfVolumes)).toEqual([
      "/volumes/charts",
      "/volumes",
      "/volumes",
    ]);
  });
});

describe("places", () => {
  it("offers the pools that can keep a policy, and says why the others cannot", () => {
    const against = ["Its disks are not encrypted.", "It has one room."].map((sentence) => ({
      wish: "",
      sentence,
      cure: "",
    }));
    const answers = [
      { pool: "quayside", keeps: false, against, room: null },
      { pool: "archive", keeps: true, against: [], room: null },
    ];
    const subtitle = "Its disks are not encrypted. It has one room.";
    expect(placesFor(["archive", "quayside", "new"], answers)).toEqual([
      { title: "archive", value: "archive" },
      { title: "quayside", value: "quayside", props: { disabled: true, subtitle } },
      { title: "new", value: "new" },
    ]);
    expect(placesFor(["quayside"])).toEqual([{ title: "quayside", value: "quayside" }]);
  });
});

describe("v-first", () => {
  const sheet = () => {
    document.body.innerHTML = `<div role="dialog"><div id="a"><input /></div><div id="b"><input /></div></div>`;
    return ["a", "b"].map((id) => document.getElementById(id)!) as [HTMLElement, HTMLElement];
  };
  const mounted = first as { mounted: (el: HTMLElement, binding: { value?: boolean }) => void };
  it("puts the cursor into the first field of a sheet", () => {
    const [a, b] = sheet();
    mounted.mounted(a, { value: false });
    expect(document.activeElement).toBe(document.body);
    mounted.mounted(b, {});
    expect(document.activeElement).toBe(b.querySelector("input"));
  });
  it("leaves it where somebody is typing already", () => {
    const [a, b] = sheet();
    b.querySelector("input")!.focus();
    mounted.mounted(a, {});
    expect(document.activeElement).toBe(b.querySelector("input"));
  });
});
