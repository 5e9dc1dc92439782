/** The sections, in the order of the work; their keys are 1, 2, 3, ... */
export const SECTIONS = [
  { name: "Barn", path: "/" },
  { name: "Machines", path: "/machines" },
  { name: "Cluster", path: "/cluster" },
  { name: "Pools", path: "/pools" },
  { name: "Volumes", path: "/volumes" },
  { name: "Consumers", path: "/consumers" },
  { name: "Watch", path: "/watch" },
  { name: "Changes", path: "/changes" },
] as const;

/** The section an address belongs to. */
export function sectionOf(path: string): string | undefined {
  if (path === "/") return "/";
  if (/^\/(disks|intake|arrange|text)(\/|$)/.test(path)) return "/machines";
  if (path === "/sizing") return "/pools";
  if (/^\/policies(\/|$)/.test(path)) return "/volumes";
  if (/^\/(hosts|claims|vms|shares)(\/|$)/.test(path)) return "/consumers";
  return SECTIONS.find((s) => s.path !== "/" && path.startsWith(s.path))?.path;
}
