/** Address of a thing's page. */
export function pathOf(kind: string, name: string): string {
  const path = encodeURIComponent(name);
  switch (kind) {
    case "disk":
      return `/disks/${path}`;
    case "change":
      return `/changes/${path}`;
    case "cluster":
      return "/cluster";
    case "node":
      return `/machines/${path}`;
    case "policy":
      return `/policies/${path}`;
    case "pool":
      return `/pools/${path}`;
    case "volume":
      return `/volumes/${path}`;
    default:
      return "/";
  }
}
