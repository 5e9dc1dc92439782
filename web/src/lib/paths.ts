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
    case "claim":
      return `/claims/${path}`;
    case "orchestrator":
      return "/consumers/orchestrators";
    case "class":
      return "/consumers/classes";
    case "host":
      return `/hosts/${path}`;
    case "reach":
      return `/volumes/${path}/hosts`;
    case "node":
      return `/machines/${path}`;
    case "policy":
      return `/policies/${path}`;
    case "pool":
      return `/pools/${path}`;
    case "files":
      return "/shares";
    case "share":
      return `/shares/${path}`;
    case "vm":
      return `/vms/${path}`;
    case "volume":
      return `/volumes/${path}`;
    default:
      return "/";
  }
}

/** Address of the page of a namespace. */
export const pathOfNamespace = (orchestrator: string, name: string) =>
  `/consumers/namespaces/${encodeURIComponent(orchestrator)}/${encodeURIComponent(name)}`;

/** The page of what a change of volumes is about: of the one, or their list. Several are about a pattern or
 * their number, neither of which is a name. */
export const pageOfVolumes = (about: string) => (/[{ ]/.test(about) ? "/volumes" : pathOf("volume", about));
