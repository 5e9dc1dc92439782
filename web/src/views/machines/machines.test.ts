import { mount } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import type { DiskFacts, LevelRow } from "../../api/client";
import { controls } from "../../controls";
import { batches, stem } from "../../lib/batches";
import { speed } from "../../lib/format";
import LevelTable from "../../parts/LevelTable.vue";
import { sectionOf } from "../../lib/sections";
import { add, moveBeside, moveTo, remove, rename, type RoomWish } from "./arranging";
import { DISK_COLUMNS, verdict } from "./columns";

const rooms = (): RoomWish[] => [
  {
    name: "North",
    racks: [
      { name: "N1", nodes: ["a", "b"] },
      { name: "N2", nodes: ["c"] },
    ],
  },
  { name: "South", racks: [{ name: "S1", nodes: [] }] },
];
const nodes = (r: RoomWish[]) => r.map((room) => room.racks.map((k) => k.nodes.join("")).join("|"));

describe("arranging", () => {
  it("moves a node into another rack, at its end, and leaves the old arrangement as it was", () => {
    const before = rooms();
    const after = moveTo(before, "a", "S1");
    expect(nodes(after)).toEqual(["b|c", "a"]);
    expect(nodes(before)).toEqual(["ab|c", ""]);
    expect(moveTo(before, "a", "N1")).toBe(before);
    expect(moveTo(before, "a", "nowhere")).toBe(before);
    expect(moveTo(before, "puffin", "S1")).toBe(before);
  });
  it("moves by arrow: over racks and rooms, and by stall, stopping at the ends", () => {
    expect(nodes(moveBeside(rooms(), "c", "right"))).toEqual(["ab|", "c"]);
    expect(nodes(moveBeside(rooms(), "c", "left"))).toEqual(["abc|", ""]);
    expect(nodes(moveBeside(rooms(), "a", "down"))).toEqual(["ba|c", ""]);
    const before = rooms();
    expect(moveBeside(before, "a", "left")).toBe(before);
    expect(moveBeside(before, "a", "up")).toBe(before);
    expect(moveBeside(before, "c", "down")).toBe(before);
  });
  it("adds racks and rooms under names that are free, and removes only what is empty", () => {
    const more = add(add(rooms(), "South"), "South");
    expect(more[1]!.racks.map((k) => k.name)).toEqual(["S1", "Rack 1", "Rack 2"]);
    expect(add(rooms()).at(-1)).toEqual({ name: "Room 1", racks: [{ name: "Rack 1", nodes: [] }] });
    expect(nodes(remove(rooms(), "N1"))).toEqual(["ab|c", ""]);
    expect(remove(rooms(), "S1").map((r) => r.name)).toEqual(["North"]);
  });
  it("renames, and takes an empty name for none", () => {
    expect(rename(rooms(), "rack", "N2", " Q9 ")[0]!.racks[1]!.name).toBe("Q9");
    const before = rooms();
    expect(rename(before, "room", "North", "  ")).toBe(before);
  });
});

describe("batches of files", () => {
  const file = (name: string, size = 1) => ({ name, size });
  it("keep a node's files together", () => {
    const files = ["a.lsblk.json", "b.lsblk.json", "a.smartctl-sda.json", "a-ip.json"].map((n) => file(n));
    expect(batches(files, 2).map((b) => b.map((f) => f.name))).toEqual([
      ["a.lsblk.json", "a.smartctl-sda.json", "a-ip.json"],
      ["b.lsblk.json"],
    ]);
    expect([stem("fulmar.lsblk.json"), stem("fulmar_smartctl_sda.json"), stem("heron-01.json")]).toEqual([
      "fulmar",
      "fulmar",
      "heron-01",
    ]);
  });
  it("stay small, and lose nothing", () => {
    const files = Array.from({ length: 500 }, (_, i) => file(`n${i}.lsblk.json`, i % 7 ? 1000 : 5_000_000));
    const made = batches(files);
    expect(made.flat()).toHaveLength(500);
    for (const batch of made)
      expect(
        batch.length <= 40 && (batch.length === 1 || batch.reduce((s, f) => s + f.size, 0) <= 8_000_000),
      ).toBe(true);
  });
});

describe("columns", () => {
  const disk = {
    name: "n-1",
    role: "unfit",
    pool: null,
    reasons: ["it is read-only", "it is removable"],
    size_bytes: 4e12,
    used_bytes: 1e12,
  } as unknown as DiskFacts;
  it("give the verdict with every reason", () => {
    expect(verdict(disk)).toBe("unfit: it is read-only; it is removable");
    expect(verdict({ ...disk, pool: "p" })).toBe("in p");
    expect([verdict({ ...disk, role: "unclaimed" }), verdict({ ...disk, role: "boot" })]).toEqual([
      "fit",
      "boot disk",
    ]);
  });
  it("carry their unit or say nothing", () => {
    const text = (id: string, d = disk) => DISK_COLUMNS.find((c) => c.id === id)!.text(d);
    expect([text("size"), text("binary"), text("used"), text("used", { ...disk, pool: "p" })]).toEqual([
      "4.00",
      "3.64 TiB",
      "",
      "25%",
    ]);
    expect([speed(3.125e9), speed(1.25e8), speed(1.25e7), speed(3.125e8)]).toEqual([
      "25 Gb/s",
      "1 Gb/s",
      "100 Mb/s",
      "2.5 Gb/s",
    ]);
  });
});

describe("sections", () => {
  it("know the pages that belong to them", () => {
    expect(
      ["/", "/disks/a-1", "/intake", "/arrange", "/text", "/machines/a", "/cluster", "/nothing"].map(
        sectionOf,
      ),
    ).toEqual(["/", "/machines", "/machines", "/machines", "/machines", "/machines", "/cluster", undefined]);
  });
});

describe("the table of levels", () => {
  const row = (domains: number, two: number | null) => ({
    level: "rack",
    domains,
    smallest: 1e12,
    smallest_name: "a",
    largest: 2e12,
    largest_name: "b",
    stranded_two: two,
    stranded_three: null,
  });
  it("strikes out what changes, and says when there are too few domains", () => {
    const show = (before: LevelRow[], after: LevelRow[]) =>
      mount(LevelTable, { props: { before, after }, global: { plugins: [controls] } });
    const table = show([row(2, 0)], [row(3, 5e12)]);
    expect(table.findAll("s").map((s) => s.text())).toEqual(["2", "none"]);
    expect(table.text()).toContain("5.00");
    expect(table.text()).toContain("too few");
    expect(show([], [row(3, 0)]).findAll("s")).toHaveLength(0);
  });
});
