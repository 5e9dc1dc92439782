import { existsSync } from "node:fs";
import { describe, expect, it } from "vitest";
import { patternOf, ROUTES } from "./routes";

const at = (address: string) => ROUTES.find(({ path }) => new RegExp(patternOf(path)).test(address))?.view;

describe("addresses", () => {
  it("lead to the page that the router would show", () => {
    expect(at("/")).toBe("barn/BarnView");
    expect(at("/machines")).toBe("machines/MachinesView");
    expect(at("/machines/fulmar")).toBe("machines/NodeView");
    expect(at("/volumes/ring%20buffer")).toBe("volumes/VolumeView");
    expect(at("/changes/12")).toBe("changes/ChangeView");
    expect(at("/changes/twelve")).toBe("NotHere");
    expect(at("/pools/quayside/more")).toBe("NotHere");
  });
  it("each have a page that is there", () => {
    for (const { view } of ROUTES) expect(existsSync(`src/views/${view}.vue`), view).toBe(true);
  });
});
