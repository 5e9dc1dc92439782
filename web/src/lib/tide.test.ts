import { describe, expect, it } from "vitest";
import type { Samples } from "../api/client";
import { ceiling, kindsOf, moments, nearest, stretches } from "./tide";

const figures = (mean: (number | null)[]) => ({
  mean,
  least: [],
  most: [],
  average: 2,
  highest: 4,
  usual: 3,
});
const samples = (measures: Samples["measures"]): Samples => ({
  of: "volume",
  name: "charts",
  part: "",
  over: "hour",
  seconds: 10,
  since: 0,
  until: 3600,
  at: [5, 15, 25],
  pieces: [[0, 3]],
  measures,
  mean_seconds: [0.001, null, 0.002],
  late_seconds: [0.004, null, 0.009],
  marks: [],
  forecasts: {},
});

describe("the tide", () => {
  it("is as high as the least round number above what is drawn", () => {
    expect([0, 1, 1.2, 2.3, 2.6, 7, 99, 100, 1.0000000001e6].map(ceiling)).toEqual([
      1, 1, 2, 2.5, 5, 10, 100, 100, 1e6,
    ]);
  });
  it("breaks where a point is missing and where nobody knows", () => {
    expect(stretches([[0, 5]], [1, 2, null, 4, 5])).toEqual([
      [0, 2],
      [3, 5],
    ]);
    expect(
      stretches(
        [
          [0, 2],
          [2, 4],
        ],
        [1, 2, 3, 4],
      ),
    ).toEqual([
      [0, 2],
      [2, 4],
    ]);
    expect(stretches([[0, 2]], [null, null])).toEqual([]);
  });
  it("has round moments inside the time that is drawn", () => {
    const found = moments(1000, 4600).map((m) => m.at);
    expect(found).toEqual([1200, 1800, 2400, 3000, 3600, 4200]);
    expect(moments(0, 7 * 86_400).length).toBe(7);
    expect(moments(1000, 1600).map((m) => m.at)).toEqual([1080, 1200, 1320, 1440, 1560]);
  });
  it("finds the point next to a moment", () => {
    expect(nearest([5, 15, 25], 19)).toBe(1);
    expect(nearest([5, 15, 25], 900)).toBe(2);
    expect(nearest([], 1)).toBe(-1);
  });
  it("draws what goes in above the waterline and what comes out below", () => {
    const found = samples({ read_bytes: figures([1, 2, 3]), written_bytes: figures([4, 5, 6]) });
    const bytes = kindsOf("volume")[0]!;
    expect(bytes.lines(found).map((l) => [l.words, l.up, l.values[0]])).toEqual([
      ["written", true, 4],
      ["read", false, 1],
    ]);
    expect(bytes.sums(found).map((s) => [s.words, s.average])).toEqual([
      ["written", 2],
      ["read", 2],
    ]);
    expect(kindsOf("port")[0]!.lines(found)[0]!.words).toBe("received");
    expect(bytes.lines(samples({}))).toEqual([]);
  });
  it("offers of each thing what is known of such things", () => {
    const offered = (of: Samples["of"]) => kindsOf(of).map((k) => k.id);
    expect(offered("volume")).toEqual(["bytes", "operations", "times", "held", "short"]);
    expect(offered("pool")).toEqual(["bytes", "operations", "times", "held", "full"]);
    expect(offered("node")).toEqual(["bytes", "operations", "held"]);
    expect(offered("disk")).toEqual(["bytes", "held", "celsius", "worn", "defects"]);
    expect(offered("port")).toEqual(["bytes"]);
  });
});
