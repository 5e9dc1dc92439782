import type { Lane, VolumePage } from "../../api/client";
import { count, say } from "../../lib/format";
import { pathOf } from "../../lib/paths";

/** The hosts of a volume, as the first card of its lineage. */
export function hostsCard(v: VolumePage, lanes: Lane[]) {
  const names = lanes.map((l) => l.host);
  const groups = [...new Set(lanes.map((l) => l.group))];
  const group = groups.length === 1 ? groups[0] : "";
  const away = v.hosts - v.connected;
  const reach = away ? `${away.toLocaleString("en")} not connected` : "all connected";
  return {
    kind: "Hosts",
    name: group || (names.length ? say(names) : "none"),
    fact: v.hosts ? `${count(v.hosts, "host")}, ${reach}` : "attached to nothing",
    lamp: v.hosts ? v.reached.lamp : undefined, // nothing is neither well nor ill
    to: pathOf("reach", v.name),
  };
}
