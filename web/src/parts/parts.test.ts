import { mount } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import { nextTick } from "vue";
import type { Disk, Lamp, Room } from "../api/client";
import BarnMap from "./BarnMap.vue";
import StateMark from "./StateMark.vue";

const disk = (name: string, more: Partial<Disk> = {}): Disk => ({
  name,
  bay: name.split("-")[1]!,
  media: "ssd",
  size_bytes: 1e12,
  tier: "bulk",
  retiring: false,
  used_bytes: 4e11,
  role: "capacity",
  pool: "p",
  serial: name,
  state: { lamp: "sound", reason: "" },
  fit: false,
  reasons: [],
  ...more,
});
const rooms: Room[] = [
  {
    name: "A",
    racks: [
      {
        name: "R1",
        nodes: [
          {
            name: "n1",
            rack: "R1",
            room: "A",
            state: { lamp: "sound", reason: "" },
            worst: "sound",
            note: "p 40%",
            pools: ["p"],
            disks: [disk("n1-1"), disk("n1-2", { fit: true, role: "unclaimed", pool: null, used_bytes: 0 })],
          },
        ],
      },
    ],
  },
];

describe("state marks", () => {
  it("differ in shape, not only in colour", () => {
    const lamps: Lamp[] = ["sound", "watch", "mending", "short", "failed", "away", "not heard"];
    const shapes = lamps.map((lamp) =>
      mount(StateMark, { props: { lamp } })
        .find("svg")
        .html()
        .replace(/var\(--[a-z-]+\)|aria-label="[^"]*"/g, ""),
    );
    expect(new Set(shapes).size).toBe(lamps.length);
  });
});

describe("the barn map", () => {
  it("draws a bin's fill in proportion and says it in words", () => {
    const map = mount(BarnMap, { props: { rooms } });
    expect(map.find('[data-disk="n1-1"] .hay').attributes("style")).toContain("height: 40%");
    expect(map.find('[data-disk="n1-1"]').attributes("aria-label")).toBe(
      "n1-1, capacity, 1.00 TB, 40% used, sound",
    );
    expect(map.find('[data-disk="n1-2"] .hay').exists()).toBe(false);
  });
  it("lights what is lit and dims the rest", () => {
    const map = mount(BarnMap, { props: { rooms, lit: { "n1-1": 2e11 } } });
    expect(map.find('[data-disk="n1-1"]').classes()).toContain("lit");
    expect(map.find('[data-disk="n1-2"]').classes()).not.toContain("lit");
    expect(map.find('[data-disk="n1-1"] .share').attributes("style")).toContain("height: 20%");
    expect(map.text()).toContain("200 GB of it");
  });
  const [room] = rooms as [Room];
  const [rack] = room.racks as [Room["racks"][number]];
  const many = (count: number) =>
    Array.from({ length: count }, (_, n) => ({
      ...rack.nodes[0]!,
      name: `n${n}`,
      disks: [disk(`n${n}-1`)],
    }));
  it("puts racks in several rows where many nodes would leave them too narrow for a name", () => {
    const columns = (count: number) =>
      mount(BarnMap, { props: { rooms: [{ ...room, racks: [{ ...rack, nodes: many(count) }] }] } })
        .find<HTMLElement>(".bay")
        .attributes("style");
    expect(columns(20)).toContain("repeat(1, minmax(0, 1fr))");
    expect(columns(30)).toContain("auto-fit");
    expect(columns(100)).toContain("auto-fit");
  });
  it("is one tab stop that arrows move, and Space chooses", async () => {
    const map = mount(BarnMap, { props: { rooms, chosen: new Set<string>() }, attachTo: document.body });
    const stops = () =>
      map
        .findAll(".cell")
        .filter((c) => c.attributes("tabindex") === "0")
        .map((c) => c.attributes("data-disk"));
    expect(stops()).toEqual(["n1-1"]);
    await map.find(".map").trigger("keydown", { key: "ArrowRight" });
    expect(stops()).toEqual(["n1-2"]);
    await map.find(".map").trigger("keydown", { key: " " });
    expect(map.emitted("toggle")?.[0]).toEqual([rooms[0]!.racks[0]!.nodes[0]!.disks[1]]);
  });
  it("of a hundred nodes is one tab stop too: bars are walked and zoomed into, names opened", async () => {
    const map = mount(BarnMap, {
      props: { rooms: [{ ...room, racks: [{ ...rack, nodes: many(100) }] }] },
      attachTo: document.body,
    });
    const stops = () => map.findAll("[data-stop][tabindex='0']").map((s) => s.attributes("data-stop"));
    const key = async (key: string) => {
      await map.find(".map").trigger("keydown", { key });
      await nextTick();
    };
    const names = many(100).map((n) => n.name);
    expect(stops()).toEqual([`bar ${names[0]}`]);
    await key("ArrowDown");
    expect(stops()).toEqual([`bar ${names[1]}`]);
    await key("ArrowLeft");
    expect(stops()).toEqual([`name ${names[1]}`]);
    await key("Enter");
    expect(map.emitted("openNode")?.[0]).toEqual([many(100)[1]]);
    await key("ArrowRight");
    await key("Enter"); // its bins instead of its bar
    expect(stops()).toEqual([`disk ${many(100)[1]!.disks[0]!.name}`]);
    expect(map.findAll(".cell")).toHaveLength(many(100)[1]!.disks.length);
    await key("Escape");
    expect(stops()).toEqual([`bar ${names[1]}`]);
    expect(map.findAll(".cell")).toHaveLength(0);
  });
});
