/** The columns of the list of disks and of nodes: what each says, and how it sorts. */

import type { DiskFacts, NodeFacts } from "../../api/client";
import { binarySize, percent, speed } from "../../lib/format";

export interface Column<T> {
  id: string;
  name: string;
  number?: boolean;
  width: number; // px
  text: (row: T) => string;
  sort?: (row: T) => number; // where the text would sort wrongly
  usual: boolean;
}

export const MEDIA: Record<string, string> = { nvme: "NVMe", ssd: "SSD", hdd: "HDD", pmem: "pmem" };

export function verdict(d: Pick<DiskFacts, "pool" | "role" | "reasons">): string {
  return d.pool
    ? `in ${d.pool}`
    : d.role === "unclaimed"
      ? "fit"
      : d.role === "boot"
        ? "boot disk"
        : `unfit: ${d.reasons.join("; ")}`;
}

export const DISK_COLUMNS: Column<DiskFacts>[] = [
  { id: "name", name: "Disk", width: 132, text: (d) => d.name, usual: true },
  { id: "node", name: "Node", width: 96, text: (d) => d.node, usual: true },
  { id: "where", name: "Where", width: 138, text: (d) => `${d.room}, ${d.rack}`, usual: true },
  { id: "bay", name: "Bay", width: 54, text: (d) => d.bay, usual: false },
  { id: "media", name: "Medium", width: 66, text: (d) => MEDIA[d.media] ?? d.media, usual: true },
  { id: "model", name: "Model", width: 150, text: (d) => d.model, usual: false },
  { id: "serial", name: "Serial number", width: 118, text: (d) => d.serial, usual: false },
  { id: "wwn", name: "World-wide name", width: 150, text: (d) => d.wwn, usual: false },
  {
    id: "size",
    name: "Size, TB",
    number: true,
    width: 68,
    text: (d) => (d.size_bytes / 1e12).toFixed(2),
    sort: (d) => d.size_bytes,
    usual: true,
  },
  {
    id: "binary",
    name: "binary",
    number: true,
    width: 82,
    text: (d) => binarySize(d.size_bytes),
    sort: (d) => d.size_bytes,
    usual: true,
  },
  { id: "verdict", name: "Verdict", width: 250, text: verdict, usual: true },
  {
    id: "used",
    name: "Used",
    number: true,
    width: 56,
    text: (d) => (d.pool ? percent(d.used_bytes / d.size_bytes) : ""),
    sort: (d) => (d.size_bytes ? d.used_bytes / d.size_bytes : 0),
    usual: true,
  },
  { id: "paths", name: "Paths", width: 170, text: (d) => d.paths.join(", "), usual: false },
  { id: "enclosure", name: "Enclosure", width: 100, text: (d) => d.enclosure ?? "", usual: false },
  {
    id: "state",
    name: "State",
    width: 260,
    text: (d) => (d.lamp === "sound" ? "sound" : `${d.lamp}. ${d.state}`),
    usual: true,
  },
];

export const NODE_COLUMNS: Column<NodeFacts>[] = [
  { id: "name", name: "Node", width: 120, text: (n) => n.name, usual: true },
  { id: "where", name: "Where", width: 140, text: (n) => `${n.room}, ${n.rack}`, usual: true },
  {
    id: "cluster",
    name: "In the cluster",
    width: 110,
    text: (n) => (n.keeper ? "keeper" : n.member ? "member" : ""),
    usual: true,
  },
  {
    id: "disks",
    name: "Disks",
    number: true,
    width: 60,
    text: (n) => String(n.disks),
    sort: (n) => n.disks,
    usual: true,
  },
  {
    id: "fit",
    name: "fit, free",
    number: true,
    width: 70,
    text: (n) => String(n.fit),
    sort: (n) => n.fit,
    usual: true,
  },
  {
    id: "cores",
    name: "Cores",
    number: true,
    width: 60,
    text: (n) => (n.cores ? String(n.cores) : ""),
    sort: (n) => n.cores,
    usual: true,
  },
  {
    id: "memory",
    name: "Memory",
    number: true,
    width: 80,
    text: (n) => (n.memory_bytes ? binarySize(n.memory_bytes) : ""),
    sort: (n) => n.memory_bytes,
    usual: true,
  },
  {
    id: "storage",
    name: "Storage ports",
    width: 196,
    text: (n) =>
      n.ports
        .filter((p) => p.purpose === "storage")
        .map((p) => `${p.name} ${p.up ? speed(p.bytes_per_second) : "down"}`)
        .join(", "),
    usual: true,
  },
  {
    id: "addresses",
    name: "Addresses",
    width: 260,
    text: (n) => n.ports.flatMap((p) => p.addresses).join(", "),
    usual: false,
  },
  {
    id: "clock",
    name: "Clock",
    number: true,
    width: 112,
    text: (n) =>
      n.clock_offset === null
        ? ""
        : Math.abs(n.clock_offset) < 0.05
          ? "in step"
          : `${Math.abs(n.clock_offset).toFixed(1)} s ${n.clock_offset > 0 ? "ahead" : "behind"}`,
    sort: (n) => n.clock_offset ?? 0,
    usual: true,
  },
  { id: "agent", name: "Agent", width: 240, text: (n) => n.agent_url, usual: false },
  {
    id: "state",
    name: "State",
    width: 260,
    text: (n) => `${n.state.lamp === "sound" ? "sound" : `${n.state.lamp}. ${n.state.reason}`}`,
    usual: true,
  },
];
